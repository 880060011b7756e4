package fit_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/fit"
	"latchkey/core/machine"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// A copy stalls when nothing has moved for ten minutes and not before; the range is what the readings allow,
// each half a per cent off.
func TestTheCountdownAtItsBounds(t *testing.T) {
	start := time.Date(2026, 11, 26, 10, 0, 0, 0, time.UTC)
	at := func(after time.Duration, done float64) fit.Seen { return fit.Seen{At: start.Add(after), Done: done} }
	still := fit.Count([]fit.Seen{at(0, 0), at(10*time.Minute, 0.4), at(20*time.Minute, 0.4)}, start)
	assert.Equal(t, start.Add(10*time.Minute), still.Stalled)
	assert.Contains(t, still.Says, "Nothing has moved for")
	moving := fit.Count([]fit.Seen{at(0, 0), at(10*time.Minute, 0.4), at(20*time.Minute-time.Second, 0.4)}, start)
	assert.True(t, moving.Stalled.IsZero())
	assert.True(t, moving.Known)
	assert.Contains(t, fit.Count([]fit.Seen{at(0, 0.2), at(time.Minute, 0.2)}, start).Says, "One reading tells no rate")
	assert.Contains(t, fit.Count([]fit.Seen{at(0, 0.2), at(0, 0.3)}, start).Says, "One reading tells no rate", "at one time")
	// Half in an hour: the other half takes one, by half a per cent of the whole more or less.
	c := fit.Count([]fit.Seen{at(0, 0), at(time.Hour, 0.5)}, start.Add(time.Hour))
	assert.Equal(t, start.Add(2*time.Hour), c.Likely)
	assert.WithinDuration(t, start.Add(time.Hour+3564*time.Second), c.First, time.Second)
	assert.WithinDuration(t, start.Add(time.Hour+3636*time.Second), c.Last, time.Second)
	// A figure that went back tells that nothing was done since.
	back := fit.Count([]fit.Seen{at(0, 0), at(30*time.Minute, 0.9), at(time.Hour, 0.5)}, start.Add(time.Hour))
	assert.Equal(t, start.Add(30*time.Minute), back.Stalled)
}

// The slowest part of the path is named, and both ends of the range go by their own parts.
func TestThePathOfACopy(t *testing.T) {
	const bytes = 100e9
	solid, usb := fit.End{Link: "nvme", Medium: "solid"}, fit.End{Link: "usb"}
	slow, alone := fit.Long(bytes, solid, usb), fit.Long(bytes, usb, usb)
	assert.Equal(t, alone.Slow, slow.Slow, "USB is what holds it up")
	assert.Equal(t, alone.Rate, slow.Rate)
	assert.Equal(t, fit.Long(bytes, usb, solid).From, slow.From, "from which end it is looked at does not matter")
	assert.Equal(t, fit.Long(bytes, usb, solid).To, slow.To)
	assert.InDelta(t, bytes/slow.Rate.Low, (slow.To - 2*time.Minute).Seconds(), 1)
	assert.InDelta(t, bytes/slow.Rate.High, (slow.From - 2*time.Minute).Seconds(), 1)
}

// What a copy is held against is what both tell of; each fact by itself.
func TestEachFactOfACopyIsHeld(t *testing.T) {
	first := func(c *machine.Contents) *disk.Partition { return &c.Layout.Partitions[0] }
	of := func(d diskmaker.Disk) *machine.Contents {
		return sample.Drive(t, machine.RoleClone, d.MustBuild()).Contents
	}
	for name, c := range map[string]struct {
		change func(c *machine.Contents)
		way    fit.Way
		what   []string // that differs
	}{
		"nothing":                       {func(*machine.Contents) {}, fit.Way{}, nil},
		"a partition's start":           {func(c *machine.Contents) { first(c).Start++ }, fit.Way{}, []string{"Partition 1, first sector"}},
		"a partition's length":          {func(c *machine.Contents) { first(c).Length += 8 }, fit.Way{}, []string{"Partition 1, size in bytes"}},
		"a partition's length, by much": {func(c *machine.Contents) { first(c).Length *= 2 }, fit.Way{}, []string{"Partition 1, size"}},
		"a place that was not told":     {func(c *machine.Contents) { first(c).Start++; first(c).Unplaced = true }, fit.Way{}, nil},
		"a place that was told roughly": {func(c *machine.Contents) { first(c).Start++; first(c).Rough = true }, fit.Way{}, nil},
		"a type":                        {func(c *machine.Contents) { first(c).Type.Name = "x" }, fit.Way{}, []string{"Partition 1, type"}},
		"a type that was not told": {func(c *machine.Contents) {
			c.Layout.Partitions[0].Type.Name = "x"
			c.Layout.Partitions[0].TypeOpen = true
		}, fit.Way{}, nil},
		"an identifier":                    {func(c *machine.Contents) { first(c).GUID[0]++ }, fit.Way{}, []string{"Partition 1, identifier"}},
		"a new identifier, as was said":    {func(c *machine.Contents) { first(c).GUID[0]++ }, fit.Way{NewIDs: true}, nil},
		"an identifier that is not told":   {func(c *machine.Contents) { first(c).GUID = disk.GUID{} }, fit.Way{}, nil},
		"a serial number":                  {func(c *machine.Contents) { c.Volumes[0].Serial = "0" }, fit.Way{}, []string{"Partition 1, serial number of the file system"}},
		"a serial number, of files":        {func(c *machine.Contents) { c.Volumes[0].Serial = "0" }, fit.Way{Files: true}, nil},
		"a serial number that is not told": {func(c *machine.Contents) { c.Volumes[0].Serial = "" }, fit.Way{}, nil},
		"a partition less": {func(c *machine.Contents) {
			c.Layout.Partitions, c.Volumes = c.Layout.Partitions[:1], c.Volumes[:1]
		}, fit.Way{}, []string{"Partition 2"}},
		"a partition less, in a list that was cut off": {func(c *machine.Contents) {
			c.Layout.Partitions, c.Volumes, c.Layout.Open = c.Layout.Partitions[:1], c.Volumes[:1], true
		}, fit.Way{}, nil},
		"a style":                   {func(c *machine.Contents) { c.Layout.Style = disk.StyleMBR }, fit.Way{}, []string{"Partition style"}},
		"a style that is not known": {func(c *machine.Contents) { c.Layout.Style = disk.StyleUnknown }, fit.Way{}, nil},
	} {
		found := of(sample.WindowsDisk(1, 1))
		c.change(found)
		var what []string
		for _, o := range fit.Held(c.way, of(sample.WindowsDisk(1, 1)), found) {
			what = append(what, o.What)
			assert.NotEqual(t, o.Predicted, o.Found, name)
		}
		assert.Equal(t, c.what, what, name)
	}
	legacy := func(code string) *machine.Contents {
		d := sample.LegacyWindowsDisk(true)
		d.BootCode = code
		return of(d)
	}
	found := fit.Held(fit.Way{}, legacy("classic"), legacy("grub"))
	require.Len(t, found, 1)
	assert.Equal(t, "Code in the boot record", found[0].What)
	none := legacy("grub")
	none.Layout.MBR.BootCode = nil
	assert.Empty(t, fit.Held(fit.Way{}, legacy("classic"), none), "it is not in evidence")
	active := legacy("classic")
	active.Layout.Partitions[0].Active = false
	require.Len(t, fit.Held(fit.Way{}, legacy("classic"), active), 1)
	active.Layout.Partitions[0].ActiveOpen = true
	assert.Empty(t, fit.Held(fit.Way{}, legacy("classic"), active))
}

// A new drive as large as the original takes all as it is, whatever is told of the partitions; with room, how
// much stays free is told where the partitions are.
func TestADriveThatIsLargeEnough(t *testing.T) {
	c := described(fit.Sold(500), efi, windows(300*gib, 100*gib))
	a := fit.Judge(c, fit.Parts(c), target(fit.Sold(500)))
	assert.Equal(t, "as-it-is", a.Fits)
	assert.Contains(t, a.Says, "stay free")
	c.Layout.Open = true
	a = fit.Judge(c, fit.Parts(c), target(fit.Sold(500)))
	assert.Equal(t, "as-it-is", a.Fits)
	assert.Equal(t, "The new drive is as large as the original, or larger.", a.Says)
	a = fit.Judge(c, fit.Parts(c), target(fit.Sold(500)-512))
	assert.Equal(t, "unknown", a.Fits)
	assert.Contains(t, a.Says, "may have been cut off")
	assert.Equal(t, "unknown", fit.Judge(c, nil, target(fit.Sold(250))).Fits)
	assert.Contains(t, fit.Judge(c, nil, target(fit.Sold(250))).Says, "not in evidence")
}

// The main partition is the largest of a system that can change its size, else the largest that can.
func TestTheMainPartition(t *testing.T) {
	c := described(fit.Sold(500), efi, windows(50*gib, gib), windows(200*gib, gib), windows(200*gib, gib),
		windows(100*gib, gib))
	parts := fit.Parts(c)
	assert.Equal(t, 2, fit.MainPart(parts), "the first of the largest")
	parts[1].Role = disk.RoleSystem
	for _, i := range []int{2, 3, 4} {
		parts[i].Role = disk.RoleData
	}
	assert.Equal(t, 1, fit.MainPart(parts), "that of the system, though it is smaller")
	assert.Equal(t, -1, fit.MainPart(nil))
}

// What must be ready goes by what both disks tell.
func TestWhatMustBeReadyOfTwoDisks(t *testing.T) {
	with := func(original, clone *machine.Contents, bytes int64) map[string]fit.Line {
		m := fit.Planned(machine.Machine{Firmware: firmware.Settings{Mode: fact.Tell(firmware.UEFI)},
			Drives: []machine.Drive{{Name: "original", Role: machine.RoleOriginal, Contents: original},
				{Name: "clone", Role: machine.RoleClone, Contents: clone}}}, "nvme", true, fact.Unknown[bool]())
		return keys(fit.Situation{Machine: m, Parts: fit.Parts(original), Target: target(bytes)})
	}
	large := func(used int64) *machine.Contents { return described(fit.Sold(500), efi, windows(100*gib, used)) }
	assert.Contains(t, with(large(96*gib), nil, fit.Sold(500)), "room-2")
	assert.NotContains(t, with(large(95*gib), nil, fit.Sold(500)), "room-2", "95 in a hundred are room enough")
	assert.NotContains(t, with(described(fit.Sold(500), efi, windows(gib, gib)), nil, fit.Sold(500)), "room-2", "small ones are meant to be full")
	assert.NotContains(t, with(large(gib), nil, fit.Sold(500)), "twice")
	list := with(large(gib), large(gib), fit.Sold(500))
	assert.True(t, list["twice"].First)
	other := large(gib)
	other.Layout.DiskIDTold = fact.Tell("0000")
	_, twice := with(large(gib), other, fit.Sold(500))["twice"]
	assert.False(t, twice)
	assert.True(t, list["which"].First)
	assert.False(t, with(large(gib), nil, fit.Sold(250))["which"].First, "their capacities tell them apart")
	blank := described(fit.Sold(500))
	blank.Layout.Style = disk.StyleNone
	assert.True(t, with(large(gib), blank, fit.Sold(500))["empty"].Evidence)
	assert.NotContains(t, list, "empty")
	assert.True(t, list["keep"].First)
	assert.NotContains(t, with(large(gib), blank, fit.Sold(500)), "keep")
}

// Spans of time in words: minutes are rounded up, above twenty to fives; hours have a tenth below ten.
func TestSpansOfTimeInWords(t *testing.T) {
	for want, c := range map[string][2]time.Duration{
		"a minute":                {30 * time.Second, time.Minute},
		"2 minutes":               {61 * time.Second, 2 * time.Minute},
		"1 to 2 minutes":          {time.Minute, 61 * time.Second},
		"20 to 25 minutes":        {20 * time.Minute, 20*time.Minute + time.Second},
		"85 to 90 minutes":        {85 * time.Minute, 90*time.Minute - time.Second},
		"55 minutes to 1.5 hours": {55 * time.Minute, 90 * time.Minute},
		"1.0 to 1.5 hours":        {time.Hour, 90 * time.Minute},
		"9.9 to 10 hours":         {9*time.Hour + 54*time.Minute, 10 * time.Hour},
		"2.0 hours":               {2 * time.Hour, 2*time.Hour + time.Second},
		"12 to 13 hours":          {12 * time.Hour, 13 * time.Hour},
	} {
		assert.Equal(t, want, fit.Time{Known: true, From: c[0], To: c[1]}.Words())
	}
}

// Capacities that were rounded tell of no trap: neither the original's nor the new drive's sectors are known.
func TestRoundedCapacitiesAreNoTrap(t *testing.T) {
	size := fit.Sold(500)
	c := described(size, efi, windows(400*gib, 100*gib))
	parts := fit.Parts(c)
	few := fit.Target{Bytes: size - 20*512, SectorSize: 512}
	assert.NotEmpty(t, fit.Judge(c, parts, few).Trap)
	assert.Empty(t, fit.Judge(c, parts, fit.Target{Bytes: size, SectorSize: 512}).Trap)
	assert.Empty(t, fit.Judge(c, parts, fit.Target{Bytes: fit.Sold(250), SectorSize: 512}).Trap, "another class of drive")
	c.Rounded = true
	assert.Empty(t, fit.Judge(c, parts, few).Trap)
	assert.NotEqual(t, "The new drive is as large as the original, or larger.", fit.Judge(c, parts, target(size)).Says)
}

// In proportion: what can change shares what is left by its size, what may not fall below its least is held there and
// the others share again; with less than all their least sizes nothing fits.
func TestSharesInProportion(t *testing.T) {
	c := described(fit.Sold(1000), efi, windows(600*gib, 10*gib), windows(300*gib, 10*gib))
	parts := fit.Parts(c)
	l := fit.Lay(parts, disk.StyleGPT, target(fit.Sold(500)), fit.Proportion, nil)
	require.Equal(t, "yes", l.Fits, l.Says)
	assert.InDelta(t, 2, float64(l.Placed[1].Size)/float64(l.Placed[2].Size), 0.001)
	assert.Less(t, l.Free, int64(4*fit.MiB), "all of the room is shared")
	full := described(fit.Sold(1000), efi, windows(600*gib, 350*gib), windows(300*gib, 10*gib))
	parts = fit.Parts(full)
	least, known := parts[1].Least.Get()
	require.True(t, known)
	l = fit.Lay(parts, disk.StyleGPT, target(fit.Sold(500)), fit.Proportion, nil)
	require.Equal(t, "yes", l.Fits, l.Says)
	assert.Equal(t, least, l.Placed[1].Size)
	assert.Less(t, l.Free, int64(4*fit.MiB))
	l = fit.Lay(parts, disk.StyleGPT, target(fit.Sold(250)), fit.Proportion, nil)
	assert.Equal(t, "no", l.Fits)
}

// The letter that a command names is the one that a running Windows gives, where that is one of its letters.
func TestTheLetterThatACommandNames(t *testing.T) {
	for letter, want := range map[string]string{"A": "A", "Z": "Z", "E": "E", "@": "C", "[": "C", "e": "C", "": "C", "AB": "C"} {
		c := described(fit.Sold(500), efi, windows(300*gib, 100*gib))
		c.Volumes[1].Unclean, c.Volumes[1].Letter = fact.Tell(true), letter
		m := machine.Machine{Drives: []machine.Drive{{Name: "original", Role: machine.RoleOriginal, Contents: c}}}
		assert.Equal(t, "chkdsk "+want+": /f", keys(fit.Situation{Machine: m})["check-2"].Command, "%q", letter)
	}
}
