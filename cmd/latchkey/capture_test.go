package main

import (
	"bytes"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

func TestCaptureAndCheckIt(t *testing.T) {
	dir := withDisk(t, map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()})
	image := filepath.Join(dir, "b.img")
	before, err := os.Stat(image)
	require.NoError(t, err)
	out, code := run(t, "capture", image, "-o", filepath.Join(dir, "b.lkcap"))
	require.Equal(t, 0, code, out)
	assert.Contains(t, out, "537 MB · 512 MiB, sectors of 512 bytes")
	after, err := os.Stat(image)
	require.NoError(t, err)
	assert.Equal(t, before.ModTime(), after.ModTime(), "the disk is only read")
	require.NoError(t, os.Rename(filepath.Join(dir, "b.lkcap"), image))
	_, code = run(t, "check", describe(t, dir, until("loader")))
	assert.Equal(t, 0, code)
}

func TestCaptureRefusesBadInput(t *testing.T) {
	dir := withDisk(t, nil)
	image, pipe, there := filepath.Join(dir, "b.img"), filepath.Join(dir, "pipe"), filepath.Join(dir, "there")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	require.NoError(t, os.WriteFile(there, []byte("kept"), 0o600))
	for want, args := range map[string][]string{
		"give -o FILE":           {image},
		"no such file":           {filepath.Join(dir, "none.img"), "-o", filepath.Join(dir, "x")},
		"expected 512 or 4096":   {image, "-o", filepath.Join(dir, "x"), "--sector-size", "520"},
		"give another file":      {image, "-o", image},
		"at least one sector":    {os.DevNull, "-o", filepath.Join(dir, "x")},
		"is a folder":            {dir, "-o", filepath.Join(dir, "x")},
		"is a pipe":              {pipe, "-o", filepath.Join(dir, "x")},
		"never onto a device":    {image, "-o", os.DevNull},
		"and was left as it is":  {image, "-o", there},
		"no such file or direct": {image, "-o", filepath.Join(dir, "not exist", "x")},
	} {
		out, code := run(t, append([]string{"capture"}, args...)...)
		assert.Equal(t, 2, code, want)
		assert.Contains(t, out, want)
		assert.NoFileExists(t, filepath.Join(dir, "x"))
	}
	info, err := os.Stat(image)
	require.NoError(t, err)
	assert.EqualValues(t, 512<<20, info.Size(), "the disk is still there")
	raw, err := os.ReadFile(there)
	require.NoError(t, err)
	assert.Equal(t, "kept", string(raw))
	out, code := run(t, "capture", image, "-o", there, "--overwrite")
	assert.Equal(t, 0, code, out)
	left, err := filepath.Glob(filepath.Join(dir, "*.part"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// What was saved before a repair is put back byte by byte, and onto no other disk.
func TestSectorsAreSavedAndPutBack(t *testing.T) {
	dir := withDisk(t, nil)
	image, kept := filepath.Join(dir, "b.img"), filepath.Join(dir, "kept.lkcap")
	out, code := run(t, "capture", image, "--sectors", "0+34", "-o", kept)
	require.Equal(t, 0, code, out)
	assert.Contains(t, out, "17 KiB of it in 1 piece")
	head := func() []byte {
		f, err := os.Open(image)
		require.NoError(t, err)
		defer f.Close()
		b := make([]byte, 40*512)
		_, err = f.ReadAt(b, 0)
		require.NoError(t, err)
		return b
	}
	before := head()
	twin := filepath.Join(filepath.Dir(withDisk(t, nil)), "twin.img")
	reference.Run(t, "", "cp", "--sparse=always", image, twin)
	setDiskGUID(t, twin)
	f, err := os.OpenFile(image, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(make([]byte, 34*512), 0)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NotEqual(t, before, head())

	other := filepath.Join(dir, "other.img")
	require.NoError(t, os.WriteFile(other, make([]byte, 1<<20), 0o600))
	out, code = run(t, "capture", "put-back", kept, other)
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "it is another disk: nothing was written")
	raw, err := os.ReadFile(other)
	require.NoError(t, err)
	assert.Equal(t, make([]byte, 1<<20), raw)

	out, code = run(t, "capture", "put-back", kept, twin)
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "has the identifier")
	assert.Contains(t, out, "nothing was written")

	out, code = run(t, "capture", "put-back", kept, image)
	require.Equal(t, 0, code, out)
	assert.Contains(t, out, "the same bytes")
	assert.Equal(t, before, head())
}

// setDiskGUID gives a disk another identifier, by the general table tool.
func setDiskGUID(t *testing.T, image string) {
	t.Helper()
	reference.Run(t, "", "sfdisk", "--disk-id", image, "00000000-1111-4222-8333-444444444444")
}

func TestBadSectorsAreRefused(t *testing.T) {
	dir := withDisk(t, nil)
	image, kept := filepath.Join(dir, "b.img"), filepath.Join(dir, "kept.lkcap")
	for only, want := range map[string]string{
		"5":         "expected FIRST+COUNT",
		"0+x":       "expected FIRST+COUNT",
		"0+0":       "expected at least one",
		"1048576+1": "within the 1048576 of the disk",
		"0+1000000": "are kept at once",
	} {
		out, code := run(t, "capture", image, "--sectors", only, "-o", kept)
		assert.Equal(t, 2, code, only)
		assert.Contains(t, out, want)
		assert.NoFileExists(t, kept)
	}
	out, code := run(t, "capture", "put-back", image, image)
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "capture:", "an image is no file of saved sectors")
}

func TestMakingAStick(t *testing.T) {
	dir := t.TempDir()
	image, drive := filepath.Join(dir, "stick.img"), filepath.Join(dir, "drive.img")
	require.NoError(t, os.WriteFile(image, bytes.Repeat([]byte{7}, 2<<20), 0o600))
	require.NoError(t, os.WriteFile(drive, make([]byte, 3<<20), 0o600))
	out, code := run(t, "capture", "make-stick", image, drive, "--capacity", "4")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "nothing was written")
	out, code = run(t, "capture", "make-stick", image, drive, "--capacity", "3 MB")
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "written and read again, SHA-256")
	raw, err := os.ReadFile(drive)
	require.NoError(t, err)
	assert.Equal(t, byte(7), raw[0])
	assert.Equal(t, byte(0), raw[2<<20])
	out, code = run(t, "capture", "make-stick", drive, image, "--capacity", "2")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "take a larger stick")
}
