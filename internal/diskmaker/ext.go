package diskmaker

import "encoding/binary"

// The ext4 volumes made here hold the superblock, the descriptor and inode table
// of the first block group, and the files, each in one extent: debugfs reads them,
// a check would find the other groups empty. Linux kernel documentation,
// filesystems/ext4.
const (
	extBlock      = 4096
	extInodeLen   = 256
	extInodeTable = 40 // block
	extInodes     = 1024
	extFirstData  = extInodeTable + extInodes*extInodeLen/extBlock
	extFirstInode = 11
)

type extWriter struct {
	m    *Image
	base int64
	next uint64 // next free block
	err  error
}

func (m *Image) writeExt(p placed) error {
	le := binary.LittleEndian
	v := p.Volume
	blocks := p.count * uint64(m.SectorSize) / extBlock
	w := &extWriter{m: m, base: int64(p.first) * int64(m.SectorSize), next: extFirstData}
	root := treeOf(v.Files)
	root.record = 2
	count := extFirstInode
	number(root, &count)
	w.dir(root, root)
	used := min(max(v.UsedMiB*mib/extBlock, w.next), blocks)
	sb := make([]byte, 1024)
	groups := (blocks + 32767) / 32768
	le.PutUint32(sb[0x00:], uint32(groups*extInodes))
	le.PutUint32(sb[0x04:], uint32(blocks))
	le.PutUint32(sb[0x0C:], uint32(blocks-used))
	le.PutUint32(sb[0x10:], uint32(groups*extInodes)-uint32(count))
	le.PutUint32(sb[0x18:], 2) // 4 KiB blocks
	le.PutUint32(sb[0x1C:], 2)
	le.PutUint32(sb[0x20:], 32768)
	le.PutUint32(sb[0x24:], 32768)
	le.PutUint32(sb[0x28:], extInodes)
	le.PutUint16(sb[0x38:], 0xEF53) // s_magic
	le.PutUint16(sb[0x3A:], 1)      // cleanly unmounted
	le.PutUint32(sb[0x4C:], 1)      // dynamic revision
	le.PutUint32(sb[0x54:], extFirstInode)
	le.PutUint16(sb[0x58:], extInodeLen)
	le.PutUint32(sb[0x60:], 0x42) // file types in directories, extents
	copy(sb[0x68:], v.UUID[:])
	copy(sb[0x78:0x88], v.Label)
	w.write(sb, 1024)
	desc := make([]byte, 32)
	le.PutUint32(desc[8:], extInodeTable)
	w.write(desc, extBlock)
	return w.err
}

func (w *extWriter) write(b []byte, at int64) {
	if _, err := w.m.WriteAt(b, w.base+at); err != nil && w.err == nil {
		w.err = err
	}
}

// inode writes an inode with its data in one extent.
func (w *extWriter) inode(number int, mode uint16, data []byte) {
	le := binary.LittleEndian
	blocks := (len(data) + extBlock - 1) / extBlock
	n := make([]byte, extInodeLen)
	le.PutUint16(n, mode)
	le.PutUint32(n[4:], uint32(len(data)))
	le.PutUint16(n[0x1A:], 1)
	le.PutUint32(n[0x1C:], uint32(blocks*extBlock/512))
	le.PutUint32(n[0x20:], 0x80000) // extents
	le.PutUint16(n[0x28:], 0xF30A)
	le.PutUint16(n[0x2C:], 4)
	if blocks > 0 {
		le.PutUint16(n[0x2A:], 1)
		le.PutUint16(n[0x38:], uint16(blocks))
		le.PutUint32(n[0x3C:], uint32(w.next))
		w.write(data, int64(w.next)*extBlock)
	}
	w.next += uint64(blocks)
	w.write(n, extInodeTable*extBlock+int64(number-1)*extInodeLen)
}

func (w *extWriter) dir(n, parent *node) {
	le := binary.LittleEndian
	var raw []byte
	add := func(number int, name string, kind byte) {
		e := make([]byte, (8+len(name)+3)/4*4)
		le.PutUint32(e, uint32(number))
		le.PutUint16(e[4:], uint16(len(e)))
		e[6], e[7] = byte(len(name)), kind
		copy(e[8:], name)
		raw = append(raw, e...)
	}
	add(n.record, ".", 2)
	add(parent.record, "..", 2)
	last := 12
	for _, name := range sortedKeys(n.children) {
		c := n.children[name]
		last = len(raw)
		if c.children != nil {
			add(c.record, name, 2)
		} else {
			add(c.record, name, 1)
		}
	}
	le.PutUint16(raw[last+4:], uint16(extBlock-last)) // the last entry fills the block
	w.inode(n.record, 0x41ED, append(raw, make([]byte, extBlock-len(raw))...))
	for _, name := range sortedKeys(n.children) {
		if c := n.children[name]; c.children != nil {
			w.dir(c, n)
		} else {
			w.inode(c.record, 0x81A4, c.data)
		}
	}
}
