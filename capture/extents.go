// Package capture turns what a technician can get hold of into facts: raw
// sectors, descriptions of machines, and the text of the systems' own commands.
package capture

import (
	"fmt"
	"io"
	"sort"

	"latchkey/core/disk"
)

// Extent is a run of bytes of a disk that a piece of evidence holds.
type Extent struct {
	Offset int64 `json:"offset"` // bytes from the start of the disk
	Length int64 `json:"length"` // bytes
}

// Sparse is a disk of which only some extents are held. Reading outside them
// returns a *disk.NotCaptured error, never zeros.
type Sparse struct {
	extents []Extent
	failed  []Extent // what the drive would not give when it was read
	r       io.ReaderAt
}

// Failed says which bytes the drive would not give when it was read, in order: reading
// them returns a *disk.Unreadable error.
func (s *Sparse) Failed(extents []Extent) *Sparse {
	s.failed = extents
	return s
}

// lost is the error for bytes that are not held.
func (s *Sparse) lost(at, length int64) error {
	for _, x := range s.failed {
		if at >= x.Offset && at < x.Offset+x.Length {
			return &disk.Unreadable{Offset: x.Offset, Length: x.Length}
		}
	}
	return &disk.NotCaptured{Offset: at, Length: length}
}

// NewSparse returns a reader over r that holds the extents of it. The extents
// must not overlap.
func NewSparse(r io.ReaderAt, extents []Extent) (*Sparse, error) {
	sorted := append([]Extent{}, extents...)
	sort.Slice(sorted, func(i, j int) bool { return sorted[i].Offset < sorted[j].Offset })
	var end int64
	for _, e := range sorted {
		if e.Offset < end || e.Length <= 0 {
			return nil, fmt.Errorf("extent of %d bytes at %d: expected positive, in order and without overlap", e.Length, e.Offset)
		}
		end = e.Offset + e.Length
	}
	return &Sparse{extents: sorted, r: r}, nil
}

// NewPacked returns a disk whose extents stand one after the other in packed. They
// must be in order and must not overlap.
func NewPacked(packed io.ReaderAt, extents []Extent) (*Sparse, error) {
	p := &inPacked{extents: append([]Extent{}, extents...), at: make([]int64, len(extents)), r: packed}
	var end, total int64
	for i, e := range extents {
		if e.Offset < end || e.Length <= 0 || e.Offset > disk.MaxSize || e.Length > disk.MaxSize {
			return nil, fmt.Errorf("extent %d (%d bytes at %d): expected positive, in order and without overlap", i, e.Length, e.Offset)
		}
		p.at[i] = total
		total, end = total+e.Length, e.Offset+e.Length
	}
	return &Sparse{extents: p.extents, r: p}, nil
}

// inPacked maps the disk's bytes to where they stand in the packed ones.
type inPacked struct {
	extents []Extent
	at      []int64
	r       io.ReaderAt
}

func (l *inPacked) ReadAt(p []byte, off int64) (int, error) {
	i := sort.Search(len(l.extents), func(i int) bool { x := l.extents[i]; return x.Offset+x.Length > off })
	if i == len(l.extents) || l.extents[i].Offset > off {
		return 0, io.EOF
	}
	x := l.extents[i]
	most := min(int64(len(p)), x.Offset+x.Length-off)
	n, err := l.r.ReadAt(p[:most], l.at[i]+off-x.Offset)
	if n == int(most) && n < len(p) {
		err = io.EOF
	}
	return n, err
}

// ReadAt implements io.ReaderAt.
func (s *Sparse) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := off + int64(done)
		i := sort.Search(len(s.extents), func(i int) bool { e := s.extents[i]; return e.Offset+e.Length > at })
		if i == len(s.extents) || s.extents[i].Offset > at {
			return done, s.lost(at, int64(len(p)-done))
		}
		n := min(int64(len(p)-done), s.extents[i].Offset+s.extents[i].Length-at)
		if m, err := s.r.ReadAt(p[done:done+int(n)], at); int64(m) < n {
			return done + m, err
		}
		done += int(n)
	}
	return done, nil
}

// parts reads a disk whose beginning and end are kept in two readers.
type parts struct {
	head, tail io.ReaderAt
	tailAt     int64
}

func (p parts) ReadAt(b []byte, off int64) (int, error) {
	if p.tail != nil && off >= p.tailAt {
		return p.tail.ReadAt(b, off-p.tailAt)
	}
	return p.head.ReadAt(b, off)
}

// Ends returns a disk of capacity bytes of which the first headLen and the last
// tailLen bytes are held. A tail of length 0 is none.
func Ends(head io.ReaderAt, headLen int64, tail io.ReaderAt, tailLen, capacity int64) (*Sparse, error) {
	switch {
	case capacity < headLen:
		return nil, fmt.Errorf("capacity %d bytes: expected at least the %d bytes of the file", capacity, headLen)
	case headLen+tailLen > capacity:
		return nil, fmt.Errorf("beginning (%d bytes) and end (%d bytes) overlap in a disk of %d bytes", headLen, tailLen, capacity)
	}
	held := []Extent{{0, headLen}}
	p := parts{head: head, tailAt: capacity}
	if tailLen > 0 {
		held = append(held, Extent{capacity - tailLen, tailLen})
		p.tail, p.tailAt = tail, capacity-tailLen
	}
	return NewSparse(p, held)
}

// Extents returns the byte ranges held, in order.
func (s *Sparse) Extents() []Extent { return append([]Extent{}, s.extents...) }
