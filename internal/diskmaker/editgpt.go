package diskmaker

import (
	"encoding/binary"
	"hash/crc32"
)

// EditHeader changes the GPT header in a sector and the array of 128 entries that it names, and makes
// their checksums right again. An array that lies outside of the disk is left alone.
func (m *Image) EditHeader(sector uint64, change func(h, entries []byte)) {
	le, ss := binary.LittleEndian, int64(m.SectorSize)
	h, entries := make([]byte, 92), make([]byte, 128*128)
	at := int64(sector) * ss
	m.must(m.ReadAt(h, at))
	array := int64(le.Uint64(h[72:])) * ss
	if array <= 0 || array > m.Size-int64(len(entries)) {
		return
	}
	m.must(m.ReadAt(entries, array))
	change(h, entries)
	length := min(uint64(le.Uint32(h[80:]))*uint64(le.Uint32(h[84:])), uint64(len(entries)))
	le.PutUint32(h[88:], crc32.ChecksumIEEE(entries[:length]))
	le.PutUint32(h[16:], 0)
	le.PutUint32(h[16:], crc32.ChecksumIEEE(h))
	m.must(m.WriteAt(entries, array))
	m.must(m.WriteAt(h, at))
}

// EditGPT changes both copies of a GPT as EditHeader does.
func (m *Image) EditGPT(change func(h, entries []byte)) {
	m.EditHeader(1, change)
	m.EditHeader(uint64(m.Size)/uint64(m.SectorSize)-1, change)
}

func (m *Image) must(_ int, err error) {
	if err != nil {
		panic(err)
	}
}
