package truth

import (
	"encoding/binary"
	"fmt"

	"latchkey/internal/diskmaker"
)

// bytesDamage is a single byte, or a single field, that is another one: whatever reads it has
// to read it as the firmware does.
func (c *chance) bytesDamage(s *Scenario) damage {
	i := c.IntN(len(s.Drives))
	on := func(f func(*diskmaker.Image), name string, args ...any) damage {
		return damage{fmt.Sprintf(name, args...), func(s *Scenario) { s.Drives[i] = s.Drives[i].spoiled(f) }}
	}
	value := byte(c.IntN(256))
	if c.of(3) {
		value = []byte{0, 1, 0x7F, 0x80, 0xFF}[c.IntN(5)]
	}
	if s.Firmware == SeaBIOS {
		at := 446 + int64(c.IntN(66))
		return on(put(at, value), "byte %d of sector 0 is %02X", at, value)
	}
	gpt := s.Drives[i].Disk.Style == diskmaker.GPT
	switch n := c.IntN(6); {
	case n == 0 && gpt:
		at := 8 + c.IntN(84)
		return on(bothHeaders(func(h, _ []byte) { h[at] = value }), "byte %d of both headers is %02X", at, value)
	case n == 1 && gpt:
		at := c.IntN(128)
		return on(bothHeaders(func(_, e []byte) { e[at] = value }), "byte %d of the first entry is %02X", at, value)
	case n == 2:
		at := int64(c.IntN(48))
		return on(inVolume(func(v fatPlaces) int64 { return v.fat + at }, value), "byte %d of the FAT is %02X", at, value)
	case n == 3:
		cluster, at := int64(c.IntN(8)), int64(c.IntN(192))
		return on(inVolume(func(v fatPlaces) int64 { return v.data + cluster*v.cluster + at }, value),
			"byte %d of cluster %d is %02X", at, cluster+2, value)
	case n == 4:
		at := int64(c.IntN(96))
		return on(inVolume(func(v fatPlaces) int64 { return v.root + at }, value), "byte %d of the root folder is %02X", at, value)
	}
	at := int64(c.IntN(92))
	return on(inVolume(func(fatPlaces) int64 { return at }, value), "byte %d of the boot sector is %02X", at, value)
}

// put writes one byte.
func put(at int64, value byte) func(*diskmaker.Image) {
	return func(m *diskmaker.Image) { write(m, at, value) }
}

// fatPlaces are where a FAT volume's parts begin, in bytes from its start. Microsoft FAT
// specification, "Boot Sector and BPB".
type fatPlaces struct{ fat, root, data, cluster int64 }

// inVolume writes a byte of the FAT volume a MiB behind the disk's start, before which other
// damages may have been done to it.
func inVolume(where func(fatPlaces) int64, value byte) func(*diskmaker.Image) {
	return func(m *diskmaker.Image) {
		if at := where(placesOf(m)); at >= 0 && mib+at < m.Size {
			write(m, mib+at, value)
		}
	}
}

// placesOf reads where the parts of that volume begin.
func placesOf(m *diskmaker.Image) fatPlaces {
	b, le := read(m, mib, 512), binary.LittleEndian
	sector := int64(le.Uint16(b[11:]))
	size := int64(le.Uint16(b[22:]))
	if size == 0 {
		size = int64(le.Uint32(b[36:]))
	}
	v := fatPlaces{fat: int64(le.Uint16(b[14:])) * sector, cluster: int64(b[13]) * sector}
	v.root = v.fat + int64(b[16])*size*sector
	v.data = v.root + int64(le.Uint16(b[17:]))*32
	return v
}
