package loader

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode/utf16"

	"www.velocidex.com/golang/regparser"

	"latchkey/core/firmware"
	"latchkey/core/guard"
)

// Paths of the boot configuration store, by who reads it. The maker's
// documentation of BCDEdit.
const (
	StoreUEFI   = `\EFI\Microsoft\Boot\BCD`
	StoreLegacy = `\Boot\BCD`
)

// StorePath is where the manager of a mode looks for its store.
func StorePath(mode firmware.Mode) string {
	if mode == firmware.Legacy {
		return StoreLegacy
	}
	return StoreUEFI
}

// Element types of the boot configuration store. The maker's BCD WMI provider
// reference, enumerations BcdLibraryElementTypes, BcdBootMgrElementTypes and
// BcdOSLoaderElementTypes.
const (
	ElementDevice         = 0x11000001
	ElementPath           = 0x12000002
	ElementDescription    = 0x12000004
	ElementOSDevice       = 0x21000001
	ElementSystemRoot     = 0x22000002
	ElementResumeObject   = 0x23000003 // in a loader object
	ElementDefault        = 0x23000003 // in the boot manager object
	ElementDisplayOrder   = 0x24000001
	ElementBootSequence   = 0x24000002
	ElementTimeout        = 0x25000004
	ElementRecoverySeq    = 0x14000008
	ElementRecoveryEnable = 0x16000009
)

var elementNames = map[uint32]string{
	ElementDevice: "device", ElementPath: "path", ElementDescription: "description", 0x12000005: "locale",
	0x14000006: "inherit", ElementRecoverySeq: "recoverysequence", ElementRecoveryEnable: "recoveryenabled",
	ElementOSDevice: "osdevice", ElementSystemRoot: "systemroot", ElementDisplayOrder: "displayorder",
	ElementBootSequence: "bootsequence", ElementTimeout: "timeout", 0x23000003: "default or resumeobject",
	0x24000010: "toolsdisplayorder", 0x25000020: "nx",
}

// BootManager and MemoryTest are the identifiers of the boot manager's object and of the memory
// test's. The latter is common practice, no source.
const (
	BootManager = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}"
	MemoryTest  = "{b2721d73-1db4-4c62-bf78-c548a880142d}"
)

// Object types: the high half is what it is. The maker's BCD reference, "BCD
// objects".
const (
	objectBootManager = 0x10100002
	objectOSLoader    = 0x10200003
	objectResume      = 0x10200004
	objectMemoryTest  = 0x10200005
	objectNTLDR       = 0x10300006
)

// Bounds of a store: real ones have some tens of objects in 64 KiB.
const (
	MaxStore       = 8 << 20 // bytes
	maxStoreBudget = 64 << 20
	maxObjects     = 512
	maxElements    = 256
	maxElement     = 64 << 10 // bytes
)

// Store is a boot configuration store.
type Store struct {
	Objects []Object
	// Dirty: the hive was not written out whole; Windows replays its log first.
	Dirty bool
}

// Object is one of a store's objects.
type Object struct {
	ID       string // GUID in braces, lower case
	Type     uint32
	Elements []Element
}

// Element is one setting of an object.
type Element struct {
	Type   uint32
	Text   string
	IDs    []string // of objects
	Number *uint64
	Device *BCDDevice
	Line   int   // of the listing it was read in, 0 for a hive
	Offset int64 // byte offset of its value within the hive
	Length int64 // bytes
}

// Name returns the element's name as BCDEdit prints it.
func (e Element) Name() string {
	if name := elementNames[e.Type]; name != "" {
		return name
	}
	return fmt.Sprintf("%08x", e.Type)
}

// ReadStore decodes a boot configuration store: a registry hive with the key
// Objects. What was decoded before damage is returned with the error.
func ReadStore(raw []byte) (*Store, error) {
	s := &Store{}
	if len(raw) < 4096 || string(raw[:4]) != "regf" {
		return s, fmt.Errorf("a boot configuration store starts with %q, expected regf", raw[:min(4, len(raw))])
	}
	s.Dirty = binary.LittleEndian.Uint32(raw[4:]) != binary.LittleEndian.Uint32(raw[8:])
	if want, got := hiveChecksum(raw), binary.LittleEndian.Uint32(raw[508:]); want != got {
		return s, fmt.Errorf("the hive's header has the checksum %08X, expected %08X", got, want)
	}
	g := guard.New(bytes.NewReader(raw))
	err := g.Within(maxStoreBudget, "the hive", func() error {
		hive, err := regparser.NewRegistry(g)
		if err != nil {
			return err
		}
		objects := hive.OpenKey("Objects")
		if objects == nil {
			return errors.New("the hive has no key Objects")
		}
		return s.readObjects(objects)
	})
	return s, err
}

// hiveChecksum is the XOR of the header's first 127 words; neither 0 nor all ones
// is written. Common practice.
func hiveChecksum(raw []byte) uint32 {
	var sum uint32
	for i := 0; i < 508; i += 4 {
		sum ^= binary.LittleEndian.Uint32(raw[i:])
	}
	switch sum {
	case 0:
		return 1
	case 0xFFFFFFFF:
		return 0xFFFFFFFE
	}
	return sum
}

func (s *Store) readObjects(key *regparser.CM_KEY_NODE) error {
	var errs []error
	for i, k := range key.Subkeys() {
		if i >= maxObjects {
			return fmt.Errorf("more than %d objects", maxObjects)
		}
		o := Object{ID: strings.ToLower(k.Name())}
		for _, sub := range k.Subkeys() {
			switch strings.ToLower(sub.Name()) {
			case "description":
				for _, v := range sub.Values() {
					if strings.EqualFold(v.ValueName(), "Type") {
						o.Type = uint32(v.ValueData().Uint64)
					}
				}
			case "elements":
				errs = append(errs, o.readElements(sub))
			}
		}
		s.Objects = append(s.Objects, o)
	}
	sort.SliceStable(s.Objects, func(i, j int) bool { return s.Objects[i].ID < s.Objects[j].ID })
	return errors.Join(errs...)
}

func (o *Object) readElements(key *regparser.CM_KEY_NODE) error {
	var errs []error
	for i, k := range key.Subkeys() {
		kind, err := strconv.ParseUint(k.Name(), 16, 32)
		if err != nil || i >= maxElements {
			errs = append(errs, fmt.Errorf("object %s has an element named %q", o.ID, k.Name()))
			continue
		}
		for _, v := range k.Values() {
			if !strings.EqualFold(v.ValueName(), "Element") {
				continue
			}
			e, err := readElement(uint32(kind), v)
			if err != nil {
				errs = append(errs, fmt.Errorf("object %s, element %08x: %w", o.ID, kind, err))
			}
			o.Elements = append(o.Elements, e)
		}
	}
	return errors.Join(errs...)
}

// readElement decodes a value by the format in its type's bits 24 to 27. The
// maker's BCD reference, "BCD elements".
func readElement(kind uint32, v *regparser.CM_KEY_VALUE) (Element, error) {
	e := Element{Type: kind, Length: v.DataSize()}
	if e.Length > maxElement {
		return e, fmt.Errorf("%d bytes, expected at most %d", e.Length, maxElement)
	}
	if v.DataLength()&0x80000000 != 0 {
		e.Offset = v.Offset + v.Profile.Off_CM_KEY_VALUE_Data
	} else {
		e.Offset = 4096 + int64(v.Data()) + 4
	}
	raw := v.ValueData().Data
	raw = raw[:min(int64(len(raw)), e.Length)]
	switch kind >> 24 & 0xF {
	case 1:
		d, err := DecodeDevice(raw)
		e.Device = d
		return e, err
	case 2, 3:
		e.Text = wideText(raw)
		if kind>>24&0xF == 3 {
			e.IDs, e.Text = []string{strings.ToLower(e.Text)}, ""
		}
	case 4:
		for _, id := range strings.FieldsFunc(wideText(raw), func(r rune) bool { return r == 0 }) {
			e.IDs = append(e.IDs, strings.ToLower(id))
		}
	case 5, 6:
		var b [8]byte
		copy(b[:], raw)
		n := binary.LittleEndian.Uint64(b[:])
		e.Number = &n
	}
	return e, nil
}

func wideText(raw []byte) string {
	units := make([]uint16, len(raw)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(raw[2*i:])
	}
	return strings.TrimRight(string(utf16.Decode(units)), "\x00")
}

// Object returns an object by its identifier.
func (s *Store) Object(id string) (*Object, bool) {
	for i := range s.Objects {
		if s.Objects[i].ID == strings.ToLower(id) {
			return &s.Objects[i], true
		}
	}
	return nil, false
}

// Element returns an object's element.
func (o *Object) Element(kind uint32) (Element, bool) {
	for _, e := range o.Elements {
		if e.Type == kind {
			return e, true
		}
	}
	return Element{}, false
}

// What says what an object is, in the words of the systems' own listing.
func (o *Object) What() string {
	switch o.Type {
	case objectBootManager:
		return "Windows Boot Manager"
	case objectOSLoader:
		return "Windows Boot Loader"
	case objectResume:
		return "Resume from Hibernate"
	case objectNTLDR:
		return "Windows Legacy OS Loader"
	}
	return "object"
}

// SetKind tells what an object of a listing is, which prints no types.
func (o *Object) SetKind(manager, system bool) {
	switch {
	case manager:
		o.Type = objectBootManager
	case system:
		o.Type = objectOSLoader
	}
}

// IsLoader reports whether an object starts a system.
func (o *Object) IsLoader() bool { return o.Type == objectOSLoader }

// Default returns the loader that is started when nobody chooses: the boot
// manager's default, else the first of its display order, else the only loader
// there is.
func (s *Store) Default() (*Object, bool) {
	if m, ok := s.Object(BootManager); ok {
		for _, kind := range []uint32{ElementDefault, ElementDisplayOrder} {
			if e, ok := m.Element(kind); ok && len(e.IDs) > 0 {
				return s.Object(e.IDs[0])
			}
		}
	}
	var only *Object
	for i := range s.Objects {
		if s.Objects[i].IsLoader() {
			if only != nil {
				return nil, false
			}
			only = &s.Objects[i]
		}
	}
	return only, only != nil
}

// NewStore is a store as Windows' own tool makes it, with one system: its loader's
// path, and the partition it lies on.
func NewStore(path string, on *BCDDevice) *Store {
	const system = "{11111111-2222-3333-4444-555555555555}"
	return &Store{Objects: []Object{
		{ID: BootManager, Type: objectBootManager, Elements: []Element{{Type: ElementDefault, IDs: []string{system}},
			{Type: ElementDisplayOrder, IDs: []string{system}}}},
		{ID: system, Type: objectOSLoader, Elements: []Element{{Type: ElementDevice, Device: on},
			{Type: ElementOSDevice, Device: on}, {Type: ElementPath, Text: path}}},
	}}
}

// Beside lists what goes with the default system, where the store has it on a partition: what
// it is woken by, which lies where the system does, and the memory test, which lies beside the
// boot manager.
func (s *Store) Beside() (resume, test *Object) {
	on := func(id string, kind uint32) *Object {
		o, ok := s.Object(id)
		if !ok || o.Type != kind {
			return nil
		}
		e, ok := o.Element(ElementDevice)
		if !ok || e.Device == nil || e.Device.Kind != DevicePartition || !objectID.MatchString(id) {
			return nil
		}
		return o
	}
	if system, ok := s.Default(); ok {
		if e, ok := system.Element(ElementResumeObject); ok && len(e.IDs) == 1 {
			resume = on(e.IDs[0], objectResume)
		}
	}
	return resume, on(MemoryTest, objectMemoryTest)
}

// objectID is how an object is called: a name out of a store is nothing else.
var objectID = regexp.MustCompile(`^\{[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}\}$`)

// Pointing is the store with its default system on one partition and the boot manager on
// another, and what goes with them.
func (s *Store) Pointing(on, manager *BCDDevice) *Store {
	system, ok := s.Default()
	if !ok {
		return s
	}
	resume, test := s.Beside()
	other := *s
	other.Objects = nil
	for _, o := range s.Objects {
		switch {
		case o.ID == system.ID, resume != nil && o.ID == resume.ID:
			o.Elements = onDevice(o.Elements, on)
		case o.ID == BootManager, test != nil && o.ID == test.ID:
			o.Elements = onDevice(o.Elements, manager)
		}
		other.Objects = append(other.Objects, o)
	}
	return &other
}

func onDevice(elements []Element, on *BCDDevice) []Element {
	elements = slices.Clone(elements)
	for i := range elements {
		if t := elements[i].Type; t == ElementDevice || t == ElementOSDevice {
			elements[i].Device = on
		}
	}
	return elements
}
