package volume_test

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem/fat32"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/volume"
	"latchkey/internal/reference"
)

// Volumes written by Debian's dosfstools, mtools, ntfs-3g and e2fsprogs, read by
// us; what is expected is what those tools and blkid say of them.

// examine opens a volume file as partition 1 of a disk that starts at sector 0.
func examine(t *testing.T, path string, sectorSize int, start uint64) volume.Opened {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(t, err)
	base := int64(start) * int64(sectorSize)
	d, err := disk.New(shifted{f, base}, info.Size()+base, sectorSize)
	require.NoError(t, err)
	return volume.Examine(d, disk.Partition{Number: 1, Start: start, Length: uint64(info.Size()) / uint64(sectorSize)})
}

// shifted puts a volume at an offset on a disk.
type shifted struct {
	r    io.ReaderAt
	base int64
}

func (s shifted) ReadAt(p []byte, off int64) (int, error) { return s.r.ReadAt(p, off-s.base) }

func blkid(t *testing.T, path, tag string) string {
	t.Helper()
	return strings.TrimSpace(reference.Run(t, "", "blkid", "-p", "-o", "value", "-s", tag, path))
}

func TestFATVolumesWrittenByMkfs(t *testing.T) {
	for _, c := range []struct {
		name       string
		size       int64
		args       []string
		sectorSize int
		kind       volume.Kind
	}{
		{"FAT12", 2 << 20, []string{"-F", "12"}, 512, volume.KindFAT12},
		{"FAT16", 32 << 20, []string{"-F", "16"}, 512, volume.KindFAT16},
		{"FAT32", 100 << 20, []string{"-F", "32"}, 512, volume.KindFAT32},
		{"FAT32 of large clusters", 300 << 20, []string{"-F", "32", "-s", "8"}, 512, volume.KindFAT32},
		{"FAT32 on 4096-byte sectors", 300 << 20, []string{"-F", "32", "-S", "4096"}, 4096, volume.KindFAT32},
		{"one FAT", 32 << 20, []string{"-F", "16", "-f", "1"}, 512, volume.KindFAT16},
	} {
		t.Run(c.name, func(t *testing.T) {
			path := reference.Image(t, c.size)
			reference.Run(t, "", "mkfs.vfat", append(c.args, "-n", "SYSTEM", "-h", "2048", path)...)
			contents := fill(t, path)
			v := examine(t, path, c.sectorSize, 2048)
			require.NotNil(t, v.FAT)
			assert.Equal(t, c.kind, v.Kind)
			assert.Equal(t, blkid(t, path, "UUID"), v.Serial)
			assert.Equal(t, blkid(t, path, "LABEL"), v.Label)
			hidden, known := v.HiddenSectors.Get()
			assert.True(t, known)
			assert.EqualValues(t, 2048, hidden)
			assert.Empty(t, v.Problems)
			for name, want := range contents {
				f, err := v.FAT.Lookup(name)
				require.NoError(t, err, name)
				r, err := v.FAT.Open(f)
				require.NoError(t, err, name)
				got, err := io.ReadAll(r)
				require.NoError(t, err, name)
				assert.True(t, bytes.Equal(want, got), name)
			}
			assert.Equal(t, mdir(t, path), names(t, v.FAT))
		})
	}
}

// fill puts files into a volume with mtools and returns them.
func fill(t *testing.T, path string) map[string][]byte {
	t.Helper()
	contents := map[string][]byte{}
	reference.Run(t, "", "mmd", "-i", path, "::/EFI", "::/EFI/BOOT", "::/EFI/A Long Folder Name")
	for name, size := range map[string]int{
		"/EFI/BOOT/BOOTX64.EFI": 70_001, "/EFI/BOOT/grub.cfg": 17, "/EFI/A Long Folder Name/Größe und Maße.efi": 5000, "/empty": 0,
	} {
		b := make([]byte, size)
		_, err := rand.Read(b)
		require.NoError(t, err)
		from := filepath.Join(t.TempDir(), "f")
		require.NoError(t, os.WriteFile(from, b, 0o600))
		reference.Run(t, "", "env", "LC_ALL=C.UTF-8", "mcopy", "-i", path, from, "::"+name)
		contents[name] = b
	}
	// A deleted file between living ones, as every used volume has.
	reference.Run(t, "", "mcopy", "-i", path, "/etc/hostname", "::/gone.txt")
	reference.Run(t, "", "mdel", "-i", path, "::/gone.txt")
	return contents
}

func mdir(t *testing.T, path string) []string {
	t.Helper()
	listing := reference.Run(t, "", "env", "LC_ALL=C.UTF-8", "mdir", "-/", "-b", "-i", path, "::")
	var out []string
	for _, line := range strings.Fields(strings.ReplaceAll(strings.ReplaceAll(listing, " ", "\x00"), "::", "")) {
		out = append(out, strings.TrimSuffix(strings.ReplaceAll(line, "\x00", " "), "/"))
	}
	return sorted(out)
}

func names(t *testing.T, fat *volume.FAT) []string {
	t.Helper()
	var out []string
	var walk func(dir string)
	walk = func(dir string) {
		files, err := fat.ReadDir(dir)
		require.NoError(t, err)
		for _, f := range files {
			path := dir + "/" + f.Name
			out = append(out, path)
			if f.Dir {
				walk(path)
			}
		}
	}
	walk("")
	return sorted(out)
}

// A volume that is FAT32 by its fields and FAT16 by its count of clusters:
// firmware and Linux go by the fields, mtools by the count.
func TestFAT32WithTooFewClusters(t *testing.T) {
	path := reference.Image(t, 64<<20)
	reference.Run(t, "", "mkfs.vfat", "-F", "32", "-s", "8", "-h", "2048", path)
	v := examine(t, path, 512, 2048)
	assert.Equal(t, volume.KindFAT32, v.Kind)
	assert.Equal(t, "FAT32", blkid(t, path, "VERSION"), "what Linux takes it for")
	require.Len(t, v.Problems, 1)
	assert.Equal(t, volume.CodeFATFewClusters, v.Problems[0].Code)
}

func TestFATHeldAgainstASecondReader(t *testing.T) {
	path := reference.Image(t, 100<<20)
	reference.Run(t, "", "mkfs.vfat", "-F", "32", path)
	contents := fill(t, path)
	raw, err := os.Open(path)
	require.NoError(t, err)
	defer raw.Close()
	second, err := fat32.Read(file.New(raw, true), 100<<20, 0, 512)
	require.NoError(t, err)
	v := examine(t, path, 512, 0)
	for name, b := range contents {
		if len(b) == 0 {
			continue // the library does not open an empty file
		}
		want, err := second.ReadFile(strings.TrimPrefix(name, "/"))
		require.NoError(t, err)
		f, err := v.FAT.Lookup(name)
		require.NoError(t, err)
		r, err := v.FAT.Open(f)
		require.NoError(t, err)
		got, err := io.ReadAll(r)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want, got), name)
	}
}

func TestNTFSVolumeWrittenByMkntfs(t *testing.T) {
	const sectors = 200_000
	path := reference.Image(t, sectors*512)
	reference.Run(t, "", "mkntfs", "-Q", "-F", "-p", "2048", "-L", "Windows", path, fmt.Sprint(sectors))
	v := examine(t, path, 512, 2048)
	assert.Equal(t, volume.KindNTFS, v.Kind)
	assert.Equal(t, blkid(t, path, "UUID"), v.Serial)
	assert.Empty(t, v.Problems)
	info := reference.Run(t, "", "ntfsinfo", "-m", path)
	clusters := regexp.MustCompile(`Volume Size in Clusters: (\d+)`).FindStringSubmatch(info)
	require.NotNil(t, clusters)
	total, _ := v.TotalSectors.Get()
	assert.Equal(t, clusters[1], fmt.Sprint((total-1)/8), "clusters of 4 KiB, the backup boot sector left out")
	// The same volume after a copy that moved it and did not correct it.
	moved := examine(t, path, 512, 206_848)
	require.Len(t, moved.Problems, 1)
	assert.Equal(t, volume.CodeHiddenSectors, moved.Problems[0].Code)
	assert.Equal(t, "206848", moved.Problems[0].Want)
	assert.Equal(t, "2048", moved.Problems[0].Got)
}

// A FAT volume's hidden sectors as Windows' setup writes them, read with the
// offset of the FAT specification 1.03, section 3.1 (BPB_HiddSec at byte 28).
func TestHiddenSectorsStandAtByte28(t *testing.T) {
	path := reference.Image(t, 32<<20)
	reference.Run(t, "", "mkfs.vfat", "-F", "16", "-h", "63", path)
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "3f000000", hex.EncodeToString(raw[28:32]))
	v := examine(t, path, 512, 63)
	hidden, _ := v.HiddenSectors.Get()
	assert.EqualValues(t, 63, hidden)
	assert.EqualValues(t, 63*512+28, v.HiddenSectors.Source().Offset)
}
