package compare

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

// Group is a part of the comparison.
type Group string

// The groups, in the order in which they are shown.
const (
	GroupStyle    Group = "partition style"
	GroupMode     Group = "firmware mode"
	GroupBoot     Group = "boot partitions"
	GroupOrder    Group = "boot order"
	GroupIdentity Group = "identity"
	GroupGeometry Group = "geometry"
)

// Matter says what a row means for the start.
type Matter string

// The weights of a row.
const (
	Decides Matter = "decides" // the start stops or goes elsewhere because of it
	Matters Matter = "matters" // worth doing something about
	Fine    Matter = "fine"    // differs, and does not matter
	Agrees  Matter = "agrees"
)

// Row is one thing compared.
type Row struct {
	Group    Group          `json:"group"`
	Label    string         `json:"label"`
	Original string         `json:"original"`
	Clone    string         `json:"clone"`
	Matter   Matter         `json:"matter"`
	Meaning  string         `json:"meaning"` // what it means for the start
	Facts    []machine.Fact `json:"facts"`
}

// Comparison is the original against the clone.
type Comparison struct {
	Pairs []Pair `json:"pairs"`
	Rows  []Row  `json:"rows"`
	// Cause says in a sentence what the copy did, when the differences tell.
	Cause string `json:"cause"`
}

// side is one drive with its pins.
type side struct {
	*machine.Drive
	pins []startup.Pin
}

func (s side) state(stage course.Stage) course.State {
	for _, p := range s.pins {
		if p.Stage == stage {
			return p.State
		}
	}
	return course.Behind
}

// blocked reports whether the clone stops at the stage, or another disk is
// started there.
func (s side) blocked(stage course.Stage) bool {
	state := s.state(stage)
	return state == course.Blocks || state == course.Wrong
}

// Compare holds two drives of a machine against each other. Either may be nil
// or without contents; its side then reads "not in the evidence".
func Compare(m machine.Machine, original, clone *machine.Drive, originalPins, clonePins []startup.Pin) Comparison {
	c := Comparison{Pairs: []Pair{}, Rows: []Row{}}
	if original == nil || clone == nil {
		return c
	}
	a, b := side{original, originalPins}, side{clone, clonePins}
	c.Pairs = append(c.Pairs, Pairs(a.Contents, b.Contents)...)
	c.Rows = append(c.Rows, styleRows(a, b)...)
	c.Rows = append(c.Rows, modeRows(m, a, b)...)
	c.Rows = append(c.Rows, bootRows(a, b)...)
	c.Rows = append(c.Rows, orderRows(m, a, b)...)
	c.Rows = append(c.Rows, identityRows(a, b)...)
	c.Rows = append(c.Rows, configRows(m, a, b)...)
	c.Rows = append(c.Rows, geometryRows(a, b, c.Pairs)...)
	c.Cause = cause(a, b, c.Pairs)
	return c
}

const notInEvidence = "not in the evidence"

// row builds a row; equal values agree whatever the weight given.
func row(g Group, label, original, clone string, matter Matter, meaning string, facts ...machine.Fact) Row {
	if original == clone && matter != Decides {
		matter, meaning = Agrees, ""
	}
	if facts == nil {
		facts = []machine.Fact{}
	}
	return Row{g, label, original, clone, matter, meaning, facts}
}

func cite(d *machine.Drive, label, value string, s fact.Source) machine.Fact {
	s.Drive = d.Name
	return machine.Fact{Label: label, Value: value, Source: s}
}

func styleRows(a, b side) []Row {
	style := row(GroupStyle, "Partition style", styleOf(a), styleOf(b), Matters,
		"a change of style asks for a change of firmware mode, loader and configuration",
		styleFact(a), styleFact(b))
	if b.blocked(course.StageMode) {
		style.Matter, style.Meaning = Decides, "blocks: the style does not go with the firmware mode"
	}
	rows := []Row{style}
	if styleOf(a) == string(disk.StyleGPT) || styleOf(b) == string(disk.StyleGPT) {
		rows = append(rows, copyRow(a, b, "Primary table"), copyRow(a, b, "Backup table"))
	}
	return rows
}

func styleOf(s side) string {
	if s.Contents == nil || s.Contents.Layout.Style == disk.StyleUnknown {
		return notInEvidence
	}
	return string(s.Contents.Layout.Style)
}

func styleFact(s side) machine.Fact {
	source := fact.Source{Origin: fact.Computed}
	if s.Contents != nil {
		source = s.Contents.StyleSource()
	}
	return cite(s.Drive, string(s.Role)+": partition style", styleOf(s), source)
}

func copyRow(a, b side, label string) Row {
	primary := label == "Primary table"
	va, vb := copyState(a, primary), copyState(b, primary)
	r := row(GroupStyle, label, va, vb, Matters, "the table has lost its second copy: repair tools find one only",
		copyFact(a, primary), copyFact(b, primary))
	switch {
	case r.Matter == Agrees:
	case vb == string(disk.CopyGood):
		r.Matter, r.Meaning = Fine, "sound on the clone"
	case b.blocked(course.StageTable):
		r.Matter, r.Meaning = Decides, "blocks: the partitions cannot be found"
	case primary:
		r.Meaning = "firmware must fall back to the backup; some does not"
	case vb == string(disk.CopyTold) || va == string(disk.CopyTold):
		r.Matter, r.Meaning = Fine, "a listing shows partitions; which copy it read is not told"
	case vb == string(disk.CopyNotCaptured):
		r.Matter, r.Meaning = Fine, "the end of the disk is not in the evidence"
	}
	return r
}

func tableCopy(s side, primary bool) *disk.GPTCopy {
	if s.Contents == nil || s.Contents.Layout.GPT == nil {
		return nil
	}
	if primary {
		return &s.Contents.Layout.GPT.Primary
	}
	return &s.Contents.Layout.GPT.Backup
}

func copyState(s side, primary bool) string {
	c := tableCopy(s, primary)
	if c == nil {
		return "none"
	}
	if !primary && c.State == disk.CopyGood && c.Header.LBA != s.Contents.Layout.Sectors-1 {
		return "good, misplaced"
	}
	return string(c.State)
}

func copyFact(s side, primary bool) machine.Fact {
	src := fact.Source{Origin: fact.Bytes, Structure: "GPT header (backup)", Field: "Signature", Length: 92}
	if primary {
		src.Structure = "GPT header (primary)"
	}
	if c := tableCopy(s, primary); c != nil {
		src.Offset = disk.Span(c.Header.LBA, s.Contents.Layout.SectorSize)
	} else {
		src = fact.Source{Origin: fact.Computed}
	}
	return cite(s.Drive, string(s.Role)+": "+src.Structure, copyState(s, primary), src)
}

func modeRows(m machine.Machine, a, b side) []Row {
	mode := "not known"
	if v, ok := m.Firmware.Mode.Get(); ok {
		mode = map[string]string{"uefi": "UEFI", "legacy": "legacy", "uefi-csm": "UEFI with compatibility support"}[string(v)]
	}
	r := row(GroupMode, "Goes with "+mode, goes(a), goes(b), Fine, "")
	switch {
	case b.blocked(course.StageMode):
		r.Matter, r.Meaning = Decides, "blocks: change the firmware mode, or the style back"
	case goes(b) == "not known":
		r.Matter, r.Meaning = Matters, "the firmware mode decides whether the style can start"
	}
	return []Row{r}
}

func goes(s side) string {
	switch s.state(course.StageMode) {
	case course.Passes:
		return "yes"
	case course.Blocks:
		return "no"
	}
	return "not known"
}

// cause puts the pattern of differences into a sentence.
func cause(a, b side, pairs []Pair) string {
	if a.Contents == nil || b.Contents == nil || len(a.Contents.Layout.Partitions) == 0 {
		return ""
	}
	missing, kept := 0, 0
	bootMissing := false
	for _, p := range pairs {
		switch {
		case p.Original >= 0 && p.Clone >= 0:
			kept++
		case p.Original >= 0:
			missing++
			bootMissing = bootMissing || a.Contents.Layout.Partitions[p.Original].Type.Role == disk.RoleBoot
		}
	}
	_, larger := b.Contents.Layout.Find(disk.CodeGPTLargerDisk)
	had, _ := a.Contents.Size()
	has, _ := b.Contents.Size()
	switch {
	case len(b.Contents.Layout.Partitions) == 0 && b.Contents.Layout.WrittenFor != 0:
		return "The table was copied from a disk with another sector size."
	case len(b.Contents.Layout.Partitions) == 0:
		return "No partition of the original can be found on the clone."
	case larger:
		return fmt.Sprintf("The disk was copied sector by sector to a smaller one: %s were written for, %s exist.",
			disk.Both(had), disk.Both(has))
	case bootMissing && kept == 1:
		return "Only the big partition was copied."
	case missing > 0:
		return fmt.Sprintf("%d of %d partitions were left behind.", missing, missing+kept)
	case styleOf(a) != styleOf(b):
		return fmt.Sprintf("The copy changed the partition style from %s to %s.", styleOf(a), styleOf(b))
	}
	return ""
}
