package repair

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

func restorePrimary(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || c.Layout.GPT == nil || c.Layout.GPT.Primary.State == disk.CopyGood || !c.TableSeen() ||
		c.Layout.GPT.Backup.State != disk.CopyGood {
		return nil
	}
	if _, none := c.Layout.NoneForTools(); none {
		return nil // of the backup, too
	}
	commands := restorePrimaryCommands
	// The tool takes a GPT behind a protective record alone.
	if _, none := c.Layout.Find(disk.CodeGPTUnprotected); none {
		commands = func() []Command { return rebuildCommands(recordOf(&c.Layout.GPT.Backup)) }
	}
	return []move{onDisk(m, PlanStep{Action: "restore-primary", Title: "Write the primary partition table anew from its backup", Why: "The primary is damaged, the backup at the end of the disk is good.", Risk: RiskLow, Minutes: 5,
		Saves: tableSectors(c), Undo: "Write the saved sectors back."}, "primary", c.WithPrimaryRestored(),
		map[Toolbox]func() []Command{Linux: commands})}
}

func protectiveMBR(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || c.Layout.Style != disk.StyleGPT || !isUEFI(m) {
		return nil
	}
	_, none := c.Layout.Find(disk.CodeGPTUnprotected)
	_, unsigned := c.Layout.Find(disk.CodeGPTProtectiveUnsigned)
	if !none && !unsigned {
		return nil
	}
	return []move{onDisk(m, PlanStep{Action: "protective-mbr", Title: "Write the protective MBR", Why: "Firmware looks for a GPT only behind one.", Risk: RiskLow, Minutes: 5,
		Saves: []Sectors{{0, 1}}, Undo: "Write the saved sector back."}, "protective", c.WithProtectiveMBR(),
		map[Toolbox]func() []Command{Linux: func() []Command { return protectiveCommands(clone(m)) }})}
}

func writeBootCode(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || !isLegacy(m) || c.Layout.Style != disk.StyleMBR || c.Layout.MBR == nil ||
		c.Code == loader.CodeClassic || c.Code == loader.CodeGRUB {
		return nil
	}
	tools := map[Toolbox]func() []Command{Linux: bootCodeCommands}
	saves := []Sectors{{0, 1}}
	if active := bootOf(m, c); active >= 0 && c.Volumes[active].Kind == volume.KindNTFS {
		saves = append(saves, bootSectors(c, c.Layout.Partitions[active]))
		tools[WindowsRecovery] = func() []Command { return bootsectCommands(clone(m), active) }
	}
	return []move{onDisk(m, PlanStep{Action: "boot-code", Title: "Write the standard boot code to sector 0", Why: "Sector 0 holds a table, but no code that runs the active partition.", Risk: RiskLow, Minutes: 5, Saves: saves,
		Undo: "Write the saved sectors back."}, "code", c.WithBootCode(), tools)}
}

// writesEntry reports whether the system's tools change one entry of a GPT: they take one
// behind a sound protective record alone, and refuse to write a table whose partitions overlap
// or lie outside of what it says is usable.
func writesEntry(c *machine.Contents) bool {
	for _, code := range []disk.ProblemCode{disk.CodeOverlap, disk.CodeBeyondEnd, disk.CodeGPTEntryOutside,
		disk.CodeGPTUnprotected, disk.CodeGPTProtectiveUnsigned} {
		if _, found := c.Layout.Find(code); found {
			return false
		}
	}
	if _, refused := c.Layout.RefusedByLinux(); refused {
		return false // its tools take such a table for none
	}
	return c.Layout.Style == disk.StyleGPT && c.Layout.GPT.Primary.State != disk.CopyNotCaptured
}

func correctType(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || !writesEntry(c) {
		return nil
	}
	var moves []move
	for i, p := range c.Layout.Partitions {
		if c.Volumes[i].IsFAT() && !p.IsESP() && len(c.Volumes[i].Loaders) > 0 {
			moves = append(moves, onDisk(m, PlanStep{Action: "partition-type", Title: fmt.Sprintf("Type partition %d as EFI system partition", p.Number), Why: "It holds the loader, and is typed as something else.",
				Risk: RiskLow, Minutes: 5,
				Saves: tableSectors(c), Undo: "Set the type " + p.TypeGUID.String() + " again, or write the saved sectors back."}, fmt.Sprint("type ", p.Number),
				c.WithType(i, disk.TypeESP),
				map[Toolbox]func() []Command{Linux: func() []Command { return typeCommands(p) },
					WindowsRecovery: func() []Command { return typeDiskpart(clone(m), p) }}))
		}
	}
	return moves
}

func setActive(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || !isLegacy(m) || c.Layout.Style != disk.StyleMBR || c.Layout.MBR == nil {
		return nil
	}
	var moves []move
	sound := soundActive(c)
	for i, p := range c.Layout.Partitions {
		if v := &c.Volumes[i]; !p.Logical && !v.Told && v.Unseen() {
			return nil // it may be the one that is to be active
		}
	}
	for i, p := range c.Layout.Partitions {
		v := &c.Volumes[i]
		// What is wrong with the one that is active is another matter, but for a boot manager
		// that lies on another partition.
		if p.Logical || p.Start == 0 || !v.BootCode && !v.SystemCode && !v.HasWindows() || sound >= 0 &&
			(i == sound || v.LegacyManager == "") {
			continue
		}
		moves = append(moves, onDisk(m, PlanStep{Action: "set-active", Title: fmt.Sprintf("Mark partition %d active, and no other", p.Number), Why: "Boot code runs the one active partition.", Risk: RiskLow,
			Minutes: 5, Saves: tableSectors(c), Undo: "Write the saved sector back."},
			fmt.Sprint("active ", p.Number), c.WithActive(i),
			map[Toolbox]func() []Command{WindowsRecovery: func() []Command { return activeDiskpart(clone(m), p) },
				Linux: func() []Command { return activeCommands(c, p) }}))
	}
	return moves
}

// soundActive is the one active partition, where it has a boot sector that may start; -1
// for none.
func soundActive(c *machine.Contents) int {
	for i := range c.Volumes {
		if onlyActive(c, i) && (c.Volumes[i].BootCode || len(c.Volumes[i].Spares) > 0) {
			return i
		}
	}
	return -1
}

func onlyActive(c *machine.Contents, i int) bool {
	if mbr := c.Layout.MBR; mbr != nil && mbr.BootCode != nil && len(mbr.Active()) > 1 {
		return false // of an empty record, too
	}
	for j, p := range c.Layout.Partitions {
		if p.Active != (j == i) {
			return false
		}
	}
	return true
}
