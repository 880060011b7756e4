package diskmaker

import "encoding/binary"

// RAID is a member of an array of two devices, of one of the versions 0.90, 1.0, 1.1 and
// 1.2, laid out by the kernel's md_p.h.
type RAID struct {
	Version string
	Level   int32
	Device  byte // which of the two, 0 or 1
}

// RAIDName is the name of every array that is made, RAIDUUID its identifier as the tools
// print it.
const (
	RAIDName = "kiosk:0"
	RAIDUUID = "4d1f0b6e-911a-475c-8e0d-3b0c991f2271"
)

const raidID = "\x4d\x1f\x0b\x6e\x91\x1a\x47\x5c\x8e\x0d\x3b\x0c\x99\x1f\x22\x71"

// DataOffset is where the array's data begin in the member, in bytes.
func (r RAID) DataOffset() int64 {
	if r.Version == "0.90" || r.Version == "1.0" {
		return 0
	}
	return 1 << 20
}

// Superblock returns the superblock of a member of size bytes, and where it stands.
func (r RAID) Superblock(size int64) (raw []byte, at int64) {
	le := binary.LittleEndian
	sb := make([]byte, 4096)
	le.PutUint32(sb, 0xA92B4EFC)
	if r.Version == "0.90" {
		at = size&^(64<<10-1) - 64<<10
		le.PutUint32(sb[8:], 90)
		copy(sb[20:], raidID[:4])
		le.PutUint32(sb[28:], uint32(r.Level))
		le.PutUint32(sb[32:], uint32(at/1024))
		le.PutUint32(sb[36:], 2)
		le.PutUint32(sb[40:], 2)
		copy(sb[52:], raidID[4:])
		le.PutUint32(sb[152:], sum32(sb))
		return sb, at
	}
	at = map[string]int64{"1.0": (size/512 - 16) &^ 7 * 512, "1.1": 0, "1.2": 4096}[r.Version]
	sectors := uint64(size/512 - 4096)
	le.PutUint32(sb[4:], 1)
	copy(sb[16:], raidID)
	copy(sb[32:], RAIDName)
	le.PutUint32(sb[72:], uint32(r.Level))
	le.PutUint64(sb[80:], sectors)
	le.PutUint32(sb[92:], 2)
	le.PutUint64(sb[128:], uint64(r.DataOffset()/512))
	le.PutUint64(sb[136:], sectors)
	le.PutUint64(sb[144:], uint64(at/512))
	le.PutUint32(sb[160:], uint32(r.Device))
	copy(sb[168:], "\x01\x02\x03\x04\x05\x06\x07\x08\x09\x0a\x0b\x0c\x0d\x0e\x0f")
	sb[183] = r.Device
	le.PutUint32(sb[220:], 2) // max_dev
	le.PutUint16(sb[258:], 1)
	le.PutUint32(sb[216:], sum32(sb[:256+2*2]))
	return sb, at
}

// sum32 is the sum of the words, with what runs over added.
func sum32(b []byte) uint32 {
	var sum uint64
	for i := 0; i < len(b); i += 4 {
		sum += uint64(binary.LittleEndian.Uint32(b[i:]))
	}
	return uint32(sum&0xFFFFFFFF + sum>>32)
}
