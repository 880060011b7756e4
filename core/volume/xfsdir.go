package volume

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// list decodes a directory in any of its forms: within the inode, in one block, or in
// several with an index behind them.
func (x *XFS) list(n *inode) ([]File, error) {
	if n.flags == xfsLocal {
		return x.shortForm(n)
	}
	if n.size > maxXFSDir {
		return nil, fmt.Errorf("a directory of %d bytes, expected at most %d", n.size, maxXFSDir)
	}
	runs, err := x.runsOf(n, min(n.size, xfsLeafBytes))
	if err != nil {
		return nil, err
	}
	r := &runReader{x.r, runs}
	var files []File
	for at := int64(0); at < n.size; at += x.dirBlock {
		if runs.of(at) < 0 {
			continue
		}
		block := make([]byte, x.dirBlock)
		if _, err := r.ReadAt(block, at); err != nil {
			return files, err
		}
		if err := x.entries(block, &files); err != nil {
			return files, err
		}
	}
	return files, nil
}

// shortForm decodes a directory that lies in its inode: a count, whether numbers have 8
// bytes, and the parent come first.
func (x *XFS) shortForm(n *inode) ([]File, error) {
	b := n.block
	if len(b) < 6 {
		return nil, errors.New("a directory in an inode is too short")
	}
	count, width := int(b[0]), 4
	if b[1] > 0 {
		width = 8
	}
	at := 2 + width
	var files []File
	for range count {
		if at+3 > len(b) {
			return files, errors.New("a directory in an inode ends within an entry")
		}
		name := int(b[at])
		kind := at + 3 + name
		number := kind
		if x.ftype {
			number++
		}
		if number+width > len(b) {
			return files, errors.New("a directory in an inode ends within an entry")
		}
		f := File{Name: string(b[at+3 : kind]), Dir: x.ftype && b[kind] == 2}
		if width == 8 {
			f.node = binary.BigEndian.Uint64(b[number:])
		} else {
			f.node = uint64(binary.BigEndian.Uint32(b[number:]))
		}
		files = append(files, f)
		at = number + width
	}
	return files, nil
}

// entries decodes a directory block: XD2B and XDB3 end in an index of their own.
func (x *XFS) entries(b []byte, files *[]File) error {
	be := binary.BigEndian
	at, end := 16, len(b)
	if x.crc {
		at = 64
	}
	switch magic := string(b[:4]); magic {
	case "XD2B", "XDB3":
		index := int64(be.Uint32(b[len(b)-8:])) * 8
		if index > int64(len(b)-8-at) {
			return fmt.Errorf("a directory block has an index of %d bytes", index)
		}
		end -= 8 + int(index)
	case "XD2D", "XDD3":
	default:
		return fmt.Errorf("a directory block has %q as its magic, expected XD2B, XDB3, XD2D or XDD3", magic)
	}
	if x.crc {
		if err := xfsSum("a directory block", b, 4); err != nil {
			return err
		}
	}
	for at+12 <= end {
		if be.Uint16(b[at:]) == 0xFFFF { // unused
			length := int(be.Uint16(b[at+2:]))
			if length < 8 || length%8 != 0 {
				return fmt.Errorf("an unused part of a directory has %d bytes", length)
			}
			at += length
			continue
		}
		name := int(b[at+8])
		kind, length := at+9+name, 9+name+2
		if x.ftype {
			length++
		}
		length = (length + 7) &^ 7
		if name == 0 || at+length > end {
			return fmt.Errorf("an entry of a directory block has a name of %d bytes", name)
		}
		f := File{Name: string(b[at+9 : kind]), Dir: x.ftype && b[kind] == 2, node: be.Uint64(b[at:])}
		*files = append(*files, f)
		at += length
	}
	return nil
}
