package volume

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"strings"
	"unicode/utf16"

	"www.velocidex.com/golang/go-ntfs/parser"

	"latchkey/core/guard"
)

// Records of the master file table and attribute types. The maker's "How NTFS
// Works", and ntfs-3g's layout.h.
const (
	mftVolume          = 3
	mftRoot            = 5
	mftBitmap          = 6
	attrVolumeName     = 0x60
	attrVolumeInfo     = 0x70
	attrIndexRoot      = 0x90
	attrIndexAlloc     = 0xA0
	attrData           = 0x80
	volumeDirty        = 0x0001
	indexHasChild      = 1
	indexLast          = 2
	maxIndexDepth      = 16
	maxIndexRecords    = 1 << 16
	ntfsBudget         = 32 << 20 // bytes read by one operation
	ntfsFileBudget     = 2 * maxFile
	ntfsPage           = 4096
	ntfsPages          = 256
	maxBitmap          = 2 << 30 // bytes; 64 TiB in clusters of 4 KiB
	bitmapChunk        = 1 << 20
	fileNameAttrLength = 66 // bytes of a file name attribute before the name
)

// NTFS is an open NTFS volume: the general-purpose decoder behind a guard.
type NTFS struct {
	Label string
	Dirty bool // Windows will check the volume at its next start

	ctx      *parser.NTFSContext
	guard    *guard.Reader
	volumeAt int64 // byte offset of $Volume's record
}

// OpenNTFS opens a volume whose boot sector was found sane.
func OpenNTFS(r *io.SectionReader) (*NTFS, error) {
	n := &NTFS{guard: guard.New(r)}
	paged, err := parser.NewPagedReader(n.guard, ntfsPage, ntfsPages)
	if err != nil {
		return nil, err
	}
	err = n.guard.Within(ntfsBudget, "the master file table", func() (err error) {
		n.ctx, err = parser.GetNTFSContext(paged, 0)
		if err == nil {
			err = n.readVolume()
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return n, nil
}

// readVolume takes label and state from $Volume.
func (n *NTFS) readVolume() error {
	attrs, err := n.attributes(mftVolume)
	if err != nil {
		return err
	}
	n.volumeAt = n.recordAt(mftVolume)
	for _, a := range attrs {
		raw := make([]byte, min(max(a.DataSize(), 0), 512))
		got, _ := a.Data(n.ctx).ReadAt(raw, 0)
		raw = raw[:got]
		switch a.Type().Value {
		case attrVolumeName:
			n.Label = wide(raw)
		case attrVolumeInfo:
			if len(raw) < 12 {
				return errors.New("$VOLUME_INFORMATION is cut short")
			}
			n.Dirty = binary.LittleEndian.Uint16(raw[10:])&volumeDirty != 0
		}
	}
	return nil
}

// attributes returns the attributes of a record that is in use.
func (n *NTFS) attributes(record int64) ([]*parser.NTFS_ATTRIBUTE, error) {
	e, err := n.ctx.GetMFT(record)
	if err != nil {
		return nil, fmt.Errorf("MFT record %d: %w", record, err)
	}
	if !e.Magic().IsValid() || !e.Flags().IsSet("ALLOCATED") {
		return nil, fmt.Errorf("MFT record %d is not in use", record)
	}
	return e.EnumerateAttributes(n.ctx), nil
}

// recordAt returns the byte offset of a record on the volume.
func (n *NTFS) recordAt(record int64) int64 {
	mft, err := n.ctx.GetMFT(0)
	if err != nil {
		return -1
	}
	return n.runs(mft).of(record * n.ctx.GetRecordSize())
}

// runs lists where the unnamed data of a record lies; none within the record.
func (n *NTFS) runs(e *parser.MFT_ENTRY) places {
	var runs []run
	at := int64(0)
	for _, a := range parser.GetAllVCNs(n.ctx, e, attrData, parser.WILDCARD_STREAM_ID, "") {
		if a.IsResident() {
			return nil
		}
		for _, r := range a.RunList() {
			if r.RelativeUrnOffset != 0 { // else a hole
				runs = append(runs, run{at, r.Length * n.ctx.ClusterSize, r.Offset * n.ctx.ClusterSize})
			}
			at += r.Length * n.ctx.ClusterSize
		}
	}
	return runs
}

func wide(raw []byte) string {
	units := make([]uint16, len(raw)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(raw[2*i:])
	}
	return string(utf16.Decode(units))
}

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

// walk follows a path from the root to a record.
func (n *NTFS) walk(names []string) (File, error) {
	f := File{Dir: true, node: mftRoot}
	for _, name := range names {
		x, err := n.openIndex(int64(f.node))
		if err != nil {
			return File{}, err
		}
		if f, err = x.find(name); err != nil {
			return File{}, err
		}
	}
	return f, nil
}

// Lookup implements Files, in any case.
func (n *NTFS) Lookup(path string) (f File, err error) {
	names := splitPath(path)
	if len(names) == 0 {
		return f, fmt.Errorf("empty path: %w", ErrNotFound)
	}
	err = n.guard.Within(ntfsBudget, path, func() (err error) {
		if f, err = n.walk(names); err == nil {
			f.Record, f.Length, f.Offset = mftRecord, n.ctx.GetRecordSize(), n.recordAt(int64(f.node))
		}
		return err
	})
	return f, err
}

// ReadDir implements Files. A name and its short form are both listed.
func (n *NTFS) ReadDir(path string) (files []File, err error) {
	err = n.guard.Within(ntfsBudget, path, func() error {
		dir, err := n.walk(splitPath(path))
		if err != nil {
			return err
		}
		x, err := n.openIndex(int64(dir.node))
		if err != nil {
			return err
		}
		root, err := entries(x.root, 16)
		if err != nil {
			return err
		}
		return x.all(root, 0, &files)
	})
	return files, err
}

// Open implements Files.
func (n *NTFS) Open(f File) (out *Stream, err error) {
	err = n.guard.Within(ntfsBudget, f.Name, func() error {
		e, err := n.ctx.GetMFT(int64(f.node))
		if err != nil {
			return err
		}
		s, err := parser.OpenStream(n.ctx, e, attrData, parser.WILDCARD_STREAM_ID, "")
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
		out = &Stream{SectionReader: io.NewSectionReader(&guarded{n.guard, s}, 0, min(max(parser.RangeSize(s), 0), maxFile))}
		out.places = n.runs(e)
		return nil
	})
	return out, err
}

// guarded gives every read of a stream a budget of its own.
type guarded struct {
	guard *guard.Reader
	r     io.ReaderAt
}

func (g *guarded) ReadAt(p []byte, off int64) (n int, err error) {
	err = g.guard.Within(ntfsFileBudget, "the file", func() (err error) {
		n, err = g.r.ReadAt(p, off)
		return err
	})
	return n, err
}

// UsedClusters counts the set bits of $Bitmap, read through r so that a
// recording need not keep them. clusters bounds the count.
func UsedClusters(r *io.SectionReader, clusters uint64) (used uint64, err error) {
	n, err := OpenNTFS(r)
	if err != nil {
		return 0, err
	}
	err = n.guard.Within(maxBitmap, "$Bitmap", func() error {
		e, err := n.ctx.GetMFT(mftBitmap)
		if err != nil {
			return err
		}
		s, err := parser.OpenStream(n.ctx, e, attrData, parser.WILDCARD_STREAM_ID, "")
		if err != nil {
			return err
		}
		used, err = countBits(s, clusters)
		return err
	})
	return used, err
}

func countBits(r io.ReaderAt, count uint64) (used uint64, err error) {
	if count > maxBitmap*8/2 {
		return 0, fmt.Errorf("%d clusters are more than are counted", count)
	}
	buf := make([]byte, bitmapChunk)
	length := (count + 7) / 8
	for at := uint64(0); at < length; at += bitmapChunk {
		part := buf[:min(bitmapChunk, length-at)]
		if got, err := r.ReadAt(part, int64(at)); got < len(part) {
			return 0, fmt.Errorf("$Bitmap ends at byte %d: %w", at+uint64(got), errors.Join(err, io.ErrUnexpectedEOF))
		}
		if spare := count % 8; at+uint64(len(part)) == length && spare != 0 {
			part[len(part)-1] &= 1<<spare - 1 // bits past the last cluster are set
		}
		for ; len(part) >= 8; part = part[8:] {
			used += uint64(bits.OnesCount64(binary.LittleEndian.Uint64(part)))
		}
		for _, b := range part {
			used += uint64(bits.OnesCount8(b))
		}
	}
	return used, nil
}
