package volume_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/volume"
	"latchkey/internal/diskmaker"
)

func sorted(s []string) []string { slices.Sort(s); return s }

// bootDisk returns a disk with one FAT32 partition at sector 2048 and the byte
// offset of its first FAT.
func bootDisk(t *testing.T) (m *diskmaker.Image, fatAt int64) {
	t.Helper()
	m, err := diskmaker.Disk{Sectors: 1 << 19, Style: diskmaker.GPT, GUID: disk.TypeESP,
		Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, MiB: 100, Volume: diskmaker.Volume{Kind: "fat32", Files: map[string][]byte{
				"EFI/BOOT/BOOTX64.EFI": bytes.Repeat([]byte("latchkey"), 4000),
			}}},
		}}.Build()
	require.NoError(t, err)
	return m, 2048*512 + 32*512
}

func examineFirst(t *testing.T, m *diskmaker.Image) volume.Opened {
	t.Helper()
	d, err := disk.New(m, m.Size, 512)
	require.NoError(t, err)
	return volume.Examine(d, disk.ReadLayout(d).Partitions[0])
}

func TestFATThatLoops(t *testing.T) {
	m, fat := bootDisk(t)
	v := examineFirst(t, m)
	f, err := v.FAT.Lookup("efi/boot/bootx64.efi")
	require.NoError(t, err)
	// Every used cluster from the file's on links to itself.
	for c := int64(3); c < 200; c++ {
		four := make([]byte, 4)
		_, err := m.ReadAt(four, fat+4*c)
		require.NoError(t, err)
		if v := binary.LittleEndian.Uint32(four); v > uint32(c) && v < 0x0FFFFFF0 {
			binary.LittleEndian.PutUint32(four, uint32(c))
			_, err = m.WriteAt(four, fat+4*c)
			require.NoError(t, err)
		}
	}
	_, err = examineFirst(t, m).FAT.Open(f)
	assert.ErrorContains(t, err, "it loops")
}

func TestDirectoryThatLoops(t *testing.T) {
	m, fat := bootDisk(t)
	_, err := m.WriteAt([]byte{2, 0, 0, 0}, fat+4*2) // the root's cluster links to itself
	require.NoError(t, err)
	v := examineFirst(t, m)
	_, err = v.FAT.Lookup("no/such/file")
	require.Error(t, err)
}

func TestBrokenChains(t *testing.T) {
	for name, c := range map[string]struct {
		link uint32
		want string
	}{
		"link beyond the volume": {0x0ABCDEF0, "expected 2 to"},
		"ends too early":         {0x0FFFFFFF, "its directory entry says 32000"},
		"free cluster":           {0, "expected 2 to"},
	} {
		t.Run(name, func(t *testing.T) {
			m, fat := bootDisk(t)
			v := examineFirst(t, m)
			f, err := v.FAT.Lookup("EFI/BOOT/BOOTX64.EFI")
			require.NoError(t, err)
			four := binary.LittleEndian.AppendUint32(nil, c.link)
			_, err = m.WriteAt(four, fat+4*6) // a cluster within the file
			require.NoError(t, err)
			_, err = examineFirst(t, m).FAT.Open(f)
			assert.ErrorContains(t, err, c.want)
		})
	}
}

// Real firmware reads such a volume (package truth); the specification does not
// allow it.
func TestAFATBootSectorWithoutItsSignature(t *testing.T) {
	m, _ := bootDisk(t)
	_, err := m.WriteAt([]byte{0, 0}, 2048*512+510)
	require.NoError(t, err)
	v := examineFirst(t, m)
	assert.True(t, v.IsFAT())
	require.Len(t, v.Problems, 1)
	assert.Equal(t, volume.CodeFATSignature, v.Problems[0].Code)
	assert.False(t, v.BootCode)
}

func TestDamagedFATBootSectors(t *testing.T) {
	for name, c := range map[string]struct {
		off  int64
		b    []byte
		code string
	}{
		"bytes per sector": {11, []byte{1, 2}, "fat-damaged"},
		"clusters of 0":    {13, []byte{0}, "fat-damaged"},
		"no reserved":      {14, []byte{0, 0}, "fat-damaged"},
		"no room for data": {32, []byte{9, 0, 0, 0}, "fat-damaged"},
	} {
		t.Run(name, func(t *testing.T) {
			m, _ := bootDisk(t)
			_, err := m.WriteAt(c.b, 2048*512+c.off)
			require.NoError(t, err)
			v := examineFirst(t, m)
			assert.Equal(t, volume.Unknown, v.Kind)
			assert.False(t, v.IsFAT())
			require.Len(t, v.Problems, 2)
			assert.Equal(t, c.code, string(v.Problems[0].Code))
			assert.Equal(t, volume.CodeFATOnlyBackup, v.Problems[1].Code, "the writer keeps a copy in sector 6")
			assert.Positive(t, v.Problems[0].Source.Offset)
		})
	}
}

func TestVolumesOfOtherKinds(t *testing.T) {
	boot := func(oem string) []byte {
		b := make([]byte, 1<<20)
		copy(b[3:], oem)
		b[510], b[511] = 0x55, 0xAA
		return b
	}
	for want, raw := range map[volume.Kind][]byte{
		volume.KindBitLocker: boot("-FVE-FS-"), volume.KindExFAT: boot("EXFAT   "), volume.Empty: make([]byte, 1<<20),
		volume.Unknown: boot("something"), volume.KindNTFS: boot("NTFS    "),
	} {
		d, err := disk.New(bytes.NewReader(raw), int64(len(raw)), 512)
		require.NoError(t, err)
		assert.Equal(t, want, volume.Examine(d, disk.Partition{Number: 1, Length: 2048}).Kind)
	}
}

func TestVolumeBeyondTheEnd(t *testing.T) {
	d, err := disk.New(bytes.NewReader(make([]byte, 4096)), 4096, 512)
	require.NoError(t, err)
	assert.Equal(t, volume.Unknown, volume.Examine(d, disk.Partition{Start: 1 << 62, Length: 9}).Kind)
}

func FuzzFAT(f *testing.F) {
	m := diskmaker.Disk{Sectors: 9000, Style: diskmaker.GPT,
		Partitions: []diskmaker.Partition{{Type: disk.TypeESP, MiB: 2, Volume: diskmaker.Volume{
			Kind: "fat12", Files: map[string][]byte{"EFI/BOOT/BOOTX64.EFI": make([]byte, 9000)}}}}}.MustBuild()
	raw := make([]byte, 64<<10)
	if _, err := m.ReadAt(raw, 2048*512); err != nil {
		f.Fatal(err)
	}
	f.Add(raw)
	f.Add(raw[:512])
	f.Fuzz(func(t *testing.T, raw []byte) {
		fat, err := volume.OpenFAT(io.NewSectionReader(bytes.NewReader(raw), 0, int64(len(raw))))
		if err != nil {
			return
		}
		file, err := fat.Lookup("EFI/BOOT/BOOTX64.EFI")
		if err != nil {
			return
		}
		if r, err := fat.Open(file); err == nil {
			if _, err := io.Copy(io.Discard, r); err != nil && !errors.Is(err, io.EOF) {
				return
			}
		}
	})
}

// A name that holds a separator, as only a damaged or hostile folder has one, leads
// nowhere: no path is made of it.
func TestNamesWithSeparatorsLeadNowhere(t *testing.T) {
	for _, hostile := range []string{"BOOTX/", `BOOTX\`, "../BO", ".", ".."} {
		m, _ := bootDisk(t)
		raw := make([]byte, 16<<20)
		_, err := m.ReadAt(raw, 2048*512)
		require.NoError(t, err)
		at := bytes.Index(raw, []byte("BOOTX64 EFI"))
		require.Positive(t, at)
		entry := []byte(hostile + "           ")[:11]
		_, err = m.WriteAt(entry, 2048*512+int64(at))
		require.NoError(t, err)
		files, err := examineFirst(t, m).FAT.ReadDir("EFI/BOOT")
		require.NoError(t, err)
		assert.Empty(t, files, hostile)
	}
}

// fat32Volume is a FAT32 volume with a program.
func fat32Volume(t *testing.T) []byte {
	t.Helper()
	d := diskmaker.Disk{Sectors: 1 << 18, Style: diskmaker.MBR,
		Partitions: []diskmaker.Partition{{MBRType: 0x0C, MiB: 100,
			Volume: diskmaker.Volume{Kind: "fat32", Files: map[string][]byte{"EFI/ferry/loader.efi": []byte("x")}}}}}
	m := d.MustBuild()
	b := make([]byte, 100<<20)
	_, err := m.ReadAt(b, 1<<20)
	require.NoError(t, err)
	return b
}

// Firmware finds a file by its short name, too, and ends a folder's chain where it leads out of
// the volume: both seen in edk2.
func TestAFATAsFirmwareReadsIt(t *testing.T) {
	build := func(change func(b []byte, fat, data int64)) *volume.FAT {
		b := fat32Volume(t)
		le := binary.LittleEndian
		fat := int64(le.Uint16(b[14:])) * 512
		change(b, fat, fat+int64(b[16])*int64(le.Uint32(b[36:]))*512)
		f, err := volume.OpenFAT(io.NewSectionReader(bytes.NewReader(b), 0, int64(len(b))))
		require.NoError(t, err)
		return f
	}
	f := build(func(b []byte, _, data int64) {
		at := bytes.Index(b[data:], []byte("Al\x00o\x00a\x00d"))
		require.Positive(t, at)
		b[data+int64(at)+3] = 'x' // loader.efi is lxader.efi by its long name
	})
	for name, there := range map[string]bool{`EFI\ferry\LOADER.EFI`: true, `efi/FERRY/loader.efi`: true,
		`EFI\ferry\lxader.efi`: true, `EFI\ferry\loader`: false} {
		_, err := f.Lookup(name)
		assert.Equal(t, there, err == nil, name)
	}
	// A folder's link out of the volume; to the first number, which has an end; to what is marked as
	// free or bad, itself or behind another; in a circle.
	for link, there := range map[uint32]bool{0x0FFFFFFF: true, 0x0BFFFFFF: true, 0x00FFFFFF: true, 1: true,
		0x0FFFFFF0: true, 0: false, 0x0FFFFFF7: false, 0x5FF: false, 3: true, 2: false} {
		f := build(func(b []byte, fat, _ int64) { binary.LittleEndian.PutUint32(b[fat+2*4:], link) })
		_, err := f.Lookup(`EFI\ferry\loader.efi`)
		assert.Equal(t, there, err == nil, "%08X", link)
	}
	f = build(func(b []byte, _, _ int64) { clear(b[82:90]); clear(b[510:512]) })
	assert.True(t, f.Unsigned, "it has neither the name of a type nor the signature")
	f = build(func(b []byte, _, _ int64) { b[17], b[18] = 0, 2 })
	_, err := f.Lookup(`EFI\ferry\loader.efi`)
	assert.NoError(t, err, "the count of entries in the root is none of FAT32's")
	for at, b := range map[int]byte{21: 0x29, 40: 0x80, 42: 1, 43: 1} {
		raw := fat32Volume(t)
		raw[at] = b
		_, err := volume.OpenFAT(io.NewSectionReader(bytes.NewReader(raw), 0, int64(len(raw))))
		assert.ErrorContains(t, err, "BPB_", "byte %d", at)
	}
	// Where the first number leads to itself, nothing ends.
	f = build(func(b []byte, fat, _ int64) { clear(b[fat : fat+12]) })
	_, err = f.Lookup(`EFI\ferry\loader.efi`)
	assert.Error(t, err)
}
