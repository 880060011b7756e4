package volume

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/anchore/go-lzo"
	"github.com/klauspost/compress/zstd"
)

// How an extent is compressed. Btrfs documentation, "On-disk format", file extents.
const (
	btrfsPlain = iota
	btrfsZlib
	btrfsLZO
	btrfsZstd
)

// Kinds of extents; one that is only kept free reads as zeros.
const (
	btrfsInline  = 0
	btrfsRegular = 1
	// maxBtrfsPacked bounds a compressed extent, and what it holds: 128 KiB.
	maxBtrfsPacked = 128 << 10
)

// contents reads the first bytes of a file or of a link's target. Bytes of an extent that is
// compressed lie nowhere.
func (x *Btrfs) contents(n *inode, limit int64) (*Stream, error) {
	tree, object, size := n.number>>48, n.number&(1<<48-1), min(n.size, limit)
	found, err := x.search(
		x.trees[tree],
		btrfsKey{object, btrfsExtent, 0},
		btrfsKey{object, btrfsExtent, 1<<64 - 1},
		maxBtrfsItems,
	)
	if err != nil {
		return nil, err
	}
	var runs places
	unpacked := &pieces{}
	for _, f := range found {
		if f.key.offset >= uint64(size) {
			break
		}
		if err := x.extent(f, size, &runs, unpacked); err != nil {
			return nil, fmt.Errorf("extent at byte %d: %w", f.key.offset, err)
		}
	}
	var r io.ReaderAt = &runReader{x.r, runs}
	if len(unpacked.list) > 0 {
		unpacked.under = r
		r = unpacked
	}
	return &Stream{io.NewSectionReader(r, 0, size), runs}, nil
}

// extent adds what an extent holds of a file of size bytes.
func (x *Btrfs) extent(f btrfsFound, size int64, runs *places, unpacked *pieces) error {
	raw, err := x.bytes(f, 53)
	if err != nil {
		return err
	}
	le, at := binary.LittleEndian, int64(f.key.offset)
	if len(raw) < 21 || raw[17] != 0 || le.Uint16(raw[18:]) != 0 {
		return fmt.Errorf("an item of %d bytes, encrypted or coded", f.length)
	}
	packing, holds := raw[16], le.Uint64(raw[8:])
	if raw[20] == btrfsInline {
		f.at, f.length = f.at+21, f.length-21
		return x.stretch(
			stretch{logical: f.at, packed: uint64(f.length), holds: holds, length: int64(holds)},
			packing,
			at,
			size,
			runs,
			unpacked,
		)
	}
	if len(raw) < 53 {
		return fmt.Errorf("an item of %d bytes, expected 53", f.length)
	}
	s := stretch{
		logical: le.Uint64(raw[21:]),
		packed:  le.Uint64(raw[29:]),
		from:    le.Uint64(raw[37:]),
		length:  int64(le.Uint64(raw[45:])),
		holds:   holds,
	}
	if raw[20] != btrfsRegular || s.logical == 0 {
		return nil // reads as zeros
	}
	return x.stretch(s, packing, at, size, runs, unpacked)
}

// stretch is a part of what lies at a logical address.
type stretch struct {
	logical, packed uint64 // on the volume
	holds           uint64 // when it is unpacked
	from            uint64 // of that, the first byte
	length          int64  // and how many
}

func (x *Btrfs) stretch(s stretch, packing byte, at, size int64, runs *places, unpacked *pieces) error {
	if s.length < 0 || at < 0 {
		return errors.New("its length is beyond all bounds")
	}
	s.length = min(s.length, size-at)
	if packing == btrfsPlain {
		from, err := x.place(s.logical+s.from, uint64(s.length))
		if err == nil {
			*runs = append(*runs, run{at, s.length, from})
		}
		return err
	}
	if s.packed > maxBtrfsPacked || s.holds > maxBtrfsPacked || s.from > s.holds {
		return fmt.Errorf("%d bytes that unpack to %d, expected at most %d", s.packed, s.holds, maxBtrfsPacked)
	}
	from, err := x.place(s.logical, s.packed)
	if err != nil {
		return err
	}
	raw := make([]byte, s.packed)
	if _, err := x.r.ReadAt(raw, from); err != nil {
		return err
	}
	out := make([]byte, s.holds)
	if err := unpack(packing, raw, out); err != nil {
		return err
	}
	out = out[s.from:]
	unpacked.list = append(unpacked.list, piece{at, out[:min(int64(len(out)), s.length)]})
	return nil
}

// unpack fills out with what compressed bytes hold; what is behind it in the last block is
// zeros.
func unpack(packing byte, raw, out []byte) error {
	switch packing {
	case btrfsZlib:
		r, err := zlib.NewReader(bytes.NewReader(raw))
		if err != nil {
			return err
		}
		return whole(r, out, io.ErrUnexpectedEOF)
	case btrfsZstd:
		r, err := zstd.NewReader(
			bytes.NewReader(raw),
			zstd.WithDecoderConcurrency(1),
			zstd.WithDecoderMaxMemory(8<<20),
			zstd.WithDecoderMaxWindow(8<<20),
		)
		if err != nil {
			return err
		}
		defer r.Close()
		// One frame, and zeros behind it to the end of the block, where the file was shorter
		// when it was packed than it became. The kernel's fs/btrfs/zstd.c.
		return whole(r, out, zstd.ErrMagicMismatch)
	case btrfsLZO:
		return unpackLZO(raw, out)
	}
	return fmt.Errorf("compressed in a way that is not known (%d)", packing)
}

// whole reads up to the end of what was packed, which is met as an error of its own.
func whole(r io.Reader, out []byte, ends error) error {
	n, err := io.ReadFull(r, out)
	if err == nil || errors.Is(err, io.ErrUnexpectedEOF) || n > 0 && errors.Is(err, ends) {
		return nil
	}
	return err
}

// unpackLZO reads the total length and then segments, each with its length before it, of
// 4,096 bytes when unpacked; a segment's length does not lie across the end of a sector.
func unpackLZO(raw, out []byte) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("lzo: %v", r)
		}
	}()
	le := binary.LittleEndian
	if len(raw) < 8 {
		return errors.New("lzo: too short")
	}
	total := min(int(le.Uint32(raw)), len(raw))
	for at := 4; at+4 <= total && len(out) > 0; {
		if left := 4096 - at%4096; left < 4 {
			at += left
			continue
		}
		length := int(le.Uint32(raw[at:]))
		at += 4
		if length <= 0 || at+length > total {
			return fmt.Errorf("lzo: a segment of %d bytes", length)
		}
		segment := make([]byte, 4096)
		n, err := lzo.Decompress(raw[at:at+length], segment)
		if err != nil {
			return fmt.Errorf("lzo: %w", err)
		}
		copy(out, segment[:n])
		out, at = out[min(n, len(out)):], at+length
	}
	return nil
}

// piece is a part of a file that was unpacked.
type piece struct {
	at    int64
	bytes []byte
}

// pieces read what was unpacked over what lies on the volume as it is.
type pieces struct {
	under io.ReaderAt
	list  []piece
}

// ReadAt implements io.ReaderAt.
func (p *pieces) ReadAt(b []byte, off int64) (int, error) {
	n, err := p.under.ReadAt(b, off)
	for _, x := range p.list {
		from, to := max(off, x.at), min(off+int64(n), x.at+int64(len(x.bytes)))
		if from < to {
			copy(b[from-off:to-off], x.bytes[from-x.at:])
		}
	}
	return n, err
}
