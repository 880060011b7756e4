package volume

import (
	"encoding/binary"
	"errors"
	"io"
	"strings"
)

// Apple is what a volume of a Mac tells of the systems on it.
type Apple struct {
	// Blessed is the number of the folder from which an HFS+ volume is started; 0 is none.
	Blessed uint32
	// Volumes are those of an APFS container.
	Volumes []AppleVolume
	// Open is set where the evidence, or the container, does not tell of all of them.
	Open bool
}

// AppleVolume is a volume of an APFS container.
type AppleVolume struct {
	Name, UUID string
	Role       AppleRole
	Sealed     bool // its files are held by a tree of checksums
}

// AppleRole is what a volume is for. Apple File System Reference, "Volume Roles".
type AppleRole uint16

// The roles that bear on a start.
const (
	RoleNone    AppleRole = 0
	RoleSystem  AppleRole = 0x0001
	RolePreboot AppleRole = 0x0010
)

// Of returns the volumes of a role.
func (a *Apple) Of(role AppleRole) (list []AppleVolume) {
	for _, v := range a.Volumes {
		if v.Role == role {
			list = append(list, v)
		}
	}
	return list
}

// Bounds of a container: one has a handful of volumes, and its tree of objects few levels.
const (
	maxAppleVolumes     = 100
	maxAppleCheckpoints = 1024
	maxAppleLevels      = 8
	maxAppleBlock       = 64 << 10
)

// apfs reads a container's blocks.
type apfs struct {
	r     io.ReaderAt
	size  int64 // of a block, in bytes
	count uint64
}

var errAPFS = errors.New("the container is not read any further")

// readAPFS reads which volumes a container has, from its newest checkpoint. Apple File System
// Reference: "Container", nx_superblock_t; "Mounting an Apple File System Partition".
func readAPFS(r io.ReaderAt) *Apple {
	a := &Apple{Open: true}
	head := make([]byte, 4096)
	if _, err := r.ReadAt(head, 0); err != nil {
		return a
	}
	le := binary.LittleEndian
	c := apfs{r: r, size: int64(le.Uint32(head[36:])), count: le.Uint64(head[40:])}
	if c.size < 4096 || c.size > maxAppleBlock || c.size&(c.size-1) != 0 || c.count > 1<<50/uint64(c.size) {
		return a
	}
	super, err := c.newest(head)
	if err != nil {
		return a
	}
	objects, err := c.block(le.Uint64(super[160:]))
	if err != nil {
		return a
	}
	root, newest := le.Uint64(objects[48:]), le.Uint64(super[16:])
	a.Open = false
	for i := range min(int(le.Uint32(super[180:])), maxAppleVolumes) {
		id := le.Uint64(super[184+8*i:])
		if id == 0 {
			continue
		}
		v, err := c.volume(root, id, newest)
		if err != nil {
			a.Open = true
			continue
		}
		a.Volumes = append(a.Volumes, v)
	}
	return a
}

// newest is the superblock of the newest checkpoint; none where a block that was written is
// damaged, which may have been the newest.
func (c *apfs) newest(head []byte) ([]byte, error) {
	le := binary.LittleEndian
	blocks, base := le.Uint32(head[104:]), le.Uint64(head[112:])
	if blocks&(1<<31) != 0 || blocks > maxAppleCheckpoints {
		return nil, errAPFS // kept in a tree
	}
	var best []byte
	for i := range uint64(blocks) {
		b, err := c.block(base + i)
		if b != nil && zero(b) {
			continue // not used yet
		}
		if err != nil {
			return nil, err
		}
		if string(b[32:36]) == "NXSB" && (best == nil || le.Uint64(b[16:]) > le.Uint64(best[16:])) {
			best = b
		}
	}
	if best == nil {
		return nil, errAPFS
	}
	return best, nil
}

// block reads an object of one block, and checks its sum.
func (c *apfs) block(at uint64) ([]byte, error) {
	if at >= c.count {
		return nil, errAPFS
	}
	b := make([]byte, c.size)
	if _, err := c.r.ReadAt(b, int64(at)*c.size); err != nil {
		return nil, err
	}
	if fletcher64(b[8:]) != binary.LittleEndian.Uint64(b) {
		return b, errAPFS
	}
	return b, nil
}

// fletcher64 is the checksum of an object, of all that stands behind it. Apple File System
// Reference, "Objects", obj_phys_t.
func fletcher64(b []byte) uint64 {
	const mod = 0xFFFFFFFF
	var low, high uint64
	for ; len(b) >= 4; b = b[4:] {
		low = (low + uint64(binary.LittleEndian.Uint32(b))) % mod
		high = (high + low) % mod
	}
	first := mod - (low+high)%mod
	second := mod - (low+first)%mod
	return second<<32 | first
}

// volume finds a volume's superblock by its number, and reads it. Apple File System Reference,
// "Volumes", apfs_superblock_t.
func (c *apfs) volume(root, id, newest uint64) (v AppleVolume, err error) {
	at, err := c.resolve(root, id, newest)
	if err != nil {
		return v, err
	}
	b, err := c.block(at)
	if err != nil {
		return v, err
	}
	le := binary.LittleEndian
	if string(b[32:36]) != "APSB" {
		return v, errAPFS
	}
	const sealed = 0x20 // APFS_INCOMPAT_SEALED_VOLUME
	name, _, _ := strings.Cut(string(b[704:960]), "\x00")
	return AppleVolume{Name: name, UUID: strings.ToUpper(plainUUID(b[240:])), Role: AppleRole(le.Uint16(b[964:])),
		Sealed: le.Uint64(b[56:])&sealed != 0}, nil
}

// resolve looks an object up in the container's map: the newest that is no newer than the
// checkpoint. Apple File System Reference, "Object Maps"; "B-Trees", btree_node_phys_t.
func (c *apfs) resolve(node, id, newest uint64) (uint64, error) {
	le := binary.LittleEndian
	for range maxAppleLevels {
		b, err := c.block(node)
		if err != nil {
			return 0, err
		}
		flags, keys := le.Uint16(b[32:]), le.Uint32(b[36:])
		toc := 56 + int(le.Uint16(b[40:]))
		area, end := toc+int(le.Uint16(b[42:])), len(b)
		if flags&1 != 0 { // the root's own figures stand at its end
			end -= 40
		}
		if flags&4 == 0 || area > end || int64(keys)*4 > int64(area-toc) {
			return 0, errAPFS
		}
		found, leaf := -1, flags&2 != 0
		for i := range int(keys) {
			k, val := area+int(le.Uint16(b[toc+4*i:])), end-int(le.Uint16(b[toc+4*i+2:]))
			if k+16 > end || val < area || val+16 > len(b) && (leaf || val+8 > len(b)) {
				return 0, errAPFS
			}
			oid, xid := le.Uint64(b[k:]), le.Uint64(b[k+8:])
			if oid > id || oid == id && xid > newest {
				break
			}
			found = val
			if leaf && oid != id {
				found = -1
			}
		}
		switch {
		case found < 0:
			return 0, errAPFS
		case leaf:
			return le.Uint64(b[found+8:]), nil
		}
		node = le.Uint64(b[found:])
	}
	return 0, errAPFS
}

// readBlessed reads which folder an HFS+ volume is started from: Technical Note TN1150,
// "Volume Header", finderInfo[0], and [5] where that is none.
func readBlessed(r io.ReaderAt) *Apple {
	b := make([]byte, 512)
	if _, err := r.ReadAt(b, 1024); err != nil {
		return &Apple{Open: true}
	}
	folder := binary.BigEndian.Uint32(b[80:])
	if folder == 0 {
		folder = binary.BigEndian.Uint32(b[100:])
	}
	return &Apple{Blessed: folder}
}

// apple reads what a Mac's volume tells of the systems on it.
func (v *Volume) apple(r io.ReaderAt) {
	switch v.Kind {
	case KindAPFS:
		v.Apple = readAPFS(r)
	case KindHFS:
		v.Apple = readBlessed(r)
	}
}
