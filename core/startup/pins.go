package startup

import "latchkey/core/fact"

// Pin is how one stage stands for one drive, over all worlds.
type Pin struct {
	Stage Stage  `json:"stage"`
	State State  `json:"state" enum:"passes,blocks,unproven,behind,wrong-disk"`
	Text  string `json:"text"`
	Facts []Fact `json:"facts"`
	Risks []Risk `json:"risks"`
}

// Pins returns the eight pins of a drive. For the clone they stand as the
// machine is; for any other drive as it would start alone.
func Pins(m Machine, drive string) []Pin {
	alone := Alone(m, drive)
	outcomes, _ := evaluate(alone)
	pins := mergePins(outcomes, drive)
	if d := (&walk{m: m}).drive(drive); d == nil || d.Role != RoleClone {
		return pins
	}
	actual, _ := evaluate(m)
	if tried(actual, drive) {
		return mergePins(actual, drive)
	}
	return notTried(m, pins, drive)
}

// Alone returns the machine with one drive attached and no other.
func Alone(m Machine, drive string) Machine {
	drives := append([]Drive{}, m.Drives...)
	for i := range drives {
		drives[i].Attached = fact.Known(drives[i].Name == drive, fact.Source{Origin: fact.Computed})
	}
	m.Drives = drives
	return m
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
func notTried(m Machine, pins []Pin, drive string) []Pin {
	at, state, text := StageOrder, Wrong, "Another disk is started before this one."
	for i := range m.Drives {
		if attached, known := m.Drives[i].Attached.Get(); m.Drives[i].Name == drive && known && !attached {
			at, state, text = StageDrive, Blocks, "The drive is not attached."
		}
	}
	for i := range pins {
		switch {
		case pins[i].Stage == at:
			pins[i] = Pin{Stage: at, State: state, Text: text, Facts: []Fact{}, Risks: []Risk{}}
		case pins[i].Stage.index() > at.index():
			pins[i].State = Behind
		}
	}
	return pins
}

// bestAttempt returns the attempt on a drive that got furthest.
func bestAttempt(o *outcome, drive string) *Attempt {
	var best *Attempt
	for i := range o.attempts {
		a := &o.attempts[i]
		if a.Drive == drive && (best == nil || a.HandsOver || a.last().index() > best.last().index()) {
			best = a
		}
	}
	return best
}

func mergePins(outcomes []outcome, drive string) []Pin {
	pins := make([]Pin, len(Stages))
	for i, stage := range Stages {
		pins[i] = Pin{Stage: stage, Facts: []Fact{}, Risks: []Risk{}}
		for j := range outcomes {
			if a := bestAttempt(&outcomes[j], drive); a != nil {
				pins[i].merge(a)
			} else {
				pins[i].add(Behind, "This stage is not reached.")
			}
		}
	}
	return pins
}

// merge takes one world's account of the stage.
func (p *Pin) merge(a *Attempt) {
	for _, s := range a.Steps {
		if s.Stage == p.Stage {
			if p.State == "" || s.State != Passes {
				p.Facts, p.Risks = append([]Fact{}, s.Facts...), append([]Risk{}, s.Risks...)
			}
			p.add(s.State, s.Text)
			return
		}
	}
	if a.HandsOver && a.last() != StageSystem && a.Steps[len(a.Steps)-1].State != Blocks {
		p.add(Unproven, "This stage is not proven.")
		return
	}
	p.add(Behind, "An earlier stage blocks.")
}

func (p *Pin) add(s State, text string) {
	switch {
	case p.State == "":
		p.State, p.Text = s, text
	case p.State != s:
		p.State = Unproven
		if s == Blocks {
			p.Text = "Depends: " + text
		}
	}
}
