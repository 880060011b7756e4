package loader_test

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/loader"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// archived is a cpio archive of the new form as busybox makes it of files.
func archived(t testing.TB, files map[string]string) []byte {
	dir := t.TempDir()
	for name, text := range files {
		path := filepath.Join(dir, "tree", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	reference.Run(t, "", "sh", "-c", "cd "+filepath.Join(dir, "tree")+" && find . | sort | busybox cpio -o -H newc > ../archive")
	raw, err := os.ReadFile(filepath.Join(dir, "archive"))
	require.NoError(t, err)
	return raw
}

// packed is what a program packs.
func packed(t testing.TB, raw []byte, command string) []byte {
	in, out := filepath.Join(t.TempDir(), "in"), filepath.Join(t.TempDir(), "out")
	require.NoError(t, os.WriteFile(in, raw, 0o644))
	reference.Run(t, "", "sh", "-c", command+" < "+in+" > "+out)
	raw, err := os.ReadFile(out)
	require.NoError(t, err)
	return raw
}

func driversIn(t testing.TB, raw []byte) loader.Drivers {
	held, _, err := loader.ReadDrivers(io.NewSectionReader(bytes.NewReader(raw), 0, int64(len(raw))), 1<<30)
	require.NoError(t, err)
	return held
}

const modules = "usr/lib/modules/6.1.0-13-amd64/"

// ofFedora has one driver as a module, and one built in.
var ofFedora = map[string]string{"init": "#!/bin/sh\n", modules + "kernel/drivers/nvme/host/nvme.ko.xz": "x",
	modules + "kernel/drivers/nvme/host/nvme-core.ko.xz": "x", modules + "modules.builtin": "kernel/drivers/ata/libata.ko\nkernel/drivers/scsi/sd_mod.ko\n",
	modules + "modules.dep": "kernel/drivers/ata/ahci.ko: kernel/drivers/usb/storage/uas.ko\n", "etc/ahci.ko": "no module", "big": strings.Repeat("x", 3<<20)}

const whole = loader.DriversWhole | loader.DriversBuiltIn | loader.DriversRead

// However it is packed, the same is found; of what is cut off, that it is.
func TestDriversInAnInitialRAMDisk(t *testing.T) {
	raw := archived(t, ofFedora)
	want := loader.DriverNVMe | loader.DriverATA | loader.DriverDisks | whole
	assert.Equal(t, want, driversIn(t, raw))
	for _, command := range []string{"gzip", "zstd", "xz --check=crc32", "xz -e --check=crc32", "xz --format=lzma", "lz4 -l", "bzip2"} {
		small := packed(t, raw, command)
		assert.Equal(t, want, driversIn(t, small), command)
		early := archived(t, map[string]string{"kernel/x86/microcode/GenuineIntel.bin": "x"})
		assert.Equal(t, want, driversIn(t, append(append(early, make([]byte, 512)...), small...)), "%s, behind another archive", command)
		cut := small[:len(small)-len(small)/3]
		held, _, err := loader.ReadDrivers(io.NewSectionReader(bytes.NewReader(cut), 0, int64(len(cut))), 1<<30)
		assert.True(t, err != nil || held.Has(loader.DriversBroken), "%s, cut off", command)
		assert.False(t, held.Lacks(loader.DriverAHCI), "%s, cut off", command)
	}
	for _, command := range []string{"cat", "gzip", "zstd"} {
		small := packed(t, raw, command)
		assert.True(t, driversIn(t, small[:len(small)/2]).Has(loader.DriversBroken), command)
		small[len(small)/2] ^= 0xFF
		if command != "cat" {
			held, _, err := loader.ReadDrivers(io.NewSectionReader(bytes.NewReader(small), 0, int64(len(small))), 1<<30)
			assert.True(t, err != nil || held.Has(loader.DriversBroken) || !held.Has(loader.DriversWhole), command)
		}
	}
	assert.False(t, driversIn(t, packed(t, raw, "xz -T2 --block-size=1MiB --check=crc32")).Lacks(loader.DriverAHCI), "the first of several blocks")
	more := packed(t, archived(t, map[string]string{modules + "kernel/ahci.ko": "x"}), "gzip")
	assert.Equal(t, want|loader.DriverAHCI, driversIn(t, append(packed(t, raw, "gzip"), more...)), "one behind the other")
}

// A driver that is not found is known to be lacking only where all was seen, and what is built in is told.
func TestWhatAnInitialRAMDiskLacks(t *testing.T) {
	without := func(name string, more ...string) []byte {
		files := map[string]string{}
		for n, text := range ofFedora {
			if !strings.HasSuffix(n, name) {
				files[n] = text
			}
		}
		for _, n := range more {
			files[n] = "x"
		}
		return archived(t, files)
	}
	assert.True(t, driversIn(t, without("nvme.ko.xz")).Lacks(loader.DriverNVMe))
	assert.False(t, driversIn(t, without("none")).Lacks(loader.DriverNVMe))
	assert.False(t, driversIn(t, without("modules.builtin")).Lacks(loader.DriverAHCI), "it may be built in")
	assert.False(t, driversIn(t, without("nvme.ko.xz", "squashfs-root.img")).Lacks(loader.DriverNVMe), "it may lie in the volume")
	micro := driversIn(t, diskmaker.RAMDisk())
	assert.Equal(t, whole, whole.With(micro|loader.DriversWhole))
	assert.True(t, (loader.DriverNVMe | whole).With(micro).Has(loader.DriverNVMe|loader.DriversBuiltIn))
	assert.False(t, whole.With(0).Lacks(loader.DriverNVMe), "one that was not looked into")
	usb := driversIn(t, diskmaker.RAMDiskWith("6.1", []string{"kernel/usb-storage.ko"}, []string{"kernel/xhci-pci.ko"}))
	assert.True(t, usb.Has(loader.DriverUSBDisks|loader.DriverXHCI))
	assert.Equal(t, "nvme, libata", (loader.DriverNVMe | loader.DriverATA | whole).String())
}

// Nothing is told of what cannot be read, or is more than is unpacked.
func TestDriversThatCannotBeTold(t *testing.T) {
	raw := archived(t, ofFedora)
	read := func(r io.ReaderAt, size, most int64) error {
		_, _, err := loader.ReadDrivers(io.NewSectionReader(r, 0, size), most)
		return err
	}
	assert.Error(t, read(bytes.NewReader(raw[:1000]), int64(len(raw)), 1<<30), "bytes that are not there")
	assert.ErrorIs(t, read(failing{raw, 70_000}, int64(len(raw)), 1<<30), errFailing)
	assert.Error(t, read(bytes.NewReader(raw), int64(len(raw)), 1<<20), "more than is unpacked")
	assert.Error(t, read(strings.NewReader("\x89LZO\x00\r\n\x1a\n..."), 12, 1<<30), "packed by lzop")
	bomb := packed(t, nil, "sh -c 'head -c 200000000 /dev/zero | zstd'")
	assert.Error(t, read(bytes.NewReader(bomb), int64(len(bomb)), 1<<24), "zeros without end")
}

var errFailing = errors.New("failing")

// failing gives no bytes from a place on.
type failing struct {
	raw  []byte
	from int64
}

func (f failing) ReadAt(p []byte, off int64) (int, error) {
	if off+int64(len(p)) > f.from {
		return 0, errFailing
	}
	return copy(p, f.raw[off:]), nil
}

func FuzzDrivers(f *testing.F) {
	raw := archived(f, map[string]string{modules + "kernel/nvme.ko": "x", modules + "modules.builtin": "kernel/ahci.ko\n"})
	for _, command := range []string{"cat", "gzip", "zstd", "xz --check=crc32", "xz --format=lzma", "lz4 -l", "bzip2"} {
		f.Add(packed(f, raw, command))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		held, unpacked, err := loader.ReadDrivers(io.NewSectionReader(bytes.NewReader(raw), 0, int64(len(raw))), 1<<22)
		assert.LessOrEqual(t, unpacked, int64(1<<22))
		if err == nil {
			assert.True(t, held.Has(loader.DriversRead))
			assert.False(t, held.Has(loader.DriversBroken) && held.Has(loader.DriversWhole))
		}
	})
}
