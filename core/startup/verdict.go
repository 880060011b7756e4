package startup

import (
	"latchkey/core/course"
	"latchkey/core/machine"
)

// rule is what came upon the step that decided.
func (o *outcome) rule() course.Rule {
	if s := o.decided(); s != nil {
		return s.Rule
	}
	return ""
}

// decided is the step that decided, nil for none.
func (o *outcome) decided() *course.Step {
	if o.chosen < 0 || len(o.attempts[o.chosen].Steps) == 0 {
		return nil
	}
	steps := o.attempts[o.chosen].Steps
	return &steps[len(steps)-1]
}

// text is the account of the step that decided.
func (o *outcome) text() string {
	if o.chosen < 0 {
		return "Nothing is attached that could be started."
	}
	if s := o.decided(); s != nil {
		return s.Text
	}
	return ""
}

// Verdict is the outcome of a start check. It is never a guess.
type Verdict string

// The verdicts.
const (
	Starts         Verdict = "starts"          // in every consistent world it starts from the clone
	StartsOriginal Verdict = "starts-original" // it starts, from another disk than the clone
	Stops          Verdict = "stops"           // in every consistent world it stops
	Depends        Verdict = "depends"         // the worlds differ, or the last stages are not proven
)

// atHandOver is the verdict as far as the hand-over to the loader. A system that
// is known to be cut off stops although its loader is reached.
func (o *outcome) atHandOver() Verdict {
	switch {
	case o.verdict != Depends:
		return o.verdict
	case o.elsewhere():
		return StartsOriginal
	}
	return Starts
}

// elsewhere reports whether the loader that is started lies on another drive than the clone.
func (o *outcome) elsewhere() bool {
	return o.chosen >= 0 && o.attempts[o.chosen].Role != machine.RoleClone
}

func stageWords(s course.Stage) string { return machine.LowerFirst(s.Title()) }

// outcome is how a start ends in one world.
type outcome struct {
	world    *course.World
	verdict  Verdict
	stage    course.Stage // where it stops
	attempts []course.Attempt
	chosen   int // index of the attempt that decides, -1 for none
	symptom  course.Symptom
}

// ended is the stage where it stops, or is not proven any further.
func (o *outcome) ended() course.Stage {
	if o.verdict == Depends && o.chosen >= 0 {
		return o.attempts[o.chosen].Last()
	}
	return o.stage
}

// words says how a start ends.
func (o *outcome) words() string {
	switch o.verdict {
	case Stops:
		return "stops at the " + stageWords(o.stage)
	case StartsOriginal:
		if o.chosen >= 0 && o.attempts[o.chosen].Role == machine.RoleOther {
			return "starts " + o.attempts[o.chosen].Drive
		}
		return "starts the original"
	case Starts:
		return "starts the clone"
	}
	if o.elsewhere() {
		return "a loader on another drive is started; what follows is not proven"
	}
	return "the clone reaches its loader; what follows is not proven"
}
