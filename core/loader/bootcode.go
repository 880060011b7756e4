package loader

import (
	"bytes"
	"encoding/binary"
)

// BootCode is what the code in sector 0 does.
type BootCode string

// The kinds of boot code that are told apart.
const (
	CodeUnknown BootCode = "not in the evidence"
	CodeNone    BootCode = "none"    // no byte is set
	CodeClassic BootCode = "classic" // runs the active partition's first sector
	CodeGRUB    BootCode = "grub"    // loads its core image from fixed sectors
	CodeOther   BootCode = "other"   // not recognised; it is run as it is
)

// classicMessages stand in the code that runs the active partition: the
// operating systems' own, and that of the free boot records. Common practice.
var classicMessages = [][]byte{
	[]byte("partition table"), []byte("operating system"), []byte("No active partition"), []byte("bootable partition"),
}

// Classify recognises boot code by the messages it carries. GRUB's boot.S
// carries its name and the words of its four errors.
func Classify(code []byte) BootCode {
	switch {
	case len(bytes.TrimLeft(code, "\x00")) == 0:
		return CodeNone
	case bytes.Contains(code, []byte("GRUB ")), bytes.Contains(code, []byte("GRUB\x00")):
		return CodeGRUB
	}
	for _, m := range classicMessages {
		if bytes.Contains(bytes.ToLower(code), bytes.ToLower(m)) {
			return CodeClassic
		}
	}
	return CodeOther
}

// LoadsWindows reports whether a volume's boot sector is one that looks for
// Windows' boot manager, by the file names in its messages. Common practice.
func LoadsWindows(boot []byte) bool {
	return bytes.Contains(boot, []byte("BOOTMGR")) || bytes.Contains(boot, []byte("NTLDR"))
}

// GRUBCoreSector returns the sector at which GRUB's boot code expects its core
// image (GRUB_BOOT_MACHINE_KERNEL_SECTOR in include/grub/i386/pc/boot.h).
func GRUBCoreSector(code []byte) uint64 { return binary.LittleEndian.Uint64(code[0x5C:]) }
