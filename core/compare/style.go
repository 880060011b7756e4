package compare

import (
	"slices"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
)

func styleRows(a, b side) []Row {
	sa, sb := style(a), style(b)
	r := row(GroupStyle, "Partition style", sa, sb, Matters,
		"a change of style asks for a change of firmware mode, loader and configuration")
	r.decides(b.blocked(course.StageMode), "blocks: the style does not go with the firmware mode")
	rows := []Row{r}
	if sa.text == string(disk.StyleGPT) || sb.text == string(disk.StyleGPT) {
		rows = append(rows, copyRow(a, b, primaryTable), copyRow(a, b, backupTable))
	}
	return rows
}

func style(s side) value {
	if s.Contents == nil || s.Contents.Layout.Style == disk.StyleUnknown {
		return s.none(false)
	}
	return s.value(present, string(s.Contents.Layout.Style), s.Contents.StyleSource())
}

const (
	primaryTable = "Primary table"
	backupTable  = "Backup table"
)

// copyRow compares one copy of the GPT.
func copyRow(a, b side, label string) Row {
	va, vb := tableCopy(a, label), tableCopy(b, label)
	meaning := "the table has lost its second copy: repair tools find one only"
	if label == primaryTable {
		meaning = "firmware must fall back to the backup; some does not"
	}
	r := row(GroupStyle, label, va, vb, Matters, meaning)
	switch {
	case r.Matter == Agrees || r.Matter == NotKnown:
	case vb.is == present:
		r.Matter, r.Meaning = Fine, "sound on the clone"
	case b.Contents.Layout.Style != disk.StyleGPT:
		r.Matter, r.Meaning = Fine, "another style has none"
	}
	r.decides(vb.is == absent && va.is == present && b.blocked(course.StageTable) ||
		vb.is == flawed && b.blocked(course.StageTable), "blocks: the partitions cannot be found")
	return r
}

// toldOfCopies are the problems of one copy of the table that a listing tells of.
var toldOfCopies = []disk.ProblemCode{
	disk.CodeGPTPrimaryToldDamaged, disk.CodeGPTBackupToldDamaged, disk.CodeGPTBackupMisplaced,
}

func tableCopy(s side, label string) value {
	if s.Contents == nil || s.Contents.Layout.Style == disk.StyleUnknown {
		return s.none(false)
	}
	l := &s.Contents.Layout
	if l.GPT == nil {
		return s.none(true)
	}
	c := &l.GPT.Primary
	if label == backupTable {
		c = &l.GPT.Backup
	}
	src := fact.Source{Origin: fact.Bytes, Structure: "GPT header (" + c.Which + ")", Field: "Signature",
		Offset: disk.Span(c.Header.LBA, l.SectorSize), Length: 92}
	if l.GPT.Told() {
		src = fact.Source{}
		for _, p := range l.Problems {
			if c.Lost() && slices.Contains(toldOfCopies, p.Code) {
				src = p.Source
			}
		}
	}
	switch {
	case c.State == disk.CopyTold && (l.GPT.Primary.Lost() || l.GPT.Backup.Lost()):
		return s.value(present, "listed, as the good one", fact.Source{})
	case c.State == disk.CopyTold:
		return s.value(unknown, "listed: which copy is not told", fact.Source{})
	case c.State == disk.CopyNotCaptured:
		return s.none(false)
	case c.State == disk.CopyGood && label == backupTable && c.Header.LBA != l.Sectors-1:
		return s.value(flawed, "good, misplaced", src)
	case c.State == disk.CopyGood:
		return s.value(present, string(c.State), src)
	case c.State == disk.CopyAbsent:
		return s.value(absent, "none", src)
	}
	return s.value(flawed, string(c.State), src)
}

// modes are the firmware modes as they are written.
var modes = map[firmware.Mode]string{firmware.UEFI: "UEFI", firmware.Legacy: "legacy",
	firmware.UEFICSM: "UEFI with compatibility support"}

func modeRow(m machine.Machine, a, b side) Row {
	goes := func(s side) value {
		switch s.state(course.StageMode) {
		case course.Passes:
			return s.value(present, "yes", fact.Source{})
		case course.Blocks:
			return s.value(absent, "no", fact.Source{})
		}
		return s.value(unknown, "not known", fact.Source{})
	}
	mode, known := m.Firmware.Mode.Get()
	label := "Goes with the firmware mode"
	if known {
		label = "Goes with " + modes[mode]
	}
	r := row(GroupMode, label, goes(a), goes(b), Fine, "the clone's style goes with it")
	if !known {
		r.Matter, r.Meaning = Matters, "the firmware mode decides whether the style can start"
	}
	r.decides(b.blocked(course.StageMode), "blocks: change the firmware mode, or the style back")
	return r
}
