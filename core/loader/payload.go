package loader

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
)

// PayloadForm is what the beginning of a file says that it is.
type PayloadForm string

// The forms of files that boot loaders load.
const (
	PayloadEmpty      PayloadForm = "empty"
	PayloadZeros      PayloadForm = "zeros" // at its beginning, for as far as is looked
	PayloadKernel     PayloadForm = "kernel"
	PayloadProgram    PayloadForm = "program"    // of the firmware's or of a system's
	PayloadArchive    PayloadForm = "archive"    // a cpio archive that a kernel unpacks
	PayloadCompressed PayloadForm = "compressed" // in a way that a kernel undoes
	PayloadVolume     PayloadForm = "volume"     // a file system: a RAM disk of the old kind
	PayloadOther      PayloadForm = "other"      // none of these
)

// Payload is a file that a boot loader loads and passes control to, or on: a kernel, or an initial
// RAM disk.
type Payload struct {
	Form PayloadForm
	Size int64 // bytes
	// Wants is how many bytes a kernel says that it has; 0 where it does not say.
	Wants int64
	// Interpreter is the path of what links a program of a system's when it is started; "" for none.
	Interpreter string
	// Drivers are those in an initial RAM disk; 0 where it was not looked into.
	Drivers Drivers
}

// payloadHead is how much of a file is looked at, in bytes.
const payloadHead = 4096

// payloadMark is what stands at a place of a file of some form.
type payloadMark struct {
	form PayloadForm
	at   int
	text string
}

// payloadMarks are tried in their order. The kernel's arch/x86/boot ("boot_flag", "header"),
// arch/arm64/booting and arch/riscv/boot-image-header ("magic") and arch/arm/boot ("zImage");
// driver-api/early-userspace/buffer-format for cpio archives; the formats' own for volumes: ext, squashfs, cramfs and
// romfs.
var payloadMarks = slices.Concat([]payloadMark{
	{PayloadKernel, 0x38, "ARM\x64"}, {PayloadKernel, 0x38, "RSC\x05"},
	{PayloadKernel, 4, "zimg"}, {PayloadKernel, 0x24, "\x18\x28\x6f\x01"},
	{PayloadArchive, 0, "070701"}, {PayloadArchive, 0, "070702"},
}, packedMarks(), []payloadMark{
	{PayloadVolume, 0x438, "\x53\xef"}, {PayloadVolume, 0, "hsqs"}, {PayloadVolume, 0, "\x45\x3d\xcd\x28"},
	{PayloadVolume, 0, "-rom1fs-"},
	{PayloadProgram, 0, "MZ"}, {PayloadProgram, 0, "\x7fELF"}, {PayloadProgram, 0, "#!"},
})

func packedMarks() (marks []payloadMark) {
	for _, p := range packings {
		marks = append(marks, payloadMark{PayloadCompressed, 0, p.magic})
	}
	return marks
}

// ExaminePayload tells what a file of so many bytes is by its beginning. An error is one of bytes
// that are not there to be read.
func ExaminePayload(r io.ReaderAt, size int64) (Payload, error) {
	p := Payload{Size: size}
	if size == 0 {
		p.Form = PayloadEmpty
		return p, nil
	}
	head := make([]byte, min(size, payloadHead))
	if n, err := r.ReadAt(head, 0); err != nil && (!errors.Is(err, io.EOF) || n < len(head)) {
		return Payload{}, fmt.Errorf("bytes 0 to %d: %w", len(head), err)
	}
	p.Form = formOf(head)
	if wants := wantedByX86(head); wants > 0 {
		p.Form, p.Wants = PayloadKernel, wants
	}
	if p.Form == PayloadProgram {
		p.Interpreter = interpreterOf(head)
	}
	return p, nil
}

// interpreterOf is what links a program when it is started, as its beginning names it. The System V ABI,
// "Program Header", PT_INTERP.
func interpreterOf(head []byte) string {
	f, err := elf.NewFile(bytes.NewReader(withoutSections(head)))
	if err != nil {
		return ""
	}
	for _, p := range f.Progs {
		if p.Type == elf.PT_INTERP && p.Filesz < payloadHead {
			name := make([]byte, p.Filesz)
			if _, err := p.ReadAt(name, 0); err == nil {
				return string(bytes.TrimRight(name, "\x00"))
			}
		}
	}
	return ""
}

// withoutSections is the beginning of a program that tells of no sections: their headers lie at its end.
func withoutSections(head []byte) []byte {
	if len(head) < 0x40 {
		return head
	}
	head = bytes.Clone(head)
	if at := 0x28; head[elf.EI_CLASS] == byte(elf.ELFCLASS64) { // e_shoff, then e_shnum and e_shstrndx
		clear(head[at : at+8])
		clear(head[0x3C:0x40])
	} else {
		clear(head[0x20:0x24])
		clear(head[0x30:0x34])
	}
	return head
}

// formOf is what a beginning says. Zeros before an archive are passed over, as the kernel does.
func formOf(head []byte) PayloadForm {
	if len(bytes.TrimLeft(head, "\x00")) == 0 {
		return PayloadZeros
	}
	for _, m := range payloadMarks {
		if len(head) >= m.at+len(m.text) && string(head[m.at:m.at+len(m.text)]) == m.text {
			return m.form
		}
	}
	if rest := bytes.TrimLeft(head, "\x00"); len(rest) < len(head) && bytes.HasPrefix(rest, []byte("07070")) {
		return PayloadArchive
	}
	return PayloadOther
}

// wantedByX86 is how long a kernel for PCs says that it is, in bytes; 0 for what is none. One older
// than protocol 2.04 tells of its real-mode code alone. The kernel's arch/x86/boot, "setup_sects",
// "syssize", "boot_flag", "header" and "version".
func wantedByX86(head []byte) int64 {
	if len(head) < 0x208 || head[0x1FE] != 0x55 || head[0x1FF] != 0xAA || string(head[0x202:0x206]) != "HdrS" {
		return 0
	}
	setup := int64(head[0x1F1])
	if setup == 0 {
		setup = 4
	}
	wants := (setup + 1) * 512
	if binary.LittleEndian.Uint16(head[0x206:]) >= 0x204 {
		wants += int64(binary.LittleEndian.Uint32(head[0x1F4:])) * 16
	}
	return wants
}

// NoKernel says why a file cannot be a kernel that a boot loader starts; "" for one that may be.
func (p Payload) NoKernel() string {
	switch p.Form {
	case PayloadEmpty:
		return "it is empty"
	case PayloadZeros:
		return "it begins with zeros, where a kernel has its header"
	case PayloadOther, PayloadArchive, PayloadVolume:
		return "it does not begin as a kernel does"
	}
	if p.Size < p.Wants {
		return fmt.Sprintf("it has %d bytes of the %d that its header tells of", p.Size, p.Wants)
	}
	return ""
}

// NoRAMDisk says why a file cannot be an initial RAM disk that a kernel unpacks; "" for one that may
// be.
func (p Payload) NoRAMDisk() string {
	switch p.Form {
	case PayloadEmpty:
		return "it is empty"
	case PayloadZeros:
		return "it begins with zeros, where an archive has its header"
	case PayloadOther, PayloadKernel, PayloadProgram:
		return "it begins as no archive does that a kernel unpacks"
	}
	return ""
}
