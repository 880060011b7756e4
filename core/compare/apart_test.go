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
	full, empty := a.Contents, (&machine.Described{Size: 1 << 40, Style: disk.StyleNone, Whole: true}).Contents()
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

// told is a disk of a size and a style, with partitions of which so much is in use.
func told(size int64, style disk.Style, used ...int64) *machine.Contents {
	d := machine.Described{Size: size, Style: style, Source: fact.Source{Origin: fact.Text}, Whole: true}
	for i, n := range used {
		d.Partitions = append(d.Partitions, machine.DescribedPartition{Number: i + 1, Start: int64(i+1) << 20,
			Length: size / 8, Used: n, Type: disk.TypeBasicData})
	}
	return d.Contents()
}

func TestSigns(t *testing.T) {
	const gb = int64(1e9)
	full, half, none := told(500*gb, disk.StyleGPT, 40*gb, 60*gb), told(500*gb, disk.StyleGPT, 50*gb),
		told(500*gb, disk.StyleNone)
	open := told(500*gb, disk.StyleUnknown)
	for name, c := range map[string]struct {
		a, b  *machine.Contents
		first bool
		why   string
	}{
		"more in use":           {full, half, true, "because more of it is in use."},
		"less in use":           {half, full, false, "because more of it is in use."},
		"as much in use":        {full, full, true, ""},
		"one empty":             {half, none, true, "because it holds partitions and the other one is empty."},
		"the first empty":       {none, half, false, "because it holds partitions and the other one is empty."},
		"the first not told of": {open, half, false, "because more of it is in use."},
		"none told of":          {open, open, true, ""},
		"one not there":         {nil, full, true, ""},
		"the other not there":   {full, nil, true, ""},
	} {
		first, why := compare.Guess(c.a, c.b)
		assert.Equal(t, c.first, first, name)
		assert.Equal(t, c.why, why, name)
	}
	doubts := func(a, b *machine.Contents) []string {
		return kinds(compare.Doubts(&machine.Drive{Contents: a}, &machine.Drive{Contents: b}, "", ""))
	}
	large := func(used ...int64) *machine.Contents { return told(1000*gb, disk.StyleGPT, used...) }
	assert.Equal(t, []string{"swapped"}, doubts(large(10*gb), full), "larger and emptier")
	assert.Empty(t, doubts(large(100*gb), full), "as full")
	assert.Empty(t, doubts(large(), full), "how full is not told")
	assert.Empty(t, doubts(half, full), "as large")
	assert.Equal(t, []string{"swapped"}, doubts(none, full))
	assert.Empty(t, doubts(open, full), "not told is not empty")
	assert.Empty(t, doubts(none, none))
}

func TestWhatMakesDisksAlike(t *testing.T) {
	for name, change := range map[string]func(c *machine.Contents){
		"identifier": func(c *machine.Contents) { c.Layout.DiskIDTold = fact.Tell("another") },
		"no identifier": func(c *machine.Contents) {
			c.Layout.GPT.Primary.State, c.Layout.GPT.Backup.State = disk.CopyDamaged, disk.CopyDamaged
		},
		"capacity":        func(c *machine.Contents) { c.Layout.Sectors++ },
		"no capacity":     func(c *machine.Contents) { c.Layout.Sectors = disk.SectorsUnknown },
		"a partition":     func(c *machine.Contents) { c.Layout.Partitions = c.Layout.Partitions[:3] },
		"start":           func(c *machine.Contents) { c.Layout.Partitions[2].Start++ },
		"length":          func(c *machine.Contents) { c.Layout.Partitions[2].Length++ },
		"unique GUID":     func(c *machine.Contents) { c.Layout.Partitions[2].GUID[3]++ },
		"type":            func(c *machine.Contents) { c.Layout.Partitions[2].Type.Name = "another" },
		"active":          func(c *machine.Contents) { c.Layout.Partitions[2].Active = true },
		"serial number":   func(c *machine.Contents) { c.Volumes[2].Serial = "another" },
		"nothing of it":   nil,
		"nothing changed": func(*machine.Contents) {},
	} {
		for _, both := range []bool{false, true} { // the change on the clone, or on both
			image := windows(1).MustBuild()
			a, b := drive(t, machine.RoleOriginal, image), drive(t, machine.RoleClone, image)
			if change == nil {
				b.Contents = nil
			} else {
				change(b.Contents)
			}
			if both && change != nil {
				change(a.Contents)
			}
			alike := name == "nothing changed" || both && name != "no capacity" && name != "no identifier" && change != nil
			assert.Equal(t, alike, len(compare.Doubts(&a, &b, "", "")) > 0, "%s, %v", name, both)
		}
	}
}

func TestWhatAPieceHasInCommon(t *testing.T) {
	a, b := drive(t, machine.RoleOriginal, windows(1).MustBuild()), drive(t, machine.RoleClone, windows(2).MustBuild())
	drives := []machine.Drive{a, b}
	b.Contents.Layout.Partitions[2].Start += 2048
	size, _ := b.Contents.Size()
	parts := func(c *machine.Contents) *machine.Contents {
		d := machine.Described{Style: disk.StyleGPT, Source: fact.Source{Origin: fact.Text}}
		for _, p := range c.Layout.Partitions {
			d.Partitions = append(d.Partitions, machine.DescribedPartition{Number: p.Number,
				Start:  int64(p.Start) * 512,
				Length: int64(p.Length) * 512, Type: p.TypeGUID})
		}
		return d.Contents()
	}
	drive, why := compare.Belongs(parts(b.Contents), "", drives, nil)
	assert.Equal(t, "clone", drive)
	assert.Equal(t, "because every partition stands where this disk's does.", why)
	few := parts(b.Contents)
	few.Layout.Partitions = few.Layout.Partitions[2:]
	drive, _ = compare.Belongs(few, "", drives, nil)
	assert.Empty(t, drive, "one of four tells nothing")
	unplaced := parts(b.Contents)
	for i := range unplaced.Layout.Partitions {
		unplaced.Layout.Partitions[i].Unplaced = true
	}
	drive, _ = compare.Belongs(unplaced, "", drives, nil)
	assert.Empty(t, drive, "places that are not told")
	wide := parts(b.Contents)
	wide.Layout.SectorSize = 4096
	for i := range wide.Layout.Partitions {
		wide.Layout.Partitions[i].Start /= 8
	}
	drive, _ = compare.Belongs(wide, "", drives, nil)
	assert.Equal(t, "clone", drive, "places are bytes")

	larger := drives[1]
	larger.Contents = told(2*size, disk.StyleGPT)
	for d, want := range map[int64]string{0: "original", size / 64: "original", size/64 + size/32: "", -size / 64: "original", -size / 32: ""} {
		drive, _ = compare.Belongs(told(size+d, disk.StyleUnknown), "", []machine.Drive{a, larger}, nil)
		assert.Equal(t, want, drive, "%d bytes off", d)
	}
	drive, _ = compare.Belongs(told(size, disk.StyleUnknown), "Corvane S210", []machine.Drive{a, larger},
		map[string]string{"clone": "CORVANE s210", "original": ""})
	assert.Equal(t, "clone", drive, "a model tells more than a size")
	drive, _ = compare.Belongs(told(0, disk.StyleGPT), "", []machine.Drive{a, larger}, map[string]string{})
	assert.Empty(t, drive)
}
