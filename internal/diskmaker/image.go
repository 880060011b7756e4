// Package diskmaker builds real disks, sector by sector, from declarations: for
// the demo world, for the tests, and for real firmware to start from.
package diskmaker

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"sort"

	"latchkey/core/disk"
)

// pageSize is the unit in which an image's contents are kept, in bytes.
const pageSize = 4096

// Image is a sparse disk in memory. What was never written reads as zeros.
type Image struct {
	Size       int64 // bytes
	SectorSize int   // bytes
	pages      map[int64][]byte
	spoilt     []stretch
}

// stretch is a run of bytes.
type stretch struct{ from, to int64 }

// Spoil makes bytes that cannot be read any more.
func (m *Image) Spoil(off, length int64) { m.spoilt = append(m.spoilt, stretch{off, off + length}) }

// NewImage returns an empty disk of size bytes.
func NewImage(size int64, sectorSize int) *Image {
	return &Image{Size: size, SectorSize: sectorSize, pages: map[int64][]byte{}}
}

// ReadAt implements io.ReaderAt.
func (m *Image) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= m.Size {
		return 0, io.EOF
	}
	n := int(min(int64(len(p)), m.Size-off))
	for _, s := range m.spoilt {
		if off < s.to && off+int64(n) > s.from {
			return 0, &disk.Unreadable{Offset: s.from, Length: s.to - s.from}
		}
	}
	for done := 0; done < n; {
		at := off + int64(done)
		in := int(at % pageSize)
		step := min(pageSize-in, n-done)
		if page := m.pages[at/pageSize]; page != nil {
			copy(p[done:done+step], page[in:])
		} else {
			clear(p[done : done+step])
		}
		done += step
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// WriteAt implements io.WriterAt.
func (m *Image) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(p)) > m.Size {
		return 0, fmt.Errorf("write of %d bytes at %d: the image ends at %d", len(p), off, m.Size)
	}
	for done := 0; done < len(p); {
		at := off + int64(done)
		in := int(at % pageSize)
		step := min(pageSize-in, len(p)-done)
		page := m.pages[at/pageSize]
		if page == nil && bytes.Count(p[done:done+step], []byte{0}) == step {
			done += step // as it is
			continue
		}
		if page == nil {
			page = make([]byte, pageSize)
			m.pages[at/pageSize] = page
		}
		copy(page[in:], p[done:done+step])
		done += step
	}
	return len(p), nil
}

// ReadImage reads a file into an image, as long as it is.
func ReadImage(path string) (*Image, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	m, page := NewImage(info.Size(), 512), make([]byte, 1<<20)
	for off := int64(0); off < m.Size; off += int64(len(page)) {
		n, err := f.ReadAt(page[:min(int64(len(page)), m.Size-off)], off)
		if err == nil {
			_, err = m.WriteAt(page[:n], off)
		}
		if err != nil {
			return nil, err
		}
	}
	return m, nil
}

// Replaced is a copy in which some bytes are others, as many, wherever they stand in one piece.
func (m *Image) Replaced(old, by []byte) (*Image, error) {
	made := NewImage(m.Size, m.SectorSize)
	var from int64
	var run []byte
	write := func() error {
		_, err := made.WriteAt(bytes.ReplaceAll(run, old, by), from)
		return err
	}
	err := m.Pages(func(off int64, page []byte) error {
		if off != from+int64(len(run)) {
			if err := write(); err != nil {
				return err
			}
			from, run = off, nil
		}
		run = append(run, page...)
		return nil
	})
	return made, errors.Join(err, write())
}

// Pages calls f for every page that was written, in order, with its byte offset.
func (m *Image) Pages(f func(off int64, page []byte) error) error {
	index := make([]int64, 0, len(m.pages))
	for i := range m.pages {
		index = append(index, i)
	}
	sort.Slice(index, func(i, j int) bool { return index[i] < index[j] })
	for _, i := range index {
		page := m.pages[i]
		if over := (i+1)*pageSize - m.Size; over > 0 {
			page = page[:pageSize-over]
		}
		if err := f(i*pageSize, page); err != nil {
			return err
		}
	}
	return nil
}

// Clone returns a copy on a disk of another size, as a raw copy leaves it: what
// lies beyond a smaller disk's end is lost.
func (m *Image) Clone(size int64) *Image {
	c := NewImage(size, m.SectorSize)
	for i, page := range m.pages {
		if (i+1)*pageSize <= size {
			c.pages[i] = append([]byte{}, page...)
		}
	}
	return c
}

// WriteFile writes the disk as a sparse file.
func (m *Image) WriteFile(path string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	err = f.Truncate(m.Size)
	if err == nil {
		err = m.Pages(func(off int64, page []byte) error {
			_, werr := f.WriteAt(page, off)
			return werr
		})
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	return err
}
