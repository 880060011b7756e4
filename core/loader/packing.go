package loader

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"errors"
	"io"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz/lzma"
)

// packing is a way in which a kernel takes an initial RAM disk packed.
type packing struct {
	magic   string                                 // what it begins with
	open    func(*bufio.Reader) (io.Reader, error) // nil where it is not undone here
	weight  int64                                  // how many times slower it is unpacked than the quick ones
	checked bool                                   // what goes wrong with it is its own fault, and not this package's
	goesOn  bool                                   // its reader ends where it ends, and another archive may follow
}

// packings are all of them. The kernel's lib/decompress.c, "compressed_formats".
var packings = []packing{
	{magic: "\x1f\x8b", open: gunzip, weight: 1, checked: true, goesOn: true}, {magic: "\x1f\x9e"},
	{magic: "BZh", open: func(r *bufio.Reader) (io.Reader, error) { return bzip2.NewReader(r), nil }, weight: 4},
	{magic: "\x5d\x00", open: unlzma, weight: 4}, {magic: "\xfd7zXZ", open: unxz, weight: 4}, {magic: "\x89LZO"},
	{magic: "\x02\x21\x4c\x18", open: func(r *bufio.Reader) (io.Reader, error) { return lz4.NewReader(r), nil }, weight: 1},
	{magic: "\x28\xb5\x2f\xfd", open: unzstd, weight: 1, checked: true},
}

// errPacking is of a way of packing that is not undone here.
var errPacking = errors.New("packed in a way that is not undone")

// maxWindow bounds the memory of a decompressor, in bytes.
const maxWindow = 128 << 20

func packingOf(head []byte) (p packing, known bool) {
	for _, p := range packings {
		if bytes.HasPrefix(head, []byte(p.magic)) {
			return p, true
		}
	}
	return p, false
}

func gunzip(r *bufio.Reader) (io.Reader, error) {
	z, err := gzip.NewReader(r)
	if err != nil {
		return nil, err
	}
	z.Multistream(false)
	return z, nil
}

func unzstd(r *bufio.Reader) (io.Reader, error) {
	z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxWindow))
	if err != nil {
		return nil, err
	}
	return z.IOReadCloser(), nil
}

func unlzma(r *bufio.Reader) (io.Reader, error) {
	return lzma.ReaderConfig{DictCap: maxWindow}.NewReader(r)
}

// unxz unpacks the first block of what xz has packed, which is all of it unless it was packed by several
// threads; of one with other filters than LZMA2, nothing. The library's own reader of xz takes as much memory as a
// header asks for. The .xz File Format 1.2, sections 2.1.1 and 3.1.
func unxz(r *bufio.Reader) (io.Reader, error) {
	const stream = 12
	head, err := r.Peek(stream + 1)
	if err != nil {
		return nil, err
	}
	size := stream + (int(head[stream])+1)*4
	if head, err = r.Peek(size); err != nil {
		return nil, err
	}
	flags, rest := head[stream+1], head[stream+2:]
	for _, told := range []byte{0x40, 0x80} { // sizes of the block, of seven bits to a byte
		for flags&told != 0 && len(rest) > 0 {
			if rest[0]&0x80 == 0 {
				flags &^= told
			}
			rest = rest[1:]
		}
	}
	if flags != 0 || len(rest) < 3 || rest[0] != 0x21 || rest[1] != 1 {
		return nil, errPacking
	}
	window, err := lzma.DecodeDictCap(rest[2])
	if err != nil || window > maxWindow {
		return nil, errPacking
	}
	if _, err := r.Discard(size); err != nil {
		return nil, err
	}
	return lzma.Reader2Config{DictCap: max(int(window), lzma.MinDictCap)}.NewReader2(r)
}

// xzTail is what stands behind the only block of what xz has packed, at most, in bytes: padding, check, index and
// footer. The .xz File Format 1.2, sections 2.1.2, 3.3, 3.4 and 4.
const xzTail = 3 + 64 + 24 + 12
