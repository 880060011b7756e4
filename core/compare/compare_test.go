package compare_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/compare"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

func windows(id byte) diskmaker.Disk {
	g := disk.MustGUID("C0DE0000-0000-4000-8000-000000000000")
	g[14] = id
	return diskmaker.Disk{Sectors: 1 << 22, Style: diskmaker.GPT, GUID: g, Partitions: []diskmaker.Partition{
		{Type: disk.TypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32",
			Files: map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()}}},
		{Type: disk.TypeMSReserved, MiB: 16},
		{Type: disk.TypeBasicData, Volume: diskmaker.Volume{Kind: "ntfs"}},
		{Type: disk.TypeWinRE, MiB: 200, Volume: diskmaker.Volume{Kind: "ntfs"}},
	}}
}

func drive(t *testing.T, role machine.Role, m *diskmaker.Image) machine.Drive {
	t.Helper()
	d, err := disk.New(m, m.Size, m.SectorSize)
	require.NoError(t, err)
	return machine.Drive{Name: string(role), Role: role, Attached: fact.Tell(true), Contents: machine.Examine(d)}
}

func comparison(t *testing.T, original, clone *diskmaker.Image, change func(*machine.Machine)) compare.Comparison {
	t.Helper()
	m := machine.Machine{
		DeviceOrder: []string{"clone", "original"}, Drives: []machine.Drive{drive(t, machine.RoleOriginal, original),
			drive(t, machine.RoleClone, clone)},
		Firmware: firmware.Settings{Mode: fact.Tell(firmware.UEFI), Arch: fact.Tell(firmware.X64),
			SecureBoot: fact.Tell(false)},
	}
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.FallbackOnFixedDisks, fact.Tell(true))
	if change != nil {
		change(&m)
	}
	return compare.Compare(m, &m.Drives[0], &m.Drives[1], startup.Pins(m, "original"), startup.Pins(m, "clone"))
}

func find(t *testing.T, c compare.Comparison, label string) compare.Row {
	t.Helper()
	for _, r := range c.Rows {
		if r.Label == label {
			return r
		}
	}
	t.Fatalf("no row %q", label)
	return compare.Row{}
}

func TestCounterparts(t *testing.T) {
	big := windows(2)
	big.Partitions = big.Partitions[2:3]
	renewed := windows(3)
	legacy := diskmaker.Disk{Sectors: 1 << 22, Style: diskmaker.MBR, Partitions: []diskmaker.Partition{
		{MBRType: 0xEF, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32"}}, {MBRType: 7, Volume: diskmaker.Volume{Kind: "ntfs"}}}}
	for name, c := range map[string]struct {
		clone diskmaker.Disk
		want  []compare.Pair
	}{
		"same GUIDs":       {windows(1), []compare.Pair{{0, 0, "unique GUID"}, {1, 1, "unique GUID"}, {2, 2, "unique GUID"}, {3, 3, "unique GUID"}}},
		"new GUIDs":        {renewed, []compare.Pair{{0, 0, "type and order"}, {1, 1, "type and order"}, {2, 2, "type and order"}, {3, 3, "type and order"}}},
		"only the big one": {big, []compare.Pair{{2, 0, "type and order"}, {0, -1, "nothing"}, {1, -1, "nothing"}, {3, -1, "nothing"}}},
		"another style":    {legacy, []compare.Pair{{0, 0, "type and order"}, {2, 1, "type and order"}, {1, -1, "nothing"}, {3, -1, "nothing"}}},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, comparison(t, windows(1).MustBuild(), c.clone.MustBuild(), nil).Pairs)
		})
	}
}

func TestCounterpartsByPosition(t *testing.T) {
	a, b := windows(1), windows(2)
	a.Partitions, b.Partitions = a.Partitions[2:3], b.Partitions[2:3]
	b.Partitions[0].Type, b.Partitions[0].Volume = disk.TypeLinuxData, diskmaker.Volume{Kind: "ext4"}
	assert.Equal(t, []compare.Pair{{0, 0, "position"}}, comparison(t, a.MustBuild(), b.MustBuild(), nil).Pairs)
}

func TestAPerfectCloneDiffersInNothingThatMatters(t *testing.T) {
	image := windows(1).MustBuild()
	c := comparison(t, image, image.Clone(image.Size),
		func(m *machine.Machine) { m.Drives[0].Attached = fact.Tell(false) })
	for _, r := range c.Rows {
		assert.NotEqual(t, compare.Decides, r.Matter, r.Label)
		assert.NotEqual(t, compare.Matters, r.Matter, r.Label)
	}
	assert.Empty(t, c.Cause)
}

func TestRowsThatDecide(t *testing.T) {
	big := windows(2)
	big.Partitions = big.Partitions[2:3]
	c := comparison(t, windows(1).MustBuild(), big.MustBuild(), nil)
	assert.Equal(t, "Only the big partition was copied.", c.Cause)
	// The original is attached too and starts, so the clone's own failure is told
	// by its pins alone.
	esp := find(t, c, "EFI system partition")
	assert.Equal(t, compare.Decides, esp.Matter)
	assert.Equal(t, "none", esp.Clone)
	assert.Equal(t, compare.Decides, find(t, c, "1 · EFI system partition").Matter)
	assert.Contains(t, find(t, c, "4 · Windows recovery environment").Meaning, "recovery tools are missing")

	order := comparison(t, windows(1).MustBuild(), windows(2).MustBuild(),
		func(m *machine.Machine) { m.DeviceOrder = []string{"original", "clone"} })
	assert.Equal(t, compare.Decides, find(t, order, "Place in the order").Matter)

	cut := comparison(t, windows(1).MustBuild(), windows(1).MustBuild().Clone(1<<30), nil)
	assert.Equal(t, compare.Decides, find(t, cut, "3 · Basic data").Matter)
	assert.Contains(t, cut.Cause, "sector by sector to a smaller one")

	legacy := diskmaker.Disk{Sectors: 1 << 22, Style: diskmaker.MBR, BootCode: "classic",
		Partitions: []diskmaker.Partition{{MBRType: 7, Active: true, Volume: diskmaker.Volume{Kind: "ntfs"}}}}
	style := comparison(t, windows(1).MustBuild(), legacy.MustBuild(), nil)
	assert.Equal(t, compare.Decides, find(t, style, "Partition style").Matter)
	assert.Equal(t, compare.Decides, find(t, style, "Goes with UEFI").Matter)
}

func TestIdenticalIdentifiersMatterWhileBothAreAttached(t *testing.T) {
	image := windows(1).MustBuild()
	c := comparison(t, image, image.Clone(image.Size), nil)
	assert.Equal(t, compare.Matters, find(t, c, "Disk identifier").Matter)
	assert.Equal(t, compare.Matters, find(t, c, "Unique partition GUIDs").Matter)
}

func TestBootEntriesAreHeldAgainstBothDisks(t *testing.T) {
	original := windows(1)
	entry := firmware.Entry{Number: 1, Active: true, Description: "system",
		Path: firmware.Path{File: `\x.efi`, Partition: &firmware.PartitionNode{Number: 1, GUID: original.GUID}}}
	entry.Path.Partition.GUID[15]++
	with := func(m *machine.Machine) {
		m.Firmware.Entries = &firmware.Entries{Order: []uint16{1}, All: map[uint16]firmware.Entry{1: entry}}
	}
	r := find(t, comparison(t, original.MustBuild(), windows(2).MustBuild(), with), "Entry 0001 (system) means")
	assert.Equal(t, "partition 1", r.Original)
	assert.Equal(t, "not on this disk", r.Clone)
	assert.Contains(t, r.Meaning, "once that is pulled, to nothing")
	r = find(t, comparison(t, original.MustBuild(), original.MustBuild(), with), "Entry 0001 (system) means")
	assert.Contains(t, r.Meaning, "fits both")
}

func TestOneSideMissing(t *testing.T) {
	m := machine.Machine{Drives: []machine.Drive{drive(t, machine.RoleOriginal, windows(1).MustBuild()),
		{Name: "clone", Role: machine.RoleClone}}}
	c := compare.Compare(m, &m.Drives[0], &m.Drives[1], startup.Pins(m, "original"), startup.Pins(m, "clone"))
	assert.Equal(t, "not in the evidence", find(t, c, "Partition style").Clone)
	assert.Empty(t, compare.Compare(m, nil, nil, nil, nil).Rows)
}
