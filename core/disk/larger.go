package disk

import (
	"io"

	"latchkey/core/fact"
)

// held keeps what was read of a disk, for reading it again without the disk.
type held struct {
	r     io.ReaderAt
	pages []page
}

// page is a stretch of bytes that were read.
type page struct {
	at    int64
	bytes []byte
}

// keep returns the disk with everything that is read of it kept.
func (d *Disk) keep() (*Disk, *held) {
	h := &held{r: d.r}
	kept := *d
	kept.r = h
	return &kept, h
}

// ReadAt implements io.ReaderAt.
func (h *held) ReadAt(p []byte, off int64) (int, error) {
	if h.r == nil {
		return h.readKept(p, off)
	}
	n, err := h.r.ReadAt(p, off)
	if n > 0 {
		h.pages = append(h.pages, page{off, append([]byte{}, p[:n]...)})
	}
	return n, err
}

func (h *held) readKept(p []byte, off int64) (int, error) {
	for _, x := range h.pages {
		if from := off - x.at; from >= 0 && from+int64(len(p)) <= int64(len(x.bytes)) {
			return copy(p, x.bytes[from:]), nil
		}
	}
	return 0, &NotCaptured{Offset: off, Length: int64(len(p))}
}

// larger is a disk's bytes on a drive with room behind them, which reads as zeros.
type larger struct {
	r    io.ReaderAt
	size int64 // of the disk that was copied
}

// ReadAt implements io.ReaderAt.
func (l larger) ReadAt(p []byte, off int64) (int, error) {
	n := 0
	if off < l.size {
		most := min(int64(len(p)), l.size-off)
		var err error
		if n, err = l.r.ReadAt(p[:most], off); int64(n) < most {
			return n, err
		}
	}
	clear(p[n:])
	return len(p), nil
}

// OnLarger is the layout as it reads on a disk of so many sectors onto which every
// sector was copied. It takes what reading the layout kept of the tables; a layout
// that was told keeps nothing, and says nothing of the larger disk.
func (l *Layout) OnLarger(sectors uint64) Layout {
	unknown := Layout{SectorSize: l.SectorSize, Sectors: sectors, Style: StyleUnknown,
		DiskIDTold: fact.Unknown[string]()}
	if l.tables == nil || sectors < l.Sectors {
		return unknown
	}
	d, err := New(larger{&held{pages: l.tables}, l.Bytes()}, Span(sectors, l.SectorSize), l.SectorSize)
	if err != nil {
		return unknown
	}
	return ReadLayout(d)
}
