package diskmaker

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"sort"
	"strings"
	"time"

	"github.com/diskfs/go-diskfs/backend"
	"github.com/diskfs/go-diskfs/filesystem"
	"github.com/diskfs/go-diskfs/filesystem/fat12"
	"github.com/diskfs/go-diskfs/filesystem/fat16"
	"github.com/diskfs/go-diskfs/filesystem/fat32"
)

// storage lends an image to the file system library.
type storage struct {
	*Image
	pos int64
}

func (s *storage) Stat() (fs.FileInfo, error)              { return imageInfo{s.Size}, nil }
func (s *storage) Close() error                            { return nil }
func (s *storage) Sys() (*os.File, error)                  { return nil, backend.ErrNotSuitable }
func (s *storage) Writable() (backend.WritableFile, error) { return s, nil }
func (s *storage) Path() string                            { return "" }

func (s *storage) Read(p []byte) (int, error) {
	n, err := s.ReadAt(p, s.pos)
	s.pos += int64(n)
	return n, err
}

func (s *storage) Seek(off int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		off += s.pos
	case io.SeekEnd:
		off += s.Size
	}
	if off < 0 {
		return 0, errors.New("seek before the start")
	}
	s.pos = off
	return off, nil
}

type imageInfo struct{ size int64 }

func (i imageInfo) Name() string       { return "image" }
func (i imageInfo) Size() int64        { return i.size }
func (i imageInfo) Mode() fs.FileMode  { return 0o600 }
func (i imageInfo) ModTime() time.Time { return time.Time{} }
func (i imageInfo) IsDir() bool        { return false }
func (i imageInfo) Sys() any           { return nil }

// The library dates what it writes by this variable, or by the clock: images that are made
// twice are the same, byte by byte (reproducible-builds.org, "SOURCE_DATE_EPOCH specification").
func init() {
	if os.Getenv("SOURCE_DATE_EPOCH") == "" {
		os.Setenv("SOURCE_DATE_EPOCH", "1767225600") // 2026-01-01
	}
}

// writeFAT makes a FAT volume of the given width (12, 16 or 32) and puts files
// into it.
func (m *Image) writeFAT(bits int, start, size int64, label string, serial, hidden uint32,
	files map[string][]byte) error {
	var vol filesystem.FileSystem
	var err error
	switch bits {
	case 12:
		vol, err = fat12.Create(&storage{Image: m}, size, start, int64(m.SectorSize), label, true)
	case 16:
		vol, err = fat16.Create(&storage{Image: m}, size, start, int64(m.SectorSize), label, true)
	default:
		vol, err = fat32.Create(&storage{Image: m}, size, start, int64(m.SectorSize), label, true)
	}
	if err != nil {
		return fmt.Errorf("FAT%d volume: %w", bits, err)
	}
	if err := putFiles(vol, files); err != nil {
		return err
	}
	return m.patchFAT(bits, start, serial, hidden)
}

func putFiles(vol filesystem.FileSystem, files map[string][]byte) error {
	names := make([]string, 0, len(files))
	for name := range files {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		clean := strings.Trim(strings.ReplaceAll(name, `\`, "/"), "/")
		if dir := path.Dir(clean); dir != "." {
			if err := vol.Mkdir(dir); err != nil {
				return fmt.Errorf("%s: %w", dir, err)
			}
		}
		f, err := vol.OpenFile(clean, os.O_CREATE|os.O_RDWR)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if _, err := f.Write(files[name]); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

// patchFAT sets what the library leaves at zero: the hidden sectors, so that the
// volume knows where it lies, and the serial number.
func (m *Image) patchFAT(bits int, start int64, serial, hidden uint32) error {
	serialAt, copies := int64(39), []int64{0}
	if bits == 32 {
		serialAt, copies = 67, []int64{0, 6 * int64(m.SectorSize)}
	}
	four := make([]byte, 4)
	for _, at := range copies {
		binary.LittleEndian.PutUint32(four, hidden)
		if _, err := m.WriteAt(four, start+at+28); err != nil {
			return err
		}
		binary.LittleEndian.PutUint32(four, serial)
		if _, err := m.WriteAt(four, start+at+serialAt); err != nil {
			return err
		}
	}
	return nil
}
