package volume

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"

	"latchkey/core/guard"
)

// index is the index of a directory's names: its root, and the stream of its
// further nodes.
type index struct {
	n          *NTFS
	root       []byte
	nodes      io.ReaderAt
	nodesLen   int64
	recordSize int64
	unit       int64 // bytes that one number of a node stands for
	left       int   // nodes that may still be read
}

func (n *NTFS) openIndex(record int64) (*index, error) {
	attrs, err := n.attributes(record)
	if err != nil {
		return nil, err
	}
	x := &index{n: n, left: maxIndexRecords}
	for _, a := range attrs {
		switch a.Type().Value {
		case attrIndexRoot:
			x.root = make([]byte, min(max(a.DataSize(), 0), 64<<10))
			got, _ := a.Data(n.ctx).ReadAt(x.root, 0)
			x.root = x.root[:got]
		case attrIndexAlloc:
			x.nodes, x.nodesLen = a.Data(n.ctx), a.DataSize()
		}
	}
	if len(x.root) < 32 {
		return nil, fmt.Errorf("MFT record %d: %w", record, ErrNotFound) // no directory
	}
	x.recordSize = int64(binary.LittleEndian.Uint32(x.root[8:]))
	if x.recordSize < 512 || x.recordSize > 64<<10 {
		return nil, fmt.Errorf("directory of MFT record %d has index nodes of %d bytes", record, x.recordSize)
	}
	x.unit = 512
	if n.ctx.ClusterSize <= x.recordSize {
		x.unit = n.ctx.ClusterSize
	}
	return x, nil
}

// entry is a name in a directory's index.
type entry struct {
	file  File
	child int64 // node before this entry, -1 for none
	last  bool
}

// entries decodes a node; at is where its header begins within raw.
func entries(raw []byte, at int) ([]entry, error) {
	le := binary.LittleEndian
	if len(raw) < at+16 {
		return nil, errors.New("an index node is cut short")
	}
	pos, end := at+int(le.Uint32(raw[at:])&0xFFFF), at+int(le.Uint32(raw[at+4:])&0xFFFFF)
	var found []entry
	for pos+16 <= min(end, len(raw)) {
		length, flags := int(le.Uint16(raw[pos+8:])), le.Uint16(raw[pos+12:])
		if length < 16 || pos+length > len(raw) {
			return found, fmt.Errorf("an index entry at byte %d has length %d", pos, length)
		}
		e := entry{child: -1, last: flags&indexLast != 0}
		if flags&indexHasChild != 0 {
			e.child = int64(le.Uint64(raw[pos+length-8:]))
		}
		if name := raw[pos+16 : pos+length]; !e.last && len(name) >= fileNameAttrLength {
			n := int(name[64])
			if fileNameAttrLength+2*n > len(name) {
				return found, fmt.Errorf("a name at byte %d of an index node runs past its entry", pos)
			}
			e.file = File{
				Name: wide(name[fileNameAttrLength : fileNameAttrLength+2*n]), Size: int64(le.Uint64(name[48:])),
				Dir: le.Uint32(name[56:])&0x10000000 != 0, node: le.Uint64(raw[pos:]) & 0xFFFFFFFFFFFF,
			}
		}
		if found = append(found, e); e.last {
			break
		}
		pos += length
	}
	return found, nil
}

// node reads one of the further nodes.
func (x *index) node(number int64) ([]entry, error) {
	if x.left--; x.left < 0 {
		return nil, guard.ErrBudget
	}
	at := number * x.unit
	if x.nodes == nil || number < 0 || at < 0 || at+x.recordSize > x.nodesLen {
		return nil, fmt.Errorf("index node %d lies outside its directory of %d bytes", number, x.nodesLen)
	}
	raw := make([]byte, x.recordSize)
	if got, err := x.nodes.ReadAt(raw, at); got < len(raw) {
		return nil, fmt.Errorf("index node %d: %w", number, errors.Join(err, io.ErrUnexpectedEOF))
	}
	if string(raw[:4]) != "INDX" {
		return nil, fmt.Errorf("index node %d starts with % X, expected INDX", number, raw[:4])
	}
	if err := fixUp(raw); err != nil {
		return nil, fmt.Errorf("index node %d: %w", number, err)
	}
	return entries(raw, 24)
}

// fixUp puts back the last two bytes of every 512, which a node's update sequence
// holds.
func fixUp(raw []byte) error {
	le := binary.LittleEndian
	at, count := int(le.Uint16(raw[4:])), int(le.Uint16(raw[6:]))
	if count < 1 || at+2*count > len(raw) || (count-1)*512 > len(raw) {
		return fmt.Errorf("its update sequence has %d numbers at byte %d", count, at)
	}
	for i := 1; i < count; i++ {
		tail := raw[i*512-2 : i*512]
		if le.Uint16(tail) != le.Uint16(raw[at:]) {
			return fmt.Errorf("its sector %d was not written with the others", i-1)
		}
		copy(tail, raw[at+2*i:at+2*i+2])
	}
	return nil
}

// find descends the index to a name, so that only the nodes on the way are read.
func (x *index) find(name string) (File, error) {
	list, err := entries(x.root, 16)
	for depth := 0; err == nil && depth < maxIndexDepth; depth++ {
		next := int64(-1)
		for _, e := range list {
			order := -1
			if !e.last {
				order = compareNames(name, e.file.Name)
			}
			if order == 0 {
				return e.file, nil
			}
			if order < 0 {
				next = e.child
				break
			}
		}
		if next < 0 {
			return File{}, fmt.Errorf("%s: %w", name, ErrNotFound)
		}
		list, err = x.node(next)
	}
	if err == nil {
		err = fmt.Errorf("the directory's index is deeper than %d nodes", maxIndexDepth)
	}
	return File{}, err
}

// compareNames orders names as a directory's index does: by the upper case of
// each UTF-16 unit.
func compareNames(a, b string) int {
	x, y := utf16.Encode([]rune(strings.ToUpper(a))), utf16.Encode([]rune(strings.ToUpper(b)))
	for i := range min(len(x), len(y)) {
		if x[i] != y[i] {
			return int(x[i]) - int(y[i])
		}
	}
	return len(x) - len(y)
}

// all lists every name below a node, in order.
func (x *index) all(list []entry, depth int, to *[]File) error {
	if depth > maxIndexDepth {
		return fmt.Errorf("the directory's index is deeper than %d nodes", maxIndexDepth)
	}
	for _, e := range list {
		if e.child >= 0 {
			children, err := x.node(e.child)
			if err != nil {
				return err
			}
			if err := x.all(children, depth+1, to); err != nil {
				return err
			}
		}
		if !e.last && nameable(e.file.Name) {
			*to = append(*to, e.file)
		}
	}
	return nil
}
