package startup

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// Loader names of a legacy start.
const (
	LoaderBootSector = "boot sector"
	LoaderBootCode   = "boot code"
	LoaderGRUB       = "grub"
)

// legacy goes through the devices: sector 0 is run when it ends in 55 AA. Some
// firmware tries the first disk alone. start-rules, stage 3.
func legacy(k *course.Walk) {
	drives := k.Drives()
	for i, d := range drives {
		a := course.Attempt{Drive: d.Name, Role: d.Role, Final: i == len(drives)-1}
		a.HandsOver = legacyDevice(k, &a, d) || a.HandsOver
		a.Final = a.Final || a.HandsOver || !triesNext(k)
		k.Attempts = append(k.Attempts, a)
		if a.Final {
			return
		}
	}
}

func triesNext(k *course.Walk) bool {
	return k.Choice(firmware.TriesNextDisk, course.StageOrder, nil, "")
}

func legacyDevice(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	if !seen(k, a, d) || !readable(k, a, d) {
		return false
	}
	if bus, _ := d.Bus.Get(); bus == "virtio" && !largeSectors(k, a, d, firmware.StartsLargeVirtio) {
		return false
	}
	c := d.Contents
	if c.Layout.MBR == nil || !c.Layout.MBR.Signature {
		a.Pass(course.StageMode, "Legacy firmware looks at sector 0 alone.")
		a.Pass(course.StageOrder, "The firmware comes to "+d.Called()+".")
		return a.BlockFor("sector-0-unsigned", course.StageTable, "Sector 0 of "+d.Called()+" does not end in 55 AA", "the firmware passes the disk over.", machine.ProblemFacts(&c.Layout, d.Name)...)
	}
	if c.Run != nil && c.Run.Settled() {
		return ranCode(k, a, d)
	}
	if !legacyMode(k, a, d) {
		return false
	}
	a.Pass(course.StageOrder, "The firmware comes to "+d.Called()+" and runs its sector 0.")
	switch code(k, d) {
	case loader.CodeGRUB:
		return grub(k, a, d)
	case loader.CodeOther:
		a.Pass(course.StageTable, "Sector 0 holds a boot record.", d.CodeFact())
		a.Pass(course.StageBootPartition, "The boot code in sector 0 is not a known one; it is run as it is.")
		a.Loader = LoaderBootCode
		a.Pass(course.StageLoader, "Control passes to the boot code in sector 0.", d.CodeFact())
		return true
	case loader.CodeNone:
		a.Final = hangsOnEmpty(k, a, d)
		return a.Block("no-boot-code", course.StageTable, "Sector 0 of "+d.Called()+" holds a table, but no boot code.", d.CodeFact())
	}
	a.Pass(course.StageTable, "Sector 0 holds a table and boot code that runs the active partition.", append(machine.ProblemFacts(&c.Layout, d.Name), d.CodeFact())...)
	return activePartition(k, a, d)
}

// code returns what stands in sector 0; where nobody read it, it is asked for.
func code(k *course.Walk, d *machine.Drive) loader.BootCode {
	c := d.Contents
	if c.Code != loader.CodeUnknown {
		return c.Code
	}
	if !k.Evidence(d, course.StageTable, "boot-code", "Does sector 0 of "+d.Called()+" hold boot code?", "Take a capture of "+d.Called()+".") {
		return loader.CodeNone
	}
	if c.Layout.Style == disk.StyleGPT {
		return loader.CodeOther
	}
	return loader.CodeClassic
}

// hangsOnEmpty tells whether the firmware runs an empty sector 0, which never
// comes back.
func hangsOnEmpty(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	if a.Final {
		return true // either way nothing else is tried
	}
	hangs := k.Choice(firmware.RunsEmptyBootCode, course.StageMode, d, "")
	if hangs {
		a.Shows(course.BlackCursor)
	}
	return hangs
}

// legacyMode judges whether the style goes with legacy mode. start-rules,
// stage 2.
func legacyMode(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	c := d.Contents
	style := d.Cite("Partition style", string(c.Layout.Style), c.StyleSource())
	mode := machine.Fact{Label: "Firmware mode", Value: "legacy", Source: k.Machine.Firmware.Mode.Source()}
	if c.Layout.Style != disk.StyleGPT || c.Layout.MBR.Hybrid() || code(k, d) == loader.CodeGRUB || code(k, d) == loader.CodeOther {
		a.Pass(course.StageMode, fmt.Sprintf("Legacy firmware can run what stands in sector 0 (style %s).", c.Layout.Style), style, mode)
		return true
	}
	if code(k, d) == loader.CodeClassic {
		a.Final = true
		a.Shows(course.MissingOrInvalid)
	} else {
		a.Final = hangsOnEmpty(k, a, d)
	}
	return a.BlockFor("style-against-mode", course.StageMode, "The firmware is in legacy mode, and "+d.Called()+" is GPT without boot code that could start it", "style and mode do not go together.", style, mode, d.CodeFact())
}

// activePartition follows the classic boot code: exactly one active partition,
// whose first sector is run. start-rules, stage 5; common practice, no source.
func activePartition(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	last := a.Final
	a.Final = true // the code does not hand back to the firmware
	c := d.Contents
	active := -1
	for i, p := range c.Layout.Partitions {
		if !p.Active || p.Logical {
			continue
		}
		if active >= 0 {
			a.Shows(course.InvalidTable)
			return a.Block("two-active", course.StageBootPartition, "More than one partition is marked active.", machine.PartitionFacts(d)...)
		}
		active = i
	}
	if active < 0 {
		a.Shows(course.MissingOrNoDevice)
		a.Final = last || !handsBack(k, d)
		return a.Block("none-active", course.StageBootPartition, "No partition of "+d.Called()+" is marked active.", machine.PartitionFacts(d)...)
	}
	a.Partition = c.Layout.Partitions[active].Number
	return bootSector(k, a, d, active)
}

// handsBack tells whether boot code without an active partition gives the
// firmware its turn again (INT 18h) or stops with a message.
func handsBack(k *course.Walk, d *machine.Drive) bool {
	return triesNext(k) && k.World.Yes(course.UnknownBool, course.Question{
		ID: "hands-back:" + d.Name, Stage: course.StageBootPartition, Drive: d.Name,
		Text: "Does the boot code of " + d.Called() + " give the firmware its turn again when no partition is active?",
		How:  "Some codes do, some stop with a message. Marking the right partition active makes the question idle.",
	})
}

func bootSector(k *course.Walk, a *course.Attempt, d *machine.Drive, i int) bool {
	p, v := d.Contents.Layout.Partitions[i], &d.Contents.Volumes[i]
	cited := d.Cite(fmt.Sprintf("Partition %d", p.Number), fmt.Sprintf("%s, %s", p.Type.Name, v.Kind), p.Source)
	a.Loader = LoaderBootSector
	if v.Kind == volume.NotCaptured || v.Told {
		if !k.Evidence(d, course.StageBootPartition, "boot-sector", fmt.Sprintf("Is the boot sector of partition %d of %s sound?", p.Number, d.Called()),
			fmt.Sprintf("Add sector %d as evidence.", p.Start)) {
			return a.Block("boot-sector-missing-evidence", course.StageBootPartition, "The active partition's boot sector is not in evidence.", cited)
		}
		a.Steps = append(a.Steps, course.Step{Rule: "boot-sector-missing-evidence", Stage: course.StageBootPartition, State: course.Unproven, Text: "The active partition's boot sector is not in evidence.", Facts: []machine.Fact{cited}},
			course.Step{Rule: "boot-sector-missing-evidence", Stage: course.StageLoader, State: course.Unproven, Text: "The boot sector is not in evidence."})
		return true
	}
	if !v.BootCode {
		a.Shows(course.MissingSystem)
		return a.Block("no-boot-record", course.StageBootPartition, fmt.Sprintf("The first sector of the active partition %d holds no boot record.", p.Number), cited)
	}
	if q, bad := v.Problem(volume.CodeHiddenSectors); bad && v.SystemCode {
		a.Shows(course.DiskReadError)
		return a.Block("boot-record-elsewhere", course.StageBootPartition, q.Text+" Its boot code reads from the wrong place.", cited, machine.ProblemFact(q, d.Name))
	}
	a.Pass(course.StageBootPartition, fmt.Sprintf("Partition %d is active and its first sector is run.", p.Number), cited)
	for _, q := range v.Problems {
		a.Risk(course.Rule(q.Code), q.Text, machine.ProblemFact(q, d.Name))
	}
	if !v.SystemCode && !runsOn(k, a, d) {
		return false
	}
	if v.IsFAT() && v.SystemCode && k.Machine.Until != machine.UntilLoader {
		return bootmgr(k, a, d, i)
	}
	a.Pass(course.StageLoader, "Control passes to the partition's boot sector.", cited)
	return true
}

// bootmgr looks for Windows' legacy boot manager where it can be read.
func bootmgr(k *course.Walk, a *course.Attempt, d *machine.Drive, i int) bool {
	v, p := &d.Contents.Volumes[i], d.Contents.Layout.Partitions[i]
	if v.LegacyManager != "" {
		a.Pass(course.StageLoader, fmt.Sprintf(`\%s is on the active partition %d.`, v.LegacyManager, p.Number))
		return true
	}
	a.Shows(course.BootmgrMissing)
	return a.Block("bootmgr-absent", course.StageLoader, fmt.Sprintf(`\bootmgr is not on the active partition %d.`, p.Number))
}

// grub judges GRUB's boot code: its core image must stand where the code looks
// for it. GRUB manual, "BIOS installation".
func grub(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	a.Final, a.Loader = true, LoaderGRUB
	core := d.Contents.Core
	cited := d.Cite("GRUB core image at sector", fmt.Sprint(core.Sector), fact.Source{Origin: fact.Bytes, Structure: "MBR", Field: "GRUB kernel sector", Offset: 0x5C, Length: 8})
	a.Pass(course.StageTable, "Sector 0 holds GRUB's boot code.", append(machine.ProblemFacts(&d.Contents.Layout, d.Name), d.CodeFact())...)
	if d.Contents.Layout.Style == disk.StyleGPT {
		held := false
		for _, p := range d.Contents.Layout.Partitions {
			if core.Sector >= p.Start && core.Sector < p.End() && p.TypeGUID == disk.TypeBIOSBoot {
				held, a.Partition = true, p.Number
			}
		}
		a.Pass(course.StageBootPartition, "GRUB finds its core image by sector number.", cited)
		if !held {
			a.Risk("core-image-unguarded", "The core image does not stand in a BIOS boot partition: whatever fills that space breaks the start.", cited)
		}
	} else {
		a.Pass(course.StageBootPartition, "GRUB finds its core image by sector number, whichever partition is active.", cited)
	}
	switch {
	case !core.Known:
		if !k.Evidence(d, course.StageLoader, "grub-core", "Does GRUB's core image stand at sector "+fmt.Sprint(core.Sector)+" of "+d.Called()+"?", "Add that sector as evidence.") {
			return a.Block("core-image-missing-evidence", course.StageLoader, "GRUB's core image is not in evidence.", cited)
		}
		a.Steps = append(a.Steps, course.Step{Rule: "core-image-missing-evidence", Stage: course.StageLoader, State: course.Unproven, Text: "GRUB's core image is not in evidence.", Facts: []machine.Fact{cited}})
		return true
	case !core.Present:
		a.Shows(course.GRUBReadError)
		return a.Block("core-image-absent", course.StageLoader, fmt.Sprintf("GRUB's boot code looks for its core image at sector %d; nothing stands there.", core.Sector), cited)
	}
	a.Pass(course.StageLoader, "Control passes to GRUB's core image.", cited)
	return true
}
