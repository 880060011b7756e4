package startup

import (
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// uefi follows the boot manager: the boot entries, then the devices. UEFI
// Specification 2.10, section 3.1. It reports whether a loader was started.
func (k *walk) uefi() bool {
	drives := k.drives()
	if entries := k.m.Firmware.Entries; entries != nil {
		for _, e := range entries.Sequence() {
			if k.entry(drives, e) {
				return true
			}
		}
	}
	for _, d := range drives {
		if k.m.Firmware.Entries == nil && k.vendorEntry(d) {
			return true
		}
		if k.fallback(d) || k.macVolume(d) {
			return true
		}
	}
	return false
}

// vendorEntry tries, when the boot entries are not known, the loader that an
// entry would most likely lead to.
func (k *walk) vendorEntry(d *Drive) bool {
	path, ok := d.vendorLoader()
	if !ok {
		return false
	}
	if !k.w.yes(d.HasEntry, Question{
		ID: "entry:" + d.Name, Stage: StageOrder, Drive: d.Name, Field: "entry:" + d.Name,
		Text: "Has the firmware a boot entry that leads to " + path + " on " + d.called() + "?",
		How:  "In a running Linux: efibootmgr -v. In Windows: bcdedit /enum firmware. Or the named entries in the firmware's boot list.",
	}) {
		return false
	}
	return k.try(d, "", target{path: path, why: "The boot entry", only: disk.Partition.IsESP})
}

// vendorLoader returns the loader that a boot entry would name: an operating
// system's own, the shim before the GRUB that it starts.
func (d *Drive) vendorLoader() (path string, found bool) {
	if d.Contents == nil {
		return "", false
	}
	for i, v := range d.Contents.Volumes {
		if !d.Contents.Layout.Partitions[i].IsESP() {
			continue
		}
		for _, f := range v.Loaders {
			if f.Name != loader.Fallback && (path == "" || f.Name == loader.Shim) {
				path, found = f.Path, true
			}
		}
	}
	return path, found
}

// fallback tries the removable-media path on a device. UEFI Specification 2.10,
// section 3.5.1.1.
func (k *walk) fallback(d *Drive) bool {
	path := loader.FallbackPath(k.arch())
	bus, _ := d.Bus.Get()
	tried := bus == "usb" || k.w.yes(k.m.Firmware.Behaviour.FallbackOnFixedDisks, Question{
		ID: "fallback", Stage: StageOrder, Field: "fallbackOnFixedDisks",
		Text: "Does the firmware try the fallback loader on fixed disks?",
		How:  "Start once with the clone alone and no boot entry for it. Most firmware made since 2012 does; the machine's handbook rarely says.",
	})
	if !tried {
		a := Attempt{Drive: d.Name, Role: d.Role, Loader: path}
		if k.seen(&a, d) && k.readable(&a, d) && k.uefiMode(&a, d) {
			a.block(StageOrder, "No boot entry leads to "+d.called()+", and the firmware does not look for "+path+" on fixed disks.")
		}
		k.attempts = append(k.attempts, a)
		return false
	}
	return k.try(d, "", target{path: path, why: "The firmware"})
}

// try walks the stages on one disk.
func (k *walk) try(d *Drive, entry string, t target) bool {
	a := Attempt{Drive: d.Name, Role: d.Role, Entry: entry, Loader: t.path}
	if k.seen(&a, d) && k.readable(&a, d) && k.largeUSB(&a, d) && k.uefiMode(&a, d) {
		a.pass(StageOrder, fmt.Sprintf("%s looks for %s on %s.", t.why, t.path, d.called()))
		if k.uefiTable(&a, d) {
			a.HandsOver = k.bootPartition(&a, d, t)
		}
	}
	a.Final = a.HandsOver
	k.attempts = append(k.attempts, a)
	return a.HandsOver
}

func (k *walk) largeUSB(a *Attempt, d *Drive) bool {
	bus, _ := d.Bus.Get()
	return bus != "usb" || k.largeSectors(a, d, k.m.Firmware.Behaviour.StartsLargeUSB)
}

// readable asks for a disk's bytes when nothing of it is in evidence.
func (k *walk) readable(a *Attempt, d *Drive) bool {
	if d.Contents != nil && d.Contents.Layout.Style != disk.StyleUnknown {
		return true
	}
	if k.evidence(d, StageTable, "contents", "What does "+d.called()+" hold? Nothing of its partition table is in evidence.",
		"Add the first sectors of "+d.called()+" on the Evidence screen.") {
		a.Steps = append(a.Steps, Step{Stage: StageTable, State: Unproven, Text: "Nothing of the partition table is in evidence."})
		a.HandsOver = true
		return false
	}
	return a.block(StageTable, "Nothing of the partition table is in evidence.")
}

// uefiMode judges whether the style goes with UEFI. start-rules, stage 2.
func (k *walk) uefiMode(a *Attempt, d *Drive) bool {
	c := d.Contents
	style := d.cite("Partition style", string(c.Layout.Style), c.StyleSource())
	mode := Fact{Label: "Firmware mode", Value: "UEFI", Source: k.m.Firmware.Mode.Source()}
	if c.Layout.Style != disk.StyleMBR {
		a.pass(StageMode, fmt.Sprintf("UEFI firmware goes with the style %s.", c.Layout.Style), style, mode)
		return true
	}
	for i, p := range c.Layout.Partitions {
		if p.IsESP() || c.Volumes[i].IsFAT() || c.Volumes[i].Kind == volume.NotCaptured {
			a.pass(StageMode, "The disk is MBR and has a FAT partition that UEFI firmware can start from.", style, mode)
			a.risk("Windows does not support starting this way from a fixed disk.")
			return true
		}
	}
	return a.block(StageMode, "The firmware is in UEFI mode, and "+d.called()+" is MBR with no FAT partition to start from: style and mode do not go together.", style, mode)
}

// uefiTable judges the table as conforming firmware reads it. start-rules,
// stage 4; UEFI Specification 2.10, section 5.3.2.
func (k *walk) uefiTable(a *Attempt, d *Drive) bool {
	l := &d.Contents.Layout
	if l.WrittenFor != 0 {
		p, _ := l.Find("sector-size")
		return a.block(StageTable, p.Text, problemFact(p, d.Name))
	}
	switch l.Style {
	case disk.StyleNone:
		facts := problemFacts(l, d.Name)
		if len(l.Partitions) == 1 {
			a.pass(StageTable, "There is no partition table; "+d.called()+" is one volume as a whole.", facts...)
			return true
		}
		return a.block(StageTable, "There is no partition table on "+d.called()+".", facts...)
	case disk.StyleMBR:
		return k.uefiMBR(a, d, l)
	}
	return k.uefiGPT(a, d, l)
}

// uefiMBR judges an MBR: some firmware takes none of whose records one overlaps
// another or ends beyond the disk.
func (k *walk) uefiMBR(a *Attempt, d *Drive, l *disk.Layout) bool {
	for _, code := range []string{"beyond-end", "overlap"} {
		p, bad := l.Find(code)
		if bad && k.w.yes(k.m.Firmware.Behaviour.RefusesInconsistentMBR, Question{
			ID: "inconsistent-mbr", Stage: StageTable, Drive: d.Name, Field: "refusesInconsistentMBR",
			Text: "Does the firmware refuse an MBR whose partitions overlap or end beyond the disk?",
			How:  "Correcting the table makes the question idle."}) {
			return a.block(StageTable, "The firmware takes the MBR for none: "+lowerFirst(p.Text), problemFact(p, d.Name))
		}
	}
	a.pass(StageTable, "The MBR can be read.", problemFacts(l, d.Name)...)
	return true
}

// unguarded reports whether the firmware passes over a GPT for what stands in
// sector 0. UEFI Specification 2.10, section 5.2.3.
func (k *walk) unguarded(l *disk.Layout) (disk.Problem, bool) {
	if p, bad := l.Find("gpt-unprotected"); bad && k.w.yes(k.m.Firmware.Behaviour.NeedsProtectiveMBR, Question{
		ID: "needs-protective-mbr", Stage: StageTable, Field: "needsProtectiveMBR",
		Text: "Does the firmware refuse a GPT that has no protective MBR?", How: "Writing a protective MBR makes the question idle."}) {
		return p, true
	}
	if p, bad := l.Find("gpt-protective-unsigned"); bad && k.w.yes(k.m.Firmware.Behaviour.NeedsProtectiveSignature, Question{
		ID: "needs-protective-signature", Stage: StageTable, Field: "needsProtectiveSignature",
		Text: "Does the firmware refuse a GPT whose protective MBR does not end in 55 AA?", How: "Writing a protective MBR makes the question idle."}) {
		return p, true
	}
	return disk.Problem{}, false
}

func (k *walk) uefiGPT(a *Attempt, d *Drive, l *disk.Layout) bool {
	facts := problemFacts(l, d.Name)
	g := l.GPT
	if p, bad := k.unguarded(l); bad {
		return a.block(StageTable, p.Text, problemFact(p, d.Name))
	}
	switch {
	case g.Primary.State == disk.CopyTold:
		if d.Contents.origin().Origin == fact.Typed {
			a.pass(StageTable, "A person told of the partitions of "+d.called()+".", facts...)
		} else {
			a.pass(StageTable, "A system listed the partitions of "+d.called()+".", facts...)
		}
		a.risk("Which copy of the partition table the system read is not told: the primary may be damaged.")
	case g.Primary.State == disk.CopyGood:
		a.pass(StageTable, "The primary partition table is valid.", facts...)
	case g.Primary.State == disk.CopyNotCaptured:
		if !k.evidence(d, StageTable, "gpt", "Is the primary partition table of "+d.called()+" valid?",
			"Add at least the first 34 sectors of "+d.called()+" as evidence.") {
			return a.block(StageTable, "The primary partition table is not in evidence.")
		}
		a.Steps = append(a.Steps, Step{Stage: StageTable, State: Unproven, Text: "The primary partition table is not in evidence."})
	case g.Backup.State == disk.CopyGood:
		uses := k.m.Firmware.Behaviour.UsesBackupGPT
		if !k.w.yes(uses, Question{
			ID: "backup-gpt", Stage: StageTable, Drive: d.Name, Field: "usesBackupGPT",
			Text: "Does the firmware use the backup partition table when the primary is damaged?",
			How:  "The standard asks for it, some firmware does not. Restoring the primary from the backup makes the question idle."}) {
			return a.block(StageTable, "The primary partition table is damaged, and this firmware does not use the backup.", facts...)
		}
		a.pass(StageTable, "The primary partition table is damaged; the backup is good and the firmware uses it.", facts...)
	case g.Backup.State == disk.CopyNotCaptured:
		if !k.evidence(d, StageTable, "gpt-backup", "Is there a good backup table at the end of "+d.called()+"? The primary is "+string(g.Primary.State)+".",
			"Add the last 33 sectors of "+d.called()+" as evidence.") {
			return a.block(StageTable, "The primary partition table is "+string(g.Primary.State)+"; the backup is not in evidence.", facts...)
		}
		a.Steps = append(a.Steps, Step{Stage: StageTable, State: Unproven, Text: "The primary partition table is damaged; the backup is not in evidence.", Facts: facts})
	default:
		return a.block(StageTable, "Neither copy of the partition table is valid.", facts...)
	}
	for _, p := range l.Problems {
		a.risk(p.Text, problemFact(p, d.Name))
	}
	return true
}

func problemFacts(l *disk.Layout, drive string) []Fact {
	var facts []Fact
	for _, p := range l.Problems {
		facts = append(facts, problemFact(p, drive))
	}
	return facts
}
