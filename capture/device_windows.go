package capture

import (
	"fmt"
	"os"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"
)

// Requests to a device: IOCTL_DISK_GET_LENGTH_INFO, IOCTL_DISK_GET_DRIVE_GEOMETRY
// and IOCTL_VOLUME_GET_VOLUME_DISK_EXTENTS of the system's winioctl.h and
// ntddvol.h.
const (
	ioctlLength   = 0x7405C
	ioctlGeometry = 0x70000
	ioctlExtents  = 0x560000
)

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
	if err := control(f, ioctlLength, unsafe.Pointer(&length), unsafe.Sizeof(length)); err != nil {
		f.Close()
		return nil, fmt.Errorf("%s: its length: %w", path, err)
	}
	d := &Device{ReaderAt: &aligned{f}, Closer: f, Size: length}
	var geometry struct { // DISK_GEOMETRY
		Cylinders                                            int64
		MediaType, TracksPerCylinder, SectorsPerTrack, Bytes uint32
	}
	if control(f, ioctlGeometry, unsafe.Pointer(&geometry), unsafe.Sizeof(geometry)) == nil {
		d.LogicalSectorSize = int(geometry.Bytes)
	}
	d.Running = runsFrom(path)
	return d, nil
}

// control asks a device for something.
func control(f *os.File, code uint32, into unsafe.Pointer, size uintptr) error {
	var returned uint32
	return windows.DeviceIoControl(windows.Handle(f.Fd()), code, nil, 0, (*byte)(into), uint32(size), &returned, nil)
}

// runsFrom reports whether the system's own volume lies on a disk.
func runsFrom(path string) bool {
	f, err := os.Open(`\\.\` + os.Getenv("SystemDrive"))
	if err != nil {
		return false
	}
	defer f.Close()
	var extents struct { // VOLUME_DISK_EXTENTS of one extent
		Count, _       uint32
		Disk, _        uint32
		Offset, Length int64
	}
	if control(f, ioctlExtents, unsafe.Pointer(&extents), unsafe.Sizeof(extents)) != nil || extents.Count != 1 {
		return false
	}
	return strings.EqualFold(path, fmt.Sprintf(`\\.\PhysicalDrive%d`, extents.Disk))
}
