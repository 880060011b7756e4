package startup

import (
	"latchkey/core/course"
	"latchkey/core/machine"
)

// Ending is one way in which a start can end.
type Ending struct {
	Verdict Verdict        `json:"verdict"`
	Stage   course.Stage   `json:"stage,omitempty"` // where it stops
	Drive   string         `json:"drive,omitempty"`
	Symptom course.Symptom `json:"-"`      // what the person at the machine sees
	Text    string         `json:"text"`   // why it stops there, or what is started
	Worlds  int            `json:"worlds"` // in how many of the evaluated worlds
}

// Endings lists the ways in which a start can end over all worlds, each once, in
// the order in which they were found.
func Endings(m machine.Machine) []Ending {
	outcomes, _ := evaluate(m)
	endings := []Ending{}
	at := map[endingKey]int{}
	for i := range outcomes {
		o := &outcomes[i]
		e := Ending{Verdict: o.verdict, Stage: o.stage, Symptom: o.symptom, Text: o.text()}
		if o.chosen >= 0 {
			e.Drive = o.attempts[o.chosen].Drive
		}
		key := endingKey{e.Verdict, e.Stage, e.Drive, o.rule()}
		if j, again := at[key]; again {
			endings[j].Worlds++
			continue
		}
		at[key] = len(endings)
		e.Worlds = 1
		endings = append(endings, e)
	}
	return endings
}

// endingKey tells endings apart.
type endingKey struct {
	verdict Verdict
	stage   course.Stage
	drive   string
	rule    course.Rule
}

// Words says the ending in a few words.
func (e Ending) Words() string {
	o := outcome{verdict: e.Verdict, stage: e.Stage}
	if e.Verdict == Depends {
		return "reaches a loader, and what follows is not proven"
	}
	return o.words()
}

// Can reports whether a start can end in a way: in some world, or where not every world
// was evaluated. One whose end is not proven can end in any way.
func Can(m machine.Machine, ends func(Ending) bool) bool {
	outcomes, complete := evaluate(m)
	if !complete {
		return true
	}
	for i := range outcomes {
		o := &outcomes[i]
		e := Ending{Verdict: o.verdict, Stage: o.stage}
		if o.chosen >= 0 {
			e.Drive = o.attempts[o.chosen].Drive
		}
		if o.verdict == Depends || ends(e) {
			return true
		}
	}
	return false
}
