package diskmaker

import (
	_ "embed" // the boot code
	"encoding/binary"
)

//go:embed bootcode/ntfsboot.bin
var ntfsCode []byte

// writeNTFSBoot writes the boot sector of an NTFS volume and its copy in the last
// sector.
func (m *Image) writeNTFSBoot(start, sectors uint64, serial uint64, hidden uint32) error {
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
	le.PutUint64(b[48:], mftCluster)
	le.PutUint64(b[56:], 2)   // $MFTMirr
	b[64], b[68] = 0xF6, 0x01 // 1,024-byte records, one cluster an index block
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
