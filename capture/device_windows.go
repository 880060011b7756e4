package capture

import (
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"sync"
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
		if volumeName.MatchString(path) {
			path = `\\.\` + strings.TrimRight(path, `\`)
		} else {
			f, size, err := openSized(path)
			if err != nil {
				return nil, err
			}
			return &Device{ReaderAt: f, Closer: f, Size: size, now: sizeOf(f)}, nil
		}
	}
	if rest := path[len(`\\.\`):]; volumeName.MatchString(rest) {
		whole := "the one that Get-Partition shows for it"
		if n, known := diskOf(path); known {
			whole = fmt.Sprintf(`\\.\PhysicalDrive%d`, n)
		}
		return nil, partitionError(rest, whole)
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
	d := &Device{ReaderAt: &aligned{f}, Closer: f, Size: length, now: func() (now int64, err error) {
		err = control(f, ioctlLength, nil, unsafe.Pointer(&now), unsafe.Sizeof(now))
		return now, err
	}}
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
	// STORAGE_ACCESS_ALIGNMENT_DESCRIPTOR of StorageAccessAlignmentProperty
	query[0] = 6
	var alignment [7]uint32
	if control(f, ioctlProperty, query[:12], unsafe.Pointer(&alignment), unsafe.Sizeof(alignment)) == nil {
		d.PhysicalSectorSize = int(alignment[5])
	}
	d.Running = runsFrom(path)
	d.Variables = gatherVariables(firmwareVariable)
	return d, nil
}

// volumeName is a drive letter.
var volumeName = regexp.MustCompile(`^[A-Za-z]:\\?$`)

// Disks lists the drives that can be opened.
func Disks() ([]Found, error) {
	var list []Found
	var refused error
	for n := range 64 {
		path := fmt.Sprintf(`\\.\PhysicalDrive%d`, n)
		d, err := OpenDevice(path)
		if errors.Is(err, os.ErrPermission) {
			refused = errors.New("the disks cannot be opened: start the terminal as administrator")
		}
		if err != nil {
			continue
		}
		list = append(list, Found{path, d.Size, d.Model, d.Bus, d.Running, ""})
		d.Close()
	}
	if len(list) == 0 {
		return nil, refused
	}
	return list, nil
}

var firmwareProc = windows.NewLazySystemDLL("kernel32.dll").NewProc("GetFirmwareEnvironmentVariableW")

// firmwareVariable reads one of the firmware's variables, for which the privilege
// SeSystemEnvironmentPrivilege is taken up: the maker's reference of
// GetFirmwareEnvironmentVariableW.
func firmwareVariable(name, vendor string) []byte {
	takePrivilege.Do(takeUpPrivilege)
	if firmwareProc.Find() != nil {
		return nil
	}
	n, errName := windows.UTF16PtrFromString(name)
	guid, errGUID := windows.UTF16PtrFromString("{" + vendor + "}")
	if errName != nil || errGUID != nil {
		return nil
	}
	buf := make([]byte, 4096)
	got, _, _ := firmwareProc.Call(uintptr(unsafe.Pointer(n)), uintptr(unsafe.Pointer(guid)),
		uintptr(unsafe.Pointer(&buf[0])), uintptr(len(buf)))
	if got == 0 || got > uintptr(len(buf)) {
		return nil
	}
	return buf[:got]
}

var takePrivilege sync.Once

// takeUpPrivilege switches the privilege on in this process; without it, or on legacy
// firmware, the variables stay unknown.
func takeUpPrivilege() {
	var token windows.Token
	if windows.OpenProcessToken(windows.CurrentProcess(), windows.TOKEN_ADJUST_PRIVILEGES|windows.TOKEN_QUERY,
		&token) != nil {
		return
	}
	defer token.Close()
	name, err := windows.UTF16PtrFromString("SeSystemEnvironmentPrivilege")
	if err != nil {
		return
	}
	to := windows.Tokenprivileges{PrivilegeCount: 1}
	to.Privileges[0].Attributes = windows.SE_PRIVILEGE_ENABLED
	if windows.LookupPrivilegeValue(nil, name, &to.Privileges[0].Luid) == nil {
		_ = windows.AdjustTokenPrivileges(token, false, &to, 0, nil, nil)
	}
}

// control asks a device for something.
func control(f *os.File, code uint32, question []byte, into unsafe.Pointer, size uintptr) error {
	var returned uint32
	return windows.DeviceIoControl(windows.Handle(f.Fd()), code, unsafe.SliceData(question), uint32(len(question)),
		(*byte)(into), uint32(size), &returned, nil)
}

// runsFrom reports whether the system's own volume lies on a disk.
func runsFrom(path string) bool {
	n, known := diskOf(`\\.\` + os.Getenv("SystemDrive"))
	return known && strings.EqualFold(path, fmt.Sprintf(`\\.\PhysicalDrive%d`, n))
}

// diskOf is the number of the disk that a volume lies on, when it lies on one.
func diskOf(volume string) (number uint32, known bool) {
	f, err := os.Open(volume)
	if err != nil {
		return 0, false
	}
	defer f.Close()
	var extents struct { // VOLUME_DISK_EXTENTS of one extent
		Count, _       uint32
		Disk, _        uint32
		Offset, Length int64
	}
	if control(f, ioctlExtents, nil, unsafe.Pointer(&extents), unsafe.Sizeof(extents)) != nil || extents.Count != 1 {
		return 0, false
	}
	return extents.Disk, true
}
