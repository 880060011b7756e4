// Package loader recognises the programs and boot code that a machine runs
// before its operating system.
package loader

import (
	"bytes"
	"cmp"
	"debug/pe"
	"errors"
	"fmt"
	"io"
	"strings"

	"latchkey/core/firmware"
)

// Subsystems and machines of the PE/COFF format that firmware starts. UEFI
// Specification 2.10, section 2.1.1.
const (
	subsystemEFIApplication = 10
	directorySecurity       = 4 // certificate table
)

var machines = map[uint16]firmware.Arch{0x8664: firmware.X64, 0x014C: firmware.IA32, 0xAA64: firmware.ARM64}

// Program is what a PE/COFF header says about an EFI program.
type Program struct {
	Machine   uint16
	Arch      firmware.Arch // "" when the machine is none that starts
	Subsystem uint16
	Signed    bool      // carries a certificate table
	Signature Signature // who vouches for it, where it carries one
	Is        string    // which known program it is, by what it carries; "" when it is none
	GRUB      *GRUBCore // what GRUB was built with; nil for other programs
	// Unified is set for a kernel with its command line in one program.
	Unified *UnifiedKernel
	// Vendor is whom a shim trusts by itself; of other programs it is empty.
	Vendor Signature
	// Levels: it says by which fixes it is revoked (.sbat), which those that are started under
	// secure boot do since 2021. The SBAT specification.
	Levels bool
}

// UnifiedKernel is what a unified kernel image holds. The UAPI Group's Unified Kernel
// Image specification, "UKI Components".
type UnifiedKernel struct {
	Options string // its .cmdline; "" where the firmware or the menu gives it
	RAMDisk bool   // it holds an initial RAM disk
	// RAMDiskAt and RAMDiskLength are where that lies in the program, in bytes; Drivers are those in it, 0 where it
	// was not looked into.
	RAMDiskAt, RAMDiskLength int64
	Drivers                  Drivers
	// Listed is set where it says what system it is (.osrel), without which systemd-boot
	// does not list it; SortKey and Version are where it stands in that list.
	Listed           bool
	SortKey, Version string
}

// Application reports whether firmware may start the program as an application.
func (p Program) Application() bool { return p.Subsystem == subsystemEFIApplication }

// NoProgram is the error of a file that is no program of the firmware's, by its first two bytes.
type NoProgram struct{ Start [2]byte }

func (e *NoProgram) Error() string {
	return fmt.Sprintf("starts with %02X %02X, expected 4D 5A (MZ)", e.Start[0], e.Start[1])
}

// ExamineEFI reads the headers of an EFI program of size bytes. It fails when
// the file is no PE/COFF program or is cut short.
func ExamineEFI(r io.ReaderAt, size int64) (prog Program, err error) {
	defer func() { // the standard decoder has panicked on damaged input before
		if p := recover(); p != nil {
			err = fmt.Errorf("PE/COFF headers are damaged: %v", p)
		}
	}()
	start := make([]byte, 64)
	if _, err := r.ReadAt(start, 0); err != nil && !errors.Is(err, io.EOF) {
		return prog, err
	}
	if !bytes.HasPrefix(start, []byte("MZ")) {
		return prog, &NoProgram{[2]byte(start)}
	}
	within := &stopAt{r: r, size: size}
	file, err := pe.NewFile(within)
	if err != nil && within.failed != nil {
		return prog, within.failed
	}
	if err != nil {
		return prog, fmt.Errorf("PE/COFF headers: %w", err)
	}
	prog.Machine, prog.Arch = file.Machine, machines[file.Machine]
	var dirs []pe.DataDirectory
	switch h := file.OptionalHeader.(type) {
	case *pe.OptionalHeader64:
		prog.Subsystem, dirs = h.Subsystem, h.DataDirectory[:min(h.NumberOfRvaAndSizes, 16)]
	case *pe.OptionalHeader32:
		prog.Subsystem, dirs = h.Subsystem, h.DataDirectory[:min(h.NumberOfRvaAndSizes, 16)]
	default:
		return prog, errors.New("PE/COFF optional header is missing")
	}
	if len(dirs) > directorySecurity && dirs[directorySecurity].Size > 0 {
		prog.Signed = true
		table := dirs[directorySecurity]
		prog.Signature = readSignature(r, int64(table.VirtualAddress), int64(table.Size), size)
	}
	prog.Levels = file.Section(".sbat") != nil
	for _, s := range file.Sections {
		if end := int64(s.Offset) + int64(s.Size); s.Size > 0 && end > size {
			return prog, fmt.Errorf("section %s ends at byte %d, the file at %d: the program is cut short", s.Name, end, size)
		}
	}
	if file.Section(".linux") != nil {
		prog.Is, prog.Unified = Unified, readUnified(file, r)
		return prog, nil
	}
	if prog.Is, prog.GRUB = identify(file, r); prog.Is == "" && startsByItself(r) {
		prog.Is = LinuxKernel
	}
	if s := file.Section(vendorSection); s != nil && prog.Is == Shim {
		raw := make([]byte, min(s.Size, maxCertificates))
		if n, err := r.ReadAt(raw, int64(s.Offset)); err != nil && !errors.Is(err, io.EOF) {
			prog.Vendor.Err = err
		} else {
			prog.Vendor = readVendor(raw[:n])
		}
	}
	return prog, nil
}

// kernelMarks are where a Linux kernel that is a program of the firmware's, too, says what it
// is. The kernel's arch/x86/boot, "header", and arch/arm64/booting, "magic".
var kernelMarks = []struct {
	at   int64
	text string
}{{0x202, "HdrS"}, {0x38, "ARM\x64"}}

func startsByItself(r io.ReaderAt) bool {
	for _, m := range kernelMarks {
		b := make([]byte, len(m.text))
		if _, err := r.ReadAt(b, m.at); err == nil && string(b) == m.text {
			return true
		}
	}
	return false
}

// readUnified reads the texts of a unified kernel.
func readUnified(f *pe.File, r io.ReaderAt) *UnifiedKernel {
	text := func(name string) string {
		s := f.Section(name)
		if s == nil {
			return ""
		}
		raw := make([]byte, min(s.Size, s.VirtualSize, maxSection))
		n, _ := r.ReadAt(raw, int64(s.Offset))
		return strings.TrimSpace(strings.TrimRight(string(raw[:n]), "\x00"))
	}
	u := &UnifiedKernel{Options: text(".cmdline")}
	if s := f.Section(".initrd"); s != nil {
		u.RAMDisk, u.RAMDiskAt, u.RAMDiskLength = true, int64(s.Offset), int64(min(s.Size, s.VirtualSize))
	}
	u.named(releaseOf([]byte(text(".osrel"))))
	return u
}

// named takes name, place and version from what the system says of itself, in the order that
// systemd-boot goes by. The UAPI Group's Boot Loader Specification, "Type #2 EFI Unified Kernel
// Images"; systemd's bootspec-fundamental.
func (u *UnifiedKernel) named(said map[string]string) {
	u.Listed = cmp.Or(said["PRETTY_NAME"], said["IMAGE_ID"], said["NAME"], said["ID"]) != ""
	u.SortKey = cmp.Or(said["IMAGE_ID"], said["ID"])
	u.Version = cmp.Or(said["IMAGE_VERSION"], said["VERSION"], said["VERSION_ID"], said["BUILD_ID"])
}

// maxSection bounds what is read of a section to recognise a program, in bytes.
const maxSection = 256 << 10

// identify recognises a program by the sections that its makers put into it: the
// revocation list of shim and GRUB (the SBAT specification), GRUB's modules,
// systemd-boot's name, and the version resource of the Windows boot manager
// (common practice, no source).
func identify(f *pe.File, r io.ReaderAt) (string, *GRUBCore) {
	for _, mark := range []struct{ section, text, name string }{
		{".sdmagic", "systemd-boot", SystemdBoot}, {".sbat", "\nshim,", Shim}, {".sbat", "\ngrub,", GRUB},
		{".sbat", "\nsystemd-boot,", SystemdBoot}, {".sbat", "\nsystemd,", SystemdBoot},
		{".rsrc", wideBytes("bootmgfw"), WindowsManager}, {".rsrc", wideBytes("bootmgr"), WindowsManager},
	} {
		s := f.Section(mark.section)
		if s == nil {
			continue
		}
		raw := make([]byte, min(s.Size, maxSection))
		n, _ := r.ReadAt(raw, int64(s.Offset))
		if bytes.Contains(raw[:n], []byte(mark.text)) {
			if mark.name == GRUB {
				return GRUB, readGRUBProgram(f, r)
			}
			return mark.name, nil
		}
	}
	if core := readGRUBProgram(f, r); core != nil {
		return GRUB, core
	}
	return "", nil
}

func wideBytes(s string) string {
	var b []byte
	for _, c := range []byte(s) {
		b = append(b, c, 0)
	}
	return string(b)
}

// stopAt keeps the standard decoder within the file, and why a part of it could not be read, which that
// does not always hand on.
type stopAt struct {
	r      io.ReaderAt
	size   int64
	failed error
}

func (s *stopAt) ReadAt(p []byte, off int64) (int, error) {
	n, err := io.NewSectionReader(s.r, 0, s.size).ReadAt(p, off)
	if err != nil && !errors.Is(err, io.EOF) {
		s.failed = cmp.Or(s.failed, err)
	}
	return n, err
}

// NewProgram is a program of a kind that carries no signature, as a repair puts it in place.
func NewProgram(arch firmware.Arch, is string) Program {
	p := Program{Arch: arch, Subsystem: subsystemEFIApplication, Is: is}
	for machine, a := range machines {
		if a == arch {
			p.Machine = machine
		}
	}
	return p
}
