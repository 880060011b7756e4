package capture

import (
	"cmp"
	"context"
	"errors"
	"io"
	"slices"
	"time"

	"latchkey/core/disk"
)

// Recorder is a reader that remembers what was read through it, and what could not be.
type Recorder struct {
	r          io.ReaderAt
	size       int64 // bytes
	sectorSize int64
	// read is what was read to the byte, in order and merged: what stands beside it in a
	// sector, or in a node of a file system, may be somebody's file.
	read     []Extent
	kept     int64          // bytes of it
	failed   map[int64]bool // sectors that could not be read
	ctx      context.Context
	report   func(Progress)
	progress Progress
	// What was read without being recorded: how often, and when first and last.
	asideReads              int64
	asideFirst, asideLatest time.Time
}

// Progress is how far a capture got: counts of what really was read.
type Progress struct {
	Reads int
	Read  int64 // bytes
	Kept  int64 // bytes
	// A thorough search for volumes: up to which byte it came, of how many, and how many it
	// found. Of is 0 where none goes on.
	Searched, Of int64
	Found        int
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
		r.progress.Kept = r.kept
		r.report(r.progress)
	}
	return n, err
}

// aside reads what is not recorded.
type aside struct{ r *Recorder }

func (a aside) ReadAt(p []byte, off int64) (int, error) {
	if a.r.asideReads == 0 {
		a.r.asideFirst = time.Now()
	}
	n, err := a.r.through(p, off)
	a.r.asideReads, a.r.asideLatest = a.r.asideReads+1, time.Now()
	return n, err
}

// NewRecorder records reads of a disk of size bytes, whose sectors have sectorSize bytes.
func NewRecorder(r io.ReaderAt, size int64, sectorSize int) *Recorder {
	return &Recorder{r: r, size: size, sectorSize: int64(sectorSize), failed: map[int64]bool{}}
}

// ReadAt implements io.ReaderAt. Where the drive fails, what it fails at is found out
// sector by sector, and the error is a *disk.Unreadable.
func (r *Recorder) ReadAt(p []byte, off int64) (int, error) {
	n, err := r.through(p, off)
	r.keep(off, n)
	if n == len(p) || err == nil || ended(err) || r.ctx != nil && r.ctx.Err() != nil {
		return n, err
	}
	for n < len(p) {
		at := off + int64(n)
		most := min(int64(len(p)-n), r.sectorSize-at%r.sectorSize)
		got, err := 0, error(nil)
		if !r.failed[at/r.sectorSize] {
			got, err = r.through(p[n:n+int(most)], at)
		}
		switch {
		case int64(got) == most:
			r.keep(at, got)
			n += got
		case ended(err):
			return n, err
		default:
			r.failed[at/r.sectorSize] = true
			return n, &disk.Unreadable{Offset: at - at%r.sectorSize, Length: r.sectorSize}
		}
	}
	return n, nil
}

// ended reports an error that is none of the drive's.
func ended(err error) bool {
	return errors.Is(err, io.EOF) || disk.IsNotCaptured(err) || errors.Is(err, context.Canceled)
}

func (r *Recorder) keep(off int64, n int) {
	if n <= 0 {
		return
	}
	end := off + int64(n)
	from, _ := slices.BinarySearchFunc(
		r.read,
		off,
		func(x Extent, at int64) int { return cmp.Compare(x.Offset+x.Length, at) },
	)
	to := from
	for ; to < len(r.read) && r.read[to].Offset <= end; to++ {
		off, end = min(off, r.read[to].Offset), max(end, r.read[to].Offset+r.read[to].Length)
		r.kept -= r.read[to].Length
	}
	r.read = slices.Replace(r.read, from, to, Extent{off, end - off})
	r.kept += end - off
}

// Aside returns a reader of the same bytes that are not recorded.
func (r *Recorder) Aside() io.ReaderAt { return aside{r} }

// Extents returns what was read, in order and merged.
func (r *Recorder) Extents() []Extent { return slices.Clone(r.read) }

// Unreadable returns the sectors that could not be read, in order and merged.
func (r *Recorder) Unreadable() []Extent {
	unit := r.sectorSize
	units := make([]int64, 0, len(r.failed))
	for u := range r.failed {
		units = append(units, u)
	}
	slices.Sort(units)
	var extents []Extent
	for _, u := range units {
		off := u * unit
		length := min(unit, r.size-off)
		if n := len(extents); n > 0 && extents[n-1].Offset+extents[n-1].Length == off {
			extents[n-1].Length += length
		} else {
			extents = append(extents, Extent{off, length})
		}
	}
	return extents
}
