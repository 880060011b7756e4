package compare_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/compare"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/internal/diskmaker"
)

func kinds(doubts []compare.Doubt) []string {
	out := []string{}
	for _, d := range doubts {
		out = append(out, d.Kind)
	}
	return out
}

func TestDoubtsAboutWhichDiskIsWhich(t *testing.T) {
	small, large := windows(1), windows(1)
	large.Sectors *= 2
	grown := windows(1).MustBuild()
	raw := grown.Clone(grown.Size * 2) // a raw copy: the table is the smaller disk's
	blank := diskmaker.Disk{Sectors: windows(1).Sectors}.MustBuild()
	one := func(a, b *diskmaker.Image, ma, mb string) []string {
		x, y := drive(t, machine.RoleOriginal, a), drive(t, machine.RoleClone, b)
		return kinds(compare.Doubts(&x, &y, ma, mb))
	}
	same := small.MustBuild()
	assert.Equal(t, []string{"alike"}, one(same, same, "Corvane S210", "Ostra N3"))
	assert.Equal(t, []string{"same"}, one(same, same, "Corvane S210", "Corvane S210"))
	assert.Empty(t, one(same, large.MustBuild(), "", ""))
	assert.Empty(t, one(same, windows(2).MustBuild(), "", ""))
	assert.Empty(t, one(grown, raw, "", ""), "the clone is the raw copy")
	assert.Equal(t, []string{"swapped"}, one(raw, grown, "", ""))
	assert.Equal(t, []string{"swapped"}, one(blank, grown, "", ""))
	assert.Empty(t, one(grown, blank, "", ""))
	assert.Empty(t, compare.Doubts(nil, nil, "", ""))
}

func TestWhichDiskAPieceBelongsTo(t *testing.T) {
	a, b := drive(t, machine.RoleOriginal, windows(1).MustBuild()), drive(t, machine.RoleClone, windows(2).MustBuild())
	id, _ := a.Contents.Layout.DiskID().Get()
	piece := machine.Described{Source: fact.Source{Origin: fact.Text}, Style: disk.StyleGPT, ID: id}
	role, why := compare.Belongs(piece.Contents(), "", []machine.Drive{a, b}, nil)
	assert.Equal(t, "original", role)
	assert.Contains(t, why, "disk identifier is the same")
	size, _ := a.Contents.Size()
	piece = machine.Described{Source: fact.Source{Origin: fact.Text}, Size: size}
	role, why = compare.Belongs(piece.Contents(), "", []machine.Drive{a, b}, nil)
	assert.Empty(t, role)
	assert.Contains(t, why, "equally well")
	role, _ = compare.Belongs(piece.Contents(), "Ostra N3", []machine.Drive{a, b}, map[string]string{"clone": "ostra n3"})
	assert.Equal(t, "clone", role)
	role, why = compare.Belongs(nil, "", []machine.Drive{a, b}, nil)
	assert.Empty(t, role+why)
	full, empty := a.Contents, (&machine.Described{Size: 1 << 40, Style: disk.StyleNone}).Contents()
	first, why := compare.Guess(empty, full)
	assert.False(t, first)
	assert.Contains(t, why, "holds partitions")
	first, _ = compare.Guess(full, empty)
	assert.True(t, first)
	require.NotNil(t, full)
}

func TestConfigurationThatNamesTheOtherDisk(t *testing.T) {
	original := windows(1)
	boot, _ := original.Place(0)
	last := len(original.Partitions) - 1
	system, _ := original.Place(last)
	files := map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{Is: "windows", Size: 4096}.Bytes(),
		`\EFI\Microsoft\Boot\BCD`: diskmaker.BootStore{Boot: boot, System: system}.Bytes()}
	clone := windows(0x61)
	original.Partitions[0].Volume.Files, clone.Partitions[0].Volume.Files = files, files
	r := find(t, comparison(t, original.MustBuild(), clone.MustBuild(), nil), `\EFI\Microsoft\Boot\BCD, Windows Boot Loader, osdevice`)
	assert.Equal(t, "the other disk", r.Clone)
	assert.NotEqual(t, compare.Agrees, r.Matter)
	assert.Contains(t, r.Meaning, "made anew")
}
