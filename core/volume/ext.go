package volume

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// Features and limits of ext2, ext3 and ext4. Linux kernel documentation,
// filesystems/ext4: "Super Block", "Block Group Descriptors", "Index Nodes",
// "Directory Entries".
const (
	extMagic         = 0xEF53
	extRoot          = 2 // inode of the root directory
	incompatRecover  = 0x4
	incompatMetaBG   = 0x10
	sparseSuper      = 0x1   // of s_feature_ro_compat
	sparseSuper2     = 0x200 // of s_feature_compat
	incompat64Bit    = 0x80
	inodeExtents     = 0x80000
	inodeInline      = 0x10000000
	extentMagic      = 0xF30A
	maxExtentDepth   = 5
	maxExtDir        = 4 << 20 // bytes
	maxExtRuns       = 1 << 16
	extSuperblockOff = 1024
)

// Ext is an open ext2, ext3 or ext4 volume. The general-purpose library reads
// no ext2 or ext3, refuses a volume for one damaged group, and follows a loop of
// links until its stack ends.
type Ext struct {
	inodeFiles
	r             io.ReaderAt
	size          int64
	blockSize     int64
	inodeSize     int64
	perGroup      uint32 // inodes
	inodes        uint32
	descSize      int64
	firstBlock    int64
	UUID          string
	Label         string
	Blocks, Free  uint64 // in blocks
	Clean         bool   // unmounted cleanly and without errors
	HasErrors     bool
	NeedsRecovery bool // the journal is to be replayed
	Incompat      uint32
	groups        extGroups
	sums          extSums
}

// OpenExt reads the superblock, 1,024 bytes into the volume.
func OpenExt(r *io.SectionReader) (*Ext, error) {
	sb := make([]byte, 1024)
	if _, err := r.ReadAt(sb, extSuperblockOff); err != nil {
		return nil, fmt.Errorf("ext superblock: %w", err)
	}
	le := binary.LittleEndian
	if le.Uint16(sb[0x38:]) != extMagic {
		return nil, fmt.Errorf("ext superblock has %04X as its magic number, expected EF53", le.Uint16(sb[0x38:]))
	}
	shift, incompat, state := le.Uint32(sb[0x18:]), le.Uint32(sb[0x60:]), le.Uint16(sb[0x3A:])
	x := &Ext{
		r: r, size: r.Size(), inodes: le.Uint32(sb), perGroup: le.Uint32(sb[0x28:]), inodeSize: 128, descSize: 32,
		firstBlock: int64(le.Uint32(sb[0x14:])), UUID: plainUUID(sb[0x68:]), Label: cString(sb[0x78:0x88]),
		Blocks: uint64(le.Uint32(sb[4:])), Free: uint64(le.Uint32(sb[0xC:])),
		Clean: state&1 != 0 && state&2 == 0 && incompat&incompatRecover == 0, HasErrors: state&2 != 0,
		NeedsRecovery: incompat&incompatRecover != 0, Incompat: incompat,
	}
	x.inodeFiles = inodeFiles{x, extRoot, inodeRecord, 128, nil}
	if le.Uint32(sb[0x4C:]) > 0 { // dynamic revision
		x.inodeSize = int64(le.Uint16(sb[0x58:]))
	}
	if incompat&incompat64Bit != 0 {
		x.Blocks |= uint64(le.Uint32(sb[0x150:])) << 32
		x.Free |= uint64(le.Uint32(sb[0x158:])) << 32
		x.descSize = int64(le.Uint16(sb[0xFE:]))
	}
	if shift > 6 {
		return nil, fmt.Errorf("s_log_block_size is %d, expected at most 6", shift)
	}
	x.blockSize = 1024 << shift
	switch {
	case x.inodeSize < 128 || x.inodeSize > x.blockSize || x.inodeSize&(x.inodeSize-1) != 0:
		return x, fmt.Errorf("s_inode_size is %d, expected a power of two from 128 to %d", x.inodeSize, x.blockSize)
	case x.perGroup == 0:
		return x, errors.New("s_inodes_per_group is 0")
	case x.descSize < 32 || x.descSize > 1024:
		return x, fmt.Errorf("s_desc_size is %d, expected 32 to 1,024", x.descSize)
	}
	x.groups = extGroups{size: int64(le.Uint32(sb[0x20:])), meta: -1, sparse: le.Uint32(sb[0x64:])&sparseSuper != 0}
	if incompat&incompatMetaBG != 0 {
		x.groups.meta = int64(le.Uint32(sb[0x104:]))
	}
	if le.Uint32(sb[0x5C:])&sparseSuper2 != 0 {
		x.groups.copies = []int64{int64(le.Uint32(sb[0x24C:])), int64(le.Uint32(sb[0x250:]))}
	}
	var err error
	x.sums, err = extSumsOf(sb)
	return x, err
}

// extGroups says where the descriptors of block groups lie. The kernel's
// filesystems/ext4/blockgroup, "Meta Block Groups", and super, s_first_meta_bg, s_backup_bgs.
type extGroups struct {
	size   int64   // blocks
	meta   int64   // the first block of descriptors that lies in its own groups; -1 for none
	sparse bool    // copies of the superblock in the first two groups, and those of powers of 3, 5, 7
	copies []int64 // the two groups that have one, where it is said; nil elsewhere
}

// hasCopy reports whether a group begins with a copy of the superblock.
func (g extGroups) hasCopy(group int64) bool {
	switch {
	case group == 0 || g.copies == nil && !g.sparse || group == 1 && g.copies == nil:
		return true
	case g.copies != nil:
		return slices.Contains(g.copies, group)
	}
	for _, base := range []int64{3, 5, 7} {
		power := base
		for power < group {
			power *= base
		}
		if power == group {
			return true
		}
	}
	return false
}

// descriptor is where a group's descriptor lies, in bytes.
func (x *Ext) descriptor(group int64) int64 {
	perBlock := x.blockSize / x.descSize
	if x.groups.meta < 0 || group/perBlock < x.groups.meta {
		return (x.firstBlock+1)*x.blockSize + group*x.descSize
	}
	first := group / perBlock * perBlock
	block := x.firstBlock + first*x.groups.size
	if x.groups.hasCopy(first) {
		block++
	}
	return block*x.blockSize + group%perBlock*x.descSize
}

func (x *Ext) inode(number uint64) (*inode, error) {
	if number == 0 || number > uint64(x.inodes) {
		return nil, fmt.Errorf("inode %d, expected 1 to %d", number, x.inodes)
	}
	le := binary.LittleEndian
	group, index := int64(number-1)/int64(x.perGroup), int64(number-1)%int64(x.perGroup)
	desc := make([]byte, x.descSize)
	if _, err := x.r.ReadAt(desc, x.descriptor(group)); err != nil {
		return nil, fmt.Errorf("descriptor of block group %d: %w", group, err)
	}
	table := uint64(le.Uint32(desc[8:]))
	if x.descSize >= 64 {
		table |= uint64(le.Uint32(desc[0x28:])) << 32
	}
	if table >= x.Blocks {
		return nil, fmt.Errorf("block group %d has its inode table at block %d of %d", group, table, x.Blocks)
	}
	n := &inode{offset: int64(table)*x.blockSize + index*x.inodeSize, number: number}
	raw := make([]byte, x.inodeSize)
	if _, err := x.r.ReadAt(raw, n.offset); err != nil {
		return nil, fmt.Errorf("inode %d: %w", number, err)
	}
	var err error
	if n.seed, err = x.sums.inode(raw, number); err != nil {
		return nil, err
	}
	n.mode, n.flags, n.block = uint32(le.Uint16(raw)), le.Uint32(raw[0x20:]), raw[0x28:0x64]
	n.size = int64(le.Uint32(raw[4:])) | int64(le.Uint32(raw[0x6C:])&0x7FFFFFFF)<<32
	return n, nil
}

// runsOf lists where the first limit bytes of an inode lie.
func (x *Ext) runsOf(n *inode, limit int64) ([]run, error) {
	m := &extMapper{x: x, limit: limit, seed: n.seed}
	if n.flags&inodeExtents != 0 {
		return m.runs, errors.Join(m.extents(n.block, maxExtentDepth), m.tooMany())
	}
	le := binary.LittleEndian
	for i := range 15 {
		block := uint64(le.Uint32(n.block[4*i:]))
		if err := m.indirect(block, max(0, i-11)); err != nil {
			return m.runs, err
		}
	}
	return m.runs, m.tooMany()
}

// extMapper gathers the runs of a file.
type extMapper struct {
	x     *Ext
	limit int64  // bytes of the file that are wanted
	at    int64  // next byte of the file (block maps)
	nodes int    // of the extent tree, read so far
	seed  uint32 // what the checksums of its nodes begin with
	runs  []run
}

func (m *extMapper) tooMany() error {
	if len(m.runs) >= maxExtRuns {
		return fmt.Errorf("more than %d extents", maxExtRuns)
	}
	return nil
}

func (m *extMapper) add(at, length, from int64) {
	if len(m.runs) < maxExtRuns && at < m.limit && length > 0 {
		m.runs = append(m.runs, run{at, min(length, m.limit-at), from})
	}
}

// extents walks an extent tree from a node, its depth falling at every level.
func (m *extMapper) extents(node []byte, depth int) error {
	le := binary.LittleEndian
	entries, level := int(le.Uint16(node[2:])), int(le.Uint16(node[6:]))
	if le.Uint16(node) != extentMagic || level > depth || 12+12*entries > len(node) {
		return fmt.Errorf("an extent node has magic %04X, %d entries and depth %d", le.Uint16(node), entries, level)
	}
	for i := range entries {
		e := node[12+12*i:]
		at := int64(le.Uint32(e)) * m.x.blockSize
		if at >= m.limit || len(m.runs) >= maxExtRuns {
			return nil
		}
		if level == 0 {
			length := int64(le.Uint16(e[4:]))
			if length > 32768 { // not yet written: reads as zeros
				continue
			}
			from := int64(le.Uint16(e[6:]))<<32 | int64(le.Uint32(e[8:]))
			m.add(at, length*m.x.blockSize, from*m.x.blockSize)
			continue
		}
		if m.nodes++; m.nodes > maxExtRuns {
			return fmt.Errorf("more than %d extent nodes", maxExtRuns)
		}
		child := make([]byte, m.x.blockSize)
		if _, err := m.x.r.ReadAt(child,
			(int64(le.Uint16(e[8:]))<<32|int64(le.Uint32(e[4:])))*m.x.blockSize); err != nil {
			return fmt.Errorf("extent node: %w", err)
		}
		if err := m.x.sums.node(child, m.seed); err != nil {
			return err
		}
		if err := m.extents(child, level-1); err != nil {
			return err
		}
	}
	return nil
}

// indirect walks a block map: level 0 is a block of data.
func (m *extMapper) indirect(block uint64, level int) error {
	span := m.x.blockSize
	for range level {
		span *= m.x.blockSize / 4
	}
	switch {
	case m.at >= m.limit || len(m.runs) >= maxExtRuns:
		return nil
	case block == 0: // a hole
		m.at += span
		return nil
	case level == 0:
		m.add(m.at, span, int64(block)*m.x.blockSize)
		m.at += span
		return nil
	}
	raw := make([]byte, m.x.blockSize)
	if _, err := m.x.r.ReadAt(raw, int64(block)*m.x.blockSize); err != nil {
		return fmt.Errorf("block map: %w", err)
	}
	for i := 0; i+4 <= len(raw); i += 4 {
		if err := m.indirect(uint64(binary.LittleEndian.Uint32(raw[i:])), level-1); err != nil {
			return err
		}
	}
	return nil
}

// contents reads the first bytes of an inode.
func (x *Ext) contents(n *inode, limit int64) (*Stream, error) {
	size := min(n.size, limit)
	if n.flags&inodeInline != 0 || n.is(modeLink) && n.flags&inodeExtents == 0 && n.size < 60 {
		if n.size > 60 {
			return nil, errors.New("its contents run on in an extended attribute, which is not read")
		}
		return &Stream{io.NewSectionReader(strings.NewReader(string(n.block)), 0, size),
			places{{length: size, from: n.offset + 0x28}}}, nil
	}
	runs, err := x.runsOf(n, size)
	if err != nil {
		return nil, err
	}
	r := &runReader{x.r, runs}
	return &Stream{io.NewSectionReader(r, 0, size), r.runs}, nil
}

// list decodes a directory. Index blocks of hashed directories read as entries
// without an inode and are passed over.
func (x *Ext) list(n *inode) ([]File, error) {
	if n.size > maxExtDir {
		return nil, fmt.Errorf("a directory of %d bytes, expected at most %d", n.size, maxExtDir)
	}
	r, err := x.contents(n, maxExtDir)
	if err != nil {
		return nil, err
	}
	raw := make([]byte, r.Size())
	if _, err := io.ReadFull(r, raw); err != nil {
		return nil, err
	}
	if n.flags&inodeInline == 0 {
		if err := x.sums.directory(raw, x.blockSize, n); err != nil {
			return nil, err
		}
	}
	le := binary.LittleEndian
	start := 0
	if n.flags&inodeInline != 0 {
		start = 4 // the parent's number
	}
	var files []File
	for at := start; at+8 <= len(raw); {
		length, name := int(le.Uint16(raw[at+4:])), int(raw[at+6])
		if length < 8 || length%4 != 0 || at+length > len(raw) || 8+name > length {
			return files, fmt.Errorf("a directory entry at byte %d has length %d and a name of %d bytes", at, length, name)
		}
		if number := le.Uint32(raw[at:]); number != 0 && name > 0 {
			files = append(files, File{Name: string(raw[at+8 : at+8+name]), Dir: raw[at+7] == 2, node: uint64(number)})
		}
		at += length
	}
	return files, nil
}

func plainUUID(b []byte) string {
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[0:4], b[4:6], b[6:8], b[8:10], b[10:16])
}
