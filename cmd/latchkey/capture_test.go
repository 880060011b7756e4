package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/internal/diskmaker"
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
	image := filepath.Join(dir, "b.img")
	for want, args := range map[string][]string{
		"give -o FILE":           {image},
		"no such file":           {filepath.Join(dir, "none.img"), "-o", filepath.Join(dir, "x")},
		"expected 512 or 4096":   {image, "-o", filepath.Join(dir, "x"), "--sector-size", "520"},
		"give another file":      {image, "-o", image},
		"at least one sector":    {os.DevNull, "-o", filepath.Join(dir, "x")},
		"is a folder":            {dir, "-o", filepath.Join(dir, "x")},
		"not exist/x.part: no s": {image, "-o", filepath.Join(dir, "not exist", "x")},
	} {
		out, code := run(t, append([]string{"capture"}, args...)...)
		assert.Equal(t, 2, code, want)
		assert.Contains(t, out, want)
		assert.NoFileExists(t, filepath.Join(dir, "x"))
	}
	info, err := os.Stat(image)
	require.NoError(t, err)
	assert.EqualValues(t, 512<<20, info.Size(), "the disk is still there")
}
