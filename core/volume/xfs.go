package volume

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Features and limits of XFS. XFS Algorithms and Data Structures, 3rd edition:
// "Superblocks", "On-disk Inode", "Data Extents", "Directories"; the kernel's
// fs/xfs/libxfs/xfs_format.h and xfs_da_format.h.
const (
	xfsMagic         = "XFSB"
	xfsInode         = 0x494E // IN
	xfsFtypeV4       = 0x200  // sb_features2: directory entries tell the kind of file
	xfsFtype         = 0x1    // sb_features_incompat
	xfsKnownIncompat = 0xEF   // as far as they do not change what is read here; 10 is one that wants repair
	// Large counts of extents, exchanged ranges, parent pointers: GNU GRUB 2.06,
	// grub-core/fs/xfs.c, knows none of them.
	xfsNewer       = 0xE0
	xfsRealtime    = 0x1    // di_flags: the contents lie on another device
	xfsBigExtents  = 1 << 4 // di_flags2: counts of extents of 64 bits
	xfsLocal       = 1      // di_format
	xfsExtents     = 2
	xfsTree        = 3
	xfsLeafBytes   = 32 << 30 // where a directory's index begins
	xfsInodeRecord = "XFS inode"
	maxXFSDir      = 4 << 20 // bytes
	maxXFSNodes    = 4096
)

// XFS is an open XFS volume.
type XFS struct {
	inodeFiles
	r            io.ReaderAt
	blockSize    int64
	agBlocks     uint64
	agCount      uint64
	agBlkLog     uint
	inodeSize    int64
	perBlockLog  uint // inodes, as a power of two
	dirBlock     int64
	ftype        bool // directory entries tell the kind
	crc          bool // version 5: structures carry checksums
	Blocks, Free uint64
	// Newer: it has features that its readers know only since 2023, GRUB's since 2.12.
	Newer bool
}

// OpenXFS reads the superblock in the volume's first sector. All numbers are big-endian.
func OpenXFS(r *io.SectionReader) (*XFS, error) {
	sb := make([]byte, 512)
	if _, err := r.ReadAt(sb, 0); err != nil {
		return nil, fmt.Errorf("XFS superblock: %w", err)
	}
	be := binary.BigEndian
	if string(sb[:4]) != xfsMagic {
		return nil, errors.New("no XFS superblock")
	}
	x := &XFS{
		r:           r,
		blockSize:   int64(be.Uint32(sb[4:])),
		agBlocks:    uint64(be.Uint32(sb[84:])),
		agCount:     uint64(be.Uint32(sb[88:])),
		agBlkLog:    uint(sb[124]),
		inodeSize:   int64(be.Uint16(sb[104:])),
		perBlockLog: uint(sb[123]),
		Blocks:      be.Uint64(sb[8:]),
		Free:        be.Uint64(sb[144:]),
	}
	version := be.Uint16(sb[100:]) & 0xF
	x.crc, x.ftype = version == 5, be.Uint32(sb[200:])&xfsFtypeV4 != 0
	if x.crc {
		if err := xfsSuperblockSum(r, int(be.Uint16(sb[102:]))); err != nil {
			return nil, err
		}
		incompat := be.Uint32(sb[216:])
		if unknown := incompat &^ xfsKnownIncompat; unknown != 0 {
			return nil, fmt.Errorf("the XFS has features that are not read (%X)", unknown)
		}
		x.ftype, x.Newer = incompat&xfsFtype != 0, incompat&xfsNewer != 0
	}
	x.dirBlock = x.blockSize << min(sb[192], 16)
	switch {
	case version < 4 || version > 5:
		return nil, fmt.Errorf("XFS version %d, expected 4 or 5", version)
	case x.blockSize < 512 || x.blockSize > 64<<10 || x.blockSize&(x.blockSize-1) != 0:
		return nil, fmt.Errorf("sb_blocksize is %d, expected a power of two from 512 to 65,536", x.blockSize)
	case x.inodeSize < 256 || x.inodeSize > 2048 || x.inodeSize&(x.inodeSize-1) != 0:
		return nil, fmt.Errorf("sb_inodesize is %d, expected a power of two from 256 to 2,048", x.inodeSize)
	case x.blockSize>>x.perBlockLog != x.inodeSize:
		return nil, fmt.Errorf(
			"sb_inopblog is %d: a block of %d bytes holds other than that many inodes",
			x.perBlockLog,
			x.blockSize,
		)
	case x.agBlocks == 0 || x.agBlkLog > 32 || x.agBlocks > 1<<x.agBlkLog:
		return nil, fmt.Errorf("sb_agblocks is %d at sb_agblklog %d", x.agBlocks, x.agBlkLog)
	case x.dirBlock > 64<<10:
		return nil, fmt.Errorf("sb_dirblklog is %d: expected directory blocks of at most 65,536 bytes", sb[192])
	}
	x.inodeFiles = inodeFiles{x, be.Uint64(sb[56:]), xfsInodeRecord, x.inodeSize, nil}
	return x, nil
}

// xfsSuperblockSum holds the superblock, which is a sector of the file system's, against its checksum.
func xfsSuperblockSum(r *io.SectionReader, sector int) error {
	if sector < 512 || sector > 32<<10 || sector&(sector-1) != 0 {
		return fmt.Errorf("sb_sectsize is %d, expected a power of two from 512 to 32,768", sector)
	}
	sb := make([]byte, sector)
	if _, err := r.ReadAt(sb, 0); err != nil {
		return fmt.Errorf("XFS superblock: %w", err)
	}
	return xfsSum("the superblock", sb, 224)
}

// place is the byte offset of a file system block.
func (x *XFS) place(block uint64) (int64, error) {
	group, in := block>>x.agBlkLog, block&(1<<x.agBlkLog-1)
	if group >= x.agCount || in >= x.agBlocks {
		return 0, fmt.Errorf("block %d lies in allocation group %d of %d", block, group, x.agCount)
	}
	return int64(group*x.agBlocks+in) * x.blockSize, nil
}

// inode reads an index node; what belongs to it is the fork of its data.
func (x *XFS) inode(number uint64) (*inode, error) {
	at, err := x.place(number >> x.perBlockLog)
	if err != nil {
		return nil, fmt.Errorf("inode %d: %w", number, err)
	}
	at += int64(number&(1<<x.perBlockLog-1)) * x.inodeSize
	raw := make([]byte, x.inodeSize)
	if _, err := x.r.ReadAt(raw, at); err != nil {
		return nil, fmt.Errorf("inode %d: %w", number, err)
	}
	be := binary.BigEndian
	if be.Uint16(raw) != xfsInode {
		return nil, fmt.Errorf("inode %d has %04X as its magic number, expected 494E", number, be.Uint16(raw))
	}
	core, end := 100, len(raw)
	if raw[4] >= 3 {
		core = 176
		if err := xfsSum(fmt.Sprintf("inode %d", number), raw, 100); err != nil {
			return nil, err
		}
	}
	if fork := int(raw[82]) * 8; fork != 0 {
		if end = core + fork; end > len(raw) {
			return nil, fmt.Errorf(
				"inode %d has its attributes %d bytes in, expected less than %d",
				number,
				fork,
				len(raw)-core,
			)
		}
	}
	n := &inode{
		mode:      uint32(be.Uint16(raw[2:])),
		flags:     uint32(raw[5]),
		elsewhere: be.Uint16(raw[90:])&xfsRealtime != 0,
		size:      int64(be.Uint64(raw[56:])),
		block:     raw[core:end],
		offset:    at,
		number:    number,
	}
	if n.size < 0 {
		return nil, fmt.Errorf("inode %d has a size of %d bytes", number, n.size)
	}
	if n.flags == xfsExtents {
		count := uint64(be.Uint32(raw[76:]))
		if raw[4] >= 3 && be.Uint64(raw[120:])&xfsBigExtents != 0 {
			count = be.Uint64(raw[24:])
		}
		if count > uint64(len(n.block)/16) {
			return nil, fmt.Errorf("inode %d has %d extents, expected at most %d", number, count, len(n.block)/16)
		}
		n.block = n.block[:count*16]
	}
	return n, nil
}

// runsOf lists where the bytes of a file from one place up to another lie.
func (x *XFS) runsOf(n *inode, limit int64) (places, error) {
	m := &xfsMapper{x: x, limit: limit}
	switch n.flags {
	case xfsExtents:
		return m.runs, errors.Join(m.extents(n.block), m.tooMany())
	case xfsTree:
		be := binary.BigEndian
		if len(n.block) < 4 {
			return nil, errors.New("the root of an extent tree is too short")
		}
		most := (len(n.block) - 4) / 16
		return m.runs, errors.Join(
			m.children(n.block[4:], most, int(be.Uint16(n.block[2:])), int(be.Uint16(n.block))),
			m.tooMany(),
		)
	}
	return nil, fmt.Errorf("an inode has format %d, expected extents or a tree", n.flags)
}

// xfsMapper gathers the runs of a file.
type xfsMapper struct {
	x     *XFS
	limit int64
	nodes int
	runs  places
}

func (m *xfsMapper) tooMany() error {
	if len(m.runs) >= maxExtRuns {
		return fmt.Errorf("more than %d extents", maxExtRuns)
	}
	return nil
}

// extents reads packed records: a bit for an extent that is not written yet, 54 of the place
// in the file, 52 of the place on the volume, 21 of the length, in blocks.
func (m *xfsMapper) extents(b []byte) error {
	be := binary.BigEndian
	for ; len(b) >= 16; b = b[16:] {
		hi, lo := be.Uint64(b), be.Uint64(b[8:])
		at := int64(hi&(1<<63-1)>>9) * m.x.blockSize
		if hi>>63 == 1 || at < 0 || at >= m.limit || len(m.runs) >= maxExtRuns {
			continue
		}
		from, err := m.x.place(hi&0x1FF<<43 | lo>>21)
		if err != nil {
			return err
		}
		length := int64(lo&(1<<21-1)) * m.x.blockSize
		m.runs = append(m.runs, run{at, min(length, m.limit-at), from})
	}
	return nil
}

// children walks the nodes that a node of an extent tree leads to: its keys come first, in a
// room for as many as there may be at most.
func (m *xfsMapper) children(b []byte, most, count, level int) error {
	if count > most || most*16 > len(b) || level < 1 || level > 9 {
		return fmt.Errorf(
			"a node of an extent tree has %d records at level %d, expected at most %d",
			count,
			level,
			most,
		)
	}
	be := binary.BigEndian
	for i := range count {
		if int64(be.Uint64(b[8*i:]))*m.x.blockSize >= m.limit || len(m.runs) >= maxExtRuns {
			return nil
		}
		if err := m.node(be.Uint64(b[8*(most+i):]), level-1); err != nil {
			return err
		}
	}
	return nil
}

func (m *xfsMapper) node(block uint64, level int) error {
	if m.nodes++; m.nodes > maxXFSNodes {
		return fmt.Errorf("more than %d nodes of an extent tree", maxXFSNodes)
	}
	at, err := m.x.place(block)
	if err != nil {
		return err
	}
	raw := make([]byte, m.x.blockSize)
	if _, err := m.x.r.ReadAt(raw, at); err != nil {
		return fmt.Errorf("extent tree: %w", err)
	}
	be, header, magic := binary.BigEndian, 24, "BMAP"
	if m.x.crc {
		header, magic = 72, "BMA3"
	}
	count := int(be.Uint16(raw[6:]))
	if string(raw[:4]) != magic || int(be.Uint16(raw[4:])) != level {
		return fmt.Errorf(
			"a node of an extent tree has %q at level %d, expected %s at %d",
			raw[:4],
			be.Uint16(raw[4:]),
			magic,
			level,
		)
	}
	if m.x.crc {
		if err := xfsSum("a node of an extent tree", raw, 64); err != nil {
			return err
		}
	}
	raw = raw[header:]
	if level > 0 {
		return m.children(raw, len(raw)/16, count, level)
	}
	if count > len(raw)/16 {
		return fmt.Errorf("a leaf of an extent tree has %d records, expected at most %d", count, len(raw)/16)
	}
	return m.extents(raw[:count*16])
}

// contents reads the first bytes of a file or of a link's target.
func (x *XFS) contents(n *inode, limit int64) (*Stream, error) {
	size := min(n.size, limit)
	if n.elsewhere {
		return nil, fmt.Errorf("inode %d has its contents on the realtime device", n.number)
	}
	if n.flags == xfsLocal {
		if n.size > int64(len(n.block)) {
			return nil, fmt.Errorf(
				"inode %d holds %d bytes itself, expected at most %d",
				n.number,
				n.size,
				len(n.block),
			)
		}
		return &Stream{io.NewSectionReader(strings.NewReader(string(n.block)), 0, size),
			places{{length: size, from: n.offset + x.inodeSize - int64(len(n.block))}}}, nil
	}
	if n.is(modeLink) && x.crc {
		return nil, errors.New("a link's target lies in blocks of its own, which is not read")
	}
	runs, err := x.runsOf(n, size)
	if err != nil {
		return nil, err
	}
	return &Stream{io.NewSectionReader(&runReader{x.r, runs}, 0, size), runs}, nil
}
