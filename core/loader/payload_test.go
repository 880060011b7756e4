package loader_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/loader"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

func payload(t testing.TB, raw []byte) loader.Payload {
	t.Helper()
	p, err := loader.ExaminePayload(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	return p
}

// What the tools themselves write is what a kernel unpacks, and no kernel.
func TestWhatToolsPackIsAnInitialRAMDisk(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "f")
	require.NoError(t, os.WriteFile(file, []byte("a program"), 0o600))
	for tool, args := range map[string][]string{"gzip": {"-k"}, "bzip2": {"-k"}, "xz": {"-k"}, "zstd": {"-q"}} {
		t.Run(tool, func(t *testing.T) {
			reference.Need(t, tool)
			end := map[string]string{"gzip": ".gz", "bzip2": ".bz2", "xz": ".xz", "zstd": ".zst"}[tool]
			reference.Run(t, "", tool, append(args, file)...)
			raw, err := os.ReadFile(file + end)
			require.NoError(t, err)
			p := payload(t, raw)
			assert.Equal(t, loader.PayloadCompressed, p.Form)
			assert.Empty(t, p.NoRAMDisk())
			assert.NotContains(t, p.NoKernel(), "begin", "GRUB undoes what it is compressed by")
		})
	}
	reference.Need(t, "busybox")
	reference.Run(t, "", "sh", "-c", "cd "+dir+" && echo f | busybox cpio -o -H newc > a.cpio")
	raw, err := os.ReadFile(filepath.Join(dir, "a.cpio"))
	require.NoError(t, err)
	p := payload(t, raw)
	assert.Equal(t, loader.PayloadArchive, p.Form)
	assert.Empty(t, p.NoRAMDisk())
	assert.NotEmpty(t, p.NoKernel())
	assert.Empty(t, payload(t, append(make([]byte, 512), raw...)).NoRAMDisk(), "zeros before it are passed over")
	assert.Empty(t, payload(t, diskmaker.RAMDisk()).NoRAMDisk())
}

// The kernel's lib/decompress.c for what no tool here writes; its documentation for kernels.
func TestBeginningsByTheirSource(t *testing.T) {
	at := func(place int, text string) []byte {
		b := make([]byte, 4096)
		copy(b[place:], text)
		return b
	}
	for name, c := range map[string]struct {
		raw             []byte
		form            loader.PayloadForm
		kernel, ramDisk bool
	}{
		"empty":        {nil, loader.PayloadEmpty, false, false},
		"zeros":        {make([]byte, 9000), loader.PayloadZeros, false, false},
		"zeros, short": {make([]byte, 9), loader.PayloadZeros, false, false},
		"text":         {[]byte("not this file"), loader.PayloadOther, false, false},
		"one byte":     {[]byte("M"), loader.PayloadOther, false, false},
		"lz4":          {at(0, "\x02\x21\x4c\x18"), loader.PayloadCompressed, true, true},
		"lzo":          {at(0, "\x89LZO\x00\r\n"), loader.PayloadCompressed, true, true},
		"lzma":         {at(0, "\x5d\x00\x00\x80\x00"), loader.PayloadCompressed, true, true},
		"arm64":        {at(0x38, "ARM\x64"), loader.PayloadKernel, true, false},
		"arm64, MZ":    {append([]byte("MZ"), at(0x36, "ARM\x64")...), loader.PayloadKernel, true, false},
		"arm64, zboot": {at(0, "MZ\x00\x00zimg"), loader.PayloadKernel, true, false},
		"arm":          {at(0x24, "\x18\x28\x6f\x01"), loader.PayloadKernel, true, false},
		"a program":    {diskmaker.Program{}.Bytes(), loader.PayloadProgram, true, false},
		"ELF":          {at(0, "\x7fELF"), loader.PayloadProgram, true, false},
		"ext2":         {at(0x438, "\x53\xef"), loader.PayloadVolume, false, true},
		"squashfs":     {at(0, "hsqs"), loader.PayloadVolume, false, true},
	} {
		p := payload(t, c.raw)
		assert.Equal(t, c.form, p.Form, name)
		assert.Equal(t, c.kernel, p.NoKernel() == "", "%s: %s", name, p.NoKernel())
		assert.Equal(t, c.ramDisk, p.NoRAMDisk() == "", "%s: %s", name, p.NoRAMDisk())
	}
}

// A kernel for PCs tells how long it is. The kernel's arch/x86/boot, "The Real-Mode Kernel Header".
func TestAKernelTellsItsLength(t *testing.T) {
	made := func(setup byte, paragraphs uint32, version uint16) []byte {
		b := make([]byte, 1024)
		b[0x1F1] = setup
		binary.LittleEndian.PutUint32(b[0x1F4:], paragraphs)
		copy(b[0x1FE:], "\x55\xAA\xEB\x66HdrS")
		binary.LittleEndian.PutUint16(b[0x206:], version)
		return b
	}
	for _, c := range []struct {
		setup      byte
		paragraphs uint32
		version    uint16
		wants      int64
	}{
		{1, 64, 0x20F, 1024 + 1024}, {0, 64, 0x204, 5*512 + 1024}, {31, 10, 0x203, 32 * 512},
	} {
		head := made(c.setup, c.paragraphs, c.version)
		whole := append(head, make([]byte, int(c.wants)-len(head))...)
		assert.Equal(t, c.wants, payload(t, head).Wants)
		assert.Empty(t, payload(t, whole).NoKernel())
		assert.Empty(t, payload(t, append(whole, "a signature"...)).NoKernel())
		assert.Contains(t, payload(t, whole[:len(whole)-1]).NoKernel(), "of the", "one byte is lacking")
	}
	damaged := made(1, 64, 0x20F)
	damaged[0x1FE] = 0
	assert.NotEmpty(t, payload(t, damaged).NoKernel())
}

type torn struct{ error }

func (r torn) ReadAt([]byte, int64) (int, error) { return 0, r.error }

func TestAPayloadThatCannotBeRead(t *testing.T) {
	_, err := loader.ExaminePayload(torn{errors.New("a bad sector")}, 5)
	assert.ErrorContains(t, err, "bytes 0 to 5: a bad sector")
	_, err = loader.ExaminePayload(bytes.NewReader([]byte("short")), 6)
	assert.Error(t, err, "a file that ends before its size")
}

func FuzzPayload(f *testing.F) {
	f.Add(diskmaker.RAMDisk())
	f.Add(diskmaker.Program{}.Bytes())
	f.Fuzz(func(t *testing.T, raw []byte) {
		p := payload(t, raw)
		assert.Equal(t, int64(len(raw)), p.Size)
		assert.False(t, p.Form == loader.PayloadKernel && p.NoRAMDisk() == "")
		if p.Wants > 0 {
			assert.Equal(t, p.NoKernel() == "", p.Size >= p.Wants)
		}
	})
}
