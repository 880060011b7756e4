package volume_test

import (
	"bytes"
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/volume"
	"latchkey/internal/reference"
)

// NTFS volumes written by ntfs-3g, read by us; what is expected is what its own
// tools (ntfsinfo, ntfsls) say of them.

func mkntfs(t *testing.T, size int64, args ...string) string {
	t.Helper()
	path := reference.Image(t, size)
	reference.Run(t, "", "mkntfs", append(append([]string{"-F", "-Q", "-q", "-p", "2048"}, args...), path)...)
	return path
}

// mounted runs do with a volume mounted, where the machine lets an image be
// mounted.
func mounted(t *testing.T, path string, do func(dir string)) {
	t.Helper()
	reference.Need(t, "ntfs-3g", "umount")
	dir := t.TempDir()
	if out, err := exec.Command("ntfs-3g", path, dir).CombinedOutput(); err != nil {
		reference.Lacks(t, "an NTFS image cannot be mounted here: %s", out)
	}
	defer reference.Run(t, "", "umount", dir)
	do(dir)
}

func write(t *testing.T, name string, b []byte) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(t, os.WriteFile(name, b, 0o644))
}

func random(t *testing.T, n int) []byte {
	t.Helper()
	b := make([]byte, n)
	_, err := rand.Read(b)
	require.NoError(t, err)
	return b
}

// liesWhereItSays asserts that the places given for a file hold its bytes.
func liesWhereItSays(t *testing.T, image string, f *volume.Read, magic string) {
	t.Helper()
	raw, err := os.ReadFile(image)
	require.NoError(t, err)
	assert.Equal(t, magic, string(raw[f.Offset:][:len(magic)]), f.Record)
	for off := 0; off+16 < len(f.Bytes); off += 100_000 {
		place := f.Place(int64(off))
		require.Positive(t, place)
		assert.Equal(t, f.Bytes[off:off+16], raw[place:place+16], "byte %d of %s", off, f.Name)
	}
}

// readsAs asserts that a path reads as want.
func readsAs(t *testing.T, files volume.Files, path string, want []byte) {
	t.Helper()
	f, err := volume.ReadFile(files, path, 16<<20)
	require.NoError(t, err, path)
	assert.EqualValues(t, len(want), f.Size, path)
	assert.True(t, bytes.Equal(want, f.Bytes), path)
}

func TestNTFSVolumesWrittenByMkntfs(t *testing.T) {
	for name, args := range map[string][]string{
		"small clusters": {"-c", "512"}, "usual clusters": {"-c", "4096"}, "large clusters": {"-c", "65536"},
	} {
		t.Run(name, func(t *testing.T) {
			path := mkntfs(t, 64<<20, append(args, "-L", "Größe")...)
			small, large := random(t, 300), random(t, 1_234_567) // within the record, and in clusters
			from := filepath.Join(t.TempDir(), "f")
			for name, b := range map[string][]byte{"bootmgr": large, "small.txt": small} {
				write(t, from, b)
				reference.Run(t, "", "ntfscp", "-q", path, from, name)
			}
			v := examine(t, path, 512, 2048)
			assert.Equal(t, volume.KindNTFS, v.Kind)
			assert.Equal(t, "Größe", v.Label)
			assert.Equal(t, blkid(t, path, "UUID"), v.Serial)
			assert.Empty(t, v.Problems)
			require.NotNil(t, v.Files, v.FilesErr)
			readsAs(t, v.Files, "BOOTMGR", large)
			readsAs(t, v.Files, `\Small.TXT`, small)
			f, err := volume.ReadFile(v.Files, "bootmgr", 2<<20)
			require.NoError(t, err)
			liesWhereItSays(t, path, f, "FILE")
			_, err = v.Files.Lookup("bootmgr2")
			assert.ErrorIs(t, err, volume.ErrNotFound)
			_, err = v.Files.Lookup("bootmgr/below")
			assert.ErrorIs(t, err, volume.ErrNotFound)
			unclean, known := v.Unclean.Get()
			assert.True(t, known)
			assert.False(t, unclean)
			used, known := v.Used.Get()
			require.True(t, known)
			assert.Equal(t, ntfsUsed(t, path), used)
		})
	}
}

// ntfsUsed is the space in use as ntfsinfo counts it.
func ntfsUsed(t *testing.T, path string) uint64 {
	t.Helper()
	listing := reference.Run(t, "", "ntfsinfo", "-m", path)
	number := func(name string) uint64 {
		m := regexp.MustCompile(name + `: (\d+)`).FindStringSubmatch(listing)
		require.NotNil(t, m, name)
		n, err := strconv.ParseUint(m[1], 10, 64)
		require.NoError(t, err)
		return n
	}
	return (number("Volume Size in Clusters") - number("Free Clusters")) * number("Cluster Size")
}

func TestNTFSDirectoriesOfManyNames(t *testing.T) {
	path := mkntfs(t, 256<<20)
	config := random(t, 28_672)
	mounted(t, path, func(dir string) {
		write(t, filepath.Join(dir, "Boot", "BCD"), config)
		for i := range 3000 {
			write(t, filepath.Join(dir, "Windows", "System32", fmt.Sprintf("library %04d with a long name.dll", i)),
				[]byte{byte(i)})
		}
		write(t, filepath.Join(dir, "Windows", "System32", "winload.efi"), config[:9000])
	})
	v := examine(t, path, 512, 2048)
	require.NotNil(t, v.Files, v.FilesErr)
	readsAs(t, v.Files, `\boot\bcd`, config)
	readsAs(t, v.Files, `\WINDOWS\system32\WINLOAD.EFI`, config[:9000])
	readsAs(t, v.Files, "Windows/System32/LIBRARY 2999 with a long name.dll", []byte{2999 % 256})
	files, err := v.Files.ReadDir("Windows/System32")
	require.NoError(t, err)
	assert.Len(t, files, 3001)
	used, _ := v.Used.Get()
	assert.Equal(t, ntfsUsed(t, path), used)
}

func TestNTFSThatWasNotClosed(t *testing.T) {
	path := mkntfs(t, 16<<20)
	v := examine(t, path, 512, 2048)
	at, ok := v.Unclean.Get()
	require.True(t, ok)
	assert.False(t, at)
	// ntfsfix schedules a check at Windows' next start by setting the flag.
	reference.Run(t, "", "ntfsfix", path)
	unclean, _ := examine(t, path, 512, 2048).Unclean.Get()
	assert.True(t, unclean)
}

func TestNTFSBootSectorAndItsCopy(t *testing.T) {
	path := mkntfs(t, 16<<20)
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteAt([]byte{0x77}, 16<<20-512+100)
	require.NoError(t, err)
	v := examine(t, path, 512, 2048)
	require.Len(t, v.Problems, 1)
	assert.Equal(t, volume.CodeNTFSBackup, v.Problems[0].Code)
	_, err = f.WriteAt(make([]byte, 512), 0)
	require.NoError(t, err)
	v = examine(t, path, 512, 2048)
	require.Len(t, v.Problems, 1)
	assert.Equal(t, volume.CodeNTFSOnlyBackup, v.Problems[0].Code)
}
