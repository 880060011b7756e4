package repair_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

func convertible() diskmaker.Disk {
	d := sample.LegacyWindowsDisk(true)
	d.Partitions[1].MiB, d.Partitions[1].Volume.UsedMiB = 800, 10
	return d
}

// Where two ways differ in kind, both are shown with their price.
func TestModeOrStyle(t *testing.T) {
	t.Parallel()
	p := repair.Find(machineOf(t, firmware.UEFI, convertible().MustBuild()))
	assert.Equal(t, []string{"set-mode"}, actionsOf(p))
	require.Len(t, p.Alternatives, 1)
	assert.Equal(t, []string{"convert-to-gpt"}, actionsOf(p.Alternatives[0]))
	assert.Contains(t, p.Alternatives[0].Reason, "risk to the data")
}

// What mbr2gpt asks for, each taken away by itself: documentation of Windows' maker,
// MBR2GPT.EXE, "Prerequisites".
func TestWhatConvertingNeeds(t *testing.T) {
	t.Parallel()
	small := func(kind byte) diskmaker.Partition {
		return diskmaker.Partition{MBRType: kind, MiB: 16, Volume: diskmaker.Volume{Kind: "ntfs"}}
	}
	with := func(change func(d *diskmaker.Disk)) *diskmaker.Image {
		d := convertible()
		change(&d)
		return d.MustBuild()
	}
	insert := func(d *diskmaker.Disk, more ...diskmaker.Partition) {
		d.Partitions = slices.Insert(d.Partitions, 1, more...)
		boot, _ := d.Place(0)
		system, _ := d.Place(len(d.Partitions) - 1)
		d.Partitions[0].Volume.Files[`\Boot\BCD`] = diskmaker.BootStore{Legacy: true, Boot: boot, System: system}.Bytes()
	}
	for name, c := range map[string]struct {
		image     *diskmaker.Image
		converted bool
	}{
		"nothing taken away":       {convertible().MustBuild(), true},
		"a third partition":        {with(func(d *diskmaker.Disk) { insert(d, small(7)) }), true},
		"a fourth partition":       {with(func(d *diskmaker.Disk) { insert(d, small(7), small(7)) }), false},
		"a type of another system": {with(func(d *diskmaker.Disk) { insert(d, small(0x83)) }), false},
		"a logical partition": {with(func(d *diskmaker.Disk) {
			p := small(7)
			p.Logical = true
			d.Partitions = append(d.Partitions, p)
		}), false},
		"an empty extended partition": {with(func(d *diskmaker.Disk) { insert(d, small(0x0F)) }), false},
		"no store":                    {with(func(d *diskmaker.Disk) { delete(d.Partitions[0].Volume.Files, `\Boot\BCD`) }), false},
		"a store of another disk": {with(func(d *diskmaker.Disk) {
			o := *d
			o.Signature++
			boot, _ := o.Place(0)
			system, _ := o.Place(1)
			d.Partitions[0].Volume.Files[`\Boot\BCD`] = diskmaker.BootStore{Legacy: true, Boot: boot, System: system}.Bytes()
		}), false},
		"a system that is not there": {with(func(d *diskmaker.Disk) { d.Partitions[1].Volume.Files = map[string][]byte{} }), false},
		"no active partition":        {with(func(d *diskmaker.Disk) { d.Partitions[0].Active = false }), false},
		"two active partitions":      {with(func(d *diskmaker.Disk) { d.Partitions[1].Active = true }), false},
		"no room before the first":   {with(func(d *diskmaker.Disk) { d.Partitions[0].Start = 33; insert(d) }), false},
		"no room behind the last":    {with(func(d *diskmaker.Disk) { d.Partitions[1].MiB = 0 }), false},
		"just enough room before it": {with(func(d *diskmaker.Disk) { d.Partitions[0].Start = 34; insert(d) }), true},
	} {
		plan := repair.Find(machineOf(t, firmware.UEFI, c.image))
		converts := false
		for _, p := range append([]repair.Plan{plan}, plan.Alternatives...) {
			converts = converts || slices.Contains(actionsOf(p), "convert-to-gpt")
		}
		assert.Equal(t, c.converted, converts, name)
	}
	steps := repair.TableSteps(machine.Drive{Name: "a"})
	assert.Empty(t, steps, "of a drive of which nothing is known")
}
