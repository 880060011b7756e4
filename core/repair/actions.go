package repair

import (
	"fmt"
	"maps"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// action lists the ways in which something can be done on a machine; none where
// its preconditions do not hold.
type action func(m machine.Machine, stage course.Stage) []move

// actions are what can bear on a stage. start-rules, "What a technician does
// about it".
var actions = map[course.Stage][]action{
	course.StageDrive:         {attachClone},
	course.StageMode:          {setMode, convertToGPT, writeBootCode, linuxFiles},
	course.StageOrder:         {cloneFirst, detachOthers, entryFirst, addEntry, fallbackPath, windowsFiles, linuxFiles},
	course.StageTable:         {restorePrimary, protectiveMBR, writeBootCode, linuxFiles, setMode},
	course.StageBootPartition: {correctType, setActive, hiddenSectors, copyBootSector, createESP, formatESP, linuxFiles, setMode},
	course.StageLoader:        {macBless, macInstall, fallbackPath, entryFirst, addEntry, windowsFiles, linuxFiles, secureBootOff, setActive},
	course.StageConfiguration: {windowsReferences, windowsFiles, linuxNames, linuxFiles, copyBootSector, detachOthers},
	course.StageSystem:        {recoveryKey, copyBootSector, macInstall, controllerBack, safeStart, initialRAMDisk, detachOthers},
}

// resorts are what is tried when nothing else leads to a start.
var resorts = []action{copyAgain}

func isUEFI(m machine.Machine) bool {
	mode, known := m.Firmware.Mode.Get()
	return known && mode != firmware.Legacy
}

func isLegacy(m machine.Machine) bool {
	mode, known := m.Firmware.Mode.Get()
	return known && mode != firmware.UEFI
}

func arch(m machine.Machine) firmware.Arch {
	if a, known := m.Firmware.Arch.Get(); known {
		return a
	}
	return firmware.X64
}

func attachClone(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if attached, known := d.Attached.Get(); !known || attached {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "attach-clone", Title: "Attach the clone, with its port switched on", Why: "The firmware must see the drive.", Disk: d.Name, Risk: RiskNone, Minutes: 10, Undo: "Take it out again."},
		key:      "attach",
		result:   with(m, d.Name, func(d *machine.Drive) { d.Attached = fact.Known(true, told) }),
		tools:    map[Toolbox]func() []Command{Firmware: saying("Power off, mains and battery out. Attach the clone. In the firmware's setup switch its port on and look for its model in the list of drives.", "Its model stands in the list.", "Another cable or port.")},
	}}
}

func detachOthers(m machine.Machine, _ course.Stage) []move {
	result, names := m, ""
	for _, d := range m.Drives {
		if attached, known := d.Attached.Get(); d.Role == machine.RoleClone || known && !attached {
			continue
		}
		names += string(d.Role) + " " + d.Name + ", "
		result = with(result, d.Name, func(d *machine.Drive) { d.Attached = fact.Known(false, told) })
	}
	if names == "" {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "detach-original", Title: "Unplug the original for the first start", Why: "Then only the clone can be started, and no identifier means two disks.", Risk: RiskNone, Minutes: 10, Undo: "Plug it in again."},
		key:      "detach", result: result,
		tools: map[Toolbox]func() []Command{Firmware: saying("Power off, mains and battery out. Unplug every drive but the clone, or switch their ports off in the firmware's setup: "+names[:len(names)-2]+".", "The firmware's list shows the clone alone.", "Look at the models and capacities: the clone stays.")},
	}}
}

func cloneFirst(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if len(m.DeviceOrder) > 0 && m.DeviceOrder[0] == d.Name {
		return nil
	}
	result := m
	result.DeviceOrder = []string{d.Name}
	for _, name := range m.DeviceOrder {
		if name != d.Name {
			result.DeviceOrder = append(result.DeviceOrder, name)
		}
	}
	return []move{{
		PlanStep: PlanStep{Action: "clone-first", Title: "Put the clone first in the boot order", Why: "The firmware starts the first drive that it can.", Risk: RiskNone, Minutes: 5, Undo: "Put the old order back."},
		key:      "first", result: result,
		tools: map[Toolbox]func() []Command{Firmware: saying("In the firmware's setup, under boot: move the clone's entry, by its model and capacity, to the top. Save.", "It stands first after a restart.", "If it is not in the list, the firmware does not see it as startable.")},
	}}
}

func setMode(m machine.Machine, stage course.Stage) []move {
	d := clone(m)
	if d.Contents == nil {
		return nil
	}
	var moves []move
	add := func(to firmware.Mode, words string) {
		now, known := m.Firmware.Mode.Get()
		if known && now == to {
			return
		}
		result := m
		result.Firmware.Mode = fact.Known(to, told)
		moves = append(moves, move{
			PlanStep: PlanStep{Action: "set-mode", Title: "Set the firmware to " + words + " mode", Why: "Partition style and mode must go together: the clone is " + string(d.Contents.Layout.Style) + ".", Risk: RiskNone, Minutes: 5, Undo: "Set the old mode again."},
			key:      "mode " + string(to), result: result,
			tools: map[Toolbox]func() []Command{Firmware: saying("In the firmware's setup, under boot: set the mode to "+words+". For legacy mode secure boot must be off and compatibility support on; not every machine has it. Save.", "The setting stands after a restart.", "A machine without compatibility support cannot be set to legacy: take the other plan.")},
		})
	}
	if d.Contents.Layout.Style == disk.StyleGPT {
		add(firmware.UEFI, "UEFI")
	} else if stage == course.StageMode {
		add(firmware.Legacy, "legacy")
	}
	return moves
}

func secureBootOff(m machine.Machine, _ course.Stage) []move {
	if on, known := m.Firmware.SecureBoot.Get(); !isUEFI(m) || known && !on {
		return nil
	}
	result := m
	result.Firmware.SecureBoot = fact.Known(false, told)
	return []move{{
		PlanStep: PlanStep{Action: "secure-boot-off", Title: "Switch secure boot off", Why: "The loader carries no signature.", Risk: RiskNone, Minutes: 5, Undo: "Switch it on again."},
		key:      "secure", result: result,
		tools: map[Toolbox]func() []Command{Firmware: saying("In the firmware's setup, under security or boot: secure boot off. An encrypted system asks for its recovery key at the next start: have it at hand. Save.", "Off after a restart.", "Some firmware wants a supervisor password set first.")},
	}}
}

func controllerBack(m machine.Machine, _ course.Stage) []move {
	now, known := m.Firmware.StorageMode.Get()
	before, had := m.Firmware.StorageModeBefore.Get()
	if !known || !had || now == before {
		return nil
	}
	result := m
	result.Firmware.StorageMode = m.Firmware.StorageModeBefore
	return []move{{
		PlanStep: PlanStep{Action: "controller-back", Title: "Set the storage controller back to " + map[string]string{"ahci": "AHCI", "raid": "RAID"}[before], Why: "The system has a start-up driver for the mode it last ran in.", Risk: RiskNone, Minutes: 5, Undo: "Set the new mode again."},
		key:      "controller", result: result,
		tools: map[Toolbox]func() []Command{Firmware: saying("In the firmware's setup, under storage: set the controller's mode to what it was. Save.", "The setting stands after a restart.", "It is greyed out: some firmware wants a supervisor password, or secure boot off, first.")},
	}}
}

// answered settles a question in the machine.
func answered(m machine.Machine, id, option string) machine.Machine {
	answers := map[string]string{}
	maps.Copy(answers, m.Answers)
	answers[id] = option
	m.Answers = answers
	return m
}

func safeStart(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if _, ok := windowsOn(d); !ok || m.Answers["driver:"+d.Name] == "yes" {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "safe-start", Title: "Start once in safe mode, so that the drive's driver is loaded", Why: "The system has no start-up driver for the drive's new way yet.", Disk: d.Name, Risk: RiskLow, Minutes: 15, Save: "Nothing: one setting of the boot configuration changes, and changes back.", Undo: "bcdedit /deletevalue {default} safeboot"},
		key:      "safe", on: d, result: answered(m, "driver:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{WindowsRecovery: func() []Command { return safeStartCommands(m) }},
	}}
}

func initialRAMDisk(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	root, ok := linuxOn(d)
	if !ok || m.Answers["driver:"+d.Name] == "yes" {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "initial-ram-disk", Title: "Make the initial RAM disk anew, with drivers for every bus", Why: "The one on the disk may have been made for the old drive's bus alone.", Disk: d.Name, Risk: RiskLow, Minutes: 15, Save: "The old one: the commands keep it as .bak.", Undo: "Give the one ending in .bak its name back."},
		key:      "ramdisk", on: d, result: answered(m, "driver:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{Linux: func() []Command { return initialRAMDiskCommands(d, root) }},
	}}
}

// onDisk is a move that changes the clone's contents.
func onDisk(m machine.Machine, s PlanStep, key string, changed *machine.Contents, tools map[Toolbox]func() []Command) move {
	d := clone(m)
	s.Disk = d.Name
	return move{PlanStep: s, key: key, on: d, tools: tools, result: with(m, d.Name, func(d *machine.Drive) { d.Contents = changed })}
}

func restorePrimary(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || c.Layout.GPT == nil || c.Layout.GPT.Primary.State == disk.CopyGood || c.Layout.GPT.Backup.State != disk.CopyGood {
		return nil
	}
	return []move{onDisk(m, PlanStep{Action: "restore-primary", Title: "Write the primary partition table anew from its backup", Why: "The primary is damaged, the backup at the end of the disk is good.", Risk: RiskLow, Minutes: 5,
		Saves: tableSectors(c), Undo: "Write the saved sectors back."}, "primary", c.WithPrimaryRestored(),
		map[Toolbox]func() []Command{Linux: restorePrimaryCommands})}
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
	return []move{onDisk(m, PlanStep{Action: "protective-mbr", Title: "Write the protective MBR", Why: "Firmware looks for a GPT only behind one.", Risk: RiskLow, Minutes: 5, Saves: []Sectors{{0, 1}}, Undo: "Write the saved sector back."}, "protective", c.WithProtectiveMBR(),
		map[Toolbox]func() []Command{Linux: func() []Command { return protectiveCommands(clone(m)) }})}
}

func writeBootCode(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || !isLegacy(m) || c.Layout.Style != disk.StyleMBR || c.Layout.MBR == nil || c.Code == loader.CodeClassic || c.Code == loader.CodeGRUB {
		return nil
	}
	tools := map[Toolbox]func() []Command{Linux: bootCodeCommands}
	saves := []Sectors{{0, 1}}
	if active := bootOf(m, c); active >= 0 && c.Volumes[active].Kind == volume.KindNTFS {
		saves = append(saves, bootSectors(c, c.Layout.Partitions[active]))
		tools[WindowsRecovery] = func() []Command { return bootsectCommands(clone(m), active) }
	}
	return []move{onDisk(m, PlanStep{Action: "boot-code", Title: "Write the standard boot code to sector 0", Why: "Sector 0 holds a table, but no code that runs the active partition.", Risk: RiskLow, Minutes: 5, Saves: saves, Undo: "Write the saved sectors back."}, "code", c.WithBootCode(), tools)}
}

func correctType(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || c.Layout.Style != disk.StyleGPT {
		return nil
	}
	var moves []move
	for i, p := range c.Layout.Partitions {
		if c.Volumes[i].IsFAT() && !p.IsESP() && len(c.Volumes[i].Loaders) > 0 {
			moves = append(moves, onDisk(m, PlanStep{Action: "partition-type", Title: fmt.Sprintf("Type partition %d as EFI system partition", p.Number), Why: "It holds the loader, and is typed as something else.", Risk: RiskLow, Minutes: 5,
				Saves: tableSectors(c), Undo: "Set the type " + p.TypeGUID.String() + " again, or write the saved sectors back."}, fmt.Sprint("type ", p.Number), c.WithType(i, disk.TypeESP),
				map[Toolbox]func() []Command{Linux: func() []Command { return typeCommands(p) }, WindowsRecovery: func() []Command { return typeDiskpart(clone(m), p) }}))
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
	for i, p := range c.Layout.Partitions {
		if onlyActive(c, i) && (c.Volumes[i].BootCode || len(c.Volumes[i].Spares) > 0) {
			return nil // what is wrong with it is another matter
		}
		v := &c.Volumes[i]
		if p.Logical || !v.BootCode && !v.SystemCode && !v.HasWindows() {
			continue
		}
		moves = append(moves, onDisk(m, PlanStep{Action: "set-active", Title: fmt.Sprintf("Mark partition %d active, and no other", p.Number), Why: "Boot code runs the one active partition.", Risk: RiskLow, Minutes: 5, Saves: tableSectors(c), Undo: "Write the saved sector back."},
			fmt.Sprint("active ", p.Number), c.WithActive(i),
			map[Toolbox]func() []Command{WindowsRecovery: func() []Command { return activeDiskpart(clone(m), p) }, Linux: func() []Command { return activeCommands(p) }}))
	}
	return moves
}

func onlyActive(c *machine.Contents, i int) bool {
	for j, p := range c.Layout.Partitions {
		if p.Active != (j == i) {
			return false
		}
	}
	return true
}

func hiddenSectors(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil {
		return nil
	}
	var moves []move
	for i, p := range c.Layout.Partitions {
		for _, q := range c.Volumes[i].Problems {
			if q.Code == volume.CodeHiddenSectors {
				ntfs := c.Volumes[i].Kind == volume.KindNTFS
				saves := []Sectors{{p.Start, 1}}
				if ntfs {
					saves = append(saves, Sectors{p.End() - 1, 1})
				}
				moves = append(moves, onDisk(m, PlanStep{Action: "hidden-sectors", Title: fmt.Sprintf("Correct the boot sector of partition %d: it starts at sector %d", p.Number, p.Start), Why: "Its code reads from where the partition was before the copy.", Risk: RiskLow, Minutes: 5, Saves: saves, Undo: "Write the saved sectors back."},
					fmt.Sprint("hidden ", p.Number), c.WithHiddenSectors(i), map[Toolbox]func() []Command{Linux: func() []Command { return hiddenCommands(clone(m), p, ntfs) }}))
			}
		}
	}
	return moves
}

// copyBootSector writes a boot sector anew from the copy that the file system
// keeps: FAT32 in its sector 6, NTFS in the partition's last.
func copyBootSector(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	c := d.Contents
	if c == nil {
		return nil
	}
	var moves []move
	for i, p := range c.Layout.Partitions {
		for _, spare := range c.Volumes[i].Spares {
			from := spare.Sector
			moves = append(moves, onDisk(m, PlanStep{Action: "copy-boot-sector", Title: fmt.Sprintf("Write the boot sector of partition %d anew from its copy in sector %d", p.Number, from), Why: "It was overwritten; the file system keeps a copy of it.", Risk: RiskLow, Minutes: 5, Saves: []Sectors{{p.Start, 1}}, Undo: "Write the saved sector back."},
				fmt.Sprint("boot-sector ", p.Number), c.WithSectorCopied(i, spare), map[Toolbox]func() []Command{Linux: func() []Command { return copySectorsCommands(d, from, p.Start, 1) }}))
		}
	}
	return moves
}

// dataCopy is what must be saved before a step that can cost data.
const dataCopy = "The data: the original is their copy. Look that it is whole and detached, or copy what is wanted elsewhere first."

// espMiB is the size of a new EFI system partition: FAT32 on 4,096-byte sectors
// wants about 260 MB; common practice.
const espMiB = 300

func createESP(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || !isUEFI(m) || c.Layout.Style != disk.StyleGPT || c.Layout.GPT.Valid() == nil || espOf(c) >= 0 {
		return nil
	}
	length := uint64(espMiB<<20) / uint64(c.Layout.SectorSize)
	start, gap := freeGap(c, length)
	risk, shrunk, how := RiskLow, -1, "in the free space at sector "+fmt.Sprint(start)
	saveWord, undo := "", "Write the saved sectors back: the table is then as it was."
	if !gap {
		var ok bool
		if start, shrunk, ok = roomAtEnd(c, length); !ok {
			return nil
		}
		saveWord, undo = dataCopy, "Delete the new partition, and let the other grow again: extend, in diskpart."
		risk, how = RiskReal, fmt.Sprintf("from the end of partition %d, which is shrunk", c.Layout.Partitions[shrunk].Number)
	}
	changed, _ := c.WithESP(start, length, shrunk)
	tools := map[Toolbox]func() []Command{WindowsRecovery: func() []Command { return createDiskpart(clone(m), start, shrunk) }}
	if gap {
		tools[Linux] = func() []Command { return createCommands(clone(m), start, length) }
	}
	return []move{onDisk(m, PlanStep{Action: "create-esp", Title: "Create an EFI system partition " + how, Why: "The copy left it behind: the firmware has nothing to read.", Risk: risk, Minutes: 10, Saves: tableSectors(c), Save: saveWord, Undo: undo}, "esp", changed, tools)}
}

func espOf(c *machine.Contents) int {
	for i, p := range c.Layout.Partitions {
		if p.IsESP() {
			return i
		}
	}
	return -1
}

func formatESP(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || !isUEFI(m) {
		return nil
	}
	i := espOf(c)
	if i < 0 || c.Volumes[i].IsFAT() && len(c.Volumes[i].Problems) == 0 || c.Volumes[i].Kind == volume.NotCaptured {
		return nil
	}
	risk := RiskLow
	if k := c.Volumes[i].Kind; k != volume.Empty && k != volume.Unknown && !c.Volumes[i].IsFAT() {
		risk = RiskReal
	}
	p := c.Layout.Partitions[i]
	return []move{onDisk(m, PlanStep{Action: "format-esp", Title: fmt.Sprintf("Format partition %d as FAT32", p.Number), Why: "The firmware reads its boot partition only as FAT.", Risk: risk, Minutes: 5, Saves: []Sectors{formatted(c, p)}, Undo: "Write the saved sectors back."}, "format", c.WithFAT(i),
		map[Toolbox]func() []Command{WindowsRecovery: func() []Command { return formatDiskpart(clone(m), p) }, Linux: func() []Command { return formatCommands(p) }})}
}
