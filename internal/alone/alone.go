// Package alone lets one at a time of this machine's processes do what two would disturb each other at: mkfs.btrfs
// refuses an identifier that another block device carries, and names of LVM and RAID are the kernel's.
package alone

import (
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// NoCache is what has a tool look at the block devices of now: libblkid believes what it kept of one for two seconds
// more, and mkfs.btrfs takes the identifier of a loop device that is gone for another volume's.
const NoCache = "BLKID_FILE=/dev/null"

// Lock waits until nobody else holds the lock of a name, and returns what gives it back.
func Lock(name string) (release func(), err error) {
	f, err := os.OpenFile(filepath.Join(os.TempDir(), "latchkey-"+name+".lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX); err != nil {
		f.Close()
		return nil, err
	}
	return func() { f.Close() }, nil
}
