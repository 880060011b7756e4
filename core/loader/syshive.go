package loader

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"latchkey/core/disk"
)

// SystemHive is what a start asks of the SYSTEM hive of a Windows. A fact that is not in
// the hive is known to be absent.
type SystemHive struct {
	Dirty bool
	// Services tells of the drivers that may reach the system's disk.
	Services map[string]Service
	// Letters are the partitions that drive letters were given to, by "C:".
	Letters map[string]Lettered
	// Portable: the system was made to start from a USB drive.
	Portable bool
	Control  string // the control set that is in use, such as ControlSet001
}

// Service is a driver's entry in the registry.
type Service struct {
	Start    uint32 // 0 is loaded by the boot loader; 3 by demand, 4 never
	Override uint32 // of StartOverride, which stands before Start; 0 where there is none
	Offset   int64  // of the value Start in the hive
}

// AtStart reports whether the boot loader loads the driver. The maker's documentation of
// a service's Start value; that StartOverride stands before it: common practice.
func (s Service) AtStart() bool { return s.Start == 0 && s.Override == 0 }

// Waits reports whether one of some drivers is there and is only held back by its
// StartOverride, which a start in safe mode passes over. Common practice, no source.
func (s *SystemHive) Waits(names []string) bool {
	for _, name := range names {
		if service, there := s.Services[name]; there && service.Start == 0 && service.Override != 0 {
			return true
		}
	}
	return false
}

// Lettered is the partition that a letter was given to.
type Lettered struct {
	BCDDevice
	Offset int64 // in the hive
}

// StorageServices are the drivers of Windows by what the disk hangs on. Common practice,
// no source; those of RAID controllers from memory.
var StorageServices = map[string][]string{
	"nvme": {"stornvme"},
	"ahci": {"storahci", "msahci"},
	"ide":  {"pciide", "intelide", "atapi"},
	"raid": {"iaStorVD", "iaStorAVC", "iaStorAC", "iaStorA", "iaStorV", "rcraid"},
	"usb":  {"USBSTOR", "UASPStor"},
}

// letters are those that MountedDevices is asked for.
const letters = "CDEF"

// ReadSystemHive reads what a start asks of a SYSTEM hive.
func ReadSystemHive(r io.ReaderAt) (*SystemHive, error) {
	h, err := OpenHive(r)
	if err != nil {
		return nil, err
	}
	current, err := h.Value([]string{"Select"}, "Current")
	if err != nil {
		return nil, fmt.Errorf("the control set in use: %w", err)
	}
	n, ok := current.Number()
	if !ok || n == 0 || n > 999 {
		return nil, errors.New("the control set in use is no number")
	}
	s := &SystemHive{Dirty: h.Dirty, Services: map[string]Service{}, Letters: map[string]Lettered{},
		Control: fmt.Sprintf("ControlSet%03d", n)}
	for _, names := range StorageServices {
		for _, name := range names {
			if err := s.service(h, name); err != nil {
				return nil, err
			}
		}
	}
	for _, letter := range letters {
		if err := s.letter(h, string(letter)+":"); err != nil {
			return nil, err
		}
	}
	v, err := h.Value([]string{s.Control, "Control"}, "PortableOperatingSystem")
	if err != nil && !errors.Is(err, ErrNoKey) {
		return nil, err
	}
	portable, _ := v.Number()
	s.Portable = portable == 1
	return s, nil
}

func (s *SystemHive) service(h *Hive, name string) error {
	key := []string{s.Control, "Services", name}
	start, err := h.Value(key, "Start")
	if errors.Is(err, ErrNoKey) {
		return nil
	}
	if err != nil {
		return err
	}
	n, ok := start.Number()
	if !ok {
		return fmt.Errorf("the start type of %s is no number", name)
	}
	service := Service{Start: n, Offset: start.Offset}
	over, err := h.Value(append(key, "StartOverride"), "0")
	if err != nil && !errors.Is(err, ErrNoKey) {
		return err
	}
	service.Override, _ = over.Number()
	s.Services[name] = service
	return nil
}

// letter reads a letter's partition: eight bytes of text and the partition's GUID, or the
// disk signature and the first byte. Common practice, no source.
func (s *SystemHive) letter(h *Hive, letter string) error {
	v, err := h.Value([]string{"MountedDevices"}, `\DosDevices\`+letter)
	if errors.Is(err, ErrNoKey) {
		return nil
	}
	if err != nil {
		return err
	}
	le := binary.LittleEndian
	l := Lettered{Offset: v.Offset}
	l.Kind = DevicePartition
	switch b := v.Bytes; {
	case len(b) == 12:
		l.MBR, l.Signature, l.Start = true, le.Uint32(b), le.Uint64(b[4:])
	case len(b) == 24 && string(b[:8]) == "DMIO:ID:":
		l.Partition = disk.GUID(b[8:24])
	default:
		return nil // another kind of drive
	}
	s.Letters[letter] = l
	return nil
}

// Placed moves the facts' offsets by where the hive's bytes lie.
func (s *SystemHive) Placed(place func(int64) int64) {
	for name, v := range s.Services {
		v.Offset = place(v.Offset)
		s.Services[name] = v
	}
	for name, l := range s.Letters {
		l.Offset = place(l.Offset)
		s.Letters[name] = l
	}
}
