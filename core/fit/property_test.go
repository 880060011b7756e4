package fit_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/fit"
	"latchkey/core/machine"
	"latchkey/core/volume"
	"latchkey/internal/sample"
)

// anyParts draws partitions, some of which overlap, lie beyond any disk, or have more in
// use than they hold.
func anyParts(t *rapid.T) *machine.Contents {
	var parts []machine.DescribedPartition
	for range rapid.IntRange(0, 9).Draw(t, "count") {
		size := rapid.OneOf(rapid.Int64Range(0, 1<<41), rapid.Just(int64(disk.MaxSize))).Draw(t, "size")
		parts = append(parts, machine.DescribedPartition{Length: size, Used: rapid.Int64Range(0, 1<<41).Draw(t, "used"),
			Type: rapid.SampledFrom([]disk.GUID{disk.TypeESP, disk.TypeBasicData, disk.TypeWinRE, disk.TypeLinuxData,
				{}}).Draw(t, "type"),
			Kind: rapid.SampledFrom([]volume.Kind{volume.KindNTFS, volume.KindExt, volume.KindXFS, volume.KindFAT32,
				volume.KindBitLocker, ""}).Draw(t, "kind")})
	}
	return described(rapid.Int64Range(0, 1<<42).Draw(t, "disk"), parts...)
}

// Whatever is laid out: no partition overlaps another or lies outside of what a table can
// hold, none is below what it needs, and "fits" is said of that alone. Zero, one sector
// and the largest drive are among the targets.
func TestLayoutsKeepTheirRules(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := anyParts(t)
		if c == nil {
			return
		}
		parts := fit.Parts(c)
		target := fit.Target{SectorSize: rapid.SampledFrom([]int{512, 4096}).Draw(t, "sector"),
			Bytes: rapid.OneOf(rapid.Int64Range(0, 1<<42),
				rapid.SampledFrom([]int64{0, 512, 1 << 20, disk.MaxSize})).Draw(t, "target")}
		style := rapid.SampledFrom([]disk.Style{disk.StyleGPT, disk.StyleMBR}).Draw(t, "style")
		hand := map[int]int64{1: rapid.Int64Range(-1, 1<<42).Draw(t, "hand")}
		for _, s := range fit.Strategies {
			l := fit.Lay(parts, style, target, s, hand)
			if l.Fits != "yes" {
				continue
			}
			placed := slices.SortedFunc(slices.Values(l.Placed),
				func(a, b fit.Placed) int { return int(min(1, max(-1, a.Start-b.Start))) })
			end := int64(0)
			for _, p := range placed {
				require.GreaterOrEqual(t, p.Start, end, "%s overlaps", s)
				end = p.Start + p.Size
				if least, known := parts[p.Part].Least.Get(); known {
					require.GreaterOrEqual(t, p.Size, min(least, parts[p.Part].Size))
				} else {
					require.GreaterOrEqual(t, p.Size, parts[p.Part].Size, "what is in use is not known")
				}
			}
			require.LessOrEqual(t, end, target.Bytes)
		}
		answer := fit.Judge(c, parts, target)
		require.Contains(t, []string{"as-it-is", "smaller", "no", "unknown"}, answer.Fits)
		m := fit.Planned(sample.EDK2(firmware.UEFI, machine.Drive{Name: "original", Role: machine.RoleOriginal, Contents: c},
			machine.Drive{Name: "clone", Role: machine.RoleClone}), "sata", true, fact.Unknown[bool]())
		if target.Bytes > 0 {
			for _, w := range fit.WaysOf(c) {
				fit.Predict(m, w, parts, fit.Lay(parts, style, target, fit.Main, nil), target)
			}
		}
		situation := fit.Situation{Machine: m, Parts: parts, Answer: answer, Target: target}
		require.NotEmpty(t, situation.List())
	})
}

// Less evidence never gives another definite answer: without what is in use, or with a list
// that may go on, the answer is the same or unknown.
func TestLessEvidenceOfWhatFits(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := anyParts(t)
		if c == nil {
			return
		}
		target := target(rapid.Int64Range(1<<30, 1<<42).Draw(t, "target"))
		whole := fit.Judge(c, fit.Parts(c), target).Fits
		weaker := *c
		weaker.Volumes = slices.Clone(c.Volumes)
		if i := rapid.IntRange(0, max(len(c.Volumes)-1, 0)).Draw(t, "of"); i < len(weaker.Volumes) {
			weaker.Volumes[i].Used = fact.Unknown[uint64]()
		}
		if rapid.Bool().Draw(t, "cut off") {
			weaker.Layout.Open = true
		}
		less := fit.Judge(&weaker, fit.Parts(&weaker), target).Fits
		if less != "unknown" {
			assert.Equal(t, whole, less)
		}
	})
}

func BenchmarkPreparing(b *testing.B) {
	m := fit.Planned(sample.Whole(firmware.UEFI,
		sample.Drive(b, machine.RoleOriginal, sample.WindowsDisk(1, 1).MustBuild()),
		machine.Drive{Name: "clone", Role: machine.RoleClone}), "sata", true, fact.Unknown[bool]())
	c := m.Drives[0].Contents
	size, _ := c.Size()
	for b.Loop() {
		parts := fit.Parts(c)
		t := target(size * 2)
		fit.Judge(c, parts, t)
		for _, w := range fit.WaysOf(c) {
			fit.Predict(m, w, parts, fit.Lay(parts, c.Layout.Style, t, fit.Main, nil), t)
		}
	}
}
