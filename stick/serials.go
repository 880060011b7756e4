package stick

import (
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"latchkey/core/command"
)

// lsblk(8) tells a drive's serial number as udev(7) has put it down; no udev runs on the stick. So
// that the commands of a plan tell drives apart here as in any live system, the numbers that were read of
// the drives are put down in the same place. Seen of util-linux 2.38 with libudev 252.

// serialsFolder is where udev keeps what it knows of devices.
const serialsFolder = "/run/udev/data"

// putSerialsDown puts down the serial numbers of the drives that are there.
func (s *Session) putSerialsDown() {
	if s.world.serials == "" {
		return
	}
	found, err := s.world.disks()
	if err != nil {
		return
	}
	for _, f := range found {
		device, err := s.world.open(f.Path)
		if err != nil {
			continue
		}
		serial := device.Serial
		_ = device.Close()
		if err := putSerialDown(s.world.serials, f.Path, serial); err != nil {
			s.Log("the serial number of %s is not put down: %v", f.Path, err)
		}
	}
}

func putSerialDown(folder, path, serial string) error {
	if !command.Plain(serial) {
		return nil
	}
	var st unix.Stat_t
	if err := unix.Stat(path, &st); err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	name := fmt.Sprintf("b%d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev))
	return os.WriteFile(filepath.Join(folder, name), []byte("E:ID_SERIAL_SHORT="+serial+"\n"), 0o644)
}
