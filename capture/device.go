package capture

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/startup"
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
	Variables          map[string][]byte // the firmware's boot variables
	Running            bool              // the system that reads it runs from it
}

// openSized opens an image or a block device for reading only and returns its
// size in bytes.
func openSized(path string) (*os.File, int64, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, 0, err
	}
	info, err := f.Stat()
	if err == nil && info.IsDir() {
		err = fmt.Errorf("%s is a folder: expected an image file or a block device", path)
	}
	var size int64
	if err == nil {
		size, err = f.Seek(0, io.SeekEnd)
	}
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return f, size, nil
}

// Take runs the very analysis of a check through a recording reader and returns
// what it read. The context ends it early; report, when it is not nil, is told
// how far it got. Both logical sector sizes are tried, so that the capture serves
// the drive on either kind of port.
func Take(ctx context.Context, d *Device, source string, sectorSize int, now time.Time, report func(Progress)) (Manifest, error) {
	sectorSize = d.SectorSizeOr(sectorSize)
	recorder := NewRecorder(d, d.Size, sectorSize)
	recorder.Watch(ctx, report)
	var paths []string
	// Damaged variables are kept as they are; the reader of the capture reports them.
	if entries, _ := firmware.DecodeVariables(d.Variables); entries != nil {
		paths = entries.Files()
	}
	var counts []disk.Count
	for _, size := range []int{512, 4096} {
		on, err := disk.New(recorder, d.Size, size)
		if err != nil {
			return Manifest{}, fmt.Errorf("%s: %w", source, err)
		}
		startup.Examine(on, paths...)
		for _, c := range on.Counts() {
			if !slices.Contains(counts, c) {
				counts = append(counts, c)
			}
		}
	}
	if err := ctx.Err(); err != nil {
		return Manifest{}, fmt.Errorf("%s: stopped before the end: %w", source, err)
	}
	if len(recorder.Extents()) == 0 {
		return Manifest{}, fmt.Errorf("%s: nothing of it could be read", source)
	}
	m := d.manifest(source, sectorSize, now)
	m.Extents, m.Counts = recorder.Extents(), counts
	return m, nil
}

func (d *Device) manifest(source string, sectorSize int, now time.Time) Manifest {
	return Manifest{
		Capacity: d.Size - d.Size%int64(sectorSize), LogicalSectorSize: sectorSize, PhysicalSectorSize: d.PhysicalSectorSize,
		Bus: d.Bus, Model: d.Model, Running: d.Running, Source: source, TakenAt: now.UTC(),
	}
}

// SectorSizeOr returns the device's logical sector size in bytes: the one that is
// given, else the one that the system tells, else 512.
func (d *Device) SectorSizeOr(given int) int {
	for _, size := range []int{given, d.LogicalSectorSize} {
		if size != 0 {
			return size
		}
	}
	return 512
}
