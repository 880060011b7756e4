package volume

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"slices"
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// rawCRC goes on with a CRC-32C, without the inversions at both ends.
func rawCRC(crc uint32, parts ...[]byte) uint32 {
	for _, b := range parts {
		crc = ^crc32.Update(^crc, castagnoli, b)
	}
	return crc
}

// damagedSum is what is wrong with a structure whose checksum says that it is not what was written.
func damagedSum(what string) error { return fmt.Errorf("the checksum of %s is wrong", what) }

// xfsSum holds a structure of XFS version 5 against the checksum in it: CRC-32C with the field itself
// as zeros, stored little-endian. Filesystem on-disk format: XFS Algorithms & Data Structures, third
// edition, "Self-describing metadata".
func xfsSum(what string, b []byte, field int) error {
	if ^rawCRC(^uint32(0), b[:field], make([]byte, 4), b[field+4:]) != binary.LittleEndian.Uint32(b[field:]) {
		return damagedSum(what)
	}
	return nil
}

// The kinds of checksums of a Btrfs that are held against what they are of; there are two more, which
// have to be believed. Btrfs' documentation, "On-disk format", "Superblock": csum_type.
const (
	btrfsCRC32C = 0
	btrfsSHA256 = 2
)

// btrfsSum holds the superblock of a Btrfs against the checksum with which it begins: it is of all
// that stands behind the 32 bytes that there are for it.
func btrfsSum(b []byte) error {
	const room = 32
	var is []byte
	switch binary.LittleEndian.Uint16(b[196:]) {
	case btrfsCRC32C:
		is = binary.LittleEndian.AppendUint32(nil, crc32.Checksum(b[room:], castagnoli))
	case btrfsSHA256:
		sum := sha256.Sum256(b[room:])
		is = sum[:]
	default:
		return nil
	}
	if !slices.Equal(is, b[:len(is)]) {
		return damagedSum("the superblock")
	}
	return nil
}

// extSums are the checksums of an ext4 that keeps them of its structures (metadata_csum): CRC-32C
// without the inversions at both ends. The kernel's filesystems/ext4, "Checksums".
type extSums struct {
	on   bool
	seed uint32
}

const (
	extHasSums   = 0x400  // of s_feature_ro_compat
	extKeptSeed  = 0x2000 // of s_feature_incompat
	extSumByCRC  = 1      // s_checksum_type
	extIndexFlag = 0x1000 // of an inode: a directory with an index
)

// extSumsOf reads from a superblock whether there are checksums, and holds its own.
func extSumsOf(sb []byte) (s extSums, err error) {
	le := binary.LittleEndian
	if le.Uint32(sb[0x4C:]) == 0 || le.Uint32(sb[0x64:])&extHasSums == 0 || sb[0x175] != extSumByCRC {
		return s, nil
	}
	s.on, s.seed = true, rawCRC(^uint32(0), sb[0x68:0x78])
	if le.Uint32(sb[0x60:])&extKeptSeed != 0 {
		s.seed = le.Uint32(sb[0x270:])
	}
	if rawCRC(^uint32(0), sb[:0x3FC]) != le.Uint32(sb[0x3FC:]) {
		return s, damagedSum("the superblock")
	}
	return s, nil
}

// inode holds an index node against its checksum, and returns what those begin with of what belongs
// to it. Half of the sum lies in the part that only longer nodes have.
func (s extSums) inode(raw []byte, number uint64) (seed uint32, err error) {
	if !s.on {
		return 0, nil
	}
	le := binary.LittleEndian
	seed = rawCRC(s.seed, le.AppendUint32(nil, uint32(number)), raw[0x64:0x68])
	kept, mask, half := uint32(le.Uint16(raw[0x7C:])), uint32(0xFFFF), make([]byte, 2)
	is := rawCRC(seed, raw[:0x7C], half, raw[0x7E:min(0x82, len(raw))])
	if len(raw) > 128 && le.Uint16(raw[0x80:]) >= 4 {
		kept, mask = kept|uint32(le.Uint16(raw[0x82:]))<<16, ^uint32(0)
		is = rawCRC(is, half, raw[0x84:])
	} else if len(raw) > 128 {
		is = rawCRC(is, raw[0x82:])
	}
	if is&mask != kept {
		return 0, damagedSum(fmt.Sprintf("inode %d", number))
	}
	return seed, nil
}

// node holds a block of an extent tree against the checksum behind the room for its entries.
func (s extSums) node(b []byte, seed uint32) error {
	le := binary.LittleEndian
	at := 12 + 12*int(le.Uint16(b[4:]))
	if s.on && (at+4 > len(b) || rawCRC(seed, b[:at]) != le.Uint32(b[at:])) {
		return damagedSum("an extent node")
	}
	return nil
}

// directory holds each block of a directory against the checksum at its end, which looks like an
// entry without a name, or stands behind the room for the entries of its index.
func (s extSums) directory(raw []byte, blockSize int64, n *inode) error {
	le := binary.LittleEndian
	for at := int64(0); s.on && at+blockSize <= int64(len(raw)); at += blockSize {
		b := raw[at : at+blockSize]
		within := le.Uint32(b) == 0 && int64(le.Uint16(b[4:])) == blockSize
		if n.flags&extIndexFlag != 0 && (at == 0 || within) {
			if !indexSound(b, n.seed, within) {
				return damagedSum("a block of a directory's index")
			}
			continue
		}
		end := len(b) - 12
		isTail := slices.Equal(b[end:end+8], []byte{0, 0, 0, 0, 12, 0, 0, 0xDE})
		if !isTail || rawCRC(n.seed, b[:end]) != le.Uint32(b[end+8:]) {
			return damagedSum("a directory block")
		}
	}
	return nil
}

// indexSound holds a block of a directory's index against its checksum: of what stands before the
// room that is left, and of the tail with the sum itself as zeros. The first block holds the folder
// itself and its parent, too.
func indexSound(b []byte, seed uint32, within bool) bool {
	le := binary.LittleEndian
	at := 32
	if within {
		at = 8
	}
	limit, count := int(le.Uint16(b[at:])), int(le.Uint16(b[at+2:]))
	tail := at + 8*limit
	if count > limit || tail+8 > len(b) {
		return false
	}
	return rawCRC(seed, b[:at+8*count], b[tail:tail+4], make([]byte, 4)) == le.Uint32(b[tail+4:])
}
