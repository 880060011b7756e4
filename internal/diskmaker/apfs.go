package diskmaker

import (
	"encoding/binary"
)

// AppleVolume is a volume of an APFS container.
type AppleVolume struct {
	Name   string
	Role   uint16
	Sealed bool
}

// appleBlock is the length of a container's blocks, in bytes.
const appleBlock = 4096

// Blocks of a container: two superblocks of checkpoints, the map of objects and its tree, then
// the volumes.
const (
	appleOlder = 1 + iota
	appleNewer
	appleMap
	appleTree
	appleFirst
)

// Container is an APFS container with its volumes, as far as it tells of them: the file systems
// in them are not there. Apple File System Reference, nx_superblock_t, omap_phys_t,
// btree_node_phys_t, apfs_superblock_t.
func Container(blocks uint64, volumes ...AppleVolume) []byte {
	le := binary.LittleEndian
	raw := make([]byte, (appleFirst+len(volumes))*appleBlock)
	at := func(n int) []byte { return raw[n*appleBlock:][:appleBlock] }
	for i, n := range []int{0, appleOlder, appleNewer} {
		b := at(n)
		le.PutUint64(b[8:], 1)
		le.PutUint64(b[16:], uint64(5+i)) // the copy in the first block is stale
		copy(b[32:], "NXSB")
		le.PutUint32(b[36:], appleBlock)
		le.PutUint64(b[40:], blocks)
		copy(b[72:], "\xA9\xF5container-id")
		le.PutUint32(b[104:], 2)
		le.PutUint64(b[112:], appleOlder)
		le.PutUint32(b[180:], 100)
		if n == appleNewer {
			le.PutUint64(b[160:], appleMap)
			for v := range volumes {
				le.PutUint64(b[184+8*v:], uint64(1026+v))
			}
		}
		appleSum(b)
	}
	le.PutUint64(at(appleMap)[48:], appleTree)
	appleSum(at(appleMap))
	tree := at(appleTree)
	le.PutUint16(tree[32:], 7) // root, leaf, keys and values of one size
	le.PutUint32(tree[36:], uint32(len(volumes)))
	le.PutUint16(tree[42:], 448)
	for i, v := range volumes {
		key, value := 56+448+16*i, appleBlock-40-16*(i+1)
		le.PutUint16(tree[56+4*i:], uint16(16*i))
		le.PutUint16(tree[56+4*i+2:], uint16(16*(i+1)))
		le.PutUint64(tree[key:], uint64(1026+i))
		le.PutUint64(tree[key+8:], 3)
		le.PutUint32(tree[value+4:], appleBlock)
		le.PutUint64(tree[value+8:], uint64(appleFirst+i))
		b := at(appleFirst + i)
		le.PutUint64(b[8:], uint64(1026+i))
		copy(b[32:], "APSB")
		if v.Sealed {
			le.PutUint64(b[56:], 0x20)
		}
		b[240] = byte(i + 1)
		copy(b[704:], v.Name)
		le.PutUint16(b[964:], v.Role)
		appleSum(b)
	}
	appleSum(tree)
	return raw
}

// appleSum puts an object's checksum in its place.
func appleSum(b []byte) {
	const mod = 0xFFFFFFFF
	var low, high uint64
	for i := 8; i < len(b); i += 4 {
		low = (low + uint64(binary.LittleEndian.Uint32(b[i:]))) % mod
		high = (high + low) % mod
	}
	first := mod - (low+high)%mod
	binary.LittleEndian.PutUint64(b, (mod-(low+first)%mod)<<32|first)
}
