package diskmaker

import (
	"encoding/binary"
	"fmt"
	"sort"
	"unicode/utf16"

	"latchkey/core/disk"
)

// Key is a key of a registry hive.
type Key struct {
	Values map[string]Value
	Keys   map[string]*Key
}

// Value is a registry value: its type (1 text, 3 binary, 4 number, 7 texts) and
// its bytes.
type Value struct {
	Type uint32
	Data []byte
}

// Bytes writes the key as the root of a hive, in one bin. The layout is that of
// the Windows registry file format as the independent hivex tools read it.
func (k *Key) Bytes() []byte {
	h := &hive{bin: make([]byte, 32)}
	h.security = h.cell(make([]byte, 20+len(everyone)))
	root := h.key("root", k, 0xFFFFFFFF, 0x2C)
	h.writeSecurity()
	for len(h.bin)%4096 != 0 || len(h.bin) == 32 {
		rest := 4096 - len(h.bin)%4096
		at := len(h.bin)
		h.bin = append(h.bin, make([]byte, rest)...)
		binary.LittleEndian.PutUint32(h.bin[at:], uint32(rest)) // a free cell
	}
	le := binary.LittleEndian
	copy(h.bin, "hbin")
	le.PutUint32(h.bin[8:], uint32(len(h.bin)))
	base := make([]byte, 4096)
	copy(base, "regf")
	le.PutUint32(base[4:], 1)
	le.PutUint32(base[8:], 1)
	le.PutUint32(base[20:], 1) // version 1.5
	le.PutUint32(base[24:], 5)
	le.PutUint32(base[32:], 1)
	le.PutUint32(base[36:], root)
	le.PutUint32(base[40:], uint32(len(h.bin)))
	le.PutUint32(base[44:], 1)
	var sum uint32
	for i := 0; i < 508; i += 4 {
		sum ^= le.Uint32(base[i:])
	}
	le.PutUint32(base[508:], sum)
	return append(base, h.bin...)
}

type hive struct {
	bin      []byte
	security uint32 // offset of the one security cell
	keys     uint32
}

// everyone is a security descriptor without owner and lists: whoever may open the
// file may read it.
var everyone = []byte{1, 0, 0, 0x80, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}

// writeSecurity fills the cell that every key refers to.
func (h *hive) writeSecurity() {
	le := binary.LittleEndian
	sk := h.bin[h.security+4:]
	copy(sk, "sk")
	le.PutUint32(sk[4:], h.security)
	le.PutUint32(sk[8:], h.security)
	le.PutUint32(sk[12:], h.keys)
	le.PutUint32(sk[16:], uint32(len(everyone)))
	copy(sk[20:], everyone)
}

// cell appends a cell and returns its offset.
func (h *hive) cell(data []byte) uint32 {
	size := (len(data) + 4 + 7) / 8 * 8
	at := len(h.bin)
	h.bin = append(h.bin, make([]byte, size)...)
	binary.LittleEndian.PutUint32(h.bin[at:], uint32(-size))
	copy(h.bin[at+4:], data)
	return uint32(at)
}

func (h *hive) key(name string, k *Key, parent uint32, flags uint16) uint32 {
	le := binary.LittleEndian
	nk := make([]byte, 76+len(name))
	copy(nk, "nk")
	le.PutUint16(nk[2:], flags)
	le.PutUint32(nk[16:], parent)
	le.PutUint32(nk[28:], 0xFFFFFFFF) // no subkeys yet
	le.PutUint32(nk[32:], 0xFFFFFFFF)
	le.PutUint32(nk[40:], 0xFFFFFFFF) // no values yet
	le.PutUint32(nk[44:], h.security)
	h.keys++
	le.PutUint32(nk[48:], 0xFFFFFFFF) // no class
	le.PutUint16(nk[72:], uint16(len(name)))
	copy(nk[76:], name)
	at := h.cell(nk)
	var list []byte
	for _, n := range sortedKeys(k.Values) {
		list = le.AppendUint32(list, h.value(n, k.Values[n]))
	}
	if len(list) > 0 {
		le.PutUint32(h.bin[at+4+36:], uint32(len(list)/4))
		cell := h.cell(list) // before the place is looked up: it may move them all
		le.PutUint32(h.bin[at+4+40:], cell)
	}
	index := []byte("lh\x00\x00")
	for _, n := range sortedKeys(k.Keys) {
		index = le.AppendUint32(index, h.key(n, k.Keys[n], at, 0x20))
		index = le.AppendUint32(index, nameHash(n))
	}
	if count := len(k.Keys); count > 0 {
		le.PutUint16(index[2:], uint16(count))
		le.PutUint32(h.bin[at+4+20:], uint32(count))
		cell := h.cell(index)
		le.PutUint32(h.bin[at+4+28:], cell)
	}
	return at
}

func (h *hive) value(name string, v Value) uint32 {
	le := binary.LittleEndian
	vk := make([]byte, 20+len(name))
	copy(vk, "vk")
	le.PutUint16(vk[2:], uint16(len(name)))
	le.PutUint32(vk[4:], uint32(len(v.Data)))
	le.PutUint32(vk[12:], v.Type)
	le.PutUint16(vk[16:], 1) // an ASCII name
	copy(vk[20:], name)
	if len(v.Data) <= 4 {
		le.PutUint32(vk[4:], uint32(len(v.Data))|0x80000000)
		copy(vk[8:12], v.Data)
	} else {
		le.PutUint32(vk[8:], h.cell(v.Data))
	}
	return h.cell(vk)
}

func nameHash(name string) uint32 {
	var sum uint32
	for _, c := range name {
		if c >= 'a' && c <= 'z' {
			c -= 32
		}
		sum = sum*37 + uint32(c)
	}
	return sum
}

func sortedKeys[T any](m map[string]T) []string {
	names := make([]string, 0, len(m))
	for n := range m {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

func text(s string) []byte {
	var b []byte
	for _, u := range utf16.Encode([]rune(s + "\x00")) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}

// BootStore declares a boot configuration store with one system.
type BootStore struct {
	Legacy bool
	// Boot and System are the partitions that the manager and the system are said
	// to lie on.
	Boot, System Place
	// Beside has what Windows' own tool makes beside the system: what it is woken by, and the
	// memory test.
	Beside bool
}

// Place names a partition as a store does.
type Place struct {
	Partition, Disk disk.GUID // GPT
	Start           uint64    // bytes (MBR)
	Signature       uint32    // MBR
}

const (
	managerID = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}"
	systemID  = "{6c2d5f0a-71b3-4e0e-9a44-0d5e7c1b2f90}"
	resumeID  = "{6c2d5f0b-71b3-4e0e-9a44-0d5e7c1b2f90}"
	testID    = "{b2721d73-1db4-4c62-bf78-c548a880142d}"
)

func (p Place) device() []byte {
	le := binary.LittleEndian
	b := make([]byte, 88)
	le.PutUint32(b[0x10:], 6)
	le.PutUint32(b[0x18:], 0x48)
	if p.Signature != 0 {
		le.PutUint64(b[0x20:], p.Start)
		le.PutUint32(b[0x34:], 1)
		le.PutUint32(b[0x38:], p.Signature)
		return b
	}
	copy(b[0x20:], p.Partition[:])
	copy(b[0x38:], p.Disk[:])
	return b
}

// Bytes writes the store as a hive.
func (s BootStore) Bytes() []byte {
	loader := `\Windows\system32\winload.efi`
	manager := `\EFI\Microsoft\Boot\bootmgfw.efi`
	if s.Legacy {
		loader, manager = `\Windows\system32\winload.exe`, `\bootmgr`
	}
	object := func(kind uint32, elements map[uint32]Value) *Key {
		k := &Key{Keys: map[string]*Key{
			"Description": {Values: map[string]Value{"Type": {4, binary.LittleEndian.AppendUint32(nil, kind)}}},
			"Elements":    {Keys: map[string]*Key{}},
		}}
		for kind, v := range elements {
			k.Keys["Elements"].Keys[fmt.Sprintf("%08x", kind)] = &Key{Values: map[string]Value{"Element": v}}
		}
		return k
	}
	objects := map[string]*Key{
		managerID: object(0x10100002, map[uint32]Value{
			0x11000001: {3, s.Boot.device()}, 0x12000002: {1, text(manager)}, 0x12000004: {1, text("Windows Boot Manager")},
			0x23000003: {1, text(systemID)}, 0x24000001: {7, text(systemID + "\x00")},
			0x25000004: {3, binary.LittleEndian.AppendUint64(nil, 30)},
		}),
		systemID: object(0x10200003, map[uint32]Value{
			0x11000001: {3, s.System.device()}, 0x12000002: {1, text(loader)}, 0x12000004: {1, text("Windows")},
			0x21000001: {3, s.System.device()}, 0x22000002: {1, text(`\Windows`)},
		}),
	}
	if s.Beside {
		objects[systemID].Keys["Elements"].Keys["14000008"] = &Key{Values: map[string]Value{"Element": {7, text(testID + "\x00")}}}
		objects[systemID].Keys["Elements"].Keys["23000003"] = &Key{Values: map[string]Value{"Element": {1, text(resumeID)}}}
		objects[resumeID] = object(0x10200004, map[uint32]Value{0x11000001: {3, s.System.device()},
			0x12000002: {1, text(`\Windows\system32\winresume.efi`)}, 0x21000001: {3, s.System.device()}})
		objects[testID] = object(0x10200005, map[uint32]Value{0x11000001: {3, s.Boot.device()},
			0x12000002: {1, text(`\EFI\Microsoft\Boot\memtest.efi`)}})
	}
	return (&Key{Keys: map[string]*Key{
		"Description": {Values: map[string]Value{"KeyName": {1, text("BCD00000000")}}},
		"Objects":     {Keys: objects},
	}}).Bytes()
}
