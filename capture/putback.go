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

// sameDisk tells whether a device is the disk that a capture was taken of: by its
// capacity, then by its serial number, and where none is known by the identifier of
// its table. sure is given where nothing tells; it never makes another serial number
// or capacity the same.
func (c *Captured) sameDisk(path string, sure bool) error {
	d, err := OpenDevice(path)
	if err != nil {
		return err
	}
	defer d.Close()
	another := func(format string, args ...any) error {
		return fmt.Errorf("%s "+format+": nothing was written", append([]any{path}, args...)...)
	}
	now := d.manifest("", c.LogicalSectorSize, time.Time{})
	switch {
	case now.Capacity != c.Capacity:
		return another("has %d bytes, the sectors were saved of a disk of %d: it is another disk", now.Capacity, c.Capacity)
	case now.Serial != "" && c.Serial != "" && now.Serial != c.Serial:
		return another("has the serial number %q, the sectors were saved of the disk %q: it is another disk", now.Serial, c.Serial)
	case now.Serial != "" && now.Serial == c.Serial, sure:
		return nil
	case c.DiskID == "" || now.DiskID == "":
		return another("has the capacity of the disk that the sectors were saved of, and neither a serial number nor an identifier tells whether it is that disk. Give --same-disk when you are sure of it")
	case now.DiskID != c.DiskID:
		return another("has the identifier %s, the sectors were saved of a disk with %s, and no serial number tells more. Give --same-disk when you are sure that it is that disk", now.DiskID, c.DiskID)
	}
	return nil
}

// PutBack writes the sectors that a capture holds to the device that it was taken
// of, and reads them again. A device that does not show itself to be that one is
// refused, see sameDisk. It returns how many bytes were written.
func PutBack(c *Captured, path string, sure bool) (int64, error) {
	if err := c.sameDisk(path, sure); err != nil {
		return 0, err
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
