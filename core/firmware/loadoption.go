package firmware

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf16"

	"latchkey/core/disk"
	"latchkey/core/fact"
)

// Device path node types and subtypes that are decoded. UEFI Specification 2.10,
// sections 10.3.2 to 10.3.5.
const (
	nodeHardware   = 0x01
	nodeACPI       = 0x02
	nodeMessaging  = 0x03
	nodeMedia      = 0x04
	nodeBBS        = 0x05
	nodeEnd        = 0x7F
	msgATAPI       = 1
	msgSCSI        = 2
	msgUSB         = 5
	msgUSBClass    = 15
	msgSATA        = 18
	msgNVMe        = 23
	mediaHardDrive = 1
	mediaFile      = 4
	mediaFvFile    = 6
	mediaFv        = 7
	loadActive     = 0x00000001
	loadCategory   = 0x00001F00
	categoryApp    = 0x00000100
	signatureGUID  = 2
	formatGPT      = 2
)

// maxNodes bounds the nodes of a device path.
const maxNodes = 64

// DecodeLoadOption decodes the contents of a Boot#### variable, without the
// attributes that Linux puts before it. UEFI Specification 2.10, section 3.1.3.
func DecodeLoadOption(number uint16, raw []byte) (Entry, error) {
	e := Entry{Number: number}
	if len(raw) < 8 {
		return e, fmt.Errorf("Boot%04X has %d bytes: expected attributes, path length and a description", number, len(raw))
	}
	attributes := binary.LittleEndian.Uint32(raw)
	e.Active, e.App = attributes&loadActive != 0, attributes&loadCategory == categoryApp
	pathLength := int(binary.LittleEndian.Uint16(raw[4:]))
	rest := raw[6:]
	end := -1
	for i := 0; i+1 < len(rest); i += 2 {
		if rest[i] == 0 && rest[i+1] == 0 {
			end = i
			break
		}
	}
	if end < 0 {
		return e, fmt.Errorf("Boot%04X: the description does not end", number)
	}
	e.Description = wide(rest[:end])
	rest = rest[end+2:]
	if pathLength > len(rest) {
		return e, fmt.Errorf("Boot%04X: the device path is said to have %d bytes, %d follow", number, pathLength, len(rest))
	}
	var err error
	e.Path, e.Text, err = decodePath(rest[:pathLength])
	if err != nil {
		return e, fmt.Errorf("Boot%04X: %w", number, err)
	}
	e.Options, e.OptionsOpen = optionsOf(rest[pathLength:])
	return e, nil
}

// optionsOf reads the optional data of an entry as text, which is what a Linux kernel takes it
// for. UEFI Specification 2.10, section 3.1.3; the kernel's admin-guide/efi-stub.
func optionsOf(raw []byte) (text string, open bool) {
	if bytes.Equal(raw, ownMark) {
		return "", false
	}
	text = strings.TrimRight(wide(raw), "\x00")
	if strings.ContainsFunc(text, func(c rune) bool { return c < ' ' || c > '~' }) {
		return "", true
	}
	return strings.TrimSpace(text), len(raw)%2 != 0
}

// ownMark is what edk2 keeps behind the entries that it makes by itself; it is given to no program.
// MdeModulePkg/Library/UefiBootManagerLib, mBmAutoCreateBootOptionGuid: from memory, seen in the variables of
// Debian's OVMF.
var ownMark = func() []byte { g := disk.MustGUID("8108AC4E-9F11-4D59-850E-E21A522C59B2"); return g[:] }()

func wide(raw []byte) string {
	units := make([]uint16, 0, len(raw)/2)
	for i := 0; i+1 < len(raw); i += 2 {
		units = append(units, binary.LittleEndian.Uint16(raw[i:]))
	}
	return string(utf16.Decode(units))
}

// decodePath walks the nodes of a device path up to its first end node.
func decodePath(raw []byte) (Path, string, error) {
	var p Path
	var text []string
	p.Alone = true
	for range maxNodes {
		if len(raw) < 4 {
			return p, "", errors.New("the device path breaks off before its end node")
		}
		length := int(binary.LittleEndian.Uint16(raw[2:]))
		if length < 4 || length > len(raw) {
			return p, "", fmt.Errorf("a device path node is said to have %d bytes: expected 4 to %d", length, len(raw))
		}
		if raw[0] == nodeEnd {
			p.Alone = p.Alone && p.File != ""
			p.Controller = ControllerOf(strings.Join(text, "/"))
			return p, strings.Join(text, "/"), nil
		}
		p.Alone = p.Alone && raw[0] == nodeMedia && raw[1] == mediaFile
		text = append(text, p.node(raw[0], raw[1], raw[4:length]))
		raw = raw[length:]
	}
	return p, "", fmt.Errorf("the device path has more than %d nodes", maxNodes)
}

// node takes one node into account and returns its text form. UEFI
// Specification 2.10, section 10.6.1.6.
func (p *Path) node(kind, sub byte, data []byte) string {
	le := binary.LittleEndian
	switch {
	case kind == nodeMedia && sub == mediaHardDrive && len(data) >= 38:
		p.Partition = hardDrive(data)
		return p.Partition.String()
	case kind == nodeMedia && sub == mediaFile:
		p.File += strings.TrimRight(wide(data), "\x00")
		return "File(" + p.File + ")"
	case kind == nodeMedia && (sub == mediaFvFile || sub == mediaFv):
		p.Internal = true
		return fmt.Sprintf("Fv(%X)", data)
	case kind == nodeHardware && sub == 1 && len(data) >= 2:
		return PCINode(data[1], data[0])
	case kind == nodeACPI && sub == 1 && len(data) >= 8:
		return fmt.Sprintf("PciRoot(0x%X)", le.Uint32(data[4:]))
	case kind == nodeMessaging:
		return p.messaging(sub, data)
	}
	return fmt.Sprintf("Path(%d,%d,%X)", kind, sub, data)
}

// PCINode is the text form of a PCI node. UEFI Specification 2.10, section 10.3.2.1.
func PCINode(device, function byte) string { return fmt.Sprintf("Pci(0x%X,0x%X)", device, function) }

// Controller is the form of a way to a controller.
var Controller = regexp.MustCompile(`^Pci\(0x[0-9A-F]{1,2},0x[0-9A-F]\)(?:/Pci\(0x[0-9A-F]{1,2},0x[0-9A-F]\)){0,15}$`)

var fromRoot = regexp.MustCompile(`(?i)^PciRoot\(0x0\)/((?:Pci\(0x[0-9A-F]{1,2},0x[0-9A-F]\)/){1,16})`)

// ControllerOf is the way to the controller in the text form of a device path; "" where it does not
// begin with PCI nodes at the first root.
func ControllerOf(path string) string {
	m := fromRoot.FindStringSubmatch(path)
	if m == nil {
		return ""
	}
	return strings.NewReplacer("PCI(0X", "Pci(0x", ",0X", ",0x").Replace(strings.ToUpper(strings.TrimSuffix(m[1], "/")))
}

func (p *Path) messaging(sub byte, data []byte) string {
	for _, m := range []struct {
		sub       byte
		bus, name string
	}{
		{msgATAPI, "ide", "Ata"}, {msgSCSI, "scsi", "Scsi"}, {msgUSB, "usb", "USB"}, {msgUSBClass, "usb", "UsbClass"},
		{msgSATA, "sata", "Sata"}, {msgNVMe, "nvme", "NVMe"},
	} {
		if m.sub == sub {
			p.Bus = m.bus
			p.port(sub, data)
			return fmt.Sprintf("%s(%X)", m.name, data)
		}
	}
	return fmt.Sprintf("Msg(%d,%X)", sub, data)
}

// port takes the port of a SATA or USB node: UEFI Specification 2.10, tables
// 10.24 and 10.20.
func (p *Path) port(sub byte, data []byte) {
	var port int
	switch {
	case sub == msgSATA && len(data) >= 2:
		port = int(binary.LittleEndian.Uint16(data))
	case sub == msgUSB && len(data) >= 1:
		port = int(data[0])
	default:
		return
	}
	p.Port = &port
}

// hardDrive decodes the fields of the UEFI Specification 2.10, table 10.49.
func hardDrive(data []byte) *PartitionNode {
	le := binary.LittleEndian
	n := &PartitionNode{
		Number: le.Uint32(data), Start: le.Uint64(data[4:]), Size: le.Uint64(data[12:]),
		MBR: data[37] != signatureGUID && data[36] != formatGPT,
	}
	if n.MBR {
		n.Signature = le.Uint32(data[20:])
	} else {
		copy(n.GUID[:], data[20:36])
	}
	return n
}

// String returns the node's text form.
func (n *PartitionNode) String() string {
	if n.MBR {
		return fmt.Sprintf("HD(%d,MBR,0x%08x,0x%x,0x%x)", n.Number, n.Signature, n.Start, n.Size)
	}
	return fmt.Sprintf("HD(%d,GPT,%s,0x%x,0x%x)", n.Number, strings.ToLower(n.GUID.String()), n.Start, n.Size)
}

// globalVariable is the vendor GUID of the boot variables. UEFI Specification
// 2.10, section 3.3.
var globalVariable = "-" + strings.ToLower(disk.MustGUID("8BE4DF61-93CA-11D2-AA0D-00E098032B8C").String())

// IsBootVariable reports whether a file is named as Linux' efivarfs names the
// variables that decide a start.
func IsBootVariable(file string) bool {
	file = strings.ToLower(file)
	name, global := strings.CutSuffix(file, globalVariable)
	_, loader := isLoaderVariable(file)
	return global && strings.HasPrefix(name, "boot") || loader || trustVariable(file) >= 0
}

// attributesLength is what Linux' efivarfs puts before a variable's contents.
const attributesLength = 4

// DecodeVariables reads boot variables as Linux' efivarfs names and stores them:
// the attributes first, then the contents. Other variables are passed over;
// damaged ones are reported and the rest is kept.
func DecodeVariables(files map[string][]byte) (*Entries, error) {
	e := &Entries{All: map[uint16]Entry{}, Menu: &LoaderMenu{}}
	var errs []error
	for file, raw := range files {
		if !IsBootVariable(file) {
			continue
		}
		if len(raw) < attributesLength {
			errs = append(errs, fmt.Errorf("%s has %d bytes: expected its attributes first", file, len(raw)))
			continue
		}
		if err := e.variable(strings.ToLower(file), raw[attributesLength:]); err != nil {
			errs = append(errs, err)
		}
	}
	return e, errors.Join(errs...)
}

// variable takes the contents of a variable over, by its file's name in small letters.
func (e *Entries) variable(file string, raw []byte) error {
	if at, is := isLoaderVariable(file); is {
		e.Menu.set(at, wide(raw))
		return nil
	}
	if trustVariable(file) >= 0 {
		if e.Keys == nil {
			e.Keys = &Keys{}
		}
		e.Keys.take(file, raw)
		return nil
	}
	name := strings.TrimSuffix(file, globalVariable)
	var number uint16
	switch {
	case name == "bootorder":
		for i := 0; i+1 < len(raw); i += 2 {
			e.Order = append(e.Order, binary.LittleEndian.Uint16(raw[i:]))
		}
		return nil
	case name == "bootnext" && len(raw) >= 2:
		next := binary.LittleEndian.Uint16(raw)
		e.Next = &next
		return nil
	case name == "bootcurrent" && len(raw) >= 2:
		current := binary.LittleEndian.Uint16(raw)
		e.Current = &current
		return nil
	case len(name) != 8:
		return nil
	}
	if _, err := fmt.Sscanf(name, "boot%04x", &number); err != nil {
		return nil // another variable whose name begins alike
	}
	entry, err := DecodeLoadOption(number, raw)
	if err == nil {
		entry.Source = fact.Source{Origin: fact.Text, Structure: fmt.Sprintf("Boot%04X", number), Field: "FilePathList"}
		e.All[number] = entry
	}
	return err
}
