package startup_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// decided returns a machine for each choice of a firmware on which that choice alone
// decides; everything else is known.
func decided(t *testing.T) map[*firmware.Choice]machine.Machine {
	t.Helper()
	good := map[string][]byte{sample.FallbackPath: sample.X64()}
	uefi := func(d diskmaker.Disk, spoilt ...int64) machine.Machine {
		m := d.MustBuild()
		for _, at := range spoilt {
			spoil(t, m, at)
		}
		return sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone, m))
	}
	changed := func(change func(d *diskmaker.Disk)) diskmaker.Disk {
		d := sample.GPTDisk(1, good)
		change(&d)
		return d
	}
	legacy := func(first diskmaker.Disk, bus string) machine.Machine {
		m := sample.EDK2(firmware.Legacy, sample.Drive(t, machine.RoleClone, first.MustBuild()),
			sample.Drive(t, machine.RoleOriginal, sample.MBRDisk("classic", 0).MustBuild()))
		seabios, _ := firmware.Named("seabios")
		m.Firmware.Behaviour = seabios.With(firmware.TriesNextDisk, fact.Tell(true))
		m.Drives[0].Bus = fact.Tell(bus)
		return m
	}
	hung := func(m machine.Machine, bus string) machine.Machine {
		m.Drives[0].Bus, m.DeviceOrder = fact.Tell(bus), nil
		return m
	}
	withEntry := func(change func(p *firmware.PartitionNode)) machine.Machine {
		d := sample.GPTDisk(1, good)
		m := uefi(d)
		e := entryFor(d, 1, sample.FallbackPath, true)
		change(e.Path.Partition)
		m.Firmware.Entries = &firmware.Entries{Order: []uint16{3}, All: map[uint16]firmware.Entry{3: e}}
		m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.FallbackOnFixedDisks, fact.Tell(false))
		return m
	}
	alone := uefi(sample.GPTDisk(1, good))
	byPath := firmware.Entry{Number: 3, Active: true, Path: firmware.Path{File: sample.FallbackPath, Alone: true}}
	alone.Firmware.Entries = &firmware.Entries{Order: []uint16{3}, All: map[uint16]firmware.Entry{3: byPath}}
	alone.Firmware.Behaviour = alone.Firmware.Behaviour.With(firmware.FallbackOnFixedDisks, fact.Tell(false))
	within := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone, logicalESP(t, good)))
	byOwn := firmware.Entry{Number: 3, Active: true, Path: firmware.Path{File: sample.FallbackPath,
		Partition: &firmware.PartitionNode{MBR: true, Signature: 7, Number: 5, Start: 2*2048 + 2048, Size: 64 * 2048}}}
	within.Firmware.Entries = &firmware.Entries{Order: []uint16{3}, All: map[uint16]firmware.Entry{3: byOwn}}
	within.Firmware.Behaviour = alone.Firmware.Behaviour
	overlapping := diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.MBR, Partitions: []diskmaker.Partition{
		{MBRType: disk.MBRTypeESP, Start: 2048, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32", Files: good}},
		{MBRType: 7, Start: 4096, MiB: 64}}}
	large := func(style diskmaker.Style) diskmaker.Disk {
		return changed(func(d *diskmaker.Disk) {
			d.SectorSize, d.Sectors, d.Style, d.Partitions[0].MiB = 4096, 1<<18, style, 300
		})
	}
	apfs := make([]byte, 4096)
	copy(apfs[32:], "NXSB")
	empty := sample.MBRDisk("", 0)
	noActive := sample.MBRDisk("classic")
	unprotected := uefi(sample.GPTDisk(1, good), 446, 447, 448, 449, 450, 451, 452, 453, 454, 455, 456, 457, 458, 459,
		460, 461)
	mac := uefi(changed(func(d *diskmaker.Disk) {
		d.Partitions[0].Volume.Files, d.Partitions[1].Volume = nil, diskmaker.Volume{Kind: "raw", Raw: apfs}
	}))
	mac.Answers = map[string]string{"mac-offered:clone": "yes"}
	lost := sample.LinuxDisk(1, 1).MustBuild()
	_, err := lost.WriteAt([]byte{0xFF}, 512+16)
	require.NoError(t, err)
	mended := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, lost))
	linked := logicalESP(t, good)
	_, err = linked.WriteAt(disk.MBREntry{Type: 5, Start: 1 << 30, Length: 2048}.Record(), 2*2048*512+462)
	require.NoError(t, err)
	chain := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone, linked))
	return map[*firmware.Choice]machine.Machine{
		firmware.FallbackOnFixedDisks: uefi(sample.GPTDisk(1, good)),
		firmware.StartsFromNVMe:       hung(uefi(sample.GPTDisk(1, good)), "nvme"),
		firmware.StartsFromUSB:        hung(uefi(sample.GPTDisk(1, good)), "usb"),
		firmware.UsesBackupGPT:        uefi(sample.GPTDisk(1, good), 512+60),
		firmware.RestoresGPT:          mended,
		firmware.ReadsMacVolumes:      mac,
		firmware.StartsAnyFATPartition: uefi(changed(func(d *diskmaker.Disk) {
			d.Partitions[0].Type = disk.TypeBasicData
		})),
		firmware.EntryMatchesByGUIDAlone:  withEntry(func(p *firmware.PartitionNode) { p.Number = 2 }),
		firmware.EntryMatchesMoved:        withEntry(func(p *firmware.PartitionNode) { p.Start = 4096 }),
		firmware.EntryNamesExtended:       within,
		firmware.LooksForPathAlone:        alone,
		firmware.NeedsProtectiveMBR:       unprotected,
		firmware.NeedsProtectiveSignature: uefi(sample.GPTDisk(1, good), 510),
		firmware.SkipsMisplacedPartitions: uefi(changed(func(d *diskmaker.Disk) {
			d.Partitions = append(d.Partitions, diskmaker.Partition{Type: disk.TypeBasicData, Start: 4096, MiB: 1})
			d.Partitions[1].MiB = 100
		})),
		firmware.RefusesInconsistentMBR: uefi(overlapping),
		firmware.ChecksChainAtFirst:     chain,
		firmware.StartsSmallFAT32:       uefi(changed(func(d *diskmaker.Disk) { d.Partitions[0].MiB = 20 })),
		firmware.ReadsUnsignedFAT:       uefi(sample.GPTDisk(1, good), 2048*512+510),
		firmware.StartsLargeUSB:         hung(uefi(large(diskmaker.GPT)), "usb"),
		firmware.TriesNextDisk:          legacy(noActive, "sata"),
		firmware.RunsEmptyBootCode:      legacy(empty, "sata"),
		firmware.StartsLargeVirtio:      legacy(large(diskmaker.GPT), "virtio"),
		firmware.StartsLargeSCSI:        legacy(large(diskmaker.GPT), "scsi"),
	}
}

// logicalESP is an MBR disk whose boot partition is a logical one.
func logicalESP(t *testing.T, files map[string][]byte) *diskmaker.Image {
	t.Helper()
	const extended = 2 * 2048 // where the extended partition begins, in sectors
	m := diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.MBR, Signature: 7, Partitions: []diskmaker.Partition{
		{MBRType: 7, MiB: 1}, {MBRType: 0x0F, MiB: 100}}}.MustBuild()
	inner := diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.MBR, Partitions: []diskmaker.Partition{
		{MBRType: disk.MBRTypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32", Files: files}}}}.MustBuild()
	write := func(at int64, b []byte) {
		_, err := m.WriteAt(b, at)
		require.NoError(t, err)
	}
	require.NoError(t, inner.Pages(func(off int64, page []byte) error {
		if off >= 1<<20 && off < 65<<20 {
			write(extended*512+off, page)
		}
		return nil
	}))
	write(extended*512+446, disk.MBREntry{Type: disk.MBRTypeESP, Start: 2048, Length: 64 * 2048}.Record())
	write(extended*512+510, []byte{0x55, 0xAA})
	return m
}

// Each choice is asked where it decides, and each answer is followed: as a person
// answers the question, and as a description or a form tells it.
func TestEveryChoiceOfAFirmwareDecidesSomewhere(t *testing.T) {
	machines := decided(t)
	require.Len(t, machines, len(firmware.Choices))
	for _, c := range firmware.Choices {
		t.Run(c.Key, func(t *testing.T) {
			m := machines[c]
			m.Firmware.Behaviour = m.Firmware.Behaviour.With(c, fact.Unknown[bool]())
			trace := startup.Simulate(m)
			assert.Equal(t, startup.Depends, trace.Verdict, trace.Headline)
			require.Len(t, trace.Missing, 1)
			q := trace.Missing[0]
			assert.Equal(t, "choice:"+c.Key, q.Fact.String())
			assert.Equal(t, c.How, q.How)
			require.Len(t, q.Options, 2)
			ends := map[string]bool{}
			for _, o := range q.Options {
				assert.NotEmpty(t, o.Leads, "the one question settles it")
				told := m
				told.Firmware.Behaviour = m.Firmware.Behaviour.Tell(map[string]bool{c.Key: o.ID == "yes"})
				settled := startup.Simulate(told)
				assert.NotEqual(t, startup.Depends, settled.Verdict)
				ends[string(settled.Verdict)+string(settled.Stage)] = true

				answered := m
				answered.Answers = map[string]string{q.ID: o.ID, "mac-offered:clone": "yes"}
				assert.Equal(t, settled.Verdict, startup.Simulate(answered).Verdict)
			}
			assert.Len(t, ends, 2, "the answers lead to different ends")
		})
	}
}
