package diskmaker

import (
	"encoding/binary"
	"fmt"
	"sort"
	"strings"
	"unicode/utf16"
)

// The NTFS volumes made here hold the boot sector and its copy, the master file
// table with the records that a reader of files needs ($MFT, $Volume, the root,
// $Bitmap), the files, and nothing else: a system would not mount them. Layout:
// ntfs-3g's layout.h.
const (
	ntfsCluster   = 4096
	mftCluster    = 4
	mftRecordLen  = 1024
	firstUserFile = 24
	bitmapRecord  = 6
)

type ntfsWriter struct {
	m        *Image
	base     int64 // byte offset of the volume
	clusters uint64
	next     uint64 // next free cluster
	records  [][]byte
}

// node is a file or directory to be written.
type node struct {
	name     string
	data     []byte
	children map[string]*node
	record   int
}

// treeOf makes a tree of paths.
func treeOf(files map[string][]byte) *node {
	root := &node{children: map[string]*node{}}
	for _, p := range sortedKeys(files) {
		at := root
		names := strings.FieldsFunc(p, func(r rune) bool { return r == '\\' || r == '/' })
		for i, name := range names {
			next := at.children[name]
			if next == nil {
				next = &node{name: name}
				at.children[name] = next
			}
			if i == len(names)-1 {
				next.data = files[p]
			} else if next.children == nil {
				next.children = map[string]*node{}
			}
			at = next
		}
	}
	return root
}

// writeNTFS writes a volume with files. used is how much of it is marked as in
// use, in MiB.
func (m *Image) writeNTFS(p placed, hidden uint32) error {
	if err := m.writeNTFSBoot(p.first, p.count, p.Volume.Serial, hidden); err != nil {
		return err
	}
	w := &ntfsWriter{m: m, base: int64(p.first) * int64(m.SectorSize),
		clusters: p.count * uint64(m.SectorSize) / ntfsCluster, records: make([][]byte, firstUserFile)}
	root := treeOf(p.Volume.Files)
	root.record = 5
	count := firstUserFile
	number(root, &count)
	w.records = make([][]byte, count)
	w.next = mftCluster + uint64(count*mftRecordLen+ntfsCluster-1)/ntfsCluster
	var flags uint16
	if p.Volume.Unclean {
		flags = 1
	}
	w.records[3] = w.record(3, false, resident(0x60, 1, "", wideText(p.Volume.Label)),
		resident(0x70, 2, "", append(make([]byte, 8), 3, 1, byte(flags), 0)))
	if err := w.node(root, 5); err != nil {
		return err
	}
	if err := w.bitmap(p.Volume.UsedMiB); err != nil {
		return err
	}
	size := uint64(count * mftRecordLen)
	w.records[0] = w.record(0, false, runsAttribute(0x80, 1, mftCluster, (size+ntfsCluster-1)/ntfsCluster, size))
	for i, r := range w.records {
		if r == nil {
			continue
		}
		if _, err := m.WriteAt(r, w.base+mftCluster*ntfsCluster+int64(i)*mftRecordLen); err != nil {
			return err
		}
	}
	return nil
}

// number gives every node below a directory its record.
func number(dir *node, next *int) {
	for _, name := range sortedKeys(dir.children) {
		dir.children[name].record = *next
		*next++
	}
	for _, name := range sortedKeys(dir.children) {
		number(dir.children[name], next)
	}
}

func (w *ntfsWriter) node(n *node, parent int) error {
	if n.children == nil {
		data, err := w.contents(n.data)
		w.records[n.record] = w.record(n.record, false, resident(0x30, 0, "", fileName(n, parent)), data)
		return err
	}
	index, err := indexRoot(n)
	if err != nil {
		return err
	}
	w.records[n.record] = w.record(n.record, true, resident(0x30, 0, "", fileName(n, parent)),
		resident(0x90, 1, "$I30", index))
	for _, name := range sortedKeys(n.children) {
		if err := w.node(n.children[name], n.record); err != nil {
			return err
		}
	}
	return nil
}

// contents writes a file's data, within its record when it is short.
func (w *ntfsWriter) contents(data []byte) ([]byte, error) {
	if len(data) <= 400 {
		return resident(0x80, 1, "", data), nil
	}
	at, n := w.next, uint64(len(data)+ntfsCluster-1)/ntfsCluster
	w.next += n
	_, err := w.m.WriteAt(data, w.base+int64(at)*ntfsCluster)
	return runsAttribute(0x80, 1, at, n, uint64(len(data))), err
}

// bitmap marks what is in use.
func (w *ntfsWriter) bitmap(usedMiB uint64) error {
	length := (w.clusters + 7) / 8
	at, n := w.next, (length+ntfsCluster-1)/ntfsCluster
	used := max(w.next+n, usedMiB*mib/ntfsCluster)
	bits := make([]byte, (used+7)/8)
	for i := range bits {
		bits[i] = 0xFF
	}
	if spare := used % 8; spare != 0 {
		bits[len(bits)-1] = 1<<spare - 1
	}
	_, err := w.m.WriteAt(bits, w.base+int64(at)*ntfsCluster)
	w.records[bitmapRecord] = w.record(bitmapRecord, false, runsAttribute(0x80, 1, at, n, length))
	return err
}

// record lays out a record of the master file table with its update sequence.
func (w *ntfsWriter) record(number int, dir bool, attributes ...[]byte) []byte {
	le := binary.LittleEndian
	r := make([]byte, mftRecordLen)
	copy(r, "FILE")
	le.PutUint16(r[4:], 48)
	le.PutUint16(r[6:], 3)
	le.PutUint16(r[16:], 1)
	le.PutUint16(r[18:], 1)
	le.PutUint16(r[20:], 56)
	le.PutUint16(r[22:], 1)
	if dir {
		le.PutUint16(r[22:], 3)
	}
	le.PutUint32(r[28:], mftRecordLen)
	le.PutUint32(r[44:], uint32(number))
	at := 56
	for _, a := range attributes {
		at += copy(r[at:], a)
	}
	le.PutUint32(r[at:], 0xFFFFFFFF)
	le.PutUint32(r[24:], uint32(at+8))
	le.PutUint16(r[48:], 1)
	for i := 1; i <= 2; i++ {
		copy(r[48+2*i:], r[i*512-2:i*512])
		le.PutUint16(r[i*512-2:], 1)
	}
	return r
}

func resident(kind uint32, id uint16, name string, content []byte) []byte {
	le := binary.LittleEndian
	wide := wideText(name)
	from := (24 + len(wide) + 7) / 8 * 8
	a := make([]byte, (from+len(content)+7)/8*8)
	le.PutUint32(a, kind)
	le.PutUint32(a[4:], uint32(len(a)))
	a[9] = byte(len(wide) / 2)
	le.PutUint16(a[10:], 24)
	le.PutUint16(a[14:], id)
	le.PutUint32(a[16:], uint32(len(content)))
	le.PutUint16(a[20:], uint16(from))
	copy(a[24:], wide)
	copy(a[from:], content)
	return a
}

// runsAttribute lays out data that lies in one run of clusters.
func runsAttribute(kind uint32, id uint16, start, count, size uint64) []byte {
	le := binary.LittleEndian
	a := make([]byte, 64+24)
	le.PutUint32(a, kind)
	le.PutUint32(a[4:], uint32(len(a)))
	a[8] = 1
	le.PutUint16(a[10:], 64)
	le.PutUint16(a[14:], id)
	le.PutUint64(a[24:], count-1)
	le.PutUint16(a[32:], 64)
	le.PutUint64(a[40:], count*ntfsCluster)
	le.PutUint64(a[48:], size)
	le.PutUint64(a[56:], size)
	a[64] = 0x88
	le.PutUint64(a[65:], count)
	le.PutUint64(a[73:], start)
	return a
}

func fileName(n *node, parent int) []byte {
	le := binary.LittleEndian
	name := n.name
	if name == "" {
		name = "."
	}
	wide := wideText(name)
	f := make([]byte, 66+len(wide))
	le.PutUint64(f, uint64(parent)|1<<48)
	le.PutUint64(f[40:], uint64(len(n.data)+ntfsCluster-1)/ntfsCluster*ntfsCluster)
	le.PutUint64(f[48:], uint64(len(n.data)))
	if n.children != nil {
		le.PutUint32(f[56:], 0x10000000)
	}
	f[64], f[65] = byte(len(wide)/2), 1
	copy(f[66:], wide)
	return f
}

// indexRoot lays out a directory's index; it has to fit into the record.
func indexRoot(n *node) ([]byte, error) {
	le := binary.LittleEndian
	var entries []byte
	names := sortedKeys(n.children)
	sort.Slice(names, func(i, j int) bool { return strings.ToUpper(names[i]) < strings.ToUpper(names[j]) })
	for _, name := range names {
		f := fileName(n.children[name], n.record)
		e := make([]byte, (16+len(f)+7)/8*8)
		le.PutUint64(e, uint64(n.children[name].record)|1<<48)
		le.PutUint16(e[8:], uint16(len(e)))
		le.PutUint16(e[10:], uint16(len(f)))
		copy(e[16:], f)
		entries = append(entries, e...)
	}
	last := make([]byte, 16)
	le.PutUint16(last[8:], 16)
	le.PutUint16(last[12:], 2)
	entries = append(entries, last...)
	if len(entries) > 700 {
		return nil, fmt.Errorf("directory %q has %d names: they do not fit into its record", n.name, len(names))
	}
	r := make([]byte, 32+len(entries))
	le.PutUint32(r, 0x30)
	le.PutUint32(r[4:], 1)
	le.PutUint32(r[8:], 4096)
	r[12] = 1
	le.PutUint32(r[16:], 16)
	le.PutUint32(r[20:], uint32(16+len(entries)))
	le.PutUint32(r[24:], uint32(16+len(entries)))
	copy(r[32:], entries)
	return r, nil
}

func wideText(s string) []byte {
	var b []byte
	for _, u := range utf16.Encode([]rune(s)) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}
