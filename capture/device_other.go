//go:build !linux && !windows

package capture

import "errors"

// OpenDevice opens a device or an image for reading only.
func OpenDevice(path string) (*Device, error) {
	f, size, err := openSized(path)
	if err != nil {
		return nil, err
	}
	return &Device{ReaderAt: f, Closer: f, Size: size, now: sizeOf(f)}, nil
}

// Disks lists the drives of a system whose way of telling them is not known here.
func Disks() ([]Found, error) { return nil, errors.New("on this system the disks are not listed") }
