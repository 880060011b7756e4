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

// uefi follows the boot manager: the boot entries, then the devices. UEFI
// Specification 2.10, section 3.1. It reports whether a loader was started.
func uefi(k *course.Walk) bool {
	drives := k.Drives()
	if entries := k.Machine.Firmware.Entries; entries != nil {
		for _, e := range entries.Sequence() {
			if entry(k, drives, e) {
				return true
			}
		}
	}
	for _, d := range drives {
		if k.Machine.Firmware.Entries == nil && vendorEntry(k, d) {
			return true
		}
		if fallback(k, d) || macVolume(k, d) {
			return true
		}
	}
	return false
}

// vendorEntry tries, when the boot entries are not known, the loader that an
// entry would most likely lead to.
func vendorEntry(k *course.Walk, d *machine.Drive) bool {
	path, ok := d.VendorLoader()
	if !ok {
		return false
	}
	if !k.World.Yes(d.HasEntry, course.Question{
		ID: "entry:" + d.Name, Stage: course.StageOrder, Drive: d.Name, Fact: course.FactName{Of: course.OfEntry, Key: d.Name},
		Text: "Has the firmware a boot entry that leads to " + path + " on " + d.Called() + "?",
		How:  "In a running Linux: efibootmgr -v. In Windows: bcdedit /enum firmware. Or the named entries in the firmware's boot list.",
	}) {
		return false
	}
	return try(k, d, "", target{path: path, why: "The boot entry", only: disk.Partition.IsESP})
}

// fallback tries the removable-media path on a device. UEFI Specification 2.10,
// section 3.5.1.1.
func fallback(k *course.Walk, d *machine.Drive) bool {
	path := loader.FallbackPath(k.Arch())
	bus, _ := d.Bus.Get()
	tried := bus == "usb" || k.Choice(firmware.FallbackOnFixedDisks, course.StageOrder, nil, "")
	if !tried {
		a := course.Attempt{Drive: d.Name, Role: d.Role, Loader: path}
		if seen(k, &a, d) && readable(k, &a, d) && uefiMode(k, &a, d) {
			a.Block("no-entry-no-fallback", course.StageOrder, "No boot entry leads to "+d.Called()+", and the firmware does not look for "+path+" on fixed disks.")
		}
		k.Attempts = append(k.Attempts, a)
		return false
	}
	return try(k, d, "", target{path: path, why: "The firmware"})
}

// try walks the stages on one disk.
func try(k *course.Walk, d *machine.Drive, entry string, t target) bool {
	a := course.Attempt{Drive: d.Name, Role: d.Role, Entry: entry, Loader: t.path}
	if seen(k, &a, d) && readable(k, &a, d) && largeUSB(k, &a, d) && uefiMode(k, &a, d) {
		a.Pass(course.StageOrder, fmt.Sprintf("%s looks for %s on %s.", t.why, t.path, d.Called()))
		if uefiTable(k, &a, d) {
			a.HandsOver = bootPartition(k, &a, d, t)
		}
	}
	a.Final = a.HandsOver
	k.Attempts = append(k.Attempts, a)
	return a.HandsOver
}

func largeUSB(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	bus, _ := d.Bus.Get()
	return bus != "usb" || largeSectors(k, a, d, firmware.StartsLargeUSB)
}

// readable asks for a disk's bytes when nothing of it is in evidence.
func readable(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	if d.Contents != nil && d.Contents.Layout.Style != disk.StyleUnknown {
		return true
	}
	if k.Evidence(d, course.StageTable, "contents", "What does "+d.Called()+" hold? Nothing of its partition table is in evidence.",
		"Add the first sectors of "+d.Called()+" as evidence.") {
		a.Steps = append(a.Steps, course.Step{Rule: "table-missing-evidence", Stage: course.StageTable, State: course.Unproven, Text: "Nothing of the partition table is in evidence."})
		a.HandsOver = true
		return false
	}
	return a.Block("table-missing-evidence", course.StageTable, "Nothing of the partition table is in evidence.")
}

// uefiMode judges whether the style goes with UEFI. start-rules, stage 2.
func uefiMode(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	c := d.Contents
	style := d.Cite("Partition style", string(c.Layout.Style), c.StyleSource())
	mode := machine.Fact{Label: "Firmware mode", Value: "UEFI", Source: k.Machine.Firmware.Mode.Source()}
	if c.Layout.Style != disk.StyleMBR {
		a.Pass(course.StageMode, fmt.Sprintf("UEFI firmware goes with the style %s.", c.Layout.Style), style, mode)
		return true
	}
	for i, p := range c.Layout.Partitions {
		if p.IsESP() || c.Volumes[i].IsFAT() || c.Volumes[i].Kind == volume.NotCaptured {
			a.Pass(course.StageMode, "The disk is MBR and has a FAT partition that UEFI firmware can start from.", style, mode)
			a.Risk("windows-from-mbr", "Windows does not support starting this way from a fixed disk.")
			return true
		}
	}
	return a.BlockFor("style-against-mode", course.StageMode, "The firmware is in UEFI mode, and "+d.Called()+" is MBR with no FAT partition to start from", "style and mode do not go together.", style, mode)
}

// uefiTable judges the table as conforming firmware reads it. start-rules,
// stage 4; UEFI Specification 2.10, section 5.3.2.
func uefiTable(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	l := &d.Contents.Layout
	if l.WrittenFor != 0 {
		p, _ := l.Find(disk.CodeSectorSize)
		return a.Block("sector-size", course.StageTable, p.Text, machine.ProblemFact(p, d.Name))
	}
	switch l.Style {
	case disk.StyleNone:
		facts := machine.ProblemFacts(l, d.Name)
		if len(l.Partitions) == 1 {
			a.Pass(course.StageTable, "There is no partition table; "+d.Called()+" is one volume as a whole.", facts...)
			return true
		}
		return a.Block("no-table", course.StageTable, "There is no partition table on "+d.Called()+".", facts...)
	case disk.StyleMBR:
		return uefiMBR(k, a, d, l)
	}
	return uefiGPT(k, a, d, l)
}

// uefiMBR judges an MBR: some firmware takes none of whose records one overlaps
// another or ends beyond the disk.
func uefiMBR(k *course.Walk, a *course.Attempt, d *machine.Drive, l *disk.Layout) bool {
	for _, code := range []disk.ProblemCode{disk.CodeBeyondEnd, disk.CodeOverlap} {
		p, bad := l.Find(code)
		if bad && k.Choice(firmware.RefusesInconsistentMBR, course.StageTable, d, "") {
			return a.BlockFor("mbr-refused", course.StageTable, "The firmware takes the MBR for none", machine.LowerFirst(p.Text), machine.ProblemFact(p, d.Name))
		}
	}
	a.Pass(course.StageTable, "The MBR can be read.", machine.ProblemFacts(l, d.Name)...)
	return true
}

// unguarded reports whether the firmware passes over a GPT for what stands in
// sector 0. UEFI Specification 2.10, section 5.2.3.
func unguarded(k *course.Walk, l *disk.Layout) (disk.Problem, bool) {
	if p, bad := l.Find(disk.CodeGPTUnprotected); bad && k.Choice(firmware.NeedsProtectiveMBR, course.StageTable, nil, "") {
		return p, true
	}
	if p, bad := l.Find(disk.CodeGPTProtectiveUnsigned); bad && k.Choice(firmware.NeedsProtectiveSignature, course.StageTable, nil, "") {
		return p, true
	}
	return disk.Problem{}, false
}

func uefiGPT(k *course.Walk, a *course.Attempt, d *machine.Drive, l *disk.Layout) bool {
	facts := machine.ProblemFacts(l, d.Name)
	g := l.GPT
	if p, bad := unguarded(k, l); bad {
		return a.Block("gpt-refused", course.StageTable, p.Text, machine.ProblemFact(p, d.Name))
	}
	switch {
	case g.Primary.State == disk.CopyTold:
		if d.Contents.Origin().Origin == fact.Typed {
			a.Pass(course.StageTable, "A person told of the partitions of "+d.Called()+".", facts...)
		} else {
			a.Pass(course.StageTable, "A system listed the partitions of "+d.Called()+".", facts...)
		}
		a.Risk("table-copy-not-told", "Which copy of the partition table the system read is not told: the primary may be damaged.")
	case g.Primary.State == disk.CopyGood:
		a.Pass(course.StageTable, "The primary partition table is valid.", facts...)
	case g.Primary.State == disk.CopyNotCaptured:
		if !k.Evidence(d, course.StageTable, "gpt", "Is the primary partition table of "+d.Called()+" valid?",
			"Add at least the first 34 sectors of "+d.Called()+" as evidence.") {
			return a.Block("table-missing-evidence", course.StageTable, "The primary partition table is not in evidence.")
		}
		a.Steps = append(a.Steps, course.Step{Rule: "table-missing-evidence", Stage: course.StageTable, State: course.Unproven, Text: "The primary partition table is not in evidence."})
	case g.Backup.State == disk.CopyGood:
		if !k.Choice(firmware.UsesBackupGPT, course.StageTable, d, "") {
			return a.Block("backup-unused", course.StageTable, "The primary partition table is damaged, and this firmware does not use the backup.", facts...)
		}
		a.Pass(course.StageTable, "The primary partition table is damaged; the backup is good and the firmware uses it.", facts...)
	case g.Backup.State == disk.CopyNotCaptured:
		if !k.Evidence(d, course.StageTable, "gpt-backup", "Is there a good backup table at the end of "+d.Called()+"? The primary is "+string(g.Primary.State)+".",
			"Add the last 33 sectors of "+d.Called()+" as evidence.") {
			return a.Block("backup-missing-evidence", course.StageTable, "The primary partition table is "+string(g.Primary.State)+"; the backup is not in evidence.", facts...)
		}
		a.Steps = append(a.Steps, course.Step{Rule: "backup-missing-evidence", Stage: course.StageTable, State: course.Unproven, Text: "The primary partition table is damaged; the backup is not in evidence.", Facts: facts})
	default:
		return a.Block("no-valid-table", course.StageTable, "Neither copy of the partition table is valid.", facts...)
	}
	for _, p := range l.Problems {
		a.Risk(course.Rule(p.Code), p.Text, machine.ProblemFact(p, d.Name))
	}
	return true
}
