package capture

import (
	"fmt"
	"os"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"
)

// ioctlLength is IOCTL_DISK_GET_LENGTH_INFO of the system's winioctl.h.
const ioctlLength = 0x7405C

// OpenDevice opens \\.\PhysicalDriveN or an image for reading only.
func OpenDevice(path string) (*Device, error) {
	if !strings.HasPrefix(path, `\\.\`) {
		f, size, err := openSized(path)
		if err != nil {
			return nil, err
		}
		return &Device{ReaderAt: f, Closer: f, Size: size}, nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	var length int64
	var returned uint32
	err = windows.DeviceIoControl(windows.Handle(f.Fd()), ioctlLength, nil, 0,
		(*byte)(unsafe.Pointer(&length)), uint32(unsafe.Sizeof(length)), &returned, nil)
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("%s: its length: %w", path, err)
	}
	return &Device{ReaderAt: &aligned{f}, Closer: f, Size: length}, nil
}
