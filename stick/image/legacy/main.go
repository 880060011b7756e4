// Command legacy makes an image start under legacy firmware: GRUB's core image is laid into
// the first partition, and the code that loads it into sector 0. GNU GRUB 2.06,
// include/grub/i386/pc/boot.h and include/grub/offsets.h.
package main

import (
	"encoding/binary"
	"fmt"
	"os"
)

// Where the boot code keeps the core's first sector, and what makes it ask the firmware's own
// drive; where the core's first sector keeps where the rest of it lies.
const (
	coreSector  = 0x5C
	driveCheck  = 0x66
	codeLength  = 440
	firstSector = 2048
	blockList   = 500
)

func main() {
	if err := run(os.Args[1], os.Args[2], os.Args[3]); err != nil {
		fmt.Fprintln(os.Stderr, "legacy:", err)
		os.Exit(1)
	}
}

func run(image, corePath, bootPath string) error {
	core, err := os.ReadFile(corePath)
	if err != nil {
		return err
	}
	boot, err := os.ReadFile(bootPath)
	if err != nil {
		return err
	}
	if len(core) > firstSector*512 || len(core) < 512 || len(boot) < 512 {
		return fmt.Errorf("a core of %d bytes, expected at most %d", len(core), firstSector*512)
	}
	binary.LittleEndian.PutUint64(boot[coreSector:], firstSector)
	boot[driveCheck], boot[driveCheck+1] = 0x90, 0x90
	binary.LittleEndian.PutUint64(core[blockList:], firstSector+1)
	f, err := os.OpenFile(image, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	if _, err = f.WriteAt(boot[:codeLength], 0); err == nil {
		_, err = f.WriteAt(core, firstSector*512)
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	return err
}
