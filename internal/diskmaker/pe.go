package diskmaker

import (
	"bytes"
	"encoding/binary"
	"fmt"
)

// Program describes a small EFI program.
type Program struct {
	Machine   uint16 // PE/COFF machine; 0 is x64
	Subsystem uint16 // 0 is an EFI application
	// Code is what runs, independent of its place; nil returns success at once.
	Code   []byte
	Signed bool // carries a certificate table (with made-up certificates)
	// SignedBy is the authority that vouches for it; "" is one that is usual for what it is.
	SignedBy string
	// Vendors are whom a shim trusts by itself; nil is VendorAuthority.
	Vendors []string
	Size    int // bytes, at least 1024; 0 is 1024
	// Is makes it recognisable: "windows", "shim", "grub" or "systemd-boot".
	Is     string
	Prefix string // GRUB's folder
	// Sections are further ones, such as those of a unified kernel.
	Sections []Section
}

// Section is a part of a program.
type Section struct {
	Name string
	Data []byte
}

// extra lists the sections behind the code.
func (p Program) extra() []Section {
	if name, b := p.mark(); name != "" {
		marks := []Section{{name, b}}
		if p.Is == "shim" {
			marks = append(marks, Section{".vendor_cert", vendorCertificates(p.Vendors)})
		}
		return append(marks, p.Sections...)
	}
	return p.Sections
}

// mark returns the section that a known program is recognised by.
func (p Program) mark() (name string, b []byte) {
	switch p.Is {
	case "windows":
		return ".rsrc", append([]byte("\x00\x00"), text("OriginalFilename\x00bootmgr.exe")...)
	case "shim":
		return ".sbat", []byte("sbat,1,SBAT Version,sbat,1,https://github.com/rhboot/shim/blob/main/SBAT.md\nshim,3,UEFI shim,shim,15,\n")
	case "systemd-boot":
		return ".sdmagic", []byte("#### LoaderInfo: systemd-boot 252 ####\x00")
	case "grub":
		le := binary.LittleEndian
		b = le.AppendUint64(nil, 0x676D696D)
		b = le.AppendUint64(b, 24)
		prefix := append([]byte(p.Prefix), 0)
		b = le.AppendUint64(b, uint64(24+8+len(prefix)))
		b = le.AppendUint32(b, 3)
		b = le.AppendUint32(b, uint32(8+len(prefix)))
		return "mods", append(b, prefix...)
	}
	return "", nil
}

// PE/COFF layout of the generated programs, in bytes.
const (
	peHeaderAt     = 0x80
	peHeaderOfMany = 0x40 // so that the table of five sections ends before the first of them
	peSectionAt    = 0x200
	peMinSize      = 0x400
)

// Bytes returns the program file. PE/COFF specification; UEFI Specification
// 2.10, section 2.1.1.
func (p Program) Bytes() []byte {
	le := binary.LittleEndian
	code := p.Code
	if code == nil {
		code = []byte{0x31, 0xC0, 0xC3} // xor eax, eax; ret
	}
	extra, behind := p.extra(), 0
	for _, s := range extra {
		behind += (len(s.Data) + 511) / 512 * 512
	}
	size := max(p.Size, peMinSize+max(512, (len(code)+511)/512*512)+max(0, behind-512))
	size -= size % 512
	b := make([]byte, size)
	copy(b, "MZ")
	header := peHeaderAt
	if len(extra) > 2 {
		header = peHeaderOfMany
	}
	le.PutUint32(b[0x3C:], uint32(header))
	copy(b[header:], "PE\x00\x00")
	coff := b[header+4:]
	machine, optional := p.Machine, uint16(240)
	if machine == 0 {
		machine = 0x8664
	}
	if machine == 0x014C {
		optional = 224
	}
	le.PutUint16(coff[0:], machine)
	le.PutUint16(coff[2:], uint16(1+len(extra)))
	le.PutUint16(coff[16:], optional)
	le.PutUint16(coff[18:], 0x0022) // executable, large addresses
	opt := coff[20:]
	text := uint32(size - peSectionAt - behind)
	image := 0x1000 + (text+0xFFF)&^0xFFF
	for _, s := range extra {
		image += (uint32(len(s.Data)) + 0xFFF) &^ 0xFFF
	}
	dirs := p.optionalHeader(opt, machine, text, image)
	if p.Subsystem != 0 {
		le.PutUint16(opt[68:], p.Subsystem)
	}
	names := longNames(extra)
	if names != nil { // the symbol table, of none, which the names follow
		le.PutUint32(coff[8:], uint32(size))
	}
	var table []byte
	if p.Signed {
		table = certificateTable(p.authority())
		le.PutUint32(opt[dirs+4*8:], uint32(size+len(names)))
		le.PutUint32(opt[dirs+4*8+4:], uint32(len(table)))
	}
	section := opt[optional:]
	copy(section, ".text")
	le.PutUint32(section[8:], text)
	le.PutUint32(section[12:], 0x1000)
	le.PutUint32(section[16:], text)
	le.PutUint32(section[20:], peSectionAt)
	le.PutUint32(section[36:], 0x60000020) // code, execute, read
	copy(b[peSectionAt:], code)
	inFile, inMemory := peSectionAt+text, 0x1000+(text+0xFFF)&^0xFFF
	for _, s := range extra {
		length := uint32(len(s.Data))
		copy(b[inFile:], s.Data)
		section = section[40:]
		copy(section, shortName(s.Name, names))
		le.PutUint32(section[8:], length)
		le.PutUint32(section[12:], inMemory)
		le.PutUint32(section[16:], length)
		le.PutUint32(section[20:], inFile)
		le.PutUint32(section[36:], 0x40000040) // data, read
		inFile, inMemory = inFile+(length+511)/512*512, inMemory+(length+0xFFF)&^0xFFF
	}
	return append(append(b, names...), table...)
}

// longNames are the names of sections that have more than eight letters, behind their length. PE
// Format, "COFF String Table" and "Section Table".
func longNames(sections []Section) []byte {
	b := make([]byte, 4)
	for _, s := range sections {
		if len(s.Name) > 8 {
			b = append(append(b, s.Name...), 0)
		}
	}
	if len(b) == 4 {
		return nil
	}
	b = append(b, make([]byte, -len(b)&7)...)
	binary.LittleEndian.PutUint32(b, uint32(len(b)))
	return b
}

func shortName(name string, long []byte) string {
	if len(name) <= 8 {
		return name
	}
	return fmt.Sprintf("/%d", bytes.Index(long, append([]byte(name), 0)))
}

func (p Program) optionalHeader(opt []byte, machine uint16, text, image uint32) (directories int) {
	le := binary.LittleEndian
	magic, directories := uint16(0x20B), 112
	if machine == 0x014C {
		magic, directories = 0x10B, 96
	}
	le.PutUint16(opt[0:], magic)
	le.PutUint32(opt[4:], text)    // SizeOfCode
	le.PutUint32(opt[16:], 0x1000) // AddressOfEntryPoint
	le.PutUint32(opt[20:], 0x1000) // BaseOfCode
	le.PutUint32(opt[32:], 0x1000) // SectionAlignment
	le.PutUint32(opt[36:], 0x200)  // FileAlignment
	le.PutUint32(opt[56:], image)
	le.PutUint32(opt[60:], peSectionAt)
	le.PutUint16(opt[68:], 10) // EFI application
	le.PutUint32(opt[directories-4:], 16)
	return directories
}
