package volume_test

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/volume"
	"latchkey/internal/reference"
)

// scatter writes a file whose blocks lie apart from each other: between any two of them one
// of another file is written.
func scatter(t *testing.T, dir, name string, blocks int) []byte {
	t.Helper()
	f, err := os.Create(filepath.Join(dir, name))
	require.NoError(t, err)
	defer f.Close()
	other, err := os.Create(filepath.Join(dir, name+" beside"))
	require.NoError(t, err)
	defer other.Close()
	content := random(t, blocks*8192)
	for i := range blocks { // every other block is a hole
		_, err = f.WriteAt(content[i*8192:i*8192+4096], int64(i)*8192)
		require.NoError(t, err)
		clear(content[i*8192+4096 : (i+1)*8192])
		_, err = other.WriteAt(content[i*8192:i*8192+4096], int64(i)*4096)
		require.NoError(t, err)
		if i%7 == 0 {
			require.NoError(t, f.Sync())
		}
	}
	return content[:(blocks-1)*8192+4096]
}

// XFS as mkfs.xfs makes it and the kernel fills it, in every form of directories and of
// extents; read by us, and by xfs_db.
func TestXFSVolumes(t *testing.T) {
	for name, args := range map[string][]string{
		"as it is made":                   {},
		"blocks of 1 KiB":                 {"-b", "size=1024"},
		"directories in blocks of 16 KiB": {"-n", "size=16384"},
		"inodes of 2 KiB":                 {"-i", "size=2048"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if testing.Short() && len(args) > 0 {
				t.Skip("takes seconds")
			}
			dir, contents := tree(t)
			path := reference.Image(t, 320<<20)
			reference.Run(t, "", "mkfs.xfs", append(args, "-q", "-L", "display", path)...)
			var apart []byte
			reference.Mounted(t, path, "", func(at string) {
				reference.Run(t, "", "cp", "-a", dir+"/.", at)
				apart = scatter(t, at, "apart", 400)
			})
			v := examine(t, path, 512, 2048)
			assert.Equal(t, volume.KindXFS, v.Kind)
			assert.Equal(t, "display", v.Label)
			assert.Empty(t, v.Problems)
			require.NotNil(t, v.Files, v.FilesErr)
			for name, want := range contents {
				readsAs(t, v.Files, "/"+name, want)
			}
			readsAs(t, v.Files, "apart", apart)
			readsAs(t, v.Files, "vmlinuz", contents["boot/vmlinuz-6.1.0"])
			readsAs(t, v.Files, "boot/away/file number 0042", []byte{42})
			readsAs(t, v.Files, "far", contents["empty"])
			f, err := volume.ReadFile(v.Files, "boot/vmlinuz-6.1.0", 1<<20)
			require.NoError(t, err)
			liesWhereItSays(t, path, f, "IN\x81\xA4") // a regular file, rw-r--r--
			_, err = v.Files.Lookup("Empty")
			assert.ErrorIs(t, err, volume.ErrNotFound, "names are told apart by case")
			_, err = v.Files.Lookup("loop/x")
			assert.ErrorContains(t, err, "links")
			files, err := v.Files.ReadDir("usr/many")
			require.NoError(t, err)
			assert.Len(t, files, 1500)
			for _, line := range strings.Split(reference.Run(t, "", "xfs_db", "-r", "-c", "ls /boot", path), "\n") {
				fields := strings.Fields(line)
				if len(fields) < 6 || fields[5] == "." || fields[5] == ".." {
					continue
				}
				f, err := v.Files.Lookup("boot/" + fields[5])
				require.NoError(t, err)
				assert.Equal(t, fields[2] == "directory", f.Dir && fields[5] != "away", line)
			}
			total, _ := v.TotalSectors.Get()
			var blocks, size uint64
			_, err = fmt.Sscanf(
				reference.Run(t, "", "xfs_db", "-r", "-c", "sb 0", "-c", "p dblocks blocksize", path),
				"dblocks = %d\nblocksize = %d",
				&blocks,
				&size,
			)
			require.NoError(t, err)
			assert.Equal(t, blocks*size/512, total)
		})
	}
}

// XFS that mkfs.xfs fills itself, which needs no driver of the kernel's: versions too that it has
// none for any more.
func TestXFSVolumesWrittenByMkfs(t *testing.T) {
	dir, contents := t.TempDir(), map[string][]byte{
		"boot/vmlinuz": random(t, 700_000),
		"etc/fstab":    []byte("UUID=x / xfs defaults 0 1\n"),
		"empty":        {},
	}
	for i := range 1500 {
		name := fmt.Sprintf("usr/many/file-%04d", i)
		write(t, filepath.Join(dir, name), []byte{byte(i)})
		if i%25 == 0 {
			contents[name] = []byte{byte(i)}
		}
	}
	for name, b := range contents {
		write(t, filepath.Join(dir, name), b)
	}
	require.NoError(t, os.Symlink("boot/vmlinuz", filepath.Join(dir, "vmlinuz")))
	for name, args := range map[string][]string{
		"as it is made":                      {},
		"version 4":                          {"-m", "crc=0"},
		"version 4 without kinds of entries": {"-m", "crc=0", "-n", "ftype=0"},
		"blocks of 512 bytes":                {"-m", "crc=0", "-b", "size=512"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			path := reference.Image(t, 320<<20)
			reference.MakeXFS(t, path, dir, args...)
			v := examine(t, path, 512, 2048)
			require.NotNil(t, v.Files, v.FilesErr)
			for name, want := range contents {
				readsAs(t, v.Files, "/"+name, want)
			}
			readsAs(t, v.Files, "vmlinuz", contents["boot/vmlinuz"])
			files, err := v.Files.ReadDir("usr/many")
			require.NoError(t, err)
			assert.Len(t, files, 1500)
		})
	}
}

// Btrfs that mkfs.btrfs fills itself.
func TestBtrfsVolumesWrittenByMkfs(t *testing.T) {
	dir, contents := tree(t)
	for name, args := range map[string][]string{"as it is made": {}, "nodes of 4 KiB": {"-n", "4096"}, "mixed groups": {"--mixed"}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			path := reference.Image(t, 320<<20)
			reference.Run(t, "", "mkfs.btrfs", append(args, "-q", "-r", dir, path)...)
			v := examine(t, path, 512, 2048)
			require.NotNil(t, v.Files, v.FilesErr)
			for name, want := range contents {
				readsAs(t, v.Files, "/"+name, want)
			}
			byDefault, err := v.Btrfs.Default()
			require.NoError(t, err)
			assert.EqualValues(t, 5, byDefault, "the top")
		})
	}
}

// Superblocks that cannot be are refused with what is wrong.
func TestXFSThatCannotBe(t *testing.T) {
	path := reference.Image(t, 320<<20)
	reference.Run(t, "", "mkfs.xfs", "-q", path)
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	for want, change := range map[string][2]int64{
		"sb_blocksize": {5, 1}, "sb_inodesize": {104, 9}, "sb_agblklog": {124, 2}, "features": {216, 0x80}, "version": {101, 3},
		"sb_inopblog": {123, 1}, "sb_dirblklog": {192, 9},
	} {
		raw := append([]byte{}, whole[:64<<10]...)
		raw[change[0]] = byte(change[1])
		reference.SealXFS(raw) // else its checksum would be wrong first
		d, err := disk.New(&changed{base: raw}, int64(len(raw)), 512)
		require.NoError(t, err)
		v := volume.Examine(d, disk.Partition{Number: 1, Length: uint64(len(raw)) / 512})
		assert.Equal(t, volume.KindXFS, v.Kind)
		assert.Nil(t, v.Files)
		assert.ErrorContains(t, v.FilesErr, want)
	}
}

// Btrfs as mkfs.btrfs makes it and the kernel fills it, in every way of packing, with
// subvolumes; read by us, and by Btrfs' own tools.
func TestBtrfsVolumes(t *testing.T) {
	for name, args := range map[string]struct {
		make  []string
		mount string
	}{
		"as it is made":                     {},
		"nodes of 4 KiB, packed by zlib":    {[]string{"-n", "4096"}, "compress-force=zlib"},
		"nodes of 64 KiB, packed by lzo":    {[]string{"-n", "65536", "--csum", "xxhash"}, "compress-force=lzo"},
		"mixed groups, packed by zstd":      {[]string{"--mixed"}, "compress-force=zstd"},
		"all of it twice":                   {[]string{"-d", "dup", "-m", "dup"}, ""},
		"old features, nothing in the leaf": {[]string{"-O", "^no-holes,^skinny-metadata,^extref"}, "max_inline=0"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if testing.Short() && args.mount != "compress-force=zstd" {
				t.Skip("takes seconds")
			}
			dir, contents := tree(t)
			contents["etc/long"] = []byte(strings.Repeat("a line that packs well\n", 40_000))
			write(t, filepath.Join(dir, "etc/long"), contents["etc/long"])
			path := reference.Image(t, 320<<20)
			reference.Run(t, "", "mkfs.btrfs", append(args.make, "-q", "-L", "display", path)...)
			var apart []byte
			reference.Mounted(t, path, args.mount, func(at string) {
				reference.Run(t, "", "btrfs", "subvolume", "create", at+"/@")
				reference.Run(t, "", "cp", "-a", dir+"/.", at+"/@")
				apart = scatter(t, at+"/@", "apart", 400)
				require.NoError(t, os.MkdirAll(at+"/@/.snapshots/1", 0o755))
				reference.Run(t, "", "btrfs", "subvolume", "snapshot", at+"/@", at+"/@/.snapshots/1/snapshot")
				reference.Run(t, "", "btrfs", "subvolume", "create", at+"/gone")
				reference.Run(t, "", "btrfs", "subvolume", "delete", at+"/gone")
				reference.Run(t, "", "btrfs", "subvolume", "set-default", at+"/@/.snapshots/1/snapshot")
			})
			v := examine(t, path, 512, 2048)
			assert.Equal(t, volume.KindBtrfs, v.Kind)
			assert.Equal(t, "display", v.Label)
			require.NotNil(t, v.Files, v.FilesErr)
			list, all := v.Btrfs.Subvolumes()
			assert.True(t, all)
			assert.Len(t, list, 3)
			assert.Contains(t, list, "/@/.snapshots/1/snapshot")
			byDefault, err := v.Btrfs.Default()
			require.NoError(t, err)
			assert.Equal(t, list["/@/.snapshots/1/snapshot"], byDefault)
			for _, below := range []string{"/@", "/@/.snapshots/1/snapshot"} {
				for name, want := range contents {
					readsAs(t, v.Files, below+"/"+name, want)
				}
				readsAs(t, v.Files, below+"/apart", apart)
				readsAs(t, v.Files, below+"/vmlinuz", contents["boot/vmlinuz-6.1.0"])
				files, err := v.Files.ReadDir(below + "/usr/many")
				require.NoError(t, err)
				assert.Len(t, files, 1500)
			}
			if args.mount == "" {
				f, err := volume.ReadFile(v.Files, "@/boot/vmlinuz-6.1.0", 1<<20)
				require.NoError(t, err)
				raw, err := os.ReadFile(path)
				require.NoError(t, err)
				at := f.Place(100_000)
				assert.Equal(t, f.Bytes[100_000:100_016], raw[at:at+16])
			}
			for line := range strings.Lines(reference.Run(t, "", "btrfs", "inspect-internal", "dump-tree", "-t", "root", path)) {
				if strings.Contains(line, "ROOT_REF") && !strings.Contains(line, "ROOT_BACKREF") {
					_, id, _ := strings.Cut(line, "ROOT_REF ")
					number := uint64(0)
					_, err := fmt.Sscan(id, &number)
					require.NoError(t, err)
					assert.Contains(t, slices.Collect(maps.Values(list)), number)
				}
			}
		})
	}
}
