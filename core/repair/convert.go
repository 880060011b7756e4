package repair

import (
	"slices"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// convertToGPT changes the style in place.
func convertToGPT(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if !isUEFI(m) || d.Contents == nil {
		return nil
	}
	system, ok := convertible(d)
	if !ok {
		return nil
	}
	length := uint64(espMiB<<20) / uint64(d.Contents.Layout.SectorSize)
	start, shrunk, ok := roomAtEnd(d.Contents, length)
	if gap, free := freeGap(d.Contents, length); free {
		start, shrunk, ok = gap, -1, true
	}
	if !ok {
		return nil
	}
	changed, boot := d.Contents.WithGPT(start, length, shrunk)
	changed = changed.WithWindowsFiles(boot, system, firmware.UEFI, arch(m))
	mv := onDisk(m, unlocking(d, system, PlanStep{Action: "convert-to-gpt", Title: "Convert the clone from MBR to GPT in place", Why: "The firmware is in UEFI mode, which wants GPT with an EFI system partition.", Risk: RiskReal, Minutes: 20,
		Saves: gptSectors(d.Contents, 0), Save: dataCopy, Undo: "None but the copy of the disk: copy again from the original."}),
		"convert", changed, map[Toolbox]func() []Command{WindowsRecovery: func() []Command {
			return convertCommands(d, system)
		}})
	mv.alone = true
	mv.result = withEntry(mv.result, d.Name, boot, loader.WindowsPath, "Windows Boot Manager")
	return []move{mv}
}

// convertible is the partition of the system on a disk that mbr2gpt converts. Its maker lists
// what it needs, and it checks that before it changes anything: an MBR with at most three
// primary partitions and no others, all of types that it knows; room for the tables; one
// active partition, whose store's default leads to a system on the disk. Documentation of
// Windows' maker, MBR2GPT.EXE, "Prerequisites", "Disk validation".
func convertible(d *machine.Drive) (system int, ok bool) {
	c := d.Contents
	l := &c.Layout
	if l.Style != disk.StyleMBR || l.MBR == nil || len(l.Partitions) > 3 ||
		slices.ContainsFunc(l.MBR.Entries[:], disk.MBREntry.Extended) {
		return 0, false
	}
	tables := disk.LastUsable(l.Sectors, l.SectorSize)
	for _, p := range l.Partitions {
		if p.Unplaced || p.Rough || p.TypeOpen || !slices.Contains(typesOfWindows, p.MBRType) ||
			p.Start < disk.FirstUsable(l.SectorSize) || p.End() > tables+1 {
			return 0, false
		}
	}
	for i, p := range l.Partitions {
		if !p.Active {
			continue
		}
		if !onlyActive(c, i) {
			return 0, false
		}
		return storedSystem(d, i)
	}
	return 0, false
}

// typesOfWindows are the types of partitions that Windows knows. Its maker's documentation,
// CREATE_PARTITION_PARAMETERS, "Disk partition types"; 27 is common practice, no source.
var typesOfWindows = []byte{0x01, 0x04, 0x06, 0x07, 0x0B, 0x0C, 0x0E, 0x27}

// storedSystem is the partition of the system that the legacy store on a partition starts by
// default.
func storedSystem(d *machine.Drive, boot int) (system int, ok bool) {
	c := d.Contents.Volumes[boot].Config(machine.ConfigStore, loader.StoreLegacy)
	if c == nil || c.Err != nil || c.Store == nil {
		return 0, false
	}
	entry, ok := c.Store.Default()
	if !ok || !entry.IsLoader() {
		return 0, false
	}
	e, ok := entry.Element(loader.ElementOSDevice)
	if !ok || e.Device == nil {
		return 0, false
	}
	found := []int{boot}
	if e.Device.Kind == loader.DevicePartition {
		found, _ = d.ResolveDevice(e.Device)
	} else if e.Device.Kind != loader.DeviceBoot {
		return 0, false
	}
	if len(found) != 1 {
		return 0, false
	}
	system = found[0]
	return system, d.Contents.Volumes[system].HasWindows() && !d.Contents.Lost(d.Contents.Layout.Partitions[system])
}
