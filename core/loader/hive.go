package loader

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"
)

// Hive reads single values of a registry hive without reading the hive: a system's is
// tens of MiB long, of which a start asks for a few hundred bytes. The layout: common
// practice, as the hivex library and "Windows registry file format specification" by its
// independent readers describe it.
type Hive struct {
	r io.ReaderAt
	// Dirty: the hive was not written out whole; Windows replays its log first.
	Dirty bool
	root  uint32
	reads int
}

// Bounds of a walk in a hive.
const (
	maxHiveReads = 4096
	maxHiveList  = 4096 // names in a list
	maxHiveCell  = 64 << 10
	hiveBins     = 4096 // where the cells' offsets count from
)

// HiveValue is a value, and where its bytes lie in the hive.
type HiveValue struct {
	Type   uint32 // 3 is bytes, 4 a number
	Bytes  []byte
	Offset int64
}

// Number returns a value of type 4.
func (v HiveValue) Number() (uint32, bool) {
	if v.Type != 4 || len(v.Bytes) != 4 {
		return 0, false
	}
	return binary.LittleEndian.Uint32(v.Bytes), true
}

// ErrNoKey reports that a key or a value is not in the hive.
var ErrNoKey = errors.New("not in the hive")

// OpenHive reads the header.
func OpenHive(r io.ReaderAt) (*Hive, error) {
	h := make([]byte, 512)
	if _, err := r.ReadAt(h, 0); err != nil {
		return nil, err
	}
	if string(h[:4]) != "regf" {
		return nil, fmt.Errorf("a registry hive starts with %q, expected regf", h[:4])
	}
	le := binary.LittleEndian
	if want, got := hiveChecksum(h), le.Uint32(h[508:]); want != got {
		return nil, fmt.Errorf("the hive's header has the checksum %08X, expected %08X", got, want)
	}
	return &Hive{r: r, Dirty: le.Uint32(h[4:]) != le.Uint32(h[8:]), root: le.Uint32(h[36:])}, nil
}

// cell reads the first bytes of a cell, at most its length.
func (h *Hive) cell(at uint32, most int) ([]byte, error) {
	if h.reads++; h.reads > maxHiveReads {
		return nil, errors.New("the hive leads to more cells than a sound one")
	}
	size := make([]byte, 4)
	if _, err := h.r.ReadAt(size, hiveBins+int64(at)); err != nil {
		return nil, fmt.Errorf("the cell at %d: %w", at, err)
	}
	length := -int64(int32(binary.LittleEndian.Uint32(size))) - 4
	if length < 4 || length > maxHiveCell {
		return nil, fmt.Errorf("the cell at %d has %d bytes", at, length)
	}
	b := make([]byte, min(int(length), most))
	if _, err := h.r.ReadAt(b, hiveBins+int64(at)+4); err != nil {
		return nil, fmt.Errorf("the cell at %d: %w", at, err)
	}
	return b, nil
}

// key is a key's cell, without its name.
func (h *Hive) key(at uint32) ([]byte, error) {
	b, err := h.cell(at, 76)
	if err == nil && (len(b) < 76 || string(b[:2]) != "nk") {
		err = fmt.Errorf("the cell at %d is no key", at)
	}
	return b, err
}

// Value reads a value by the path of its key, from the root, and its name.
func (h *Hive) Value(path []string, name string) (HiveValue, error) {
	at, err := h.find(path)
	if err != nil {
		return HiveValue{}, err
	}
	key, err := h.key(at)
	if err != nil {
		return HiveValue{}, err
	}
	le := binary.LittleEndian
	count := le.Uint32(key[36:])
	if count == 0 || count > maxHiveList {
		return HiveValue{}, ErrNoKey
	}
	list, err := h.cell(le.Uint32(key[40:]), int(count)*4)
	if err != nil {
		return HiveValue{}, err
	}
	for ; len(list) >= 4; list = list[4:] {
		v, own, err := h.value(le.Uint32(list))
		if err != nil {
			return HiveValue{}, err
		}
		if strings.EqualFold(own, name) {
			return h.data(v, le.Uint32(list))
		}
	}
	return HiveValue{}, ErrNoKey
}

// value reads a value's cell, and its name.
func (h *Hive) value(at uint32) ([]byte, string, error) {
	b, err := h.cell(at, 20+1024)
	if err != nil {
		return nil, "", err
	}
	if len(b) < 20 || string(b[:2]) != "vk" {
		return nil, "", fmt.Errorf("the cell at %d is no value", at)
	}
	le := binary.LittleEndian
	return b, hiveName(b[20:], int(le.Uint16(b[2:])), le.Uint16(b[16:])&1 != 0), nil
}

// data reads what a value holds; four bytes and less stand in its own cell.
func (h *Hive) data(v []byte, at uint32) (HiveValue, error) {
	le := binary.LittleEndian
	out := HiveValue{Type: le.Uint32(v[12:])}
	length := le.Uint32(v[4:])
	if length&(1<<31) != 0 {
		if length &^= 1 << 31; length > 4 {
			return out, fmt.Errorf("the value at %d has %d bytes in its own cell", at, length)
		}
		out.Bytes, out.Offset = v[8:8+length], hiveBins+int64(at)+4+8
		return out, nil
	}
	if length > maxHiveCell {
		return out, fmt.Errorf("the value at %d has %d bytes", at, length)
	}
	b, err := h.cell(le.Uint32(v[8:]), int(length))
	out.Bytes, out.Offset = b, hiveBins+int64(le.Uint32(v[8:]))+4
	return out, err
}

// find returns the cell of a key.
func (h *Hive) find(path []string) (uint32, error) {
	at := h.root
	for _, name := range path {
		key, err := h.key(at)
		if err != nil {
			return 0, err
		}
		list := binary.LittleEndian.Uint32(key[28:])
		if binary.LittleEndian.Uint32(key[20:]) == 0 || list == 0xFFFFFFFF {
			return 0, ErrNoKey
		}
		if at, err = h.listed(list, name, 0); err != nil {
			return 0, err
		}
	}
	return at, nil
}

// listed looks for a key in a list of keys: li holds their cells, lf and lh hints of their
// names besides, ri further lists.
func (h *Hive) listed(at uint32, name string, depth int) (uint32, error) {
	b, err := h.cell(at, 4+8*maxHiveList)
	if err != nil {
		return 0, err
	}
	le := binary.LittleEndian
	kind, count := string(b[:2]), int(le.Uint16(b[2:]))
	step := map[string]int{"li": 4, "ri": 4, "lf": 8, "lh": 8}[kind]
	if step == 0 || depth > 2 {
		return 0, fmt.Errorf("the cell at %d is no list of keys", at)
	}
	b = b[4:]
	for n := 0; n < count && len(b) >= step; n, b = n+1, b[step:] {
		child := le.Uint32(b)
		switch {
		case kind == "ri":
			found, err := h.listed(child, name, depth+1)
			if !errors.Is(err, ErrNoKey) {
				return found, err
			}
		case kind == "lh" && le.Uint32(b[4:]) != hiveHash(name), kind == "lf" && !hinted(b[4:8], name):
		default:
			own, err := h.keyName(child)
			if err != nil {
				return 0, err
			}
			if strings.EqualFold(own, name) {
				return child, nil
			}
		}
	}
	return 0, ErrNoKey
}

// hinted reports whether the first letters of a key's name may be those of a name.
func hinted(hint []byte, name string) bool {
	n := min(4, len(name))
	return hint[0] == 0 || strings.EqualFold(string(hint[:n]), name[:n])
}

func (h *Hive) keyName(at uint32) (string, error) {
	b, err := h.cell(at, 76+512)
	if err != nil {
		return "", err
	}
	if len(b) < 76 || string(b[:2]) != "nk" {
		return "", fmt.Errorf("the cell at %d is no key", at)
	}
	le := binary.LittleEndian
	return hiveName(b[76:], int(le.Uint16(b[72:])), le.Uint16(b[2:])&0x20 != 0), nil
}

// hiveName is a name of single bytes (Latin-1) or of UTF-16.
func hiveName(b []byte, length int, single bool) string {
	b = b[:min(length, len(b))]
	if single {
		runes := make([]rune, len(b))
		for i, c := range b {
			runes[i] = rune(c)
		}
		return string(runes)
	}
	wide := make([]uint16, len(b)/2)
	for i := range wide {
		wide[i] = binary.LittleEndian.Uint16(b[2*i:])
	}
	return string(utf16.Decode(wide))
}

// hiveHash is the hint of a list of the kind lh.
func hiveHash(name string) (sum uint32) {
	for _, c := range strings.ToUpper(name) {
		sum = sum*37 + uint32(c)
	}
	return sum
}
