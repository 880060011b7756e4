package diskmaker

import (
	_ "embed" // the boot code
	"encoding/binary"
)

//go:embed bootcode/classic.bin
var classicCode []byte

//go:embed bootcode/ntfsboot.bin
var ntfsCode []byte

// writeNTFS writes the boot sector of an NTFS volume and its backup in the last
// sector; the rest of the volume stays empty.
func (m *Image) writeNTFS(start, sectors uint64, serial uint64, hidden uint32) error {
	le := binary.LittleEndian
	b := make([]byte, 512)
	copy(b, "\xEB\x52\x90NTFS    ")
	le.PutUint16(b[11:], uint16(m.SectorSize))
	b[13] = byte(4096 / m.SectorSize)
	b[21] = 0xF8
	le.PutUint16(b[24:], 63)
	le.PutUint16(b[26:], 255)
	le.PutUint32(b[28:], hidden)
	le.PutUint32(b[36:], 0x00800080)
	le.PutUint64(b[40:], sectors-1) // the backup boot sector is not counted
	le.PutUint64(b[48:], 786432)    // $MFT
	le.PutUint64(b[56:], 2)         // $MFTMirr
	b[64], b[68] = 0xF6, 0x01       // 1,024-byte records, one cluster an index block
	le.PutUint64(b[72:], serial)
	copy(b[84:], ntfsCode)
	b[510], b[511] = 0x55, 0xAA
	ss := uint64(m.SectorSize)
	if _, err := m.WriteAt(b, int64(start*ss)); err != nil {
		return err
	}
	if end := int64((start + sectors - 1) * ss); end+512 <= m.Size {
		_, err := m.WriteAt(b, end)
		return err
	}
	return nil
}

// writeExt writes the superblock of an ext4 volume with 4 KiB blocks; the rest
// of the volume stays empty.
func (m *Image) writeExt(start, sectors uint64, label string, uuid [16]byte) error {
	le := binary.LittleEndian
	sb := make([]byte, 1024)
	le.PutUint32(sb[0x04:], uint32(sectors*uint64(m.SectorSize)/4096))
	le.PutUint32(sb[0x18:], 2)      // 4 KiB blocks
	le.PutUint16(sb[0x38:], 0xEF53) // s_magic
	le.PutUint16(sb[0x3A:], 1)      // cleanly unmounted
	le.PutUint32(sb[0x4C:], 1)      // dynamic revision
	copy(sb[0x68:], uuid[:])
	copy(sb[0x78:0x88], label)
	_, err := m.WriteAt(sb, int64(start)*int64(m.SectorSize)+1024)
	return err
}
