package loader

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"github.com/klauspost/compress/zstd"
)

// Bounds of what is unpacked of an initial RAM disk, in bytes: all of it, a file's name, the list of what
// is built in. The kernel's own bounds a name by PATH_MAX.
const (
	mostUnpacked = 1 << 30
	maxName      = 4096
	maxBuiltIn   = 1 << 20
	cpioHeader   = 110
	cpioTrailer  = "TRAILER!!!"
	builtInNames = "modules.builtin"
)

// ReadDrivers looks into an initial RAM disk for the drivers of drives, unpacking it as a kernel does. An error is
// one of bytes that could not be read, or of what is not unpacked here: then nothing is told of it. Most bounds what
// is unpacked, in bytes; unpacked is how much that was, where what unpacks slowly counts several times.
// The kernel's driver-api/early-userspace/buffer-format; init/initramfs.c, unpack_to_rootfs.
func ReadDrivers(r *io.SectionReader, most int64) (held Drivers, unpacked int64, err error) {
	source := &faultReader{r: r, left: r.Size()}
	a := &archive{r: bufio.NewReaderSize(source, 1<<20), left: min(most, mostUnpacked), weight: 1}
	err = a.segments()
	unpacked = min(most, mostUnpacked) - a.left
	switch {
	case source.fault != nil:
		return 0, unpacked, source.fault
	case err != nil && !a.ended && !a.broken(err):
		return 0, unpacked, err
	}
	held = a.found | DriversRead
	switch {
	case !a.ended:
		held |= DriversBroken
	case err == nil && !a.opaque:
		held |= DriversWhole
	}
	if a.builtIn {
		held |= DriversBuiltIn
	}
	return held, unpacked, nil
}

// broken reports whether an error is one of the archive, and not of what is not unpacked here.
func (a *archive) broken(err error) bool {
	switch {
	case errors.Is(err, errPacking), errors.Is(err, errUnpacked), errors.Is(err, zstd.ErrWindowSizeExceeded),
		errors.Is(err, zstd.ErrDecoderSizeExceeded), errors.Is(err, zstd.ErrUnknownDictionary):
		return false
	}
	return a.checked || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
}

// faultReader keeps an error of what it reads from, which is none of the archive's.
type faultReader struct {
	r     io.Reader
	left  int64 // bytes until its end
	fault error
}

func (f *faultReader) Read(p []byte) (int, error) {
	n, err := f.r.Read(p)
	f.left -= int64(n)
	switch {
	case err == nil || errors.Is(err, io.EOF) && f.left == 0:
	case errors.Is(err, io.EOF):
		f.fault = io.ErrUnexpectedEOF
	default:
		f.fault = err
	}
	return n, err
}

// archive is the reading of archives, one behind the other.
type archive struct {
	r       *bufio.Reader
	left    int64 // bytes that may still be unpacked
	weight  int64 // what a byte of it counts
	found   Drivers
	builtIn bool // the list of what is built in was read
	opaque  bool // modules may lie where is not looked: in a volume in it, or behind what was unpacked
	ended   bool // the last archive was read to its trailer
	checked bool // what goes wrong with it is its own fault, as packing.checked says
}

var errUnpacked = errors.New("more than is unpacked of an initial RAM disk")

// segments reads archives and what is packed, with zeros between them, to the end.
func (a *archive) segments() error {
	for last := false; !last; {
		if err := a.skipZeros(); err != nil {
			return ignoreEnd(err)
		}
		head, err := a.r.Peek(6)
		switch {
		case len(head) < 6:
			return fmt.Errorf("%d bytes behind the last archive: %w", len(head), err)
		case strings.HasPrefix(string(head), "07070"):
			a.ended, a.checked = false, true
			err = a.members()
		default:
			last, err = a.packed(head)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// packed reads the archives in what is packed; last is set where none can follow it.
func (a *archive) packed(head []byte) (last bool, err error) {
	p, known := packingOf(head)
	switch {
	case !known:
		return true, fmt.Errorf("expected an archive, found % X", head)
	case p.open == nil:
		return true, errPacking
	}
	in, err := p.open(a.r)
	if err != nil {
		return true, err
	}
	if c, ok := in.(io.Closer); ok {
		defer c.Close()
	}
	a.ended = false
	outside, weight := a.r, a.weight
	a.r, a.weight = bufio.NewReaderSize(in, 1<<20), p.weight
	err = a.segments()
	a.r, a.weight, a.checked = outside, weight, p.checked
	if err != nil || p.goesOn {
		return false, err
	}
	rest, err := io.Copy(io.Discard, io.LimitReader(a.r, mostUnpacked))
	a.opaque = a.opaque || rest > xzTail
	return true, err
}

// ignoreEnd is an error that is none where it says that there is no more.
func ignoreEnd(err error) error {
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

func (a *archive) skipZeros() error {
	for {
		b, err := a.r.ReadByte()
		if err != nil {
			return err
		}
		if err := a.take(1); err != nil {
			return err
		}
		if b != 0 {
			return a.r.UnreadByte()
		}
	}
}

// take counts bytes that are unpacked.
func (a *archive) take(n int64) error {
	if n *= a.weight; n > a.left {
		a.left = 0
		return errUnpacked
	}
	a.left -= n
	return nil
}

// members reads a cpio archive in the "newc" form to its trailer.
func (a *archive) members() error {
	at := int64(0)
	for {
		head := make([]byte, cpioHeader)
		if _, err := io.ReadFull(a.r, head); err != nil {
			return err
		}
		if m := string(head[:6]); m != "070701" && m != "070702" {
			return fmt.Errorf("byte %d of an archive: expected a header, found %q", at, m)
		}
		size, err1 := strconv.ParseUint(string(head[54:62]), 16, 32)
		length, err2 := strconv.ParseUint(string(head[94:102]), 16, 32)
		if err := errors.Join(err1, err2); err != nil {
			return fmt.Errorf("byte %d of an archive: %w", at, err)
		}
		if length > maxName {
			return fmt.Errorf("byte %d of an archive: a name of %d bytes, expected at most %d", at, length, maxName)
		}
		name := make([]byte, padded(cpioHeader+int64(length))-cpioHeader)
		if _, err := io.ReadFull(a.r, name); err != nil {
			return err
		}
		took := cpioHeader + int64(len(name)) + padded(int64(size))
		at += took
		if err := a.take(took); err != nil {
			return err
		}
		called, _, _ := strings.Cut(string(name), "\x00")
		if called == cpioTrailer {
			a.ended = true
			return nil
		}
		if err := a.member(called, int64(size)); err != nil {
			return err
		}
	}
}

func padded(n int64) int64 { return (n + 3) &^ 3 }

// member takes what a file of an archive tells of drivers, and passes it over.
func (a *archive) member(name string, size int64) error {
	var text []byte
	base := path.Base(name)
	if base == builtInNames && size > 0 && size <= maxBuiltIn {
		text = make([]byte, size)
		if _, err := io.ReadFull(a.r, text); err != nil {
			return err
		}
		a.builtIn = true
		a.found |= BuiltInDrivers(text)
	}
	if strings.Contains(name, "lib/modules/") {
		a.found |= DriverIn(base)
	}
	if strings.HasSuffix(base, ".img") || strings.HasSuffix(base, ".squashfs") || strings.HasSuffix(base, ".erofs") {
		a.opaque = true
	}
	_, err := io.CopyN(io.Discard, a.r, padded(size)-int64(len(text)))
	return err
}
