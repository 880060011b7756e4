package capture

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"latchkey/core/disk"
)

// chunk is how much of the stick's image is written at once, in bytes: whole sectors of any
// size.
const chunk = 1 << 20

// FitForStick says why a device is not to be made a stick: everything on it is lost.
func (d *Device) FitForStick(path string, image int64, block bool) error {
	switch {
	case d.Running:
		return fmt.Errorf("%s: this system runs from it", path)
	case block && d.Bus != "usb" && d.Bus != "sd":
		hangs := "is on " + d.Bus
		if d.Bus == "" {
			hangs = "does not tell what it hangs on"
		}
		return fmt.Errorf("%s %s: expected a stick or a card, on USB or in a card reader", path, hangs)
	case d.Size < image:
		return fmt.Errorf("%s has %s, the image %s: take a larger stick", path, disk.Both(d.Size), disk.Both(image))
	case image < chunk || image%chunk != 0:
		return fmt.Errorf("the image has %d bytes: expected whole MiB, as scripts/stick makes it", image)
	}
	return nil
}

// WholeCapacity is a drive's capacity in whole GB, or MB below one, as its label has it.
func WholeCapacity(size int64) (number, unit string) {
	if size >= 1e9 {
		return fmt.Sprint((size + 5e8) / 1e9), "GB"
	}
	return fmt.Sprint((size + 5e5) / 1e6), "MB"
}

// ConfirmsCapacity reports whether what was typed is a drive's whole capacity.
func ConfirmsCapacity(typed string, size int64) bool {
	number, unit := WholeCapacity(size)
	return strings.TrimSuffix(strings.ToUpper(strings.Join(strings.Fields(typed), "")), unit) == number
}

// MakeStick writes the stick's image to a device, and reads it again. The first part, with the
// table, is written last: a system that sees partitions takes them into use, and then lets
// nobody write. It returns the sum of what was read.
func MakeStick(image io.ReaderAt, size int64, path string, progress func(done int64)) (sum [32]byte, err error) {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return sum, err
	}
	defer f.Close()
	part := make([]byte, chunk)
	write := func(at int64) error {
		if _, err := image.ReadAt(part, at); err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("the image at byte %d: %w", at, err)
		}
		if _, err := f.WriteAt(part, at); err != nil {
			return fmt.Errorf("%s at byte %d: %w", path, at, err)
		}
		return nil
	}
	// What a table of before tells of is gone first.
	if _, err := f.WriteAt(make([]byte, chunk), 0); err != nil {
		return sum, fmt.Errorf("%s: %w", path, err)
	}
	for at := int64(chunk); at < size; at += chunk {
		if err := write(at); err != nil {
			return sum, err
		}
		progress(at)
	}
	if err := f.Sync(); err != nil {
		return sum, fmt.Errorf("%s: %w", path, err)
	}
	if err := write(0); err != nil {
		return sum, err
	}
	if err := f.Sync(); err != nil {
		return sum, fmt.Errorf("%s: %w", path, err)
	}
	return verify(image, size, f, path)
}

// verify reads a stick again, and holds it against the image.
func verify(image io.ReaderAt, size int64, f *os.File, path string) (sum [32]byte, err error) {
	h, want, is := sha256.New(), make([]byte, chunk), make([]byte, chunk)
	for at := int64(0); at < size; at += chunk {
		if _, err := image.ReadAt(want, at); err != nil && !errors.Is(err, io.EOF) {
			return sum, err
		}
		if _, err := f.ReadAt(is, at); err != nil {
			return sum, fmt.Errorf("%s at byte %d, reading it again: %w", path, at, err)
		}
		if !bytes.Equal(want, is) {
			return sum, fmt.Errorf(
				"%s at byte %d: other bytes are read than were written: take another stick",
				path,
				at,
			)
		}
		h.Write(is)
	}
	copy(sum[:], h.Sum(nil))
	return sum, nil
}
