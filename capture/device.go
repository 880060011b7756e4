package capture

import (
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"latchkey/core/disk"
)

// Device is a disk or an image that a capture is taken of, open for reading
// only.
type Device struct {
	io.ReaderAt
	io.Closer
	Size int64 // bytes
	// What the system tells of it; zero where it does not.
	LogicalSectorSize  int // bytes
	PhysicalSectorSize int // bytes
	Bus                string
	Model              string
	Serial             string
	Variables          map[string][]byte // the firmware's boot variables
	Running            bool              // the system that reads it runs from it
	// now is the size that the system tells of it at present; nil where it is not asked.
	now func() (int64, error)
}

// kinds names what is no disk: opening some of it would wait for ever.
var kinds = map[os.FileMode]string{os.ModeDir: "a folder", os.ModeNamedPipe: "a pipe", os.ModeSocket: "a socket"}

// openSized opens an image or a block device for reading only and returns its
// size in bytes.
func openSized(path string) (*os.File, int64, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, 0, err
	}
	if what, bad := kinds[info.Mode().Type()]; bad {
		return nil, 0, fmt.Errorf("%s is %s: expected an image file or a block device", path, what)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, 0, err
	}
	var size int64
	if size, err = f.Seek(0, io.SeekEnd); err != nil {
		f.Close()
		return nil, 0, fmt.Errorf("%s: its size: %w", path, err)
	}
	return f, size, nil
}

// sizeOf asks an open file for its size.
func sizeOf(f *os.File) func() (int64, error) {
	return func() (int64, error) { return f.Seek(0, io.SeekEnd) }
}

// partitionError says that a partition was named, and which disk it is of.
func partitionError(path, whole string) error {
	return fmt.Errorf("%s is a partition: a capture is of the whole disk, which is %s here", path, whole)
}

// Found is a disk that the system tells of.
type Found struct {
	Path    string
	Size    int64 // bytes
	Model   string
	Bus     string
	Running bool // the system runs from it
	// Controller is the way to it in this machine, as firmware.Path tells it; "" where it is not known.
	Controller string
}

// still reports why the device is not the one any more that was read: it is shorter, or
// does not give what it gave.
func (d *Device) still(first Extent) error {
	if d.now != nil {
		switch size, err := d.now(); {
		case err != nil:
			return fmt.Errorf("it went away while it was read: %w", err)
		case size != d.Size:
			return fmt.Errorf("it had %d bytes at first and has %d now: it was changed while it was read", d.Size, size)
		}
	}
	if _, err := d.ReadAt(make([]byte, min(first.Length, 512)), first.Offset); err != nil && !errors.Is(err, io.EOF) {
		return fmt.Errorf("it went away while it was read: %w", err)
	}
	return nil
}

func (d *Device) manifest(source string, sectorSize int, now time.Time) Manifest {
	return Manifest{
		Serial: d.Serial, DiskID: diskID(d, d.Size, sectorSize),
		Capacity: d.Size - d.Size%int64(sectorSize), LogicalSectorSize: sectorSize,
		PhysicalSectorSize: d.PhysicalSectorSize,
		Bus:                d.Bus, Model: d.Model, Running: d.Running, Source: source, TakenAt: now.UTC(),
	}
}

// diskID is the identifier that a disk's table bears; "" where it bears none.
func diskID(r io.ReaderAt, size int64, sectorSize int) string {
	d, err := disk.New(r, size, sectorSize)
	if err != nil {
		return ""
	}
	layout := disk.ReadLayout(d)
	id, known := layout.DiskID().Get()
	if !known || !disk.IsID(id) {
		return ""
	}
	return id
}

// SectorSizeOr returns the device's logical sector size in bytes: the one that is
// given, else the one that the system tells, else the one that its table was written for.
func (d *Device) SectorSizeOr(given int) int {
	for _, size := range []int{given, d.LogicalSectorSize} {
		if size != 0 {
			return size
		}
	}
	return writtenFor(d, d.Size)
}

// writtenFor returns the sector size that a GPT on the disk was written for; 512 where
// there is none.
func writtenFor(r io.ReaderAt, size int64) int {
	if d, err := disk.New(r, size, 512); err == nil && disk.ReadLayout(d).WrittenFor == 4096 {
		return 4096
	}
	return 512
}
