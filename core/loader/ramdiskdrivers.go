package loader

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz/lzma"
)

// Drivers are the drivers of drives that an initial RAM disk holds, or that its kernel has built in
// as it says, a bit for each.
type Drivers uint64

// The drivers, by the names of the kernel's modules, and what else is told of a RAM disk. The bits stand
// in captures: one is never given another meaning.
const (
	DriverNVMe     Drivers = 1 << iota // nvme
	DriverVMD                          // vmd: NVMe drives behind a controller in RAID mode
	DriverAHCI                         // ahci
	DriverDisks                        // sd_mod: disks behind SATA, SCSI and USB
	DriverUSBDisks                     // usb_storage or uas
	DriverXHCI                         // xhci_pci
	DriverATA                          // libata: whatever hangs on SATA
	DriversWhole                       // it was read to its end, and hides nothing
	DriversBuiltIn                     // it says what its kernel has built in
	DriversBroken                      // it does not unpack to its end
	DriversRead                        // it was looked into at all
)

// AllDrivers is what an initial RAM disk holds that is made for every bus.
const AllDrivers = DriverNVMe | DriverVMD | DriverAHCI | DriverDisks | DriverUSBDisks | DriverXHCI | DriverATA |
	DriversWhole | DriversBuiltIn | DriversRead

// With is what several initial RAM disks of one kernel hold, which is given them one behind the other.
func (d Drivers) With(other Drivers) Drivers {
	const each = DriversWhole | DriversRead
	return (d|other)&^each | d&other&each
}

// Has reports whether some drivers are all there.
func (d Drivers) Has(all Drivers) bool { return d&all == all }

// Lacks reports whether it is known that none of some drivers is there.
func (d Drivers) Lacks(all Drivers) bool {
	return d.Has(DriversWhole|DriversBuiltIn|DriversRead) && d&(DriversBroken|all) == 0
}

// String lists the drivers by the modules' names.
func (d Drivers) String() string {
	var names []string
	for i, name := range []string{"nvme", "vmd", "ahci", "sd_mod", "usb_storage", "xhci_pci", "libata"} {
		if d&(1<<i) != 0 {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return "no driver of drives that is known here"
	}
	return strings.Join(names, ", ")
}

// driverModules are the modules' names, with hyphens. The kernel's drivers/nvme/host, drivers/pci/controller,
// drivers/ata, drivers/scsi and drivers/usb, their makefiles.
var driverModules = map[string]Drivers{"nvme": DriverNVMe, "vmd": DriverVMD, "ahci": DriverAHCI, "sd-mod": DriverDisks,
	"usb-storage": DriverUSBDisks, "uas": DriverUSBDisks, "xhci-pci": DriverXHCI, "libata": DriverATA}

// Bounds of what is unpacked of an initial RAM disk, in bytes: all of it, a file's name, the list of what
// is built in, the memory of a decompressor. The kernel's own bounds a name by PATH_MAX.
const (
	mostUnpacked = 1 << 30
	maxName      = 4096
	maxBuiltIn   = 1 << 20
	maxWindow    = 128 << 20
	cpioHeader   = 110
	cpioTrailer  = "TRAILER!!!"
	builtInNames = "modules.builtin"
)

// errPacking is of a way of packing that is not undone here.
var errPacking = errors.New("packed in a way that is not undone")

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
	checked bool // it is packed in a way whose unpacking here is known well, or not at all
}

var errUnpacked = errors.New("more than is unpacked of an initial RAM disk")

// segments reads archives and what is packed, with zeros between them, to the end.
func (a *archive) segments() error {
	for {
		if err := a.skipZeros(); err != nil {
			return ignoreEnd(err)
		}
		head, err := a.r.Peek(6)
		if len(head) < 6 {
			return fmt.Errorf("%d bytes behind the last archive: %w", len(head), err)
		}
		if strings.HasPrefix(string(head), "07070") {
			a.ended, a.checked = false, true
			if err := a.members(); err != nil {
				return err
			}
			continue
		}
		head = bytes.Clone(head)
		in, err := unpacker(a.r, head)
		if err != nil {
			return err
		}
		a.ended, a.checked = false, false
		inner := &archive{r: bufio.NewReaderSize(in, 1<<20), left: a.left, weight: weightOf(head), found: a.found,
			builtIn: a.builtIn, opaque: a.opaque}
		err = inner.segments()
		inner.r, inner.weight = a.r, a.weight
		inner.checked = strings.HasPrefix(string(head), "\x1f\x8b") || strings.HasPrefix(string(head), "\x28\xb5")
		*a = *inner
		if err != nil {
			return err
		}
		if strings.HasPrefix(string(head), "\x1f\x8b") {
			continue
		}
		rest, err := io.Copy(io.Discard, io.LimitReader(a.r, mostUnpacked))
		a.opaque = a.opaque || rest > xzTail
		return err
	}
}

// xzTail is what stands behind the only block of what xz has packed, at most, in bytes: padding, check, index and
// footer. The .xz File Format 1.2, sections 2.1.2, 3.3, 3.4 and 4.
const xzTail = 3 + 64 + 24 + 12

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

// BuiltInDrivers are those in the list of what a kernel has built in, which has a path in each line. modules.builtin of
// the kernel's build (Documentation/kbuild).
func BuiltInDrivers(list []byte) (found Drivers) {
	for line := range bytes.Lines(list) {
		found |= DriverIn(path.Base(strings.TrimSpace(string(line))))
	}
	return found
}

// DriverIn is the driver that a module is, by the name of its file, which may be packed by itself; 0 for any other.
func DriverIn(file string) Drivers {
	name, rest, _ := strings.Cut(file, ".")
	if rest != "ko" && !strings.HasPrefix(rest, "ko.") {
		return 0
	}
	return driverModules[strings.ReplaceAll(name, "_", "-")]
}

// weightOf is how much slower than by the others what is packed in a way is unpacked: by bzip2, xz and lzma.
func weightOf(head []byte) int64 {
	if h := string(head); strings.HasPrefix(h, "BZh") || strings.HasPrefix(h, "\x5d\x00") || strings.HasPrefix(h, "\xfd7z") {
		return 4
	}
	return 1
}

// unpacker undoes what a kernel undoes. The kernel's lib/decompress.c, "compressed_formats".
func unpacker(r *bufio.Reader, head []byte) (io.Reader, error) {
	switch h := string(head); {
	case strings.HasPrefix(h, "\x1f\x8b"):
		z, err := gzip.NewReader(r)
		if err != nil {
			return nil, err
		}
		z.Multistream(false) // what follows may be another archive
		return z, nil
	case strings.HasPrefix(h, "\x28\xb5\x2f\xfd"):
		z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxWindow))
		if err != nil {
			return nil, err
		}
		return z.IOReadCloser(), nil
	case strings.HasPrefix(h, "\x02\x21\x4c\x18"):
		return lz4.NewReader(r), nil
	case strings.HasPrefix(h, "BZh"):
		return bzip2.NewReader(r), nil
	case strings.HasPrefix(h, "\x5d\x00"):
		z, err := lzma.ReaderConfig{DictCap: maxWindow}.NewReader(r)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", errPacking, err)
		}
		return z, nil
	case h == "\xfd7zXZ\x00":
		return xzBlock(r)
	case strings.HasPrefix(h, "\x89LZO"):
		return nil, errPacking
	}
	return nil, fmt.Errorf("expected an archive, found % X", head)
}

// xzBlock unpacks the first block of what xz has packed, which is all of it unless it was packed by several
// threads; of one with other filters than LZMA2, nothing. The .xz File Format 1.2, sections 2.1.1 and 3.1.
func xzBlock(r *bufio.Reader) (io.Reader, error) {
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
