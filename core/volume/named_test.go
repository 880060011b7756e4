package volume_test

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/volume"
	"latchkey/internal/reference"
)

// filled is a volume of every kind with a file of 12,345 bytes in it, boot.img, made by the tools of its own.
func filled(t *testing.T) map[string]string {
	t.Helper()
	dir := t.TempDir()
	file, tree := filepath.Join(dir, "boot.img"), dir
	write(t, file, random(t, 12_345))
	fat, ext := reference.Image(t, 40<<20), reference.Image(t, 40<<20)
	xfs, btrfs, ntfs := reference.Image(t, 320<<20), reference.Image(t, 320<<20), mkntfs(t, 64<<20)
	reference.Run(t, "", "mkfs.fat", "-F32", fat)
	reference.Run(t, "", "mcopy", "-i", fat, file, "::BOOT.IMG")
	reference.Run(t, "", "mkfs.ext4", "-q", "-F", "-d", tree, ext)
	reference.MakeXFS(t, xfs, tree)
	reference.Run(t, "", "mkfs.btrfs", "-q", "-r", tree, btrfs)
	reference.Run(t, "", "ntfscp", "-q", ntfs, file, "boot.img")
	return map[string]string{"fat": fat, "ext": ext, "xfs": xfs, "btrfs": btrfs, "ntfs": ntfs}
}

// A file is shown with the structure that tells of it: the bytes at its fields are the file's size and kind. FAT
// specification 1.03, section 6; Linux kernel documentation, filesystems/ext4, "Index Nodes"; XFS Filesystem Structure,
// "Inode Core"; include/uapi/linux/btrfs_tree.h; ntfs-3g's layout.h.
func TestAFileIsShownByWhatTellsOfIt(t *testing.T) {
	le, be := binary.LittleEndian, binary.BigEndian
	number := func(order binary.ByteOrder, n uint64, length int) []byte {
		b := make([]byte, 8)
		if order == be {
			be.PutUint64(b, n)
			return b[8-length:]
		}
		le.PutUint64(b, n)
		return b[:length]
	}
	const mode = 0o100644
	want := map[string]map[string][]byte{
		"fat":   {"DIR_Name": []byte("BOOT    IMG"), "DIR_FileSize": number(le, 12345, 4)},
		"ext":   {"i_mode": number(le, mode, 2), "i_size_lo": number(le, 12345, 4)},
		"xfs":   {"di_magic": []byte("IN"), "di_mode": number(be, mode, 2), "di_size": number(be, 12345, 8), "di_nblocks": number(be, 4, 8)},
		"btrfs": {"size": number(le, 12345, 8), "nlink": number(le, 1, 4), "mode": number(le, mode, 4)},
		"ntfs":  {"magic": []byte("FILE"), "flags": number(le, 1, 2), "link count": number(le, 1, 2)},
	}
	for kind, path := range filled(t) {
		v := examine(t, path, 512, 2048)
		f, err := v.Files.Lookup("boot.img")
		require.NoError(t, err, kind)
		region := f.Region(1 << 20)
		assert.Equal(t, f.Offset+1<<20, region.Offset)
		assert.Equal(t, f.Length, region.Length)
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		told := map[string][]byte{}
		for _, field := range region.Fields {
			at := f.Offset + field.Offset
			assert.LessOrEqual(t, field.Offset+field.Length, f.Length, "%s %s", kind, field.Name)
			told[field.Name] = raw[at : at+field.Length]
		}
		for name, bytes := range want[kind] {
			assert.Equal(t, bytes, told[name], "%s %s", kind, name)
		}
		s, err := v.Files.Open(f)
		require.NoError(t, err)
		assert.EqualValues(t, -1, s.Place(s.Size()))
	}
	assert.Empty(t, volume.File{Record: "another"}.Region(0).Fields)
}

// A file's contents are read through another reader of the disk only where they stand on it as they are.
func TestAFileReadAnotherWay(t *testing.T) {
	if testing.Short() {
		t.Skip("makes six file systems")
	}
	for kind, path := range filled(t) {
		v := examine(t, path, 512, 2048)
		f, err := volume.ReadFile(v.Files, "boot.img", 1<<20)
		require.NoError(t, err)
		s, err := v.Files.Open(f.File)
		require.NoError(t, err)
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		r, ok := s.Over(bytes.NewReader(append(make([]byte, 777), raw...)), 777)
		require.True(t, ok, kind)
		got := make([]byte, r.Size())
		_, err = r.ReadAt(got, 0)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(f.Bytes, got), kind)
	}
	dir := t.TempDir()
	hollow, err := os.Create(filepath.Join(dir, "hollow"))
	require.NoError(t, err)
	_, err = hollow.WriteAt([]byte("end"), 1<<20)
	require.NoError(t, err)
	require.NoError(t, hollow.Close())
	write(t, filepath.Join(dir, "empty"), nil)
	path := reference.Image(t, 40<<20)
	reference.Run(t, "", "mkfs.ext4", "-q", "-F", "-d", dir, path)
	v := examine(t, path, 512, 2048)
	for _, name := range []string{"hollow", "empty"} {
		f, err := v.Files.Lookup(name)
		require.NoError(t, err)
		s, err := v.Files.Open(f)
		require.NoError(t, err)
		_, ok := s.Over(bytes.NewReader(nil), 0)
		assert.False(t, ok, name)
	}
	assert.EqualValues(t, -1, func() int64 {
		f, err := volume.ReadFile(v.Files, "hollow", 2<<20)
		require.NoError(t, err)
		return f.Place(4096)
	}(), "a hole lies nowhere")
}

// What blkid calls a volume is the kind that is read of its bytes.
func TestKindsByTheirNames(t *testing.T) {
	if testing.Short() {
		t.Skip("makes six file systems")
	}
	paths := filled(t)
	swap := reference.Image(t, 40<<20)
	reference.Run(t, "", "mkswap", swap)
	paths["swap"] = swap
	for _, path := range paths {
		name := blkid(t, path, "TYPE")
		kind, known := volume.Named(" " + strings.ToUpper(name) + "\n")
		require.True(t, known, name)
		d := examine(t, path, 512, 2048)
		if name == "vfat" { // a family of three
			assert.Equal(t, volume.KindFAT, kind)
			assert.Equal(t, volume.KindFAT32, d.Kind)
			continue
		}
		assert.Equal(t, d.Kind, kind, name)
	}
	_, known := volume.Named("none of them")
	assert.False(t, known)
}

// Names of logical volumes as lvm(8) gives them in "VALID NAMES": vg-name and lv of it are vg--name-lv.
func TestNamesOfMappedVolumes(t *testing.T) {
	assert.Equal(t, "vg--name-lv--root", volume.MappedName("vg-name", "lv-root"))
	assert.Equal(t, "vg-root", volume.MappedName("vg", "root"))
}

// Options of mounts of no device, and of subvolumes. tmpfs(5); btrfs(5).
func TestOptionsOfMountsOfNoDevice(t *testing.T) {
	for options, unknown := range map[string]string{"defaults": "", "size=2G,mode=1777,nosuid": "", "nosuid,sizes=2G": "sizes=2G", "subvol=@": "subvol=@"} {
		assert.Equal(t, unknown, volume.UnknownOption("tmpfs", options))
		assert.Empty(t, volume.UnknownOption("proc", options), "its options are not known")
	}
	for option, names := range map[string]bool{"subvol=@": true, "subvolid=256": true, "subvolume=@": false, "ro": false} {
		assert.Equal(t, names, volume.NamesSubvolume(option), option)
	}
}
