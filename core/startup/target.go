package startup

import (
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/firmware"
)

// Loader names of a legacy start.
const (
	LoaderBootSector = "boot sector"
	LoaderBootCode   = "boot code"
	LoaderGRUB       = "grub"
)

// target is what an attempt looks for on a disk.
type target struct {
	path string                    // the program
	only func(disk.Partition) bool // the partitions it may lie in; nil for any
	why  string                    // how the firmware comes to look for it
}

func entryName(e firmware.Entry) string { return fmt.Sprintf("%04X", e.Number) }
