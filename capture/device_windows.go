package capture

import (
	"fmt"
	"os"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"
)

// Requests to a device: IOCTL_DISK_GET_LENGTH_INFO, IOCTL_DISK_GET_DRIVE_GEOMETRY,
// IOCTL_VOLUME_GET_VOLUME_DISK_EXTENTS and IOCTL_STORAGE_QUERY_PROPERTY of the system's winioctl.h and
// ntddvol.h.
const (
	ioctlLength   = 0x7405C
	ioctlGeometry = 0x70000
	ioctlExtents  = 0x560000
	ioctlProperty = 0x2D1400
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
	if err := control(f, ioctlLength, nil, unsafe.Pointer(&length), unsafe.Sizeof(length)); err != nil {
		f.Close()
		return nil, fmt.Errorf("%s: its length: %w", path, err)
	}
	d := &Device{ReaderAt: &aligned{f}, Closer: f, Size: length}
	var geometry struct { // DISK_GEOMETRY
		Cylinders                                            int64
		MediaType, TracksPerCylinder, SectorsPerTrack, Bytes uint32
	}
	if control(f, ioctlGeometry, nil, unsafe.Pointer(&geometry), unsafe.Sizeof(geometry)) == nil {
		d.LogicalSectorSize = int(geometry.Bytes)
	}
	// STORAGE_PROPERTY_QUERY of StorageDeviceProperty, PropertyStandardQuery
	var query, answer [1024]byte
	if control(f, ioctlProperty, query[:12], unsafe.Pointer(&answer), unsafe.Sizeof(answer)) == nil {
		d.Bus, d.Model, d.Serial = storageDescriptor(answer[:])
	}
	d.Running = runsFrom(path)
	return d, nil
}

// control asks a device for something.
func control(f *os.File, code uint32, question []byte, into unsafe.Pointer, size uintptr) error {
	var returned uint32
	return windows.DeviceIoControl(windows.Handle(f.Fd()), code, unsafe.SliceData(question), uint32(len(question)),
		(*byte)(into), uint32(size), &returned, nil)
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
	if control(f, ioctlExtents, nil, unsafe.Pointer(&extents), unsafe.Sizeof(extents)) != nil || extents.Count != 1 {
		return false
	}
	return strings.EqualFold(path, fmt.Sprintf(`\\.\PhysicalDrive%d`, extents.Disk))
}
