package loader_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// EFI programs of Debian's packages, held against what file(1) says of them.
func TestProgramsOfDebianPackages(t *testing.T) {
	for path, arch := range map[string]firmware.Arch{
		"/usr/lib/systemd/boot/efi/systemd-bootx64.efi":   firmware.X64,
		"/usr/lib/grub/x86_64-efi/monolithic/grubx64.efi": firmware.X64,
		"/usr/lib/grub/i386-efi/monolithic/grubia32.efi":  firmware.IA32,
	} {
		raw := reference.NeedFile(t, path)
		p, err := loader.ExamineEFI(bytes.NewReader(raw), int64(len(raw)))
		require.NoError(t, err, path)
		assert.Equal(t, arch, p.Arch, path)
		assert.True(t, p.Application(), path)
		assert.False(t, p.Signed, path)
		said := reference.Run(t, "", "file", "-b", path)
		assert.Contains(t, said, "EFI application", path)
		want := map[firmware.Arch]string{firmware.X64: "x86-64", firmware.IA32: "80386"}[arch]
		assert.Contains(t, strings.ReplaceAll(said, "Intel ", ""), want, path)
	}
}

// file(1) takes what diskmaker writes for the EFI programs they stand for.
func TestMadeProgramsAreProgramsToFile(t *testing.T) {
	for machine, want := range map[uint16]string{0x8664: "x86-64", 0x014C: "80386", 0xAA64: "Aarch64"} {
		path := filepath.Join(t.TempDir(), "p.efi")
		raw := diskmaker.Program{Machine: machine, Signed: true}.Bytes()
		require.NoError(t, os.WriteFile(path, raw, 0o600))
		said := reference.Run(t, "", "file", "-b", path)
		assert.Contains(t, said, "EFI application")
		assert.Contains(t, said, want)
		p, err := loader.ExamineEFI(bytes.NewReader(raw), int64(len(raw)))
		require.NoError(t, err)
		assert.True(t, p.Signed)
		assert.Equal(t, machine, p.Machine)
	}
}

// Boot code of Debian's packages; GRUB's sector as the GRUB manual gives it:
// grub-install writes sector 1 until told otherwise.
func TestBootCodeOfDebianPackages(t *testing.T) {
	grub := reference.NeedFile(t, "/usr/lib/grub/i386-pc/boot.img")
	assert.Equal(t, loader.CodeGRUB, loader.Classify(grub[:440]))
	assert.EqualValues(t, 1, loader.GRUBCoreSector(grub))
	classic := reference.NeedFile(t, "/usr/lib/syslinux/mbr/mbr.bin")
	assert.Equal(t, loader.CodeClassic, loader.Classify(classic))
}

func TestClassify(t *testing.T) {
	assert.Equal(t, loader.CodeNone, loader.Classify(make([]byte, 440)))
	assert.Equal(t, loader.CodeOther, loader.Classify([]byte{0xFA, 0xF4}))
	assert.Equal(t, loader.CodeClassic, loader.Classify([]byte("..Missing operating system..")))
}

func TestDamagedPrograms(t *testing.T) {
	good := diskmaker.Program{Size: 4096}.Bytes()
	change := func(off int, b ...byte) []byte {
		c := append([]byte{}, good...)
		copy(c[off:], b)
		return c
	}
	for want, raw := range map[string][]byte{
		"expected 4D 5A":    []byte("text"),
		"is cut short":      good[:2048],
		"PE/COFF headers":   change(0x3C, 0xFF, 0xFF, 0xFF, 0x7F),
		"PE/COFF headers: ": good[:100],
	} {
		_, err := loader.ExamineEFI(bytes.NewReader(raw), int64(len(raw)))
		assert.ErrorContains(t, err, strings.TrimSpace(want))
	}
	p, err := loader.ExamineEFI(bytes.NewReader(change(0x84+20+68, 3)), int64(len(good)))
	require.NoError(t, err)
	assert.False(t, p.Application(), "subsystem 3 is a console program")
}

// UEFI Specification 2.10, table 3.3.
func TestFallbackPaths(t *testing.T) {
	assert.Equal(t, `\EFI\BOOT\BOOTX64.EFI`, loader.FallbackPath(firmware.X64))
	assert.Equal(t, `\EFI\BOOT\BOOTIA32.EFI`, loader.FallbackPath(firmware.IA32))
	assert.Equal(t, `\EFI\BOOT\BOOTAA64.EFI`, loader.FallbackPath(firmware.ARM64))
}

func FuzzExamineEFI(f *testing.F) {
	f.Add(diskmaker.Program{}.Bytes())
	f.Add(diskmaker.Program{Machine: 0x014C, Signed: true}.Bytes())
	f.Fuzz(func(_ *testing.T, raw []byte) {
		_, _ = loader.ExamineEFI(bytes.NewReader(raw), int64(len(raw)))
	})
}
