package machine_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

const (
	guidOne = "AAAA0000-0000-4000-8000-000000000001"
	guidTwo = "AAAA0000-0000-4000-8000-000000000002"
)

// listing is a GPT disk of 1 TiB as a listing tells of it.
func listing(parts ...machine.DescribedPartition) *machine.Contents {
	d := machine.Described{Source: fact.Source{Origin: fact.Text, Structure: "listing"}, Size: 1 << 40,
		Style: disk.StyleGPT, Partitions: parts, Whole: true}
	return d.Contents()
}

func part(number int, start, length int64, change func(*machine.DescribedPartition)) machine.DescribedPartition {
	p := machine.DescribedPartition{Number: number, Start: start, Length: length}
	if change != nil {
		change(&p)
	}
	return p
}

// conflicts are what two listings tell differently, by what it is.
func conflicts(strong, weak *machine.Contents) string {
	_, found := machine.Merge("clone", strong, weak)
	var what []string
	for _, c := range found {
		what = append(what, c.What+": "+c.Stronger.Value+" / "+c.Weaker.Value)
	}
	return strings.Join(what, "; ")
}

// A partition is found again in another listing by its place, by its unique GUID, and by its
// number where a place is rounded or not told.
func TestAPartitionIsFoundInAnotherListing(t *testing.T) {
	const gib = 1 << 30
	guid := func(s string) func(*machine.DescribedPartition) {
		return func(p *machine.DescribedPartition) { p.GUID = disk.MustGUID(s) }
	}
	rounded := func(p *machine.DescribedPartition) { p.Rounded = true }
	for name, c := range map[string]struct {
		strong, weak machine.DescribedPartition
		want         string
	}{
		"the same place": {part(1, gib, gib, nil), part(7, gib, gib, nil), ""},
		"the same GUID at another place": {part(1, gib, gib, guid(guidOne)), part(2, 2*gib, gib, guid(guidOne)),
			"partition 1: first byte: 1073741824 / 2147483648"},
		"no GUID is no GUID in common": {part(1, gib, gib, nil), part(2, 2*gib, gib, nil),
			"partition 2: not there / 1.1 GB · 1 GiB"},
		"the same number without a place": {part(3, -1, gib, nil), part(3, 5*gib, gib, nil), ""},
		"another number without a place": {part(3, -1, gib, nil), part(4, 5*gib, gib, nil),
			"partition 4: not there / 1.1 GB · 1 GiB"},
		"the same number, a place rounded": {part(3, 500*gib, gib, rounded), part(3, 501*gib, gib, nil), ""},
		"the same number, rounded far away": {part(3, 500*gib, gib, rounded), part(3, 900*gib, gib, nil),
			"partition 3: not there / 1.1 GB · 1 GiB"},
		"another number, a place rounded": {part(2, 500*gib, gib, rounded), part(3, 501*gib, gib, nil),
			"partition 3: not there / 1.1 GB · 1 GiB"},
		"another number, both exact": {part(3, 500*gib, gib, nil), part(3, 501*gib, gib, nil),
			"partition 3: not there / 1.1 GB · 1 GiB"},
	} {
		assert.Equal(t, c.want, conflicts(listing(c.strong), listing(c.weak)), name)
	}
}

// What two listings say of one volume.
func TestListingsOfOneVolume(t *testing.T) {
	at := func(change func(*machine.DescribedPartition)) *machine.Contents {
		return listing(part(1, 1<<20, 1<<30, change))
	}
	serial := func(kind volume.Kind, s string) *machine.Contents {
		return at(func(p *machine.DescribedPartition) { p.Kind, p.Serial = kind, s })
	}
	assert.Equal(t, "partition 1: identifier of the file system: AB / CD", conflicts(serial(volume.KindNTFS, "ab"),
		serial(volume.KindNTFS, "cd")))
	assert.Empty(t, conflicts(serial(volume.KindNTFS, "ab"), serial(volume.KindNTFS, "AB")), "capitals mean nothing")
	assert.Empty(t, conflicts(serial(volume.KindNTFS, "ab"), serial(volume.KindNTFS, "")),
		"nothing told is nothing different")
	assert.Empty(t, conflicts(serial(volume.KindAPFS, "ab"), serial(volume.KindAPFS, "cd")),
		"a container and its volumes have their own")
	assert.Equal(t, "partition 1: file system: NTFS / ext", conflicts(serial(volume.KindNTFS, ""),
		serial(volume.KindExt, "")))
	assert.Empty(t, conflicts(serial(volume.KindFAT32, ""), serial(volume.KindFAT16, "")), "listings call them all FAT")
	assert.Empty(t, conflicts(serial(volume.KindNTFS, ""), serial(volume.NotCaptured, "")))

	merged, _ := machine.Merge("clone", at(nil), at(func(p *machine.DescribedPartition) {
		p.Label, p.Letter, p.Serial, p.Name, p.Used = "system", "C", "AB", "name", 5
		p.Unclean, p.GUID = fact.Tell(true), disk.MustGUID(guidOne)
	}))
	v, p := merged.Volumes[0], merged.Layout.Partitions[0]
	used, _ := v.Used.Get()
	unclean, _ := v.Unclean.Get()
	assert.Equal(t, []any{"system", "C", "AB", "name", uint64(5), true, guidOne},
		[]any{v.Label, v.Letter, v.Serial, p.Name, used, unclean, p.GUID.String()})
	merged, _ = machine.Merge("clone", at(func(p *machine.DescribedPartition) {
		p.Label, p.Letter, p.Name = "own",
			"D", "one"
	}),
		at(func(p *machine.DescribedPartition) { p.Label, p.Letter, p.Name = "system", "C", "two" }))
	v = merged.Volumes[0]
	assert.Equal(t, []string{"own", "D", "one"}, []string{v.Label, v.Letter, merged.Layout.Partitions[0].Name},
		"the stronger one stands")
}

// A contradiction says where each side stands, of what has no place of its own, too.
func TestAContradictionNamesItsPieces(t *testing.T) {
	weak := machine.Described{Source: fact.Source{Origin: fact.Typed, Structure: "typed"}, Style: disk.StyleMBR}
	_, found := machine.Merge("clone", listing(part(1, 1<<20, 1<<30, nil)), weak.Contents())
	require.Len(t, found, 1)
	assert.Equal(t, fact.Text, found[0].Stronger.Source.Origin)
	assert.Equal(t, fact.Typed, found[0].Weaker.Source.Origin)
	assert.Equal(t, "clone", found[0].Weaker.Source.Drive)
}

// What a listing leaves open stays open.
func TestWhatAPartitionIsToldToBe(t *testing.T) {
	d := machine.Described{Source: fact.Source{Origin: fact.Text}, Style: disk.StyleMBR, Size: 1 << 40,
		Partitions: []machine.DescribedPartition{
			part(1, 0, 1<<30, nil), part(2, -1, 1<<30, nil), part(3, 1<<34, 0, nil), part(4, 1<<35, 1<<30,
				func(p *machine.DescribedPartition) { p.Active = fact.Tell(false) })}}
	p := d.Contents().Layout.Partitions
	assert.False(t, p[0].Unplaced, "the first byte is a place")
	assert.True(t, p[1].Unplaced)
	assert.False(t, p[1].Rough)
	assert.True(t, p[2].Rough, "a length of nothing is none")
	assert.Equal(t, []bool{true, true, true, false}, []bool{p[0].ActiveOpen, p[1].ActiveOpen, p[2].ActiveOpen,
		p[3].ActiveOpen})
}
