package volume_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/volume"
	"latchkey/internal/reference"
)

// opened reads a volume of these bytes.
func opened(t *testing.T, raw []byte) volume.Opened {
	t.Helper()
	d, err := disk.New(bytes.NewReader(raw), int64(len(raw)), 512)
	require.NoError(t, err)
	return volume.Examine(d, disk.Partition{Number: 1, Length: uint64(len(raw)) / 512})
}

// Directories of an XFS without checksums, as a damaged sector leaves them, are refused with what is wrong. XFS
// Filesystem Structure, 3rd edition, "Directories".
func TestXFSDirectoriesThatCannotBe(t *testing.T) {
	dir := t.TempDir()
	for folder, count := range map[string]int{"few": 3, "block": 40} {
		for i := range count {
			write(t, filepath.Join(dir, folder, fmt.Sprintf("file-%02d", i)), nil)
		}
	}
	path := reference.Image(t, 320<<20)
	reference.MakeXFS(t, path, dir, "-m", "crc=0")
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	few, err := opened(t, whole).Files.Lookup("few")
	require.NoError(t, err)
	entries := few.Offset + 100 // behind the core of a version 2 inode
	block := int64(bytes.Index(whole, []byte("XD2B")))
	require.Positive(t, block)
	for _, c := range []struct {
		folder, want string
		at           int64
		bytes        []byte
	}{
		{"few", "ends within an entry", entries, []byte{255}},
		{"few", "ends within an entry", entries + 6, []byte{255}},
		{"block", "a directory block has an index of", block + 4096 - 8, []byte{0, 0, 255, 0}},
		{"block", `has "XD2X" as its magic`, block + 3, []byte("X")},
		{"block", "a name of 0 bytes", block + 16 + 8, []byte{0}},
		{"block", "an unused part of a directory has 3 bytes", block + 16, []byte{255, 255, 0, 3}},
	} {
		raw := bytes.Clone(whole)
		copy(raw[c.at:], c.bytes)
		_, err := opened(t, raw).Files.ReadDir(c.folder)
		assert.ErrorContains(t, err, c.want, "%+v", c)
	}
}

// Superblocks of a Btrfs that cannot be are refused with what is wrong; a chunk reaches to its end, and no further.
// Btrfs' "On-disk format", "Superblock".
func TestBtrfsSuperblocksThatCannotBe(t *testing.T) {
	path := reference.Image(t, 160<<20)
	reference.Run(t, "", "mkfs.btrfs", "-q", "-m", "single", path)
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	le := binary.LittleEndian
	const at, item = 64 << 10, 811 + 17
	reaches := le.Uint64(whole[at+88:]) - le.Uint64(whole[at+811+9:]) + uint64(le.Uint32(whole[at+148:]))
	for _, c := range []struct {
		want  string
		at    int
		bytes []byte
	}{
		{"", item, le.AppendUint64(nil, reaches)},
		{"chunk tree: the address", item, le.AppendUint64(nil, reaches-1)},
		{"nodesize is 5000", 148, le.AppendUint32(nil, 5000)},
		{"nodesize is 2048", 148, le.AppendUint32(nil, 2048)},
		{"features that are not read (10000000000)", 188 + 5, []byte{1}},
		{"sys_chunk_array_size is 2049", 160, le.AppendUint32(nil, 2049)},
		{"a chunk's item has kind 1 and 1 stripes", 811 + 8, []byte{1}},
		{"and 0 stripes", item + 44, []byte{0}},
		{"and 999 stripes", item + 44, le.AppendUint16(nil, 999)},
		{"a chunk of 18446744073709551615 bytes", item, bytes.Repeat([]byte{255}, 8)},
		{"lies on another device, or nowhere", item + 48, []byte{9}},
	} {
		raw := bytes.Clone(whole)
		copy(raw[at+c.at:], c.bytes)
		v := opened(t, raw)
		assert.ErrorContains(t, v.FilesErr, "checksum", "%+v", c)
		le.PutUint32(raw[at:], crc32.Checksum(raw[at+32:at+4096], crc32.MakeTable(crc32.Castagnoli)))
		if v = opened(t, raw); c.want == "" {
			assert.NoError(t, v.FilesErr)
			continue
		}
		assert.ErrorContains(t, v.FilesErr, c.want)
	}
}

// An extent tree of which every node leads to the same ones is given up at a bound, an inode table beyond the volume
// refused. Linux kernel documentation, filesystems/ext4, "Extent Tree", "Block Group Descriptors".
func TestExtStructuresThatCannotBe(t *testing.T) {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "boot.img"), random(t, 12_345))
	path := reference.Image(t, 40<<20)
	reference.Run(t, "", "mkfs.ext4", "-q", "-F", "-b", "4096", "-O", "^metadata_csum,64bit", "-d", dir, path)
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	f, err := opened(t, whole).Files.Lookup("boot.img")
	require.NoError(t, err)
	le := binary.LittleEndian
	node := func(raw []byte, entries, level uint16, child uint32) {
		for i, v := range []uint16{0xF30A, entries, entries, level} {
			le.PutUint16(raw[2*i:], v)
		}
		for i := range int(entries) {
			clear(raw[12+12*i : 24+12*i])
			le.PutUint32(raw[16+12*i:], child)
		}
	}
	const first = 10_000 // a block that is free
	raw := bytes.Clone(whole)
	node(raw[f.Offset+0x28:], 1, 3, first)
	node(raw[first<<12:], 340, 2, first+1)
	node(raw[(first+1)<<12:], 340, 1, first+2)
	node(raw[(first+2)<<12:], 0, 0, 0)
	_, err = volume.ReadFile(opened(t, raw).Files, "boot.img", 1<<20)
	assert.ErrorContains(t, err, "more than 65536 extent nodes")

	raw = bytes.Clone(whole)
	raw[4096+0x28] = 1 // the high part of the first group's table
	_, err = opened(t, raw).Files.Lookup("boot.img")
	assert.ErrorContains(t, err, "has its inode table at block")
}

// What is packed by LZO says how long it and each part of it is. btrfs(5), "COMPRESSION"; Linux' fs/btrfs/lzo.c.
func TestPartsThatCannotBe(t *testing.T) {
	for want, raw := range map[string][]byte{
		"too short":             {8, 0, 0, 0, 1, 0, 0},
		"a segment of 1 bytes":  {8, 0, 0, 0, 1, 0, 0, 0},
		"a segment of 0 bytes":  {9, 0, 0, 0, 0, 0, 0, 0, 0},
		"a segment of 99 bytes": {12, 0, 0, 0, 99, 0, 0, 0, 1, 2, 3, 4},
		"lzo: ":                 {12, 0, 0, 0, 4, 0, 0, 0, 1, 2, 3, 4},
	} {
		assert.ErrorContains(t, volume.Unpack(volume.PackedByLZO, raw, make([]byte, 10)), want)
	}
}

// What a boot sector tells that cannot be, and what only some firmware bears, is said. FAT specification 1.03,
// section 3; ntfs-3g's layout.h.
func TestBootSectorsThatCannotBe(t *testing.T) {
	fat := reference.Image(t, 40<<20)
	reference.Run(t, "", "mkfs.fat", "-F32", "-s", "1", fat)
	of := map[string][]byte{}
	for name, path := range map[string]string{"fat": fat, "ntfs": mkntfs(t, 64<<20)} {
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		of[name] = raw
	}
	f, err := volume.OpenFAT(io.NewSectionReader(bytes.NewReader(of["fat"]), 0, 40<<20))
	require.NoError(t, err)
	clusters := f.Clusters
	for entry, sound := range map[uint32]bool{clusters + 1: true, 2: true, 0x0FFFFFF8: true, 0: false} {
		raw := bytes.Clone(of["fat"])
		binary.LittleEndian.PutUint32(raw[32*512+8:], entry)
		ofTable := func(p disk.Problem) bool { return p.Code == volume.CodeFATTable }
		assert.Equal(t, sound, !slices.ContainsFunc(opened(t, raw).Problems, ofTable), "%X", entry)
	}
	for _, c := range []struct {
		of    string
		at    int
		bytes []byte
		code  disk.ProblemCode
	}{
		{"fat", 510, []byte{0, 0}, volume.CodeFATSignature},
		{"fat", 11, binary.LittleEndian.AppendUint16(nil, 1024), volume.CodeFATSectorSize},
		{"fat", 32, binary.LittleEndian.AppendUint32(nil, 40_000), volume.CodeFATFewClusters},
		{"fat", 32 * 512, []byte{0xEF}, volume.CodeFATTable},
		{"fat", 32*512 + 1, []byte{0xFE}, volume.CodeFATTable},
		{"fat", 32*512 + 8, []byte{1, 0, 0, 0}, volume.CodeFATTable},
		{"fat", 32*512 + 8, binary.LittleEndian.AppendUint32(nil, clusters+2), volume.CodeFATTable},
		{"fat", 32*512 + 8, binary.LittleEndian.AppendUint32(nil, 0x0FFFFFF7), volume.CodeFATTable},
		{"ntfs", 11, binary.LittleEndian.AppendUint16(nil, 128), volume.CodeNTFSBytesPerSector},
		{"ntfs", 13, []byte{3}, volume.CodeNTFSCluster},
	} {
		raw := bytes.Clone(of[c.of])
		copy(raw[c.at:], c.bytes)
		codes := func(raw []byte) (list []disk.ProblemCode) {
			for _, p := range opened(t, raw).Problems {
				list = append(list, p.Code)
			}
			return list
		}
		assert.NotContains(t, codes(of[c.of]), c.code)
		assert.Contains(t, codes(raw), c.code)
	}
}

// Which boot sectors are a FAT's, by what firmware asks for (seen in edk2). FAT specification 1.03, section 3.1.
func TestBootSectorsOfFATs(t *testing.T) {
	path := reference.Image(t, 40<<20)
	reference.Run(t, "", "mkfs.fat", "-F32", "-s", "1", path)
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, c := range []struct {
		change map[int]byte
		err    string // "" where it is one
	}{
		{nil, ""},
		{map[int]byte{0: 0xE9, 510: 0}, ""},
		{map[int]byte{0: 0x90, 510: 0}, "ends in 00 AA"},
		{map[int]byte{82: 'f', 510: 0}, ""},
		{map[int]byte{82: 'f', 511: 0, 21: 0xF7}, "ends in 55 00"},
		{map[int]byte{511: 0, 21: 0xF7}, "BPB_Media is F7"},
		{map[int]byte{21: 2}, "BPB_Media is 02"},
		{map[int]byte{21: 1}, ""},
		{map[int]byte{16: 1, 510: 0}, ""},
		{map[int]byte{16: 3, 510: 0}, "ends in 00 AA"},
		{map[int]byte{16: 3}, "BPB_NumFATs is 3"},
		{map[int]byte{16: 0}, "BPB_NumFATs is 0"},
		{map[int]byte{13: 0}, "BPB_SecPerClus is 0"},
		{map[int]byte{13: 12}, "BPB_SecPerClus is 12"},
		{map[int]byte{12: 1}, "BPB_BytsPerSec is 256"},
		{map[int]byte{12: 32}, "BPB_BytsPerSec is 8192"},
		{map[int]byte{14: 0, 15: 0}, "BPB_RsvdSecCnt is 0"},
		{map[int]byte{40: 0x80}, "BPB_ExtFlags is 80"},
		{map[int]byte{43: 1}, "BPB_FSVer is 0100"},
	} {
		raw := bytes.Clone(whole)
		for at, b := range c.change {
			raw[at] = b
		}
		_, err := volume.OpenFAT(io.NewSectionReader(bytes.NewReader(raw), 0, int64(len(raw))))
		if c.err == "" {
			assert.NoError(t, err, "%v", c.change)
		} else {
			assert.ErrorContains(t, err, c.err, "%v", c.change)
		}
	}
}

// A file of a FAT goes on in the cluster that the table names, up to the last there is. FAT specification 1.03,
// section 4.
func TestAChainThatLeadsBeyondTheVolume(t *testing.T) {
	path := filled(t)["fat"]
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	v, le := opened(t, whole), binary.LittleEndian
	f, err := v.Files.Lookup("boot.img")
	require.NoError(t, err)
	entry := int64(le.Uint16(whole[14:]))*512 + 4*int64(le.Uint16(whole[f.Offset+26:]))
	for to, want := range map[uint32]string{v.FAT.Clusters + 1: "", v.FAT.Clusters + 2: "links to", 1: "links to", 0x0FFFFFF8: "ends"} {
		raw := bytes.Clone(whole)
		le.PutUint32(raw[entry:], to)
		le.PutUint32(raw[int64(le.Uint16(whole[14:]))*512+4*int64(v.FAT.Clusters+1):], 0x0FFFFFFF)
		_, err := volume.ReadFile(opened(t, raw).Files, "boot.img", 1<<20)
		if want == "" || want == "ends" {
			assert.NotContains(t, fmt.Sprint(err), "links to", "%X", to)
			continue
		}
		assert.ErrorContains(t, err, want, "%X", to)
	}
}

// A boot sector holds code where it is signed, and begins with a jump or anything at all.
func TestBootSectorsWithCode(t *testing.T) {
	for _, c := range []struct {
		at   map[int]byte
		code bool
	}{
		{map[int]byte{510: 0x55, 511: 0xAA}, false},
		{map[int]byte{510: 0x55, 511: 0xAA, 0: 0xEB}, true},
		{map[int]byte{510: 0x55, 511: 0xAA, 0: 0xE9}, true},
		{map[int]byte{510: 0x55, 511: 0xAA, 63: 1}, true},
		{map[int]byte{510: 0x55, 511: 0xAA, 64: 1}, false},
		{map[int]byte{510: 0x55, 0: 0xEB}, false},
		{map[int]byte{511: 0xAA, 0: 0xEB}, false},
	} {
		raw := make([]byte, 1<<20)
		for at, b := range c.at {
			raw[at] = b
		}
		assert.Equal(t, c.code, opened(t, raw).BootCode, "%v", c.at)
	}
}

// recorded is a disk that remembers what is read of it, except by Aside.
type recorded struct {
	*bytes.Reader
	reads int
}

func (r *recorded) ReadAt(p []byte, off int64) (int, error) {
	r.reads++
	return r.Reader.ReadAt(p, off)
}

func (r *recorded) Aside() io.ReaderAt { return r.Reader }

// A search where a capture is made reads the whole disk beside the recording, which takes in what was found alone; the
// next search goes by that.
func TestASearchWhereACaptureIsMade(t *testing.T) {
	path := reference.Image(t, 40<<20)
	reference.Run(t, "", "mkfs.fat", "-F32", path)
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	whole := append(make([]byte, 1<<20), raw...)
	r := &recorded{Reader: bytes.NewReader(whole)}
	d, err := disk.New(r, int64(len(whole)), 512)
	require.NoError(t, err)
	hits, upTo, lacks := volume.Search(d)
	require.Len(t, hits, 1)
	assert.Equal(t, volume.Hit{Start: 2048, Length: 40 << 11}, hits[0])
	assert.False(t, lacks)
	assert.Equal(t, d.Sectors(), upTo)
	kept := r.reads
	assert.Less(t, kept, 60, "the recording")
	starts, upTo, was := volume.Searched(d)
	assert.Equal(t, []uint64{2048}, starts)
	assert.Equal(t, d.Sectors(), upTo)
	assert.True(t, was)
	again, _, _ := volume.Search(d)
	assert.Equal(t, hits, again)
}
