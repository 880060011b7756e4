package volume_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem/ext4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/volume"
	"latchkey/internal/reference"
)

// ext volumes written by e2fsprogs, read by us; what is expected is what
// dumpe2fs and debugfs say of them, and a general-purpose library as a second
// reader.

// tree is a folder that a volume is filled from, and what it holds.
func tree(t *testing.T) (string, map[string][]byte) {
	t.Helper()
	dir, contents := t.TempDir(), map[string][]byte{
		"boot/grub/grub.cfg": random(t, 9000), "etc/fstab": []byte("UUID=x / ext4 defaults 0 1\n"),
		"boot/vmlinuz-6.1.0": random(t, 700_000), "empty": {}, "boot/tiny": []byte("a"),
	}
	for i := range 1500 { // a hashed directory of several blocks
		name := fmt.Sprintf("usr/many/file number %04d", i)
		write(t, filepath.Join(dir, name), []byte{byte(i)})
		if i%25 == 0 {
			contents[name] = []byte{byte(i)}
		}
	}
	for name, b := range contents {
		write(t, filepath.Join(dir, name), b)
	}
	require.NoError(t, os.Symlink("boot/vmlinuz-6.1.0", filepath.Join(dir, "vmlinuz")))
	require.NoError(t, os.Symlink("/usr/many", filepath.Join(dir, "boot", "away")))
	require.NoError(t, os.Symlink("loop", filepath.Join(dir, "loop")))
	require.NoError(t, os.Symlink(strings.Repeat("./", 50)+"empty", filepath.Join(dir, "far")))
	return dir, contents
}

func TestExtVolumesWrittenByMkfs(t *testing.T) {
	for name, args := range map[string][]string{
		"ext4":                     {"-t", "ext4"},
		"ext4 of 1 KiB blocks":     {"-t", "ext4", "-b", "1024"},
		"ext4 without 64bit":       {"-t", "ext4", "-O", "^64bit,^metadata_csum"},
		"ext4 with data in inodes": {"-t", "ext4", "-O", "inline_data"},
		// Small groups, so that their descriptors lie in several groups of groups.
		"ext4 with groups of groups":                {"-t", "ext4", "-b", "1024", "-g", "256", "-O", "meta_bg,^resize_inode"},
		"ext4 with groups of groups, copies in two": {"-t", "ext4", "-b", "1024", "-g", "256", "-O", "meta_bg,^resize_inode,sparse_super2"},
		"ext4 with groups of groups, every copy":    {"-t", "ext4", "-b", "1024", "-g", "1024", "-O", "meta_bg,^resize_inode,^sparse_super"},
		"ext3":                                      {"-t", "ext3"},
		"ext2":                                      {"-t", "ext2", "-I", "128"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if testing.Short() && name != "ext4" {
				t.Skip("takes ten seconds")
			}
			dir, contents := tree(t)
			path := reference.Image(t, 64<<20)
			reference.Run(t, "", "mke2fs", append(args, "-q", "-L", "display", "-d", dir, path)...)
			v := examine(t, path, 512, 2048)
			assert.Equal(t, volume.KindExt, v.Kind)
			assert.Equal(t, "display", v.Label)
			assert.Equal(t, blkid(t, path, "UUID"), v.Serial)
			assert.Empty(t, v.Problems)
			require.NotNil(t, v.Files, v.FilesErr)
			for name, want := range contents {
				readsAs(t, v.Files, "/"+name, want)
			}
			readsAs(t, v.Files, "vmlinuz", contents["boot/vmlinuz-6.1.0"])
			readsAs(t, v.Files, "boot/away/file number 0042", []byte{42})
			f, err := volume.ReadFile(v.Files, "boot/vmlinuz-6.1.0", 1<<20)
			require.NoError(t, err)
			liesWhereItSays(t, path, f, "\xA4\x81") // a regular file, rw-r--r--
			_, err = volume.ReadFile(v.Files, "far", 100)
			if name == "ext4 with data in inodes" {
				assert.ErrorContains(t, err, "extended attribute")
			} else {
				assert.NoError(t, err)
			}
			_, err = v.Files.Lookup("Empty")
			assert.ErrorIs(t, err, volume.ErrNotFound, "names are told apart by case")
			_, err = v.Files.Lookup("loop/x")
			assert.ErrorContains(t, err, "links")
			files, err := v.Files.ReadDir("usr/many")
			require.NoError(t, err)
			assert.Len(t, files, 1500)
			length, inUse := extFigures(t, path)
			used, known := v.Used.Get()
			assert.True(t, known)
			assert.Equal(t, inUse, used)
			total, _ := v.TotalSectors.Get()
			assert.Equal(t, length/512, total)
			unclean, known := v.Unclean.Get()
			assert.True(t, known)
			assert.False(t, unclean)
		})
	}
}

// extFigures returns the length of a volume and the space in use as dumpe2fs tells
// them, in bytes.
func extFigures(t *testing.T, path string) (length, used uint64) {
	t.Helper()
	listing := reference.Run(t, "", "dumpe2fs", "-h", path)
	number := func(name string) uint64 {
		m := regexp.MustCompile(`(?m)^` + name + `: +(\d+)`).FindStringSubmatch(listing)
		require.NotNil(t, m, name)
		n, err := strconv.ParseUint(m[1], 10, 64)
		require.NoError(t, err)
		return n
	}
	length = number("Block count") * number("Block size")
	return length, length - number("Free blocks")*number("Block size")
}

func TestExtAgainstASecondReader(t *testing.T) {
	dir, contents := tree(t)
	path := reference.Image(t, 64<<20)
	reference.Run(t, "", "mke2fs", "-t", "ext4", "-q", "-d", dir, path)
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	second, err := ext4.Read(file.New(f, true), 64<<20, 0, 512)
	require.NoError(t, err)
	v := examine(t, path, 512, 2048)
	for _, name := range []string{"boot/grub/grub.cfg", "etc/fstab"} {
		want, err := second.ReadFile(name)
		require.NoError(t, err)
		assert.Equal(t, contents[name], want)
		readsAs(t, v.Files, name, want)
	}
}

func TestExtThatNeedsRecovery(t *testing.T) {
	path := reference.Image(t, 32<<20)
	reference.Run(t, "", "mke2fs", "-t", "ext4", "-q", path)
	reference.Run(t, "", "debugfs", "-w", "-R", "feature +needs_recovery", path)
	unclean, _ := examine(t, path, 512, 2048).Unclean.Get()
	assert.True(t, unclean)
	reference.Run(t, "", "debugfs", "-w", "-R", "feature -needs_recovery", path)
	reference.Run(t, "", "debugfs", "-w", "-R", "set_super_value state 2", path)
	v := examine(t, path, 512, 2048)
	require.Len(t, v.Problems, 1)
	assert.Equal(t, volume.CodeExtErrors, v.Problems[0].Code)
}
