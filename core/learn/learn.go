// Package learn says what a start that was seen tells, of necessity, about what the standards
// leave to the firmware. A choice is learned where one of its answers cannot be with what was
// seen, whatever else is unknown.
package learn

import (
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

// Seen is what a start was seen to do.
type Seen string

// What a start can be seen to do.
const (
	FromClone    Seen = "clone"
	FromOriginal Seen = "original"
	Failed       Seen = "failed" // nothing came up
)

// ends are the verdicts that go with what was seen.
var ends = map[Seen]startup.Verdict{FromClone: startup.Starts, FromOriginal: startup.StartsOriginal,
	Failed: startup.Stops}

// Necessary returns the choices that a start settles, by their keys. sound is false where
// what was seen cannot be at all by what is known of the machine: then something of it is
// not as it was told, and nothing is learned.
func Necessary(m machine.Machine, seen Seen) (learned map[string]bool, sound bool) {
	learned = map[string]bool{}
	end, known := ends[seen]
	if !known {
		return learned, true
	}
	with := func(m machine.Machine) bool {
		return startup.Can(m, func(e startup.Ending) bool { return e.Verdict == end })
	}
	if !with(m) {
		return learned, false
	}
	for _, c := range firmware.Choices {
		if _, told := m.Firmware.Behaviour.Of(c).Get(); told {
			continue
		}
		can := map[bool]bool{}
		for _, answer := range []bool{true, false} {
			changed := m
			changed.Firmware.Behaviour = m.Firmware.Behaviour.Tell(map[string]bool{c.Key: answer})
			can[answer] = with(changed)
		}
		if can[true] != can[false] {
			learned[c.Key] = can[true]
		}
	}
	return learned, true
}

// Observation is what one case says of a choice.
type Observation struct {
	Case  uint64
	Value bool
}

// Agreed is what several cases say of a choice; known is false where they contradict each
// other, or none says anything.
func Agreed(all []Observation) (value, known bool) {
	for i, o := range all {
		if i > 0 && o.Value != value {
			return false, false
		}
		value, known = o.Value, true
	}
	return value, known
}
