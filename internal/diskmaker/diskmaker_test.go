package diskmaker

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/volume"
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
