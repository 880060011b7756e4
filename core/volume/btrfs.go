package volume

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Trees, kinds of items and limits of Btrfs. Btrfs documentation, "On-disk format"; the
// kernel's include/uapi/linux/btrfs_tree.h. All numbers are little-endian.
const (
	btrfsAt           = 64 << 10 // the superblock, in bytes
	btrfsMagic        = "_BHRfS_M"
	btrfsHeader       = 101 // bytes
	btrfsItem         = 25
	btrfsPointer      = 33
	btrfsKeyLength    = 17
	btrfsTopTree      = 5 // the subvolume at the top
	btrfsRootDir      = 6 // of the tree of trees
	btrfsFirstInode   = 256
	btrfsInodeItem    = 1
	btrfsInodeRef     = 12
	btrfsDirItem      = 84
	btrfsDirIndex     = 96
	btrfsExtent       = 108
	btrfsRootItem     = 132
	btrfsRootRef      = 156
	btrfsChunkTree    = 3
	btrfsChunkObject  = 256
	btrfsChunkItem    = 228
	btrfsInodeRecord  = "Btrfs inode item"
	btrfsSpread       = 0x8 | 0x40 | 0x80 | 0x100 // RAID0, RAID10, RAID5, RAID6: in stripes
	btrfsKnownFeature = 0x7FF                     // as far as they do not change what is read here
	maxBtrfsLevel     = 8
	maxBtrfsItems     = 1 << 16 // of one search
	maxBtrfsTrees     = 4096
	maxBtrfsSubvolume = 4096 // that are listed
	maxBtrfsChunks    = 1 << 16
	maxBtrfsNodes     = 1 << 14 // read for one volume
)

// Btrfs is an open Btrfs of one device, or of several that each hold all of it. Its files
// are those of the subvolume at the top; other subvolumes are folders in it.
type Btrfs struct {
	inodeFiles
	r        io.ReaderAt
	Total    uint64 // how much of the device it takes, in bytes
	device   uint64
	nodeSize int64
	root     btrfsTree
	chunks   []btrfsChunk
	// trees are the subvolumes that were met: the number of a file holds the place of its
	// subvolume among them.
	trees []btrfsTree
	// nodes are the heads of nodes that were read.
	nodes map[uint64]*btrfsNode
}

type btrfsTree struct {
	id, at uint64
	level  byte
}

// btrfsKey is what items are in order of.
type btrfsKey struct {
	object uint64
	kind   byte
	offset uint64
}

func btrfsKeyAt(b []byte) btrfsKey {
	le := binary.LittleEndian
	return btrfsKey{le.Uint64(b), b[8], le.Uint64(b[9:])}
}

func (k btrfsKey) before(o btrfsKey) bool {
	switch {
	case k.object != o.object:
		return k.object < o.object
	case k.kind != o.kind:
		return k.kind < o.kind
	}
	return k.offset < o.offset
}

// btrfsChunk says where a stretch of logical addresses lies on this device.
type btrfsChunk struct{ logical, length, physical uint64 }

// btrfsNode is a node's head with its keys. Of a leaf, items lie where places says; of an
// inner node children follow the keys.
type btrfsNode struct {
	level    byte
	keys     []btrfsKey
	children []uint64
	places   [][2]uint32 // offset within the node, and length
}

// btrfsFound is an item with the place of its bytes.
type btrfsFound struct {
	key    btrfsKey
	at     uint64 // logical
	length uint32
}

// btrfsTotal is the place of dev_item.total_bytes in the superblock. Btrfs' "On-disk format", "Superblock".
const btrfsTotal = 201 + 8

// OpenBtrfs reads the superblock, and where logical addresses lie.
func OpenBtrfs(r *io.SectionReader) (*Btrfs, error) {
	sb := make([]byte, 4096)
	if _, err := r.ReadAt(sb, btrfsAt); err != nil {
		return nil, fmt.Errorf("Btrfs superblock: %w", err)
	}
	le := binary.LittleEndian
	if string(sb[64:72]) != btrfsMagic {
		return nil, errors.New("no Btrfs superblock")
	}
	x := &Btrfs{
		r:        r,
		Total:    le.Uint64(sb[btrfsTotal:]),
		device:   le.Uint64(sb[201:]),
		nodeSize: int64(le.Uint32(sb[148:])),
		nodes:    map[uint64]*btrfsNode{},
		root:     btrfsTree{1, le.Uint64(sb[80:]), sb[198]},
	}
	system := le.Uint32(sb[160:])
	if err := btrfsSum(sb); err != nil {
		return nil, err
	}
	switch {
	case x.nodeSize < 4096 || x.nodeSize > 64<<10 || x.nodeSize&(x.nodeSize-1) != 0:
		return nil, fmt.Errorf("nodesize is %d, expected a power of two from 4,096 to 65,536", x.nodeSize)
	case le.Uint64(sb[188:])&^btrfsKnownFeature != 0:
		return nil, fmt.Errorf("the Btrfs has features that are not read (%X)", le.Uint64(sb[188:])&^btrfsKnownFeature)
	case system > 2048:
		return nil, fmt.Errorf("sys_chunk_array_size is %d, expected at most 2,048", system)
	}
	for b := sb[811 : 811+system]; len(b) >= btrfsKeyLength+48; {
		n, err := x.chunk(btrfsKeyAt(b), b[btrfsKeyLength:])
		if err != nil {
			return nil, err
		}
		b = b[btrfsKeyLength+n:]
	}
	chunks := btrfsTree{btrfsChunkTree, le.Uint64(sb[88:]), sb[199]}
	found, err := x.search(
		chunks,
		btrfsKey{btrfsChunkObject, btrfsChunkItem, 0},
		btrfsKey{btrfsChunkObject, btrfsChunkItem, 1<<64 - 1},
		maxBtrfsChunks,
	)
	if err != nil {
		return nil, fmt.Errorf("chunk tree: %w", err)
	}
	for _, f := range found {
		raw, err := x.bytes(f, 1<<16)
		if err != nil {
			return nil, err
		}
		if _, err := x.chunk(f.key, raw); err != nil {
			return nil, err
		}
	}
	x.inodeFiles = inodeFiles{x, 0, btrfsInodeRecord, 160, nil}
	top, err := x.subvolume(btrfsTopTree)
	if err != nil {
		return nil, err
	}
	x.inodeFiles.root = top
	return x, nil
}

// chunk takes in where a stretch lies, and returns the length of its item. A copy on this
// device will do; what is spread over several devices in stripes is not read.
func (x *Btrfs) chunk(key btrfsKey, b []byte) (int, error) {
	le := binary.LittleEndian
	if len(b) < 48 {
		return 0, errors.New("a chunk's item is too short")
	}
	stripes, kind := int(le.Uint16(b[44:])), le.Uint64(b[24:])
	length := 48 + 32*stripes
	if key.kind != btrfsChunkItem || stripes == 0 || length > len(b) {
		return 0, fmt.Errorf("a chunk's item has kind %d and %d stripes", key.kind, stripes)
	}
	c := btrfsChunk{logical: key.offset, length: le.Uint64(b)}
	if c.logical+c.length < c.logical {
		return 0, fmt.Errorf("a chunk of %d bytes at %d", c.length, c.logical)
	}
	here := -1
	for i := range stripes {
		if le.Uint64(b[48+32*i:]) == x.device && here < 0 {
			here = i
		}
	}
	if here >= 0 && (kind&btrfsSpread == 0 || stripes == 1) {
		c.physical = le.Uint64(b[48+32*here+8:])
		x.chunks = append(x.chunks, c)
	}
	return length, nil
}

// place is the byte offset on the volume of a logical address.
func (x *Btrfs) place(logical, length uint64) (int64, error) {
	for _, c := range x.chunks {
		if logical >= c.logical && logical-c.logical+length <= c.length {
			return int64(c.physical + logical - c.logical), nil
		}
	}
	return 0, fmt.Errorf("the address %d lies on another device, or nowhere", logical)
}

// node reads a node's head: what its items hold is read where it is wanted. Its checksum is not held:
// it is of the contents of small files as well, which a capture does not take.
func (x *Btrfs) node(logical uint64, level int) (*btrfsNode, error) {
	if n := x.nodes[logical]; n != nil && int(n.level) == level {
		return n, nil
	}
	if len(x.nodes) >= maxBtrfsNodes {
		return nil, fmt.Errorf("more than %d nodes", maxBtrfsNodes)
	}
	at, err := x.place(logical, uint64(x.nodeSize))
	if err != nil {
		return nil, err
	}
	head := make([]byte, btrfsHeader)
	if _, err := x.r.ReadAt(head, at); err != nil {
		return nil, fmt.Errorf("node at %d: %w", logical, err)
	}
	le := binary.LittleEndian
	n, count := &btrfsNode{level: head[100]}, int64(le.Uint32(head[96:]))
	width := int64(btrfsItem)
	if level > 0 {
		width = btrfsPointer
	}
	if le.Uint64(head[48:]) != logical || int(n.level) != level || count > (x.nodeSize-btrfsHeader)/width {
		return nil, fmt.Errorf(
			"the node at %d says it is at %d, of level %d, with %d items",
			logical,
			le.Uint64(head[48:]),
			n.level,
			count,
		)
	}
	table := make([]byte, count*width)
	if _, err := x.r.ReadAt(table, at+btrfsHeader); err != nil {
		return nil, fmt.Errorf("node at %d: %w", logical, err)
	}
	for ; len(table) > 0; table = table[width:] {
		n.keys = append(n.keys, btrfsKeyAt(table))
		if level > 0 {
			n.children = append(n.children, le.Uint64(table[btrfsKeyLength:]))
			continue
		}
		from, length := le.Uint32(table[17:]), le.Uint32(table[21:])
		if int64(from)+int64(length) > x.nodeSize-btrfsHeader {
			return nil, fmt.Errorf("an item of the node at %d has %d bytes at %d", logical, length, from)
		}
		n.places = append(n.places, [2]uint32{btrfsHeader + from, length})
	}
	x.nodes[logical] = n
	return n, nil
}

// search lists the items of a tree from one key up to another, at most so many.
func (x *Btrfs) search(t btrfsTree, from, to btrfsKey, most int) ([]btrfsFound, error) {
	var list []btrfsFound
	var walk func(at uint64, level int) error
	walk = func(at uint64, level int) error {
		n, err := x.node(at, level)
		if err != nil {
			return err
		}
		for i, key := range n.keys {
			last := i+1 == len(n.keys)
			switch {
			case to.before(key):
				return nil
			case level > 0 && (last || from.before(n.keys[i+1])):
				if err := walk(n.children[i], level-1); err != nil {
					return err
				}
			case level == 0 && !key.before(from):
				if len(list) == most {
					return fmt.Errorf("more than %d items", most)
				}
				list = append(list, btrfsFound{key, at + uint64(n.places[i][0]), n.places[i][1]})
			}
		}
		return nil
	}
	if t.level > maxBtrfsLevel {
		return nil, fmt.Errorf("a tree of level %d, expected at most %d", t.level, maxBtrfsLevel)
	}
	err := walk(t.at, int(t.level))
	return list, err
}

// bytes reads the first bytes of an item.
func (x *Btrfs) bytes(f btrfsFound, most uint32) ([]byte, error) {
	length := min(f.length, most)
	at, err := x.place(f.at, uint64(length))
	if err != nil {
		return nil, err
	}
	raw := make([]byte, length)
	if _, err := x.r.ReadAt(raw, at); err != nil {
		return nil, err
	}
	return raw, nil
}

// inode reads an index node. Its number holds the subvolume that it lies in.
func (x *Btrfs) inode(number uint64) (*inode, error) {
	tree, object := number>>48, number&(1<<48-1)
	if tree >= uint64(len(x.trees)) {
		return nil, fmt.Errorf("inode %d of an unknown subvolume", object)
	}
	key := btrfsKey{object, btrfsInodeItem, 0}
	found, err := x.search(x.trees[tree], key, key, 1)
	if err != nil {
		return nil, fmt.Errorf("inode %d: %w", object, err)
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("inode %d is not there", object)
	}
	raw, err := x.bytes(found[0], 160)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if len(raw) < 56 || int64(le.Uint64(raw[16:])) < 0 {
		return nil, fmt.Errorf("inode %d has an item of %d bytes", object, len(raw))
	}
	at, err := x.place(found[0].at, uint64(len(raw)))
	return &inode{mode: le.Uint32(raw[52:]), size: int64(le.Uint64(raw[16:])), offset: at, number: number}, err
}

// list decodes a directory in the order in which its entries were made.
func (x *Btrfs) list(n *inode) ([]File, error) {
	tree, object := n.number>>48, n.number&(1<<48-1)
	found, err := x.search(
		x.trees[tree],
		btrfsKey{object, btrfsDirIndex, 0},
		btrfsKey{object, btrfsDirIndex, 1<<64 - 1},
		maxBtrfsItems,
	)
	if err != nil {
		return nil, err
	}
	var files []File
	for _, f := range found {
		to, name, kind, err := x.entry(f)
		if err != nil {
			return files, err
		}
		file := File{Name: name, Dir: kind == 2, node: tree<<48 | to.object&(1<<48-1)}
		if to.kind == btrfsRootItem {
			if file.node, err = x.subvolume(to.object); errors.Is(err, ErrNotFound) {
				continue // it was deleted
			} else if err != nil {
				return files, err
			}
		}
		files = append(files, file)
	}
	return files, nil
}

// entry decodes a directory's entry: where it leads, its name, and the kind of file.
func (x *Btrfs) entry(f btrfsFound) (to btrfsKey, name string, kind byte, err error) {
	raw, err := x.bytes(f, 30+255)
	if err != nil {
		return to, "", 0, err
	}
	if len(raw) < 30 || 30+int(binary.LittleEndian.Uint16(raw[27:])) > len(raw) {
		return to, "", 0, fmt.Errorf("an entry of a directory has %d bytes", f.length)
	}
	return btrfsKeyAt(raw), string(raw[30 : 30+binary.LittleEndian.Uint16(raw[27:])]), raw[29], nil
}
