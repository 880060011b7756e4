package startup_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/core/volume"
	"latchkey/internal/sample"
)

// A disk without bytes still goes through the check: what is not known is asked.
func TestADescribedDiskIsChecked(t *testing.T) {
	d := machine.Described{Whole: true, SectorSize: 512, Source: fact.Source{Origin: fact.Text}, Size: 1 << 30,
		Style: disk.StyleGPT,
		Partitions: []machine.DescribedPartition{
			{Number: 1, Start: 1 << 20, Length: 64 << 20, Type: disk.TypeESP, Kind: volume.KindFAT32},
			{Number: 2, Start: -1, Length: 958 << 20, Kind: volume.KindNTFS, Letter: "C"}}}
	clone := machine.Drive{Name: "clone", Role: machine.RoleClone, Bus: fact.Tell("sata"), Attached: fact.Tell(true),
		Contents: d.Contents()}
	m := sample.Whole(firmware.UEFI, clone)
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	require.Len(t, trace.Missing, 1)
	assert.Equal(t, "answer:loader:clone", trace.Missing[0].Fact.String())
	m.Answers = map[string]string{"loader:clone": "no"}
	assert.Equal(t, course.StageLoader, startup.Simulate(m).Stage)

	d.Style = disk.StyleMBR
	d.Partitions[0].Type, d.Partitions[0].MBRType, d.Partitions[0].Active = disk.GUID{}, 7, fact.Tell(true)
	m.Drives[0].Contents, m.Answers = d.Contents(), nil
	m.Firmware.Mode = fact.Tell(firmware.Legacy)
	trace = startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	for _, q := range trace.Missing {
		assert.Contains(t, []string{"boot-code:clone", "boot-sector:clone"}, q.ID)
	}
}
