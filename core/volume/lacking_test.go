package volume_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/volume"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// lacking is a volume of which a sector of 512 bytes cannot be read, -1 for none; it keeps which sectors
// were read.
type lacking struct {
	base []byte
	not  int64
	why  error
	read map[int64]bool
}

func (l *lacking) ReadAt(p []byte, off int64) (int, error) {
	for at := off / 512; at*512 < off+int64(len(p)); at++ {
		if at == l.not {
			return 0, l.why
		}
		if l.read != nil {
			l.read[at] = true
		}
	}
	return bytes.NewReader(l.base).ReadAt(p, off)
}

var errUnreadable = errors.New("input/output error")

// told is what a volume tells of paths, each as a text; what cannot be told for want of evidence, or
// because it is damaged, is left out.
func told(t *testing.T, l *lacking, paths []string) map[string]string {
	d, err := disk.New(l, int64(len(l.base)), 512)
	require.NoError(t, err)
	v := volume.Examine(d, disk.Partition{Number: 1, Length: uint64(len(l.base)) / 512})
	tells := map[string]string{}
	tell := func(what, says string, err error) {
		switch {
		case err == nil:
			tells[what] = says
		case errors.Is(err, volume.ErrNotFound):
			tells[what] = "is not there"
		}
	}
	if v.Kind != volume.NotCaptured && !v.KindOpen {
		tells["kind"] = string(v.Kind)
	}
	if v.Container != nil && !v.Container.Open {
		tells["container"] = fmt.Sprintf("%+v", *v.Container)
	}
	if v.Files == nil {
		return tells
	}
	for _, path := range paths {
		f, err := volume.ReadFile(v.Files, path, 1<<20)
		if err != nil {
			tell("file "+path, "", err)
		} else {
			tell("file "+path, string(f.Bytes), nil)
		}
		list, err := v.Files.ReadDir(path)
		names := make([]string, 0, len(list))
		for _, f := range list {
			names = append(names, fmt.Sprint(f.Name, f.Dir, f.Size))
		}
		slices.Sort(names)
		tell("folder "+path, fmt.Sprint(names), err)
	}
	if v.Btrfs != nil {
		if list, whole := v.Btrfs.Subvolumes(); whole {
			tell("subvolumes", fmt.Sprint(list), nil)
		}
		one, err := v.Btrfs.Default()
		tell("the default one", fmt.Sprint(one), err)
	}
	return tells
}

// Of a volume of which any one sector is not in evidence, or cannot be read, everything is told as of the
// whole, or not at all: no file is missed, or shorter, for want of what tells of it.
func TestAVolumeThatLacksASector(t *testing.T) {
	dir := fuzzTree(t)
	for name, n := range map[string]int{"boot/vmlinuz": 70_000, "etc/os-release": 40, "usr/lib/deep/er/file": 5000} {
		write(t, filepath.Join(dir, name), random(t, n))
	}
	for i := range 300 {
		write(t, filepath.Join(dir, fmt.Sprintf("usr/many/file-%04d", i)), []byte{byte(i)})
	}
	paths := []string{"", "boot", "boot/grub/grub.cfg", "boot/vmlinuz", "link/grub.cfg", "usr/many", "usr/many/file-0077",
		"usr/lib/deep/er/file", "etc", "etc/os-release", "etc/none", "none/none", "usr/many/none"}
	images := map[string]func(path string){
		"ext4":  func(path string) { reference.Run(t, "", "mke2fs", "-q", "-t", "ext4", "-d", dir, path) },
		"ext2":  func(path string) { reference.Run(t, "", "mke2fs", "-q", "-t", "ext2", "-b", "1024", "-d", dir, path) },
		"XFS":   func(path string) { reference.MakeXFS(t, path, dir, "--unsupported") },
		"Btrfs": func(path string) { reference.Run(t, "", "mkfs.btrfs", "-q", "--mixed", "-r", dir, path) },
		"NTFS": func(path string) {
			reference.Run(t, "", "mkntfs", "-F", "-Q", "-q", "-c", "512", path)
			reference.Run(t, "", "ntfscp", "-q", path, filepath.Join(dir, "boot/vmlinuz"), "bootmgr")
		},
		"FAT": func(path string) {
			reference.Run(t, "", "mkfs.fat", path)
			reference.Run(t, "", "mcopy", "-s", "-i", path, filepath.Join(dir, "boot"), filepath.Join(dir, "usr"), "::/")
		},
	}
	group := "vg {\nid = \"a\"\nextent_size = 8\nphysical_volumes { pv0 { id = \"abcdef-abcd-abcd-abcd-abcd-abcd-abcdef\"\npe_start = 256\n} }\n" +
		"logical_volumes {\n"
	for i := range 40 {
		group += fmt.Sprintf("lv%d { id = \"b%d\" segment_count = 1\nsegment1 { type = \"striped\" stripe_count = 1 extent_count = 2\n"+
			"stripes = [\n\"pv0\", %d\n] } }\n", i, i, 2*i)
	}
	images["LVM"] = func(path string) {
		require.NoError(t, os.WriteFile(path, physical([]byte(group+"}\n}\n")), 0o600))
	}
	for _, version := range []string{"0.90", "1.0", "1.2"} {
		images["RAID "+version] = func(path string) {
			mirror(t, path, diskmaker.RAID{Version: version, Level: 1}, 16<<20)
		}
	}
	for name, made := range images {
		least := 8
		if name == "LVM" || strings.HasPrefix(name, "RAID") {
			least = 1
		}
		t.Run(name, func(t *testing.T) {
			path := reference.Image(t, 16<<20)
			made(path)
			raw, err := os.ReadFile(path)
			require.NoError(t, err)
			whole := &lacking{base: raw, not: -1, read: map[int64]bool{}}
			want := told(t, whole, append(paths, "bootmgr"))
			require.Greater(t, len(want), least, "%v", want)
			const most = 250
			var sectors []int64
			for at := range whole.read {
				sectors = append(sectors, at)
			}
			slices.Sort(sectors)
			for i := 0; i < len(sectors); i += 1 + len(sectors)/most {
				for _, why := range []error{&disk.NotCaptured{Offset: sectors[i] * 512, Length: 512}, errUnreadable} {
					less := &lacking{base: raw, not: sectors[i], why: why}
					for what, says := range told(t, less, append(paths, "bootmgr")) {
						if want[what] != says {
							assert.Fail(t, "told otherwise", "sector %d, %v: %s: %.100q, not %.100q", sectors[i], why, what, says, want[what])
						}
					}
				}
			}
		})
	}
}

// A byte of a structure that is not what was written is never read as something else: ext4 and
// XFS keep checksums of their structures.
func TestAByteThatIsNotWhatWasWritten(t *testing.T) {
	dir := fuzzTree(t)
	for i := range 300 {
		write(t, filepath.Join(dir, fmt.Sprintf("usr/many/file-%04d", i)), []byte{byte(i)})
	}
	paths := []string{"", "boot", "boot/grub/grub.cfg", "link/grub.cfg", "usr/many", "usr/many/file-0077", "none/none", "usr/many/none"}
	made := map[string]func(path string){
		"ext4": func(path string) {
			reference.Run(t, "", "mke2fs", "-q", "-t", "ext4", "-O", "metadata_csum", "-d", dir, path)
		},
		"ext4, a seed that is kept": func(path string) {
			reference.Run(t, "", "mke2fs", "-q", "-t", "ext4", "-O", "metadata_csum_seed", "-b", "1024", "-d", dir, path)
		},
		"ext4, with an index": func(path string) {
			reference.Run(t, "", "mke2fs", "-q", "-t", "ext4", "-O", "metadata_csum", "-b", "1024", "-d", dir, path)
			reference.Run(t, "", "sh", "-c", `e2fsck -fyD "$1" || [ $? = 1 ]`, "sh", path) // 1: it was changed
		},
		"XFS": func(path string) { reference.MakeXFS(t, path, dir, "--unsupported") },
	}
	for name, make := range made {
		t.Run(name, func(t *testing.T) {
			path := reference.Image(t, 16<<20)
			make(path)
			raw, err := os.ReadFile(path)
			require.NoError(t, err)
			whole := &lacking{base: raw, not: -1, read: map[int64]bool{}}
			want := told(t, whole, paths)
			require.Contains(t, want, "folder usr/many")
			require.Contains(t, want["folder usr/many"], "file-0299")
			r := rand.New(rand.NewPCG(1, 2))
			seen := 0
			for _, sector := range slices.Sorted(maps.Keys(whole.read)) {
				at := sector*512 + r.Int64N(512)
				kept := raw[at]
				raw[at] ^= byte(1 << r.IntN(8))
				is := told(t, &lacking{base: raw, not: -1}, paths)
				raw[at] = kept
				for what, says := range is {
					contents := strings.HasPrefix(what, "file ") && says != "is not there" && want[what] != "is not there"
					if what != "kind" && what != "container" && !contents && want[what] != says {
						assert.Fail(t, "read as something else", "byte %d: %s: %.100q, not %.100q", at, what, says, want[what])
					}
				}
				if len(is) < len(want) {
					seen++
				}
			}
			assert.Greater(t, seen, len(whole.read)/4, "of %d sectors", len(whole.read))
		})
	}
}

// The superblock of a Btrfs that is not what was written opens nothing; a kind of checksum that is not
// computed here has to be believed.
func TestASuperblockOfABtrfsThatIsNotWhatWasWritten(t *testing.T) {
	for kind, held := range map[string]bool{"crc32c": true, "sha256": true, "xxhash": false} {
		path := reference.Image(t, 128<<20)
		reference.Run(t, "", "mkfs.btrfs", "-q", "--csum", kind, path)
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		opened := func() error {
			_, err := volume.OpenBtrfs(io.NewSectionReader(bytes.NewReader(raw), 0, int64(len(raw))))
			return err
		}
		require.NoError(t, opened(), kind)
		raw[64<<10+299] ^= 1 // of its label
		if held {
			assert.ErrorContains(t, opened(), "checksum of the superblock", kind)
		} else {
			assert.NoError(t, opened(), kind)
		}
	}
}
