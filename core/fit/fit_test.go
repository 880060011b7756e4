package fit_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/fit"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/core/volume"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

const gib = 1 << 30

// described is a disk of which sizes and used space are told, in bytes.
func described(size int64, parts ...machine.DescribedPartition) *machine.Contents {
	at := int64(fit.MiB)
	for i := range parts {
		parts[i].Number, parts[i].Start = i+1, at
		at += parts[i].Length
	}
	d := &machine.Described{Size: size, SectorSize: 512, Style: disk.StyleGPT, ID: "7E21B6D0-4C1A-4F0B-9A55-3C5A19E00071", Whole: true, Partitions: parts}
	return d.Contents()
}

var (
	efi      = machine.DescribedPartition{Type: disk.TypeESP, Kind: volume.KindFAT32, Length: 100 << 20}
	recovery = machine.DescribedPartition{Type: disk.TypeWinRE, Kind: volume.KindNTFS, Length: 990 << 20}
)

func windows(size, used int64) machine.DescribedPartition {
	return machine.DescribedPartition{Type: disk.TypeBasicData, Kind: volume.KindNTFS, Length: size, Used: used}
}

func target(bytes int64) fit.Target { return fit.Target{Bytes: bytes, SectorSize: 512} }

func TestDoesItFit(t *testing.T) {
	c := described(fit.Sold(1000), efi, windows(914*gib, 118*gib), recovery)
	parts := fit.Parts(c)
	assert.True(t, parts[0].Fixed && parts[2].Fixed && !parts[1].Fixed)
	assert.Equal(t, []bool{true, true, false}, []bool{parts[0].Needed, parts[1].Needed, parts[2].Needed})

	a := fit.Judge(c, parts, target(fit.Sold(2000)))
	assert.Equal(t, "as-it-is", a.Fits)
	a = fit.Judge(c, parts, target(fit.Sold(240)))
	assert.Equal(t, "smaller", a.Fits)
	assert.Contains(t, a.Says, "Partition 2 from 914 GiB to ")
	a = fit.Judge(c, parts, target(fit.Sold(120)))
	assert.Equal(t, "no", a.Fits)
	assert.InDelta(t, float64(130*gib+gib+512<<20-fit.Sold(120)), float64(a.Short), 3.0*gib)
	assert.Equal(t, []int{3}, a.Spare)

	// Used space that nobody told decides nothing.
	unknown := described(fit.Sold(1000), efi, windows(914*gib, 0), recovery)
	assert.Equal(t, "unknown", fit.Judge(unknown, fit.Parts(unknown), target(fit.Sold(240))).Fits)
	assert.Equal(t, "as-it-is", fit.Judge(unknown, fit.Parts(unknown), target(fit.Sold(1000))).Fits)
	open := described(fit.Sold(1000), efi, windows(100*gib, 20*gib))
	open.Layout.Open = true
	assert.Equal(t, "unknown", fit.Judge(open, fit.Parts(open), target(fit.Sold(240))).Fits, "the list may go on")
}

// A drive of the same nominal size with a few sectors less: the last partition ends behind
// its end.
func TestAFewSectorsSmaller(t *testing.T) {
	size := fit.Sold(500)
	c := described(size, efi, windows(size-101<<20-33*512, 100*gib))
	parts := fit.Parts(c)
	assert.Equal(t, "as-it-is", fit.Judge(c, parts, target(size)).Fits)
	a := fit.Judge(c, parts, target(size-20*512))
	assert.Equal(t, "smaller", a.Fits)
	assert.Contains(t, a.Trap, "20 sectors smaller")
	sold := fit.Target{Bytes: size, SectorSize: 512, Rounded: true}
	assert.Equal(t, "unknown", fit.Judge(c, parts, sold).Fits, "as it is sold: a few sectors decide")
	sold.Bytes = fit.Sold(1000)
	assert.Equal(t, "as-it-is", fit.Judge(c, parts, sold).Fits)
	// With room behind the last partition it fits, and is still said.
	c = described(size, efi, windows(400*gib, 100*gib))
	a = fit.Judge(c, fit.Parts(c), target(size-20*512))
	assert.Equal(t, "as-it-is", a.Fits)
	assert.NotEmpty(t, a.Trap)
}

// The figures of a handbook case: six partitions of 1 TB onto a drive of 360 GB, the main
// one from 918 to about 321 GB by the screen. start-rules, common practice, no source.
func TestSmallOnesKeepTheirSize(t *testing.T) {
	small := machine.DescribedPartition{Type: disk.TypeWinRE, Kind: volume.KindNTFS, Length: 3 * gib}
	c := described(fit.Sold(1000), efi, machine.DescribedPartition{Type: disk.TypeMSReserved, Length: 16 << 20},
		windows(918*gib, 150*gib), small, small, recovery)
	parts := fit.Parts(c)
	l := fit.Lay(parts, disk.StyleGPT, target(fit.Sold(360)), fit.Main, nil)
	require.Equal(t, "yes", l.Fits, l.Says)
	for i, p := range l.Placed {
		if i != 2 {
			assert.Equal(t, parts[i].Size, p.Size)
		}
		assert.Zero(t, p.Start%fit.MiB)
	}
	assert.InDelta(t, 328, l.Placed[2].Size>>30, 2)
	assert.Less(t, l.Free, int64(3*fit.MiB))
	assert.Equal(t, []int{4, 5, 6}, l.Moved)
}

func TestStrategies(t *testing.T) {
	c := described(fit.Sold(500), efi, windows(200*gib, 50*gib), windows(200*gib, 150*gib))
	parts := fit.Parts(c)
	on := func(gb int64, s fit.Strategy, hand map[int]int64) fit.Layout {
		return fit.Lay(parts, disk.StyleGPT, target(fit.Sold(gb)), s, hand)
	}
	keep := on(1000, fit.Keep, nil)
	assert.Empty(t, keep.Moved)
	assert.InDelta(t, 531, keep.Free>>30, 2)
	grown := on(1000, fit.Proportion, nil)
	assert.Equal(t, grown.Placed[1].Size, grown.Placed[2].Size)
	assert.Greater(t, grown.Placed[1].Size, parts[1].Size)
	// Smaller: one is held at its least size, the other gives the rest.
	shrunk := on(320, fit.Proportion, nil)
	require.Equal(t, "yes", shrunk.Fits, shrunk.Says)
	least, _ := parts[2].Least.Get()
	assert.Equal(t, least, shrunk.Placed[2].Size)
	assert.Less(t, shrunk.Placed[1].Size, parts[1].Size)
	assert.Equal(t, "no", on(180, fit.Proportion, nil).Fits)
	hand := on(500, fit.Hand, map[int]int64{2: 100*gib + 5000})
	assert.EqualValues(t, 100*gib, hand.Placed[1].Size, "snapped")
	assert.Equal(t, []int{3}, hand.Moved)
	assert.Equal(t, "no", on(500, fit.Hand, map[int]int64{2: 10 * gib}).Fits, "below what is in use")
	assert.Equal(t, "no", on(500, fit.Hand, map[int]int64{2: 400 * gib}).Fits)
	// Under an MBR nothing lies behind 2 TiB.
	mbr := fit.Lay(parts, disk.StyleMBR, target(fit.Sold(4000)), fit.Main, nil)
	c.Layout.Style = disk.StyleMBR
	assert.Contains(t, fit.Judge(c, parts, target(fit.Sold(4000))).Says, "beyond what an MBR can tell of")
	c.Layout.Style = disk.StyleGPT
	assert.LessOrEqual(t, mbr.Placed[2].Start+mbr.Placed[2].Size, int64(fit.MBRLimit*512))
	four := fit.Lay(parts, disk.StyleGPT, fit.Target{Bytes: fit.Sold(500), SectorSize: 4096, Physical: 4096},
		fit.Main, nil)
	assert.Equal(t, "yes", four.Fits)
}

// IDEMA LBA1-03: the sectors of drives by what they are sold as.
func TestSold(t *testing.T) {
	assert.EqualValues(t, 976_773_168*512, fit.Sold(500))
	assert.EqualValues(t, 1_953_525_168*512, fit.Sold(1000))
	assert.Zero(t, fit.Sold(40))
}

// What people who copy every day have seen; common practice, no source.
func TestHowLong(t *testing.T) {
	within := func(bytes int64, from, to fit.End, seen time.Duration) {
		got := fit.Long(bytes, from, to)
		require.True(t, got.Known)
		assert.True(t, got.From <= seen && seen <= got.To, "%v to %v, seen %v", got.From, got.To, seen)
	}
	solid := fit.End{Link: "sata", Medium: "solid"}
	within(100e9, fit.End{Link: "sata", Medium: "disk"}, fit.End{Link: "usb"}, time.Hour)
	within(84e9, solid, solid, 12*time.Minute)
	within(60e9, fit.End{Link: "nvme"}, fit.End{Link: "nvme"}, 6*time.Minute)
	within(1000e9, fit.End{Link: "sata", Medium: "disk"}, fit.End{Link: "sata", Medium: "disk"}, 12*time.Hour)
	within(500e9, fit.End{Link: "sata", Medium: "disk"}, fit.End{Link: "usb3", Medium: "solid"}, 4*time.Hour)
	assert.Contains(t, fit.Long(100e9, fit.End{Link: "sata", Medium: "disk"}, solid).Slow, "hard disk")
	assert.False(t, fit.Long(0, solid, solid).Known)
	assert.Equal(t, "not known", fit.Time{}.Words())
}

func TestCountdown(t *testing.T) {
	start := time.Date(2026, 11, 26, 10, 0, 0, 0, time.UTC)
	at := func(minute int, done float64) fit.Seen {
		return fit.Seen{At: start.Add(time.Duration(minute) * time.Minute), Done: done}
	}
	assert.False(t, fit.Count(nil, start).Known)
	assert.False(t, fit.Count([]fit.Seen{at(0, 0)}, start).Known)
	c := fit.Count([]fit.Seen{at(10, 0.2), at(0, 0), at(20, 0.4)}, start.Add(20*time.Minute))
	require.True(t, c.Known)
	assert.WithinDuration(t, start.Add(50*time.Minute), c.Likely, time.Second)
	assert.Equal(t, "By the measured rate it ends 30 to 35 minutes from now.", c.Says)
	assert.True(t, c.First.Before(c.Likely) && c.Likely.Before(c.Last))
	slower := fit.Count([]fit.Seen{at(0, 0), at(10, 0.4), at(30, 0.5)}, start.Add(30*time.Minute))
	assert.Greater(t, slower.Last.Sub(slower.First), c.Last.Sub(c.First), "a rate that changes is a wider range")
	stalled := fit.Count([]fit.Seen{at(0, 0), at(10, 0.4), at(25, 0.4)}, start.Add(25*time.Minute))
	assert.Equal(t, start.Add(10*time.Minute), stalled.Stalled)
	assert.True(t, fit.Count([]fit.Seen{at(0, 0), at(5, 1)}, start).Finished)
	assert.False(t, fit.Count([]fit.Seen{at(0, 0.5), at(5, 0.2)}, start).Known, "it goes back")
}

// planned is a machine with the original alone in evidence, and the clone as planned.
func planned(t *testing.T, mode firmware.Mode, original machine.Drive) machine.Machine {
	clone := machine.Drive{Name: "clone", Role: machine.RoleClone, Bus: original.Bus}
	return fit.Planned(sample.Whole(mode, original, clone), "sata", true, fact.Unknown[bool]())
}

func predict(m machine.Machine, key string, t fit.Target, s fit.Strategy) fit.Prediction {
	c := m.Drives[0].Contents
	parts := fit.Parts(c)
	for _, w := range fit.Ways {
		if w.Key == key {
			return fit.Predict(m, w, parts, fit.Lay(parts, c.Layout.Style, t, s, nil), t)
		}
	}
	panic(key)
}

// Windows' store names partitions by identifiers: a copy with new ones stops there, and
// one of the main partition alone has nothing that the firmware could start.
func TestWaysOfCopyingWindows(t *testing.T) {
	m := planned(t, firmware.UEFI, sample.Drive(t, machine.RoleOriginal, sample.WindowsDisk(1, 1).MustBuild()))
	size, _ := m.Drives[0].Contents.Size()
	larger := target(size * 2)
	want := map[string]startup.Verdict{"blocks": startup.Starts, "image": startup.Starts, "whole": startup.Starts,
		"blocks-new": startup.Stops, "main": startup.Stops, "files": startup.Stops}
	for key, verdict := range want {
		p := predict(m, key, larger, fit.Main)
		require.NotNil(t, p.Clone, key+p.Says)
		assert.Equal(t, verdict, p.Verdict, key+": "+p.Says)
		assert.Len(t, p.Pins, 8)
	}
	p := predict(m, "blocks-new", larger, fit.Main)
	assert.NotEmpty(t, p.After, "the store can be pointed at the clone")
	assert.Nil(t, predict(m, "whole", target(size-512*2048), fit.Keep).Clone, "does not fit")
	best := fit.Best([]fit.Prediction{predict(m, "main", larger, fit.Main), predict(m, "blocks", larger, fit.Main)})
	assert.Equal(t, 1, best)
	four := larger
	four.SectorSize = 4096
	assert.Contains(t, predict(m, "blocks", four, fit.Main).Says, "sectors of 4096 bytes")
	assert.Nil(t, predict(m, "whole", four, fit.Main).Clone)
}

// What could stay behind stays behind, and a Mac's own tool blesses what it made.
func TestWaysThatSomeDisksHave(t *testing.T) {
	d := sample.WindowsDisk(1, 1)
	d.Partitions = append(d.Partitions, diskmaker.Partition{Type: disk.TypeWinRE, MiB: 64,
		Volume: diskmaker.Volume{Kind: "ntfs"}})
	d.Partitions[1].MiB = 512
	m := planned(t, firmware.UEFI, sample.Drive(t, machine.RoleOriginal, d.MustBuild()))
	size, _ := m.Drives[0].Contents.Size()
	p := predict(m, "needed", target(size*2), fit.Keep)
	require.Len(t, p.Clone.Layout.Partitions, 2)
	assert.Equal(t, startup.Starts, p.Verdict, p.Says)
	assert.Less(t, p.Bytes, predict(m, "blocks", target(size*2), fit.Keep).Bytes)

	raw := make([]byte, 4096)
	copy(raw[32:], "NXSB")
	d = sample.GPTDisk(1, nil)
	d.Partitions[1].Type = disk.MustGUID("7C3457EF-0000-11AA-AA11-00306543ECAC")
	d.Partitions[1].Volume = diskmaker.Volume{Kind: "raw", Raw: raw}
	m = planned(t, firmware.UEFI, sample.Drive(t, machine.RoleOriginal, d.MustBuild()))
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.ReadsMacVolumes, fact.Tell(true))
	assert.Equal(t, startup.Starts, predict(m, "restore", target(size*2), fit.Keep).Verdict)
	assert.NotEqual(t, startup.Starts, predict(m, "files", target(size*2), fit.Keep).Verdict, "a sealed system's files alone")
	keys := func(c *machine.Contents) (all []string) {
		for _, w := range fit.WaysOf(c) {
			all = append(all, w.Key)
		}
		return all
	}
	assert.Contains(t, keys(m.Drives[0].Contents), "restore")
	assert.NotContains(t, keys(m.Drives[0].Contents), "to-uefi")
	assert.NotContains(t, keys(sample.Drive(t, machine.RoleOriginal,
		sample.LegacyWindowsDisk(true).MustBuild()).Contents), "restore")
}

// Linux names file systems: new identifiers of the table do not matter, new file systems do.
func TestWaysOfCopyingLinux(t *testing.T) {
	m := planned(t, firmware.UEFI, sample.Drive(t, machine.RoleOriginal, sample.LinuxDisk(1, 1).MustBuild()))
	size, _ := m.Drives[0].Contents.Size()
	assert.Equal(t, startup.Starts, predict(m, "blocks-new", target(size*2), fit.Keep).Verdict)
	assert.NotEqual(t, startup.Starts, predict(m, "files", target(size*2), fit.Keep).Verdict)
}

// Under legacy firmware code and mark come along with the boot record; where they do not,
// nothing starts.
func TestWaysOfCopyingLegacy(t *testing.T) {
	m := planned(t, firmware.Legacy, sample.Drive(t, machine.RoleOriginal, sample.LegacyWindowsDisk(true).MustBuild()))
	size, _ := m.Drives[0].Contents.Size()
	assert.Equal(t, startup.Starts, predict(m, "blocks", target(size*2), fit.Keep).Verdict)
	assert.Equal(t, startup.Starts, predict(m, "whole", target(size*2), fit.Keep).Verdict)
	assert.Equal(t, startup.Stops, predict(m, "main", target(size*2), fit.Keep).Verdict)
	assert.Equal(t, startup.Stops, predict(m, "files", target(size*2), fit.Keep).Verdict)
}

// What is not in evidence is not predicted.
func TestNothingIsPredictedOfNothing(t *testing.T) {
	m := planned(t, firmware.UEFI, machine.Drive{Name: "original", Role: machine.RoleOriginal})
	p := fit.Predict(m, fit.Ways[0], nil, fit.Layout{}, target(fit.Sold(500)))
	assert.Nil(t, p.Clone)
	assert.Empty(t, p.Verdict)
	told := described(fit.Sold(500), efi, windows(300*gib, 0))
	m.Drives[0].Contents = told
	p = predict(m, "blocks", target(fit.Sold(500)), fit.Keep)
	assert.Equal(t, startup.Depends, p.Verdict, p.Says)

	// Whether it fits is not known: whether the copy starts is not, either.
	m = planned(t, firmware.UEFI, sample.Drive(t, machine.RoleOriginal, sample.WindowsDisk(1, 1).MustBuild()))
	c := m.Drives[0].Contents
	size, _ := c.Size()
	sold := fit.Target{Bytes: size, SectorSize: 512, Rounded: true}
	assert.Empty(t, predict(m, "whole", sold, fit.Keep).Verdict, "a sector less, and it does not fit")
	for i := range c.Volumes {
		c.Volumes[i].Used = fact.Unknown[uint64]()
	}
	p = predict(m, "blocks", target(size-64<<20), fit.Main)
	assert.Equal(t, startup.Depends, p.Verdict, p.Says)
	assert.Contains(t, p.Says, "whether it fits")
	assert.Equal(t, startup.Starts, predict(m, "blocks", target(2*size), fit.Keep).Verdict)
}

func TestTheCopyAgainstThePrediction(t *testing.T) {
	m := planned(t, firmware.UEFI, sample.Drive(t, machine.RoleOriginal, sample.WindowsDisk(1, 1).MustBuild()))
	size, _ := m.Drives[0].Contents.Size()
	p := predict(m, "blocks", target(size), fit.Keep)
	assert.Empty(t, fit.Held(p.Way, p.Clone, m.Drives[0].Contents), "copied as it was")
	other := sample.Drive(t, machine.RoleClone, sample.WindowsDisk(2, 1).MustBuild()).Contents
	found := fit.Held(p.Way, p.Clone, other)
	require.NotEmpty(t, found)
	assert.Contains(t, fmt.Sprint(found), "identifier")
	assert.Empty(t, fit.Held(fit.Way{NewIDs: true, Files: true}, predict(m, "blocks-new", target(size), fit.Keep).Clone, other), "new ones were said")
	assert.Empty(t, fit.Held(p.Way, nil, other))
}

func keys(s fit.Situation) map[string]fit.Line {
	out := map[string]fit.Line{}
	for _, l := range s.List() {
		out[l.Key] = l
	}
	return out
}

func TestWhatMustBeReady(t *testing.T) {
	c := described(fit.Sold(500), efi, windows(300*gib, 295*gib), machine.DescribedPartition{Type: disk.TypeBasicData,
		Kind: volume.KindBitLocker, Length: gib, Letter: "E"})
	c.Volumes[1].Unclean, c.Volumes[1].Letter = fact.Tell(true), "C"
	m := fit.Planned(machine.Machine{Firmware: firmware.Settings{Mode: fact.Tell(firmware.UEFI)},
		Drives: []machine.Drive{{Name: "original", Role: machine.RoleOriginal, Contents: c},
			{Name: "clone", Role: machine.RoleClone, Contents: described(fit.Sold(500),
				windows(100*gib, gib))}}}, "nvme", true, fact.Unknown[bool]())
	list := keys(fit.Situation{Machine: m, Parts: fit.Parts(c), Target: target(fit.Sold(500)), BusLater: "nvme"})
	assert.Equal(t, "chkdsk C: /f", list["check-2"].Command)
	assert.True(t, list["check-2"].First)
	assert.Contains(t, list["encryption-3"].Command, "-disable E:")
	for _, key := range []string{"which", "keep", "shown", "stick", "stick-out", "power", "swap", "slot", "setup", "fast-start", "room-2"} {
		assert.Contains(t, list, key)
	}
	assert.True(t, list["which"].First, "both have the same capacity")
	c.Volumes[1].Unclean = fact.Tell(false)
	list = keys(fit.Situation{Machine: m, Target: target(fit.Sold(250)), To: fit.End{Link: "usb3"}})
	assert.True(t, list["check-2"].Evidence)
	assert.NotContains(t, list, "shown")
	assert.Contains(t, keys(fit.Situation{}), "capture")
	// A letter that is none never stands in a command.
	c.Volumes[1].Letter, c.Volumes[1].Unclean = "C & del", fact.Tell(true)
	assert.Equal(t, "chkdsk C: /f", keys(fit.Situation{Machine: m})["check-2"].Command)
}

// A way of copying that makes a boot entry leads to a start where the firmware does not
// look for the fallback; without one it does not.
func TestABootEntryThatComesWithTheCopy(t *testing.T) {
	disk := sample.GPTDisk(1, map[string][]byte{`\EFI\Microsoft\Boot\bootmgfw.efi`: diskmaker.Program{Is: "windows", Size: 8192}.Bytes()})
	m := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleOriginal, disk.MustBuild()),
		machine.Drive{Name: "clone", Role: machine.RoleClone})
	m.Firmware.Entries = nil
	c := m.Drives[0].Contents
	target := fit.Target{Bytes: 4 << 30, SectorSize: 512}
	parts := fit.Parts(c)
	layout := fit.Lay(parts, c.Layout.Style, target, fit.Keep, nil)
	for made, want := range map[bool]startup.Verdict{true: startup.Starts, false: startup.Stops} {
		planned := fit.Planned(m, "sata", true, fact.Tell(made))
		assert.Equal(t, want, fit.Predict(planned, fit.Ways[0], parts, layout, target).Verdict, made)
	}
}
