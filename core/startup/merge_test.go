package startup_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/startup"
	"latchkey/core/volume"
)

func told(origin fact.Origin) startup.Described {
	return startup.Described{Source: fact.Source{Origin: origin, Structure: "told"}, Size: 1 << 30, Style: disk.StyleGPT, ID: "D15C0000-0000-4000-8000-000000000001", Partitions: []startup.DescribedPartition{
		{Number: 1, Start: 1 << 20, Length: 64 << 20, Type: disk.TypeESP, Kind: volume.KindFAT32, Line: 9},
		{Number: 2, Start: -1, Length: 958 << 20, Kind: volume.KindNTFS, Letter: "C"},
	}}
}

func TestBytesOutrankTextAndTextOutranksTyping(t *testing.T) {
	d := told(fact.Text)
	bytes := examine(t, windowsDisk(1, 1).MustBuild())
	merged, found := startup.Merge("clone", bytes, d.Contents())
	assert.Empty(t, found, "they agree")
	assert.Equal(t, "C", merged.Volumes[1].Letter, "what only the listing knows is taken over")
	assert.Equal(t, "", bytes.Volumes[1].Letter, "the examined disk stays as it was")

	d.Style, d.ID = disk.StyleMBR, "CAFE0000"
	d.Partitions[0].Length = 500 << 20
	typed := told(fact.Typed)
	typed.Size = 2 << 30
	_, found = startup.Merge("clone", bytes, d.Contents(), typed.Contents())
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
	first := startup.Described{Source: fact.Source{Origin: fact.Text}, Style: disk.StyleMBR, Partitions: []startup.DescribedPartition{{Number: 1, Start: -1, Kind: volume.KindNTFS, Serial: "AB"}}}
	second := startup.Described{Source: fact.Source{Origin: fact.Text}, Style: disk.StyleMBR, Size: 1 << 30, ID: "cafe0001", Partitions: []startup.DescribedPartition{{Number: 1, Start: 1 << 20, Length: 1 << 28, MBRType: 7, Active: true}}}
	merged, found := startup.Merge("clone", first.Contents(), nil, second.Contents())
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
	none, found := startup.Merge("clone", nil, nil)
	assert.Nil(t, none)
	assert.Empty(t, found)
}

// A disk without bytes still goes through the check: what is not known is asked.
func TestADescribedDiskIsChecked(t *testing.T) {
	d := told(fact.Text)
	clone := startup.Drive{Name: "clone", Role: startup.RoleClone, Bus: fact.Tell("sata"), Attached: fact.Tell(true), Contents: d.Contents()}
	m := whole(firmware.UEFI, clone)
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	require.Len(t, trace.Missing, 1)
	assert.Equal(t, "answer:loader:clone", trace.Missing[0].Field)
	m.Answers = map[string]string{"loader:clone": "no"}
	assert.Equal(t, startup.StageLoader, startup.Simulate(m).Stage)

	d.Style = disk.StyleMBR
	d.Partitions[0].Type, d.Partitions[0].MBRType, d.Partitions[0].Active = disk.GUID{}, 7, true
	m.Drives[0].Contents, m.Answers = d.Contents(), nil
	m.Firmware.Mode = fact.Tell(firmware.Legacy)
	trace = startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	for _, q := range trace.Missing {
		assert.Contains(t, []string{"boot-code:clone", "boot-sector:clone"}, q.ID)
	}
	assert.Nil(t, (&startup.Described{}).Contents(), "nothing told is nothing")
	assert.Nil(t, (*startup.Described)(nil).Contents())
}
