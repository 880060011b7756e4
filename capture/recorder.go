package capture

import (
	"context"
	"io"
	"sort"
)

// Recorder is a reader that remembers which sectors were read through it.
type Recorder struct {
	r          io.ReaderAt
	size       int64 // bytes
	sectorSize int64
	read       map[int64]bool // by sector
	ctx        context.Context
	report     func(Progress)
	progress   Progress
}

// Progress is how far a capture got: counts of what really was read.
type Progress struct {
	Reads int
	Read  int64 // bytes
	Kept  int64 // bytes
}

// Watch ends the reading with a context, and reports on the way.
func (r *Recorder) Watch(ctx context.Context, report func(Progress)) {
	r.ctx, r.report = ctx, report
}

// through reads, ends with the context, and counts.
func (r *Recorder) through(p []byte, off int64) (int, error) {
	if r.ctx != nil && r.ctx.Err() != nil {
		return 0, context.Cause(r.ctx)
	}
	n, err := r.r.ReadAt(p, off)
	r.progress.Reads++
	r.progress.Read += int64(n)
	if r.report != nil {
		r.progress.Kept = int64(len(r.read)) * r.sectorSize
		r.report(r.progress)
	}
	return n, err
}

// aside reads what is not recorded.
type aside struct{ r *Recorder }

func (a aside) ReadAt(p []byte, off int64) (int, error) { return a.r.through(p, off) }

// NewRecorder records reads of a disk of size bytes in whole sectors of
// sectorSize bytes.
func NewRecorder(r io.ReaderAt, size int64, sectorSize int) *Recorder {
	return &Recorder{r: r, size: size, sectorSize: int64(sectorSize), read: map[int64]bool{}}
}

// ReadAt implements io.ReaderAt. What could not be read is not recorded.
func (r *Recorder) ReadAt(p []byte, off int64) (int, error) {
	n, err := r.through(p, off)
	if n > 0 {
		for s := off / r.sectorSize; s <= (off+int64(n)-1)/r.sectorSize; s++ {
			r.read[s] = true
		}
	}
	return n, err
}

// Aside returns a reader of the same bytes that are not recorded.
func (r *Recorder) Aside() io.ReaderAt { return aside{r} }

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
