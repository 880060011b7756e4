// Package disk reads partition tables from anything that can be read at an
// offset: an image file, a block device or a sparse capture. Damage never ends
// the reading; it yields what could be read and a list of problems.
package disk

import (
	"errors"
	"fmt"
	"io"
	"slices"
)

// NotCaptured reports a read outside the byte ranges a piece of evidence holds.
// It becomes the fact "not captured", never zeros.
type NotCaptured struct {
	Offset int64 // bytes from the start of the disk
	Length int64 // bytes
}

func (e *NotCaptured) Error() string {
	return fmt.Sprintf("bytes %d to %d are not in the evidence", e.Offset, e.Offset+e.Length-1)
}

// Spent reports that the reading of a disk came to its bound, as structures that lead
// in circles make it. What lies behind it is not known, like what was not captured.
type Spent struct{}

func (*Spent) Error() string {
	return "the disk was not read to its end: its structures lead to more than a sound disk needs"
}

// IsNotCaptured reports whether err comes from a range that was not looked at: the
// evidence lacks it, or the reading had come to its bound.
func IsNotCaptured(err error) bool {
	var missing *NotCaptured
	var spent *Spent
	return errors.As(err, &missing) || errors.As(err, &spent)
}

// MaxSize bounds a disk's capacity, in bytes: 1 PiB, many times what any drive holds.
// Every place on a disk, and every sum of two, then fits into 64 bits.
const MaxSize = 1 << 50

// Span returns so many sectors in bytes; what no disk can have is beyond every disk.
func Span(sectors uint64, sectorSize int) int64 {
	if sectorSize <= 0 || sectors > uint64(MaxSize/int64(sectorSize)) {
		return 2 * MaxSize
	}
	return int64(sectors) * int64(sectorSize)
}

// Disk is a run of logical sectors.
type Disk struct {
	r          io.ReaderAt
	size       int64
	sectorSize int
	counts     []Count
	failed     *failures
}

// Bounded returns the disk with a bound on how much is read of it through this
// handle: so many reads, and so many bytes.
func (d *Disk) Bounded(reads int, bytes int64) *Disk {
	bounded := *d
	bounded.r = &bound{d.r, reads, bytes}
	return &bounded
}

// Spent reports whether a bounded handle came to its bound.
func (d *Disk) Spent() bool {
	b, ok := d.r.(*bound)
	return ok && b.spent()
}

// bound ends reading at a bound.
type bound struct {
	r     io.ReaderAt
	reads int
	bytes int64
}

func (b *bound) spent() bool { return b.reads <= 0 || b.bytes <= 0 }

func (b *bound) ReadAt(p []byte, off int64) (int, error) {
	if b.spent() {
		return 0, &Spent{}
	}
	b.reads--
	b.bytes -= int64(len(p))
	return b.r.ReadAt(p, off)
}

// Aside lets counts go by the bound.
func (b *bound) Aside() io.ReaderAt {
	if recording, ok := b.r.(interface{ Aside() io.ReaderAt }); ok {
		return recording.Aside()
	}
	return b.r
}

// Count is a figure that was counted over many bytes at the place where they were
// all at hand, so that a capture carries the figure and not the bytes.
type Count struct {
	Name   string `json:"name"`   // the structure that was counted
	Offset int64  `json:"offset"` // bytes from the start of the disk to its volume
	Value  uint64 `json:"value"`
}

// Counted returns a figure that was counted before.
func (d *Disk) Counted(name string, offset int64) (uint64, bool) {
	for _, c := range d.counts {
		if c.Name == name && c.Offset == offset {
			return c.Value, true
		}
	}
	return 0, false
}

// SetCount keeps a figure that was counted.
func (d *Disk) SetCount(c Count) { d.counts = append(d.counts, c) }

// SetCounts takes over the figures that a capture carries.
func (d *Disk) SetCounts(counts []Count) { d.counts = slices.Clone(counts) }

// Counts returns the figures that were counted.
func (d *Disk) Counts() []Count { return d.counts }

// Aside returns a reader of the same bytes for counting over them: what is read
// through it is not kept by a recording.
func (d *Disk) Aside() io.ReaderAt {
	if recording, ok := d.r.(interface{ Aside() io.ReaderAt }); ok {
		return recording.Aside()
	}
	return d
}

// Recorded reports whether what is read of the disk is recorded, as for a capture.
func (d *Disk) Recorded() bool {
	r := d.r
	if b, bounded := r.(*bound); bounded {
		r = b.r
	}
	_, recorded := r.(interface{ Aside() io.ReaderAt })
	return recorded
}

// New wraps r as a disk of size bytes with logical sectors of sectorSize bytes
// (512 or 4096). A size that is not a whole number of sectors is rounded down,
// as the operating systems do with image files.
func New(r io.ReaderAt, size int64, sectorSize int) (*Disk, error) {
	if sectorSize != 512 && sectorSize != 4096 {
		return nil, fmt.Errorf("logical sector size %d: expected 512 or 4096", sectorSize)
	}
	if size > MaxSize {
		return nil, fmt.Errorf("disk size %d bytes: expected at most %d", size, int64(MaxSize))
	}
	size -= size % int64(sectorSize)
	if size < int64(sectorSize) {
		return nil, fmt.Errorf("disk size %d bytes: expected at least one sector of %d bytes", size, sectorSize)
	}
	return &Disk{r: r, size: size, sectorSize: sectorSize, failed: &failures{}}, nil
}

// Size returns the capacity in bytes.
func (d *Disk) Size() int64 { return d.size }

// SectorSize returns the logical sector size in bytes.
func (d *Disk) SectorSize() int { return d.sectorSize }

// Sectors returns the capacity in logical sectors.
func (d *Disk) Sectors() uint64 { return uint64(d.size / int64(d.sectorSize)) }

// ReadAt implements io.ReaderAt over the whole disk.
func (d *Disk) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= d.size {
		return 0, io.EOF
	}
	if most := d.size - off; int64(len(p)) > most {
		n, err := d.r.ReadAt(p[:most], off)
		d.failed.note(err)
		if err == nil {
			err = io.EOF
		}
		return n, err
	}
	n, err := d.r.ReadAt(p, off)
	if n == len(p) {
		err = nil
	}
	d.failed.note(err)
	return n, err
}

// Read returns n bytes at byte offset off, or an error when any of them cannot
// be read.
func (d *Disk) Read(off int64, n int) ([]byte, error) {
	if off < 0 || off > d.size-int64(n) {
		return nil, fmt.Errorf("bytes %d to %d lie beyond the end of the disk at %d", off, off+int64(n)-1, d.size)
	}
	p := make([]byte, n)
	if _, err := d.ReadAt(p, off); err != nil {
		return nil, err
	}
	return p, nil
}

// Section returns a reader over n bytes from byte offset off, cut at the end of
// the disk.
func (d *Disk) Section(off, n int64) *io.SectionReader {
	off, n = min(max(off, 0), d.size), max(n, 0)
	if n > d.size-off {
		n = d.size - off
	}
	return io.NewSectionReader(d, off, n)
}
