package volume

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"slices"
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// damagedSum is what is wrong with a structure whose checksum says that it is not what was written.
func damagedSum(what string) error { return fmt.Errorf("the checksum of %s is wrong", what) }

// xfsSum holds a structure of XFS version 5 against the checksum in it: CRC-32C with the field itself
// as zeros, stored little-endian. Filesystem on-disk format: XFS Algorithms & Data Structures, third
// edition, "Self-describing metadata".
func xfsSum(what string, b []byte, field int) error {
	kept := binary.LittleEndian.Uint32(b[field:])
	whole := slices.Clone(b)
	clear(whole[field : field+4])
	if crc32.Checksum(whole, castagnoli) != kept {
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

// btrfsSum holds a superblock or a node of a Btrfs against the checksum with which it begins: it is of
// all that stands behind the 32 bytes that there are for it.
func btrfsSum(what string, b []byte, kind uint16) error {
	const room = 32
	var is []byte
	switch kind {
	case btrfsCRC32C:
		is = binary.LittleEndian.AppendUint32(nil, crc32.Checksum(b[room:], castagnoli))
	case btrfsSHA256:
		sum := sha256.Sum256(b[room:])
		is = sum[:]
	default:
		return nil
	}
	if !slices.Equal(is, b[:len(is)]) {
		return damagedSum(what)
	}
	return nil
}
