package diskmaker

import "encoding/binary"

// Program describes a small EFI program that returns success at once.
type Program struct {
	Machine uint16 // PE/COFF machine; 0 is x64
	Signed  bool   // carries a certificate table (with a made-up certificate)
	Size    int    // bytes, at least 1024; 0 is 1024
}

// PE/COFF layout of the generated programs, in bytes.
const (
	peHeaderAt  = 0x80
	peSectionAt = 0x200
	peMinSize   = 0x400
	certLen     = 64
)

// Bytes returns the program file. PE/COFF specification; UEFI Specification
// 2.10, section 2.1.1.
func (p Program) Bytes() []byte {
	le := binary.LittleEndian
	size := max(p.Size, peMinSize)
	size -= size % 512
	b := make([]byte, size, size+certLen)
	copy(b, "MZ")
	le.PutUint32(b[0x3C:], peHeaderAt)
	copy(b[peHeaderAt:], "PE\x00\x00")
	coff := b[peHeaderAt+4:]
	machine, optional := p.Machine, uint16(240)
	if machine == 0 {
		machine = 0x8664
	}
	if machine == 0x014C {
		optional = 224
	}
	le.PutUint16(coff[0:], machine)
	le.PutUint16(coff[2:], 1) // sections
	le.PutUint16(coff[16:], optional)
	le.PutUint16(coff[18:], 0x0022) // executable, large addresses
	opt := coff[20:]
	text := uint32(size - peSectionAt)
	dirs := p.optionalHeader(opt, machine, text)
	if p.Signed {
		le.PutUint32(opt[dirs+4*8:], uint32(size))
		le.PutUint32(opt[dirs+4*8+4:], certLen)
		cert := make([]byte, certLen)
		le.PutUint32(cert, certLen)
		le.PutUint16(cert[4:], 0x0200)
		le.PutUint16(cert[6:], 0x0002) // WIN_CERT_TYPE_PKCS_SIGNED_DATA
		b = append(b, cert...)
	}
	section := opt[optional:]
	copy(section, ".text")
	le.PutUint32(section[8:], text)
	le.PutUint32(section[12:], 0x1000)
	le.PutUint32(section[16:], text)
	le.PutUint32(section[20:], peSectionAt)
	le.PutUint32(section[36:], 0x60000020) // code, execute, read
	copy(b[peSectionAt:], []byte{0x31, 0xC0, 0xC3})
	return b
}

func (p Program) optionalHeader(opt []byte, machine uint16, text uint32) (directories int) {
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
	le.PutUint32(opt[56:], 0x1000+(text+0xFFF)&^0xFFF)
	le.PutUint32(opt[60:], peSectionAt)
	le.PutUint16(opt[68:], 10) // EFI application
	le.PutUint32(opt[directories-4:], 16)
	return directories
}
