package startup

import (
	"latchkey/core/course"
	"latchkey/core/machine"
)

// Pin is how one stage stands for one drive, over all worlds.
type Pin struct {
	Stage course.Stage   `json:"stage"`
	State course.State   `json:"state"`
	Text  string         `json:"text"`
	Facts []machine.Fact `json:"facts"`
	Risks []course.Risk  `json:"risks"`
}

// Pins returns the eight pins of a drive. For the clone they stand as the
// machine is; for any other drive as it would start alone.
func Pins(m machine.Machine, drive string) []Pin {
	alone := machine.Alone(m, drive)
	outcomes, _ := evaluate(alone)
	pins := mergePins(outcomes, drive)
	if d := (&course.Walk{Machine: m}).Drive(drive); d == nil || d.Role != machine.RoleClone {
		return pins
	}
	actual, _ := evaluate(m)
	if tried(actual, drive) {
		return mergePins(actual, drive)
	}
	return notTried(m, pins, drive)
}

func tried(outcomes []outcome, drive string) bool {
	for _, o := range outcomes {
		if bestAttempt(&o, drive) != nil {
			return true
		}
	}
	return false
}

// notTried marks the pins of a clone that the firmware never comes to.
func notTried(m machine.Machine, pins []Pin, drive string) []Pin {
	at, state, text := course.StageOrder, course.Wrong, "Another disk is started before this one."
	for i := range m.Drives {
		if attached, known := m.Drives[i].Attached.Get(); m.Drives[i].Name == drive && known && !attached {
			at, state, text = course.StageDrive, course.Blocks, "The drive is not attached."
		}
	}
	for i := range pins {
		switch {
		case pins[i].Stage == at:
			pins[i] = Pin{Stage: at, State: state, Text: text, Facts: []machine.Fact{}, Risks: []course.Risk{}}
		case pins[i].Stage.Index() > at.Index():
			pins[i].State = course.Behind
		}
	}
	return pins
}

// bestAttempt returns the attempt on a drive that got furthest.
func bestAttempt(o *outcome, drive string) *course.Attempt {
	var best *course.Attempt
	for i := range o.attempts {
		a := &o.attempts[i]
		if a.Drive == drive && (best == nil || a.HandsOver || a.Last().Index() > best.Last().Index()) {
			best = a
		}
	}
	return best
}

func mergePins(outcomes []outcome, drive string) []Pin {
	pins := make([]Pin, len(course.Stages))
	for i, stage := range course.Stages {
		pins[i] = Pin{Stage: stage, Facts: []machine.Fact{}, Risks: []course.Risk{}}
		for j := range outcomes {
			if a := bestAttempt(&outcomes[j], drive); a != nil {
				pins[i].merge(a)
			} else {
				pins[i].add(course.Behind, "This stage is not reached.")
			}
		}
	}
	return pins
}

// merge takes one world's account of the stage.
func (p *Pin) merge(a *course.Attempt) {
	for _, s := range a.Steps {
		if s.Stage == p.Stage {
			if p.State == "" || s.State != course.Passes {
				p.Facts, p.Risks = append([]machine.Fact{}, s.Facts...), append([]course.Risk{}, s.Risks...)
			}
			p.add(s.State, s.Text)
			return
		}
	}
	if a.HandsOver && a.Last() != course.StageSystem && a.Steps[len(a.Steps)-1].State != course.Blocks {
		p.add(course.Unproven, "This stage is not proven.")
		return
	}
	p.add(course.Behind, "An earlier stage blocks.")
}

func (p *Pin) add(s course.State, text string) {
	switch {
	case p.State == "":
		p.State, p.Text = s, text
	case p.State != s:
		p.State = course.Unproven
		if s == course.Blocks {
			p.Text = "Depends: " + text
		}
	}
}
