package diskmaker

import (
	"encoding/binary"
	"fmt"

	"latchkey/core/disk"
)

// Entry declares a boot entry of a UEFI firmware.
type Entry struct {
	Number      uint16
	Description string
	Inactive    bool
	Hidden      bool
	App         bool   // in the category of applications
	Path        []byte // device path nodes without the end node
	Options     string // what the program is given, such as a kernel's line
}

// Bytes returns the entry as the contents of a Boot#### variable. UEFI
// Specification 2.10, section 3.1.3.
func (e Entry) Bytes() []byte {
	le := binary.LittleEndian
	attributes := uint32(1) // LOAD_OPTION_ACTIVE
	if e.Inactive {
		attributes = 0
	}
	if e.Hidden {
		attributes |= 8 // LOAD_OPTION_HIDDEN
	}
	if e.App {
		attributes |= 0x100 // LOAD_OPTION_CATEGORY_APP
	}
	path := append(append([]byte{}, e.Path...), 0x7F, 0xFF, 4, 0)
	b := le.AppendUint32(nil, attributes)
	b = le.AppendUint16(b, uint16(len(path)))
	b = append(b, wideText(e.Description+"\x00")...)
	return append(append(b, path...), wideText(e.Options)...)
}

func pathNode(kind, sub byte, data []byte) []byte {
	b := binary.LittleEndian.AppendUint16([]byte{kind, sub}, uint16(4+len(data)))
	return append(b, data...)
}

// HardDriveNode is the short form of a partition's place. UEFI Specification
// 2.10, section 10.3.5.1. The signature is the partition's GUID, or for an MBR
// disk its four bytes of disk signature.
func HardDriveNode(number uint32, start, size uint64, guid *disk.GUID, signature uint32) []byte {
	le := binary.LittleEndian
	b := le.AppendUint32(nil, number)
	b = le.AppendUint64(b, start)
	b = le.AppendUint64(b, size)
	if guid != nil {
		return pathNode(4, 1, append(append(b, guid[:]...), 2, 2))
	}
	b = append(le.AppendUint32(b, signature), make([]byte, 12)...)
	return pathNode(4, 1, append(b, 1, 1))
}

// FileNode is a file's path. UEFI Specification 2.10, section 10.3.5.4.
func FileNode(path string) []byte { return pathNode(4, 4, wideText(path+"\x00")) }

// PCINodes lead to a function of the first PCI root. UEFI Specification 2.10,
// sections 10.3.3 and 10.3.2.1.
func PCINodes(device, function byte) []byte {
	root := binary.LittleEndian.AppendUint32(nil, 0x0A0341D0) // PNP0A03
	return append(pathNode(2, 1, append(root, 0, 0, 0, 0)), pathNode(1, 1, []byte{function, device})...)
}

// SATANode is a port of a SATA controller. UEFI Specification 2.10, section
// 10.3.4.6.
func SATANode(port uint16) []byte {
	b := binary.LittleEndian.AppendUint16(nil, port)
	return pathNode(3, 18, append(b, 0xFF, 0xFF, 0, 0))
}

// NVMeNode is the first namespace of an NVMe controller. UEFI Specification 2.10,
// section 10.3.4.21.
func NVMeNode() []byte { return pathNode(3, 23, []byte{1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}) }

// USBNode is a port of a USB controller. UEFI Specification 2.10, section
// 10.3.4.5.
func USBNode(port byte) []byte { return pathNode(3, 5, []byte{port, 0}) }

// Variables returns the boot variables by name, without Linux' attributes.
func Variables(entries []Entry, order []uint16, next *uint16) map[string][]byte {
	files := map[string][]byte{}
	for _, e := range entries {
		files[fmt.Sprintf("Boot%04X", e.Number)] = e.Bytes()
	}
	if order != nil {
		var b []byte
		for _, n := range order {
			b = binary.LittleEndian.AppendUint16(b, n)
		}
		files["BootOrder"] = b
	}
	if next != nil {
		files["BootNext"] = binary.LittleEndian.AppendUint16(nil, *next)
	}
	return files
}

// BootVariableVendor is the vendor of the boot variables. UEFI Specification
// 2.10, section 3.3.
var BootVariableVendor = disk.MustGUID("8BE4DF61-93CA-11D2-AA0D-00E098032B8C")
