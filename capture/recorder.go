package capture

import (
	"io"
	"sort"
)

// Recorder is a reader that remembers which sectors were read through it.
type Recorder struct {
	r          io.ReaderAt
	size       int64 // bytes
	sectorSize int64
	read       map[int64]bool // by sector
}

// NewRecorder records reads of a disk of size bytes in whole sectors of
// sectorSize bytes.
func NewRecorder(r io.ReaderAt, size int64, sectorSize int) *Recorder {
	return &Recorder{r: r, size: size, sectorSize: int64(sectorSize), read: map[int64]bool{}}
}

// ReadAt implements io.ReaderAt. What could not be read is not recorded.
func (r *Recorder) ReadAt(p []byte, off int64) (int, error) {
	n, err := r.r.ReadAt(p, off)
	if n > 0 {
		for s := off / r.sectorSize; s <= (off+int64(n)-1)/r.sectorSize; s++ {
			r.read[s] = true
		}
	}
	return n, err
}

// Aside returns the reader itself: what is read through it is not recorded.
func (r *Recorder) Aside() io.ReaderAt { return r.r }

// Extents returns what was read, in whole sectors, in order and merged.
func (r *Recorder) Extents() []Extent {
	sectors := make([]int64, 0, len(r.read))
	for s := range r.read {
		sectors = append(sectors, s)
	}
	sort.Slice(sectors, func(i, j int) bool { return sectors[i] < sectors[j] })
	var extents []Extent
	for _, s := range sectors {
		off := s * r.sectorSize
		length := min(r.sectorSize, r.size-off)
		if n := len(extents); n > 0 && extents[n-1].Offset+extents[n-1].Length == off {
			extents[n-1].Length += length
		} else {
			extents = append(extents, Extent{off, length})
		}
	}
	return extents
}
