package compare

import (
	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

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

// known reports whether the evidence tells which partitions the drive has.
func (s side) known() bool { return s.Contents != nil && s.Contents.TableKnown() }

// whole reports whether every partition that the drive has is in the evidence.
func (s side) whole() bool { return s.known() && !s.Contents.Layout.Open }

// presence is how much of a thing there is on a side, as far as the evidence tells.
type presence int

const (
	unknown presence = iota
	absent
	flawed
	present
)

// value is what one side shows in a row, and where that was read.
type value struct {
	text   string
	is     presence
	source fact.Source
	drive  string // whose
	role   machine.Role
}

const notInEvidence = "not in the evidence"

// value is something that the side shows.
func (s side) value(is presence, text string, source fact.Source) value {
	return value{text, is, source, s.Name, s.Role}
}

// none is the value of what the side does not have, or of which its evidence does
// not tell.
func (s side) none(known bool) value {
	if !known {
		return s.value(unknown, notInEvidence, fact.Source{})
	}
	return s.value(absent, "none", fact.Source{Origin: fact.Computed})
}

// fact cites the value; false where there is no place to show.
func (v value) fact(label string) (machine.Fact, bool) {
	v.source.Drive = v.drive
	return machine.Fact{Label: string(v.role) + ": " + label, Value: v.text, Source: v.source}, v.source.Origin != ""
}

// row builds a row that cites both values. Equal values agree whatever the weight
// given, and of a side that is not in the evidence nothing is concluded.
func row(g Group, label string, original, clone value, matter Matter, meaning string) Row {
	switch {
	case original.is == unknown || clone.is == unknown:
		matter, meaning = NotKnown, ""
	case original.text == clone.text:
		matter, meaning = Agrees, ""
	}
	r := Row{g, label, original.text, clone.text, matter, meaning, []machine.Fact{}}
	for _, v := range []value{original, clone} {
		if f, ok := v.fact(machine.LowerFirst(label)); ok {
			r.Facts = append(r.Facts, f)
		}
	}
	return r
}

// decides gives a row the weight of the start's end, where it is one.
func (r *Row) decides(when bool, meaning string) {
	if when {
		r.Matter, r.Meaning = Decides, meaning
	}
}
