package capture

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"time"

	"latchkey/core/disk"
)

// TakeSectors returns a capture's manifest for chosen sectors alone, which a repair
// is going to overwrite.
func TakeSectors(d *Device, source string, sectorSize int, first, count uint64, now time.Time) (Manifest, error) {
	size := uint64(sectorSize)
	all := uint64(d.Size) / size
	switch {
	case count == 0 || first >= all || count > all-first:
		return Manifest{}, fmt.Errorf("%s: sectors %d+%d: expected at least one, within the %d of the disk", source, first, count, all)
	case count > maxSectors/size:
		return Manifest{}, fmt.Errorf("%s: %d sectors: at most %s are kept at once", source, count, disk.Binary(maxSectors))
	}
	m := d.manifest(source, sectorSize, now)
	m.Extents = []Extent{{int64(first * size), int64(count * size)}}
	return m, nil
}

// PutBack writes the sectors that a capture holds to the device that it was taken
// of, and reads them again. The device must have the very capacity that the
// capture tells of. It returns how many bytes were written.
func PutBack(c *Captured, path string) (int64, error) {
	d, err := OpenDevice(path)
	if err != nil {
		return 0, err
	}
	capacity := d.Size - d.Size%int64(c.LogicalSectorSize)
	d.Close()
	if capacity != c.Capacity {
		return 0, fmt.Errorf("%s has %d bytes, the sectors were saved of a disk of %d: it is another disk, nothing was written", path, capacity, c.Capacity)
	}
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	var written int64
	for _, x := range c.Extents {
		if x.Offset%int64(c.LogicalSectorSize) != 0 || x.Length%int64(c.LogicalSectorSize) != 0 {
			return written, fmt.Errorf("%s: %d bytes at %d are no whole sectors", path, x.Length, x.Offset)
		}
		kept := make([]byte, x.Length)
		if _, err := c.Sectors.ReadAt(kept, x.Offset); err != nil {
			return written, err
		}
		if n, err := f.WriteAt(kept, x.Offset); err != nil {
			return written + int64(n), fmt.Errorf("%s at byte %d: %w", path, x.Offset, err)
		}
		written += x.Length
		if err := f.Sync(); err != nil {
			return written, fmt.Errorf("%s: %w", path, err)
		}
		now := make([]byte, x.Length)
		if _, err := io.ReadFull(io.NewSectionReader(f, x.Offset, x.Length), now); err != nil {
			return written, fmt.Errorf("%s at byte %d, reading it again: %w", path, x.Offset, err)
		}
		if !bytes.Equal(now, kept) {
			return written, fmt.Errorf("%s at byte %d: other bytes are read than were written", path, x.Offset)
		}
	}
	return written, nil
}
