package startup

import (
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
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
func (k *walk) legacy() {
	drives := k.drives()
	for i, d := range drives {
		a := Attempt{Drive: d.Name, Role: d.Role, Final: i == len(drives)-1}
		a.HandsOver = k.legacyDevice(&a, d) || a.HandsOver
		a.Final = a.Final || a.HandsOver || !k.triesNext()
		k.attempts = append(k.attempts, a)
		if a.Final {
			return
		}
	}
}

func (k *walk) triesNext() bool {
	return k.w.yes(k.m.Firmware.Behaviour.TriesNextDisk, Question{
		ID: "next-disk", Stage: StageOrder, Field: "triesNextDisk",
		Text: "Does the firmware try the next disk when the first one cannot be started?",
		How:  "Some firmware tries every disk of its list, some the first alone. Putting the other disk first makes the question idle.",
	})
}

func (k *walk) legacyDevice(a *Attempt, d *Drive) bool {
	if !k.seen(a, d) || !k.readable(a, d) {
		return false
	}
	if bus, _ := d.Bus.Get(); bus == "virtio" && !k.largeSectors(a, d, k.m.Firmware.Behaviour.StartsLargeVirtio) {
		return false
	}
	c := d.Contents
	if c.Layout.MBR == nil || !c.Layout.MBR.Signature {
		a.pass(StageMode, "Legacy firmware looks at sector 0 alone.")
		a.pass(StageOrder, "The firmware comes to "+d.called()+".")
		return a.block(StageTable, "Sector 0 of "+d.called()+" does not end in 55 AA: the firmware passes the disk over.", problemFacts(&c.Layout, d.Name)...)
	}
	if c.Run != nil && c.Run.Settled() {
		return k.ranCode(a, d)
	}
	if !k.legacyMode(a, d) {
		return false
	}
	a.pass(StageOrder, "The firmware comes to "+d.called()+" and runs its sector 0.")
	switch k.code(d) {
	case loader.CodeGRUB:
		return k.grub(a, d)
	case loader.CodeOther:
		a.pass(StageTable, "Sector 0 holds a boot record.", d.codeFact())
		a.pass(StageBootPartition, "The boot code in sector 0 is not a known one; it is run as it is.")
		a.Loader = LoaderBootCode
		a.pass(StageLoader, "Control passes to the boot code in sector 0.", d.codeFact())
		return true
	case loader.CodeNone:
		a.Final = k.hangsOnEmpty(a, d)
		return a.block(StageTable, "Sector 0 of "+d.called()+" holds a table, but no boot code.", d.codeFact())
	}
	a.pass(StageTable, "Sector 0 holds a table and boot code that runs the active partition.", append(problemFacts(&c.Layout, d.Name), d.codeFact())...)
	return k.activePartition(a, d)
}

// code returns what stands in sector 0; where nobody read it, it is asked for.
func (k *walk) code(d *Drive) loader.BootCode {
	c := d.Contents
	if c.Code != loader.CodeUnknown {
		return c.Code
	}
	if !k.evidence(d, StageTable, "boot-code", "Does sector 0 of "+d.called()+" hold boot code?", "Take a capture of "+d.called()+".") {
		return loader.CodeNone
	}
	if c.Layout.Style == disk.StyleGPT {
		return loader.CodeOther
	}
	return loader.CodeClassic
}

func (d *Drive) codeFact() Fact {
	return d.cite("Boot code", string(d.Contents.Code), fact.Source{Origin: fact.Bytes, Structure: "MBR", Field: "boot code", Offset: 0, Length: 440})
}

// hangsOnEmpty tells whether the firmware runs an empty sector 0, which never
// comes back.
func (k *walk) hangsOnEmpty(a *Attempt, d *Drive) bool {
	if a.Final {
		return true // either way nothing else is tried
	}
	hangs := k.w.yes(k.m.Firmware.Behaviour.RunsEmptyBootCode, Question{
		ID: "empty-boot-code", Stage: StageMode, Drive: d.Name, Field: "runsEmptyBootCode",
		Text: "Does the firmware run sector 0 although it holds no code, and hang there?",
		How:  "Put the other drive first in the boot order.",
	})
	if hangs {
		a.Symptom = "black, with a cursor."
	}
	return hangs
}

// legacyMode judges whether the style goes with legacy mode. start-rules,
// stage 2.
func (k *walk) legacyMode(a *Attempt, d *Drive) bool {
	c := d.Contents
	style := d.cite("Partition style", string(c.Layout.Style), c.StyleSource())
	mode := Fact{Label: "Firmware mode", Value: "legacy", Source: k.m.Firmware.Mode.Source()}
	if c.Layout.Style != disk.StyleGPT || c.Layout.MBR.Hybrid() || k.code(d) == loader.CodeGRUB || k.code(d) == loader.CodeOther {
		a.pass(StageMode, fmt.Sprintf("Legacy firmware can run what stands in sector 0 (style %s).", c.Layout.Style), style, mode)
		return true
	}
	if k.code(d) == loader.CodeClassic {
		a.Final, a.Symptom = true, "Missing operating system, or Invalid partition table."
	} else {
		a.Final = k.hangsOnEmpty(a, d)
	}
	return a.block(StageMode, "The firmware is in legacy mode, and "+d.called()+" is GPT without boot code that could start it: style and mode do not go together.", style, mode, d.codeFact())
}

// activePartition follows the classic boot code: exactly one active partition,
// whose first sector is run. start-rules, stage 5; common practice, no source.
func (k *walk) activePartition(a *Attempt, d *Drive) bool {
	last := a.Final
	a.Final = true // the code does not hand back to the firmware
	c := d.Contents
	active := -1
	for i, p := range c.Layout.Partitions {
		if !p.Active || p.Logical {
			continue
		}
		if active >= 0 {
			a.Symptom = "Invalid partition table."
			return a.block(StageBootPartition, "More than one partition is marked active.", partitionFacts(d)...)
		}
		active = i
	}
	if active < 0 {
		a.Symptom = "Missing operating system, or no bootable device."
		a.Final = last || !k.handsBack(d)
		return a.block(StageBootPartition, "No partition of "+d.called()+" is marked active.", partitionFacts(d)...)
	}
	a.Partition = c.Layout.Partitions[active].Number
	return k.bootSector(a, d, active)
}

// handsBack tells whether boot code without an active partition gives the
// firmware its turn again (INT 18h) or stops with a message.
func (k *walk) handsBack(d *Drive) bool {
	return k.triesNext() && k.w.yes(unknownBool, Question{
		ID: "hands-back:" + d.Name, Stage: StageBootPartition, Drive: d.Name,
		Text: "Does the boot code of " + d.called() + " give the firmware its turn again when no partition is active?",
		How:  "Some codes do, some stop with a message. Marking the right partition active makes the question idle.",
	})
}

func (k *walk) bootSector(a *Attempt, d *Drive, i int) bool {
	p, v := d.Contents.Layout.Partitions[i], &d.Contents.Volumes[i]
	cited := d.cite(fmt.Sprintf("Partition %d", p.Number), fmt.Sprintf("%s, %s", p.Type.Name, v.Kind), p.Source)
	a.Loader = LoaderBootSector
	if v.Kind == volume.NotCaptured || v.Told {
		if !k.evidence(d, StageBootPartition, "boot-sector", fmt.Sprintf("Is the boot sector of partition %d of %s sound?", p.Number, d.called()),
			fmt.Sprintf("Add sector %d as evidence.", p.Start)) {
			return a.block(StageBootPartition, "The active partition's boot sector is not in evidence.", cited)
		}
		a.Steps = append(a.Steps, Step{Stage: StageBootPartition, State: Unproven, Text: "The active partition's boot sector is not in evidence.", Facts: []Fact{cited}},
			Step{Stage: StageLoader, State: Unproven, Text: "The boot sector is not in evidence."})
		return true
	}
	if !v.BootCode {
		a.Symptom = "Missing operating system."
		return a.block(StageBootPartition, fmt.Sprintf("The first sector of the active partition %d holds no boot record.", p.Number), cited)
	}
	if q, bad := v.problem("hidden-sectors"); bad && v.SystemCode {
		a.Symptom = "A disk read error occurred, or a blinking cursor."
		return a.block(StageBootPartition, q.Text+" Its boot code reads from the wrong place.", cited, problemFact(q, d.Name))
	}
	a.pass(StageBootPartition, fmt.Sprintf("Partition %d is active and its first sector is run.", p.Number), cited)
	for _, q := range v.Problems {
		a.risk(q.Text, problemFact(q, d.Name))
	}
	if !v.SystemCode && !k.runsOn(a, d) {
		return false
	}
	if v.IsFAT() && v.SystemCode && k.m.Until != UntilLoader {
		return k.bootmgr(a, d, i)
	}
	a.pass(StageLoader, "Control passes to the partition's boot sector.", cited)
	return true
}

// bootmgr looks for Windows' legacy boot manager where it can be read.
func (k *walk) bootmgr(a *Attempt, d *Drive, i int) bool {
	v, p := &d.Contents.Volumes[i], d.Contents.Layout.Partitions[i]
	if v.LegacyManager != "" {
		a.pass(StageLoader, fmt.Sprintf(`\%s is on the active partition %d.`, v.LegacyManager, p.Number))
		return true
	}
	a.Symptom = "BOOTMGR is missing."
	return a.block(StageLoader, fmt.Sprintf(`\bootmgr is not on the active partition %d.`, p.Number))
}

// grub judges GRUB's boot code: its core image must stand where the code looks
// for it. GRUB manual, "BIOS installation".
func (k *walk) grub(a *Attempt, d *Drive) bool {
	a.Final, a.Loader = true, LoaderGRUB
	core := d.Contents.Core
	cited := d.cite("GRUB core image at sector", fmt.Sprint(core.Sector), fact.Source{Origin: fact.Bytes, Structure: "MBR", Field: "GRUB kernel sector", Offset: 0x5C, Length: 8})
	a.pass(StageTable, "Sector 0 holds GRUB's boot code.", append(problemFacts(&d.Contents.Layout, d.Name), d.codeFact())...)
	if d.Contents.Layout.Style == disk.StyleGPT {
		held := false
		for _, p := range d.Contents.Layout.Partitions {
			if core.Sector >= p.Start && core.Sector < p.End() && p.TypeGUID == disk.TypeBIOSBoot {
				held, a.Partition = true, p.Number
			}
		}
		a.pass(StageBootPartition, "GRUB finds its core image by sector number.", cited)
		if !held {
			a.risk("The core image does not stand in a BIOS boot partition: whatever fills that space breaks the start.", cited)
		}
	} else {
		a.pass(StageBootPartition, "GRUB finds its core image by sector number, whichever partition is active.", cited)
	}
	switch {
	case !core.Known:
		if !k.evidence(d, StageLoader, "grub-core", "Does GRUB's core image stand at sector "+fmt.Sprint(core.Sector)+" of "+d.called()+"?", "Add that sector as evidence.") {
			return a.block(StageLoader, "GRUB's core image is not in evidence.", cited)
		}
		a.Steps = append(a.Steps, Step{Stage: StageLoader, State: Unproven, Text: "GRUB's core image is not in evidence.", Facts: []Fact{cited}})
		return true
	case !core.Present:
		a.Symptom = "GRUB Read Error, or the word GRUB and nothing more."
		return a.block(StageLoader, fmt.Sprintf("GRUB's boot code looks for its core image at sector %d; nothing stands there.", core.Sector), cited)
	}
	a.pass(StageLoader, "Control passes to GRUB's core image.", cited)
	return true
}
