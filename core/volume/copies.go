package volume

import (
	"bytes"
	"encoding/binary"
	"fmt"
)

// SecondFAT is the second file allocation table of a volume, in bytes of the disk.
type SecondFAT struct {
	First, Second, Length int64
}

// maxFAT bounds the tables that are held against each other, in bytes: those of boot
// partitions are smaller.
const maxFAT = 1 << 20

// unsound tells what is wrong at the beginning of a table, counted from 0: its first entry
// is a media byte below ones alone, and the root directory of FAT32 has a cluster that is in
// use. FAT specification 1.03, section 4. That the byte is the boot sector's own is asked for
// there and by no firmware (seen in edk2).
func (f *FAT) unsound(table int64) error {
	at := f.fatStart + table*f.perFAT
	raw := make([]byte, 8)
	if _, err := f.r.ReadAt(raw, at); err != nil {
		return err
	}
	if raw[0] < 0xF0 || raw[1] != 0xFF {
		return fmt.Errorf("it begins with %02X %02X", raw[0], raw[1])
	}
	if f.Kind != KindFAT32 {
		return nil
	}
	if _, err := f.r.ReadAt(raw[:4], at+4*int64(f.rootClus)); err != nil {
		return err
	}
	if v := binary.LittleEndian.Uint32(raw) & 0x0FFFFFFF; v < 2 || v >= f.Clusters+2 && v < 0x0FFFFFF8 {
		return fmt.Errorf("the root directory's cluster %d has the entry %07X", f.rootClus, v)
	}
	return nil
}

// second is the second table, where the two differ and it is the sound one.
func (f *FAT) second(base int64) *SecondFAT {
	if f.fats != 2 || f.perFAT > maxFAT || f.unsound(1) != nil {
		return nil
	}
	a, b := make([]byte, f.perFAT), make([]byte, f.perFAT)
	if _, err := f.r.ReadAt(a, f.fatStart); err != nil {
		return nil
	}
	if _, err := f.r.ReadAt(b, f.fatStart+f.perFAT); err != nil || bytes.Equal(a, b) {
		return nil
	}
	return &SecondFAT{base + f.fatStart, base + f.fatStart + f.perFAT, f.perFAT}
}

// otherwise reports whether a sound copy of a boot sector says more than another place where
// the volume begins, which programs that copy correct in the first alone.
func otherwise(boot, copied []byte) bool {
	same := bytes.Equal(boot[:28], copied[:28]) && bytes.Equal(boot[32:], copied[32:])
	return copied[510] == 0x55 && copied[511] == 0xAA && !same
}
