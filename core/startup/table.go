package startup

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

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
	if c.Layout.Open || !c.TableKnown() || chainGoesOn(k, d) {
		a.Pass(course.StageMode, "The disk is MBR: UEFI firmware starts from a FAT partition of it, if there is one.", style, mode)
		return true
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
		if l.Open && k.Evidence(d, course.StageTable, "one-volume", "Does "+d.Called()+" hold a partition table, or one FAT volume as a whole?",
			"Take a capture of "+d.Called()+".") {
			a.Unproven("table-missing-evidence", course.StageTable, "What the disk holds is not in evidence.", course.HowCapture)
			return true
		}
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
		if bad && l.MBR != nil && l.MBR.Consistent(l.Sectors) {
			continue // it is the chain's
		}
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
	if p, bad := l.Find(disk.CodeGPTUnprotected); bad && k.Choice(firmware.NeedsProtectiveMBR, course.StageTable,
		nil, "") {
		return p, true
	}
	if p, bad := l.Find(disk.CodeGPTProtectiveUnsigned); bad && k.Choice(firmware.NeedsProtectiveSignature,
		course.StageTable, nil, "") {
		return p, true
	}
	return disk.Problem{}, false
}

// sector0Open reports whether sector 0 is not in the evidence.
func sector0Open(l *disk.Layout) bool {
	_, unreadable := l.Find(disk.CodeMBRUnreadable)
	return l.MBR == nil && !unreadable
}

// guarded asks for the protective MBR, where the firmware needs it and sector 0 is not in
// the evidence.
func guarded(k *course.Walk, d *machine.Drive) bool {
	return !k.Choice(firmware.NeedsProtectiveMBR, course.StageTable, nil, "") ||
		k.Evidence(d, course.StageTable, "sector-0", "Does a protective MBR in sector 0 guard the GPT of "+d.Called()+"?",
			"Take a capture of "+d.Called()+", or add its first sector as evidence.")
}

func uefiGPT(k *course.Walk, a *course.Attempt, d *machine.Drive, l *disk.Layout) bool {
	facts := machine.ProblemFacts(l, d.Name)
	g := l.GPT
	if p, bad := unguarded(k, l); bad {
		return a.Block("gpt-refused", course.StageTable, p.Text, machine.ProblemFact(p, d.Name))
	}
	if sector0Open(l) && !guarded(k, d) {
		return a.Block("gpt-refused", course.StageTable, "The GPT has no protective MBR.")
	}
	if p, wraps := l.Find(disk.CodeGPTArrayWraps); wraps && g.Valid() == nil {
		if !k.Evidence(d, course.StageTable, "gpt-wraps", "Does the firmware find the entries of the partition table of "+d.Called()+"?", course.HowTry) {
			return a.Block("no-valid-table", course.StageTable, "Neither copy of the partition table is valid.", facts...)
		}
		a.Unproven("gpt-wraps", course.StageTable, "Whether the firmware finds the entries of the partition table is not in evidence.", course.HowTry, machine.ProblemFact(p, d.Name))
		a.HandsOver = true
		return false
	}
	switch {
	case g.Told() && !toldSound(k, a, d, facts):
		return false
	case g.Told():
		if d.Contents.Origin().Origin == fact.Typed {
			a.Pass(course.StageTable, "A person told of the partitions of "+d.Called()+".", facts...)
		} else {
			a.Pass(course.StageTable, "A system listed the partitions of "+d.Called()+".", facts...)
		}
		if g.Primary.State == disk.CopyTold && g.Backup.State == disk.CopyTold {
			a.Risk("table-copy-not-told", "Which copy of the partition table the system read is not told: the primary may be damaged.")
		}
	case g.Primary.State == disk.CopyGood:
		a.Pass(course.StageTable, "The primary partition table is valid.", facts...)
	case g.Primary.State == disk.CopyNotCaptured:
		if !k.Evidence(d, course.StageTable, "gpt", "Is the primary partition table of "+d.Called()+" valid?",
			"Take a capture of "+d.Called()+", or add at least its first 34 sectors as evidence.") {
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
			"Take a capture of "+d.Called()+", or add its last 33 sectors as evidence.") {
			return a.Block("backup-missing-evidence", course.StageTable, "The primary partition table is "+string(g.Primary.State)+"; the backup is not in evidence.", facts...)
		}
		a.Steps = append(a.Steps, course.Step{Rule: "backup-missing-evidence", Stage: course.StageTable, State: course.Unproven, Text: "The primary partition table is damaged; the backup is not in evidence.",
			Facts: facts})
	default:
		return loneRecords(k, a, d, facts)
	}
	for _, p := range l.Problems {
		a.Risk(course.Rule(p.Code), p.Text, machine.ProblemFact(p, d.Name))
	}
	return true
}

// toldSound judges a table of which a listing tells: what lists partitions reads the backup, too,
// and most tools do not say so.
func toldSound(k *course.Walk, a *course.Attempt, d *machine.Drive, facts []machine.Fact) bool {
	g := d.Contents.Layout.GPT
	switch {
	case g.Backup.Lost() || k.Choice(firmware.UsesBackupGPT, course.StageTable, d, ""):
		return true
	case g.Primary.State == disk.CopyTold && k.Evidence(d, course.StageTable, "gpt-told", "Is the primary partition table of "+d.Called()+" valid? What lists partitions reads the backup, too.",
		"In a running Linux: sgdisk --verify with the disk's name says it. Or take a capture of "+d.Called()+"."):
		return true
	}
	return a.Block("backup-unused", course.StageTable, "The primary partition table is damaged, and this firmware does not use the backup.", facts...)
}

// loneRecords judges a disk whose GPT is gone. Where ordinary records stand beside the
// protective one, edk2 goes by them (package truth), and what other firmware does is not
// known; a Linux takes no partitions from such a disk (the kernel's block/partitions/msdos.c).
func loneRecords(k *course.Walk, a *course.Attempt, d *machine.Drive, facts []machine.Fact) bool {
	if mbr := d.Contents.Layout.MBR; mbr == nil || !mbr.Signature || !mbr.Hybrid() ||
		!k.Evidence(d, course.StageTable, "hybrid-records", "Does the firmware go by the ordinary records in sector 0 of "+d.Called()+"? Its GPT is gone.", course.HowTry) {
		return a.Block("no-valid-table", course.StageTable, "Neither copy of the partition table is valid.", facts...)
	}
	a.Unproven("hybrid-records", course.StageTable, "Neither copy of the GPT is valid, and whether the firmware goes by the ordinary records in sector 0 is not in evidence.", course.HowTry, facts...)
	a.HandsOver = true
	return false
}
