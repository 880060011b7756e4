package loader

import (
	"bytes"
	"debug/elf"
	"debug/pe"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/ulikunitz/xz/lzma"

	"latchkey/core/disk"
)

// GRUBCore is GRUB's core image: the part that is built into one program or one
// run of sectors, with the place of everything else.
type GRUBCore struct {
	Prefix string // where its folder lies, such as (,gpt2)/boot/grub
	Config string // commands that are run first, "" for none
	// Modules are the names of those that are built in; ModulesErr is why they could not all
	// be read. None at all is a core that no tool made.
	Modules    []string
	ModulesErr error
	// Platform is what it was made for, as GRUB calls the folder of its modules; "" where that is not told.
	Platform string
	// ExtFeatures are the incompatible features with which its reader of ext takes a volume, as
	// bits of the superblock's s_feature_incompat; 0 where its code does not tell.
	ExtFeatures uint32
	ExtOpen     bool // its code is not in evidence
}

// Places within the first sectors of a core image for the PC's firmware: the list
// of further sectors at the end of the first, growing downwards, and the sizes at
// the beginning of the second. GNU GRUB 2.06, include/grub/offsets.h and
// boot/i386/pc/diskboot.S.
const (
	blockListEnd    = 0x200
	blockListEntry  = 12 // start (8), length (2), segment (2)
	compressedAt    = 0x08
	uncompressedAt  = 0x0C
	maxCoreSectors  = 2048
	maxCoreSize     = 4 << 20 // bytes, unpacked
	usualCodeLength = 0xB20
	moduleMagic     = 0x676D696D // "mimg"
	moduleELF       = 0
	moduleConfig    = 2
	modulePrefix    = 3
	maxModules      = 1000
	dictionary      = 1 << 16 // bytes, of the packing
	maxModuleText   = 4096
	maxTries        = 64      // places of the list of modules, and of the packed part
	maxUnpacked     = 1 << 20 // bytes, in all tries that fail
)

// ReadGRUBCore reads the core image that boot code points to, from its first
// sector on: it gathers the sectors, unpacks them and finds the prefix.
func ReadGRUBCore(d *disk.Disk, sector uint64) (*GRUBCore, error) {
	first, err := d.Read(int64(sector)*512, 512)
	if err != nil {
		return nil, err
	}
	packed, err := coreSectors(d, first)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if len(packed) < 0x20 {
		return nil, errors.New("the core image is too short")
	}
	size := le.Uint32(packed[uncompressedAt:])
	if size == 0 || size > maxCoreSize || le.Uint32(packed[compressedAt:]) > uint32(len(packed)) {
		return nil, fmt.Errorf("the core image gives %d bytes, unpacked %d", le.Uint32(packed[compressedAt:]), size)
	}
	kernel, err := unpackCore(packed, size)
	if err != nil {
		return nil, err
	}
	c, err := findModules(kernel)
	if err == nil {
		c.Platform = "i386-pc"
	}
	return c, err
}

// findModules looks for the list of modules; its magic number stands in the code
// that reads it, too.
func findModules(kernel []byte) (*GRUBCore, error) {
	magic := binary.LittleEndian.AppendUint32(nil, moduleMagic)
	err := errors.New("the core image holds no modules")
	for at, tries := 0, 0; tries < maxTries; at, tries = at+1, tries+1 {
		next := bytes.Index(kernel[at:], magic)
		if next < 0 {
			break
		}
		at += next
		core, e := readModules(bytes.NewReader(kernel[at:]), 4)
		if e == nil && core.Prefix != "" {
			return core, nil
		}
		if e != nil {
			err = e
		}
	}
	return nil, err
}

// GRUBCoreRegions names the bytes of a core image's first two sectors that are
// decoded.
func GRUBCoreRegions(sector uint64) []disk.Region {
	return []disk.Region{
		{Structure: "GRUB core image", Offset: int64(sector) * 512, Length: 512, Fields: []disk.Field{
			{Name: "code", Length: blockListEnd - blockListEntry, Form: disk.Raw},
			{Name: "next sectors: first", Offset: blockListEnd - blockListEntry, Length: 8, Form: disk.Number},
			{Name: "next sectors: count", Offset: blockListEnd - 4, Length: 2, Form: disk.Number}}},
		{Structure: "GRUB core image, second sector", Offset: int64(sector+1) * 512, Length: 512, Fields: []disk.Field{
			{Name: "packed size", Offset: compressedAt, Length: 4, Form: disk.Number},
			{Name: "unpacked size", Offset: uncompressedAt, Length: 4, Form: disk.Number}}},
	}
}

// coreSectors gathers what the first sector's list names. GRUB counts in sectors
// of 512 bytes.
func coreSectors(d *disk.Disk, first []byte) ([]byte, error) {
	le := binary.LittleEndian
	var packed []byte
	for at := blockListEnd - blockListEntry; at >= 0x100; at -= blockListEntry {
		start, n := le.Uint64(first[at:]), int(le.Uint16(first[at+8:]))
		if n == 0 {
			break
		}
		if n > maxCoreSectors || len(packed) > maxCoreSize {
			return nil, fmt.Errorf("the core image has %d further sectors, expected at most %d", n, maxCoreSectors)
		}
		raw, err := d.Read(int64(start)*512, n*512)
		if err != nil {
			return nil, fmt.Errorf("the core image's sectors from %d on: %w", start, err)
		}
		packed = append(packed, raw...)
	}
	return packed, nil
}

// unpackCore unpacks the kernel. Where the packed part begins is not written down:
// it is right after the code that unpacks it, 2,848 bytes in GRUB 2.06.
func unpackCore(packed []byte, size uint32) ([]byte, error) {
	kernel, left, tries := make([]byte, size), maxUnpacked, 0
	for _, at := range append([]int{usualCodeLength}, multiplesOf4(0x400, 0x2000)...) {
		// The first byte of a range coder is 0; only zeros would be packed into zeros.
		if at+16 > len(packed) || packed[at] != 0 || [16]byte(packed[at:]) == [16]byte{} {
			continue
		}
		// The parameters that grub-mkimage packs with, as a header of the format.
		header := binary.LittleEndian.AppendUint32([]byte{0x5D}, dictionary)
		header = binary.LittleEndian.AppendUint64(header, uint64(size))
		r, err := lzma.NewReader(io.MultiReader(bytes.NewReader(header), bytes.NewReader(packed[at:])))
		if err != nil {
			continue
		}
		n, err := io.ReadFull(r, kernel)
		if err == nil {
			return kernel, nil
		}
		left, tries = left-n, tries+1
		if left < 0 || tries == maxTries {
			break
		}
	}
	return nil, errors.New("the core image cannot be unpacked")
}

func multiplesOf4(from, to int) []int {
	var out []int
	for i := from; i < to; i += 4 {
		out = append(out, i)
	}
	return out
}

// readModules walks the list of modules from its header on: a header of three
// words, then each module with its type and size. GNU GRUB 2.06,
// include/grub/kernel.h.
func readModules(r io.ReaderAt, word int64) (*GRUBCore, error) {
	le := binary.LittleEndian
	header := make([]byte, 8+2*word)
	if _, err := r.ReadAt(header, 0); err != nil {
		return nil, fmt.Errorf("list of modules: %w", err)
	}
	if le.Uint32(header) != moduleMagic {
		return nil, fmt.Errorf("the list of modules starts with %08X, expected %08X", le.Uint32(header), moduleMagic)
	}
	// With words of 4 bytes: magic, offset, size; with 8, padding after the magic.
	offset, size := int64(le.Uint32(header[word:])), int64(le.Uint32(header[2*word:]))
	c := &GRUBCore{}
	for i := 0; offset+8 <= size && i < maxModules; i++ {
		m := make([]byte, 8)
		if _, err := r.ReadAt(m, offset); err != nil {
			return c, fmt.Errorf("module %d: %w", i, err)
		}
		kind, length := le.Uint32(m), int64(le.Uint32(m[4:]))
		if length < 8 {
			return c, fmt.Errorf("module %d has %d bytes", i, length)
		}
		if kind == moduleELF && c.ModulesErr == nil {
			name, err := moduleName(io.NewSectionReader(r, offset+8, length-8))
			if c.ModulesErr = err; err == nil {
				c.Modules = append(c.Modules, name)
			}
			if name == "ext2" {
				c.ExtFeatures, c.ExtOpen = takenFeatures(io.NewSectionReader(r, offset+8, min(length-8, maxSection)))
			}
		}
		if kind == moduleConfig || kind == modulePrefix {
			raw := make([]byte, min(length-8, maxModuleText))
			if _, err := r.ReadAt(raw, offset+8); err != nil {
				return c, fmt.Errorf("module %d: %w", i, err)
			}
			text, _, _ := bytes.Cut(raw, []byte{0})
			if kind == modulePrefix {
				c.Prefix = string(text)
			} else {
				c.Config = string(text)
			}
		}
		offset += length
	}
	return c, nil
}

// Features of ext that every reader of GRUB's takes, and all that there are. GNU GRUB 2.06,
// grub-core/fs/ext2.c, EXT2_DRIVER_SUPPORTED_INCOMPAT; the kernel's filesystems/ext4/super.
const (
	ExtFeaturesUsual = 0x2D6
	extFeaturesAll   = 0x3FFFF
)

// takenFeatures finds, in the code of GRUB's reader of ext, the test of the superblock's
// incompatible features, which lie at 0x60 of it, against those that it does not take: test eax
// with a number behind a load from 0x60, or test with a number of what lies at 0x60.
func takenFeatures(r io.Reader) (taken uint32, open bool) {
	code, err := io.ReadAll(r)
	for i := 3; i+4 <= len(code); i++ {
		if !(code[i-1] == 0xA9 && code[i-2] == 0x60) && !(code[i-1] == 0x60 && code[i-3] == 0xF7) {
			continue
		}
		taken := ^binary.LittleEndian.Uint32(code[i:])
		if taken&ExtFeaturesUsual == ExtFeaturesUsual && taken&^extFeaturesAll == 0 {
			return taken, false
		}
	}
	return 0, disk.IsNotCaptured(err)
}

// moduleName reads the name of a module from its section .modname. GNU GRUB 2.06,
// include/grub/dl.h.
func moduleName(r *io.SectionReader) (name string, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("a module of GRUB: %v", p)
		}
	}()
	f, err := elf.NewFile(r)
	if err != nil {
		return "", err
	}
	s := f.Section(".modname")
	if s == nil {
		return "", errors.New("a module of GRUB has no name")
	}
	raw := make([]byte, min(s.FileSize, 64))
	if _, err := r.ReadAt(raw, int64(s.Offset)); err != nil {
		return "", err
	}
	text, _, _ := bytes.Cut(raw, []byte{0})
	return string(text), nil
}

// readGRUBProgram finds the prefix in an EFI program's section of modules.
func readGRUBProgram(f *pe.File, r io.ReaderAt) *GRUBCore {
	s := f.Section("mods")
	if s == nil {
		return nil
	}
	c, err := readModules(io.NewSectionReader(r, int64(s.Offset), int64(s.Size)), 8)
	if err != nil {
		c, err = readModules(io.NewSectionReader(r, int64(s.Offset), int64(s.Size)), 4)
	}
	if err != nil {
		return nil
	}
	c.Platform = map[uint16]string{pe.IMAGE_FILE_MACHINE_AMD64: "x86_64-efi", pe.IMAGE_FILE_MACHINE_I386: "i386-efi",
		pe.IMAGE_FILE_MACHINE_ARM64: "arm64-efi"}[f.Machine]
	return c
}
