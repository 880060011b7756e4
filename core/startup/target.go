package startup

import "latchkey/core/machine"

// Loader names of a legacy start.
const (
	LoaderBootSector = "boot sector"
	LoaderBootCode   = "boot code"
	LoaderGRUB       = "grub"
)

// target is what an attempt looks for on a disk.
type target struct {
	path string // the program
	// only accepts the partitions that it may lie in, by drive and index; nil for any.
	only func(d *machine.Drive, i int) bool
	why  string // how the firmware comes to look for it
}
