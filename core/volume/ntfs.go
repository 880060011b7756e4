package volume

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
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
	ntfsFileBudget     = 128 << 20
	ntfsPage           = 1024 // a record: a larger page would hold other files' records, too
	ntfsPages          = 1024
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
		out = &Stream{SectionReader: io.NewSectionReader(&guarded{n.guard, s}, 0,
			min(max(parser.RangeSize(s), 0), maxFile))}
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
