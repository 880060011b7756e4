package machine_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/volume"
	"latchkey/internal/diskmaker"
)

func told(origin fact.Origin) machine.Described {
	return machine.Described{Source: fact.Source{Origin: origin, Structure: "told"}, Size: 1 << 30, Style: disk.StyleGPT,
		ID: "D15C0000-0000-4000-8000-000000000001", Partitions: []machine.DescribedPartition{
			{Number: 1, Start: 1 << 20, Length: 64 << 20, Type: disk.TypeESP, Kind: volume.KindFAT32, Line: 9},
			{Number: 2, Start: -1, Length: 958 << 20, Kind: volume.KindNTFS, Letter: "C"},
		}}
}

func examine(t *testing.T, d diskmaker.Disk) *machine.Contents {
	t.Helper()
	m := d.MustBuild()
	read, err := disk.New(m, m.Size, m.SectorSize)
	require.NoError(t, err)
	return machine.Examine(read)
}

// twoPartitions is the disk that told describes, in bytes.
func twoPartitions() diskmaker.Disk {
	return diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.GPT, GUID: disk.MustGUID("D15C0000-0000-4000-8000-000000000001"),
		Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32"}},
			{Type: disk.TypeBasicData, Volume: diskmaker.Volume{Kind: "ntfs"}}}}
}

func TestBytesOutrankTextAndTextOutranksTyping(t *testing.T) {
	d := told(fact.Text)
	bytes := examine(t, twoPartitions())
	merged, found := machine.Merge("clone", bytes, d.Contents())
	assert.Empty(t, found, "they agree")
	assert.Equal(t, "C", merged.Volumes[1].Letter, "what only the listing knows is taken over")
	assert.Equal(t, "", bytes.Volumes[1].Letter, "the examined disk stays as it was")

	d.Style, d.ID = disk.StyleMBR, "CAFE0000"
	d.Partitions[0].Length = 500 << 20
	typed := told(fact.Typed)
	typed.Size = 2 << 30
	_, found = machine.Merge("clone", bytes, d.Contents(), typed.Contents())
	what := map[string][2]string{}
	for _, c := range found {
		assert.Equal(t, fact.Bytes, c.Stronger.Source.Origin, c.What)
		what[c.What] = [2]string{c.Stronger.Value, c.Weaker.Value}
	}
	assert.Equal(t, [2]string{"GPT", "MBR"}, what["partition style"])
	assert.Equal(t, [2]string{disk.Both(64 << 20), disk.Both(500 << 20)}, what["partition 1: size"])
	assert.Contains(t, what, "disk identifier")
	assert.Contains(t, what, "capacity")
}

func TestListingsFillEachOther(t *testing.T) {
	first := machine.Described{Source: fact.Source{Origin: fact.Text}, Style: disk.StyleMBR,
		Partitions: []machine.DescribedPartition{{Number: 1, Start: -1, Kind: volume.KindNTFS, Serial: "AB"}}}
	second := machine.Described{Source: fact.Source{Origin: fact.Text}, Style: disk.StyleMBR, Size: 1 << 30, ID: "cafe0001",
		Partitions: []machine.DescribedPartition{{Number: 1, Start: 1 << 20, Length: 1 << 28, MBRType: 7,
			Active: fact.Tell(true)}}}
	merged, found := machine.Merge("clone", first.Contents(), nil, second.Contents())
	assert.Empty(t, found)
	p := merged.Layout.Partitions[0]
	assert.EqualValues(t, 2048, p.Start)
	assert.True(t, p.Active)
	assert.False(t, p.Unplaced)
	assert.Equal(t, "AB", merged.Volumes[0].Serial)
	size, known := merged.Size()
	assert.True(t, known)
	assert.EqualValues(t, 1<<30, size)
	id, _ := merged.Layout.DiskID().Get()
	assert.Equal(t, "CAFE0001", id)
	none, found := machine.Merge("clone", nil, nil)
	assert.Nil(t, none)
	assert.Empty(t, found)
}

func TestNothingToldIsNothing(t *testing.T) {
	assert.Nil(t, (&machine.Described{}).Contents(), "nothing told is nothing")
	assert.Nil(t, (*machine.Described)(nil).Contents())
}
