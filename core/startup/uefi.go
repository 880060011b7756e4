package startup

import (
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
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

// target is what an attempt looks for on a disk.
type target struct {
	path string                    // the program
	only func(disk.Partition) bool // the partitions it may lie in; nil for any
	why  string                    // how the firmware comes to look for it
}

// entry tries one boot entry.
func (k *walk) entry(drives []*Drive, e firmware.Entry) bool {
	if e.Path.Internal || e.Path.Partition == nil && e.Path.Bus == "" {
		return false // a program of the firmware itself, or no disk
	}
	path := e.Path.File
	if path == "" {
		path = loader.FallbackPath(k.arch())
	}
	t := target{path: path, why: "Entry " + entryName(e)}
	resolved := drives
	if node := e.Path.Partition; node != nil {
		t.only = func(p disk.Partition) bool { return k.matches(node, p) }
		resolved = k.resolve(drives, node)
	} else if e.Path.Bus != "" {
		resolved = onBus(drives, e.Path.Bus)
	}
	if len(resolved) == 0 {
		a := Attempt{Entry: entryName(e), Loader: path}
		if blank := k.unread(drives); blank != nil && e.Path.Partition != nil {
			return k.entryOnUnread(blank, e)
		}
		a.block(StageOrder, fmt.Sprintf("Entry %s (%s) leads to no attached disk.", entryName(e), e.Description),
			Fact{Label: "Device path", Value: e.Text, Source: fact.Source{Origin: fact.Text}})
		k.attempts = append(k.attempts, a)
		return false
	}
	// A device path that several disks answer to means the one found first.
	return k.try(resolved[0], entryName(e), t)
}

// unread returns an attached drive whose partitions are not known.
func (k *walk) unread(drives []*Drive) *Drive {
	for _, d := range drives {
		if d.Contents == nil || d.Contents.Layout.Style == disk.StyleUnknown {
			return d
		}
	}
	return nil
}

func (k *walk) entryOnUnread(d *Drive, e firmware.Entry) bool {
	if !k.evidence(d, StageOrder, "entry-"+entryName(e), fmt.Sprintf("Does entry %s (%s) lead to %s?", entryName(e), e.Description, d.called()),
		"Add the first 64 KiB of "+d.called()+" as evidence.") {
		return false
	}
	return k.try(d, entryName(e), target{path: e.Path.File, why: "Entry " + entryName(e)})
}

func (k *walk) resolve(drives []*Drive, node *firmware.PartitionNode) []*Drive {
	var found []*Drive
	for _, d := range drives {
		if d.Contents == nil {
			continue
		}
		for _, p := range d.Contents.Layout.Partitions {
			if k.carries(node, d, p) {
				found = append(found, d)
				break
			}
		}
	}
	return found
}

// carries reports whether a partition has the node's signature, whatever its
// number. UEFI Specification 2.10, section 10.3.5.1.
func (k *walk) carries(node *firmware.PartitionNode, d *Drive, p disk.Partition) bool {
	if node.MBR {
		mbr := d.Contents.Layout.MBR
		return mbr != nil && d.Contents.Layout.Style == disk.StyleMBR && mbr.DiskSignature == node.Signature && p.Number == int(node.Number)
	}
	return !p.GUID.IsZero() && p.GUID == node.GUID && k.matches(node, p)
}

// matches reports whether the firmware takes a partition for the node's when
// only the signature agrees.
func (k *walk) matches(node *firmware.PartitionNode, p disk.Partition) bool {
	if node.MBR {
		return p.Number == int(node.Number)
	}
	if p.GUID != node.GUID {
		return false
	}
	if p.Number == int(node.Number) && p.Start == node.Start && p.Length == node.Size {
		return true
	}
	return k.w.yes(k.m.Firmware.Behaviour.EntryMatchesByGUIDAlone, Question{
		ID: "entry-guid-alone", Stage: StageOrder, Field: "entryMatchesByGUIDAlone",
		Text: "Does the firmware find a partition by its unique GUID alone, although it was moved or resized?",
		How:  "Most firmware does. Writing the boot entry anew makes the question idle.",
	})
}

func onBus(drives []*Drive, bus string) []*Drive {
	var found []*Drive
	for _, d := range drives {
		if b, ok := d.Bus.Get(); ok && b == bus {
			found = append(found, d)
		}
	}
	return found
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
	if k.seen(&a, d) && k.readable(&a, d) && k.uefiMode(&a, d) {
		a.pass(StageOrder, fmt.Sprintf("%s looks for %s on %s.", t.why, t.path, d.called()))
		if k.uefiTable(&a, d) {
			a.HandsOver = k.bootPartition(&a, d, t)
		}
	}
	if !a.HandsOver && a.Symptom == "" {
		a.Symptom = noDevice
	}
	a.Final = a.HandsOver
	k.attempts = append(k.attempts, a)
	return a.HandsOver
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
		a.pass(StageTable, "The MBR can be read.", problemFacts(l, d.Name)...)
		return true
	}
	return k.uefiGPT(a, d, l)
}

func (k *walk) uefiGPT(a *Attempt, d *Drive, l *disk.Layout) bool {
	facts := problemFacts(l, d.Name)
	g := l.GPT
	if p, bad := l.Find("gpt-unprotected"); bad && k.w.yes(k.m.Firmware.Behaviour.NeedsProtectiveMBR, Question{
		ID: "needs-protective-mbr", Stage: StageTable, Field: "needsProtectiveMBR",
		Text: "Does the firmware refuse a GPT that has no protective MBR?", How: "Writing a protective MBR makes the question idle."}) {
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
