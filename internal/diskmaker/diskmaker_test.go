package diskmaker

import (
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/volume"
	"latchkey/internal/reference"
)

func windowsLike() Disk {
	return Disk{
		Sectors: 976_773_168, Style: GPT, GUID: disk.MustGUID("6F1C2D3E-0001-4A4A-8B8B-0123456789A0"),
		Partitions: []Partition{
			{Type: disk.TypeESP, MiB: 100, Name: "EFI system partition", Volume: Volume{Kind: "fat32", Label: "SYSTEM", Serial: 0x1234ABCD,
				Files: map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: Program{}.Bytes(), `\EFI\Microsoft\Boot\bootmgfw.efi`: Program{Signed: true, Size: 200_000}.Bytes()}}},
			{Type: disk.TypeMSReserved, MiB: 16, Name: "Microsoft reserved partition"},
			{Type: disk.TypeBasicData, Name: "Basic data partition", Volume: Volume{Kind: "ntfs", Serial: 1}},
			{Type: disk.TypeWinRE, MiB: 990, Volume: Volume{Kind: "ntfs", Serial: 2}},
		},
	}
}

func TestBuildIsReadBackWithoutProblems(t *testing.T) {
	for _, sectorSize := range []int{512, 4096} {
		decl := windowsLike()
		decl.SectorSize, decl.Sectors = sectorSize, decl.Sectors*512/uint64(sectorSize)
		m, err := decl.Build()
		require.NoError(t, err)
		d, err := disk.New(m, m.Size, sectorSize)
		require.NoError(t, err)
		l := disk.ReadLayout(d)
		assert.Empty(t, l.Problems)
		require.Len(t, l.Partitions, 4)
		v := volume.Examine(d, l.Partitions[0])
		require.NotNil(t, v.FAT)
		assert.Equal(t, volume.KindFAT32, v.FAT.Kind)
		assert.Equal(t, "1234-ABCD", v.Serial)
		f, err := v.FAT.Lookup(`\efi\microsoft\boot\BOOTMGFW.EFI`)
		require.NoError(t, err)
		assert.EqualValues(t, len(Program{Signed: true, Size: 200_000}.Bytes()), f.Size)
		ntfs := volume.Examine(d, l.Partitions[2])
		assert.Equal(t, volume.KindNTFS, ntfs.Kind)
		assert.Empty(t, ntfs.Problems)
	}
}

func TestCloneToSmallerDiskLosesTheEnd(t *testing.T) {
	m := windowsLike().MustBuild()
	small := m.Clone(250_059_350_016)
	d, err := disk.New(small, small.Size, 512)
	require.NoError(t, err)
	l := disk.ReadLayout(d)
	_, beyond := l.Find("beyond-end")
	assert.True(t, beyond)
	_, larger := l.Find("gpt-larger-disk")
	assert.True(t, larger)
}

func TestBuildRefusesWhatDoesNotFit(t *testing.T) {
	_, err := Disk{Sectors: 4096, Style: GPT, Partitions: []Partition{{Type: disk.TypeESP, MiB: 100}}}.Build()
	assert.ErrorContains(t, err, "room up to")
}

func TestVolumesHoldTheirFiles(t *testing.T) {
	long := make([]byte, 30_000)
	for i := range long {
		long[i] = byte(i * 7)
	}
	files := map[string][]byte{
		"etc/fstab": []byte("UUID=x / ext4 defaults 0 1\n"), "boot/grub/grub.cfg": long, "boot/vmlinuz-6.1": {}, "Windows/System32/winload.efi": long[:9000],
	}
	for _, kind := range []string{"ntfs", "ext4"} {
		decl := Disk{Sectors: 976_773_168, Style: MBR,
			Partitions: []Partition{{MBRType: 7, Volume: Volume{Kind: kind, Files: files, UsedMiB: 40_000, Label: "system"}}}}
		m := decl.MustBuild()
		d, err := disk.New(m, m.Size, 512)
		require.NoError(t, err)
		v := volume.Examine(d, disk.ReadLayout(d).Partitions[0])
		require.NotNil(t, v.Files, v.FilesErr)
		assert.Empty(t, v.Problems)
		assert.Equal(t, "system", v.Label)
		used, _ := v.Used.Get()
		assert.EqualValues(t, 40_000<<20, used)
		for name, want := range files {
			f, err := volume.ReadFile(v.Files, name, 1<<20)
			require.NoError(t, err, name)
			assert.Equal(t, want, append([]byte{}, f.Bytes...), name)
		}
		if kind == "ext4" { // an independent reader takes it, too
			path := filepath.Join(t.TempDir(), "v.img")
			require.NoError(t, m.WriteFile(path))
			at := fmt.Sprintf("%s?offset=%d", path, 1<<20)
			assert.Equal(t, string(files["etc/fstab"]), reference.Run(t, "", "debugfs", "-R", "cat /etc/fstab", at))
		}
	}
}
