// Package startup computes what a machine will do at power-on: which disk it
// starts from, by which path, or at which of eight stages it stops.
package startup

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/machine"
)

// RulesVersion names the state of the rules, for verdicts that are kept.
const RulesVersion = "2026-11-29.11"

// Trace is the account of a simulated start.
type Trace struct {
	Verdict Verdict `json:"verdict"`
	// Reaches is the verdict up to the hand-over to the loader. It tells a start
	// that only lacks the proof of its last two stages from one that hangs on
	// unknown facts.
	Reaches   Verdict           `json:"reaches"`
	Drive     string            `json:"drive,omitempty"`
	Partition int               `json:"partition,omitempty"`
	Loader    string            `json:"loader,omitempty"`
	Entry     string            `json:"entry,omitempty"`
	Stage     course.Stage      `json:"stage,omitempty"`   // where it stops
	Symptom   string            `json:"symptom,omitempty"` // what the person at the machine sees
	SymptomID course.SymptomID  `json:"symptomID,omitempty"`
	Headline  string            `json:"headline"` // the verdict in one sentence
	Reason    string            `json:"reason"`   // the technician's reason
	Attempts  []course.Attempt  `json:"attempts"` // what the firmware tries, in order
	Findings  []Finding         `json:"findings"`
	Missing   []course.Question `json:"missing"`  // the facts that would settle the verdict, best first
	Worlds    int               `json:"worlds"`   // how many ways the unknown facts could stand were evaluated
	Complete  bool              `json:"complete"` // whether all of them were
}

// Finding is something the trace came upon.
type Finding struct {
	Rule     course.Rule    `json:"rule"`
	Stage    course.Stage   `json:"stage"`
	Severity string         `json:"severity"`
	Drive    string         `json:"drive,omitempty"`
	Text     string         `json:"text"`
	Facts    []machine.Fact `json:"facts"`
}

// Simulate computes the start of a machine: a pure function without clock,
// chance or input. Unknown facts are tried both ways, in at most 2,048 worlds.
func Simulate(m machine.Machine) Trace {
	outcomes, complete := evaluate(m)
	return summarise(m, outcomes, complete)
}

func summarise(m machine.Machine, outcomes []outcome, complete bool) Trace {
	t := Trace{Worlds: len(outcomes), Complete: complete, Missing: []course.Question{}, Findings: []Finding{},
		Attempts: []course.Attempt{}}
	t.Verdict, t.Reaches = outcomes[0].verdict, outcomes[0].atHandOver()
	for _, o := range outcomes[1:] {
		if o.verdict != t.Verdict {
			t.Verdict = Depends
		}
		if o.atHandOver() != t.Reaches {
			t.Reaches = Depends
		}
	}
	if !complete {
		t.Verdict, t.Reaches = Depends, Depends
	}
	shown := &outcomes[0]
	if t.Verdict == Stops || t.Reaches != Depends {
		shown = furthest(outcomes, t.Verdict)
	}
	t.take(shown)
	t.same(outcomes)
	t.Findings = findings(outcomes)
	if t.Verdict == Depends {
		t.Missing = missing(outcomes, t.Reaches, complete)
	}
	t.Headline, t.Reason = t.say(m)
	return t
}

// furthest is the world of those that end so in which the start gets furthest: what stops it even
// there stops it whatever the unknown facts are, and what is not proven there is not by any.
func furthest(outcomes []outcome, verdict Verdict) *outcome {
	best, far := &outcomes[0], -1
	for i := range outcomes {
		if o := &outcomes[i]; o.verdict == verdict && o.ended().Index() > far {
			best, far = o, o.ended().Index()
		}
	}
	return best
}

func (t *Trace) take(o *outcome) {
	t.Attempts = append(t.Attempts, o.attempts...)
	if t.Verdict == Stops {
		t.Stage, t.Symptom, t.SymptomID = o.stage, o.symptom.Text, o.symptom.ID
	}
	if o.chosen >= 0 && t.Reaches != Depends {
		a := o.attempts[o.chosen]
		t.Drive, t.Partition, t.Loader, t.Entry = a.Drive, a.Partition, a.Loader, a.Entry
	}
}

// same leaves out of the way of a start what is another one in another world that ends so.
func (t *Trace) same(outcomes []outcome) {
	if t.Verdict == Stops || t.Reaches == Depends {
		return
	}
	for i := range outcomes {
		if o := &outcomes[i]; o.chosen >= 0 {
			a := o.attempts[o.chosen]
			t.Drive, t.Partition = only(t.Drive, a.Drive), only(t.Partition, a.Partition)
			t.Loader, t.Entry = only(t.Loader, a.Loader), only(t.Entry, a.Entry)
		}
	}
}

// only is a value where the other one is the same, else nothing.
func only[T comparable](a, b T) T {
	if a != b {
		return *new(T)
	}
	return a
}

// findings gathers what blocks, what is unproven and what is a risk, each once.
func findings(outcomes []outcome) []Finding {
	found := []Finding{}
	seen := map[identity]bool{}
	add := func(f Finding) {
		if key := f.identity(); !seen[key] {
			seen[key] = true
			if f.Facts == nil {
				f.Facts = []machine.Fact{}
			}
			found = append(found, f)
		}
	}
	for _, o := range outcomes {
		for _, a := range o.attempts {
			for _, s := range a.Steps {
				switch s.State {
				case course.Blocks:
					add(Finding{s.Rule, s.Stage, "blocks", a.Drive, s.Text, s.Facts})
				case course.Unproven:
					add(Finding{s.Rule, s.Stage, "unproven", a.Drive, s.Text, s.Facts})
				}
				for _, r := range s.Risks {
					add(Finding{r.Rule, s.Stage, "risk", a.Drive, r.Text, r.Facts})
				}
			}
		}
	}
	return found
}

// identity tells findings apart: what came upon it, of which drive, and where.
type identity struct {
	rule     course.Rule
	severity string
	drive    string
	place    fact.Source
}

func (f Finding) identity() identity {
	id := identity{f.Rule, f.Severity, f.Drive, fact.Source{}}
	if len(f.Facts) > 0 {
		id.place = f.Facts[0].Source
	}
	return id
}

// missing names what would settle the verdict: the questions that decide it, or
// the evidence that proves what every world leaves unproven.
func missing(outcomes []outcome, reaches Verdict, complete bool) []course.Question {
	proven := func(o outcome) bool { return o.verdict != Depends }
	if reaches != Depends && !slices.ContainsFunc(outcomes, proven) {
		return lacking(outcomes)
	}
	questions := deciding(outcomes, complete)
	for i, q := range questions {
		if complete { // else a world that was not tried may end otherwise
			questions[i] = withLeads(q, outcomes)
		}
	}
	if reaches != Depends {
		questions = append(questions, lacking(outcomes)...)
	}
	return questions
}

// lacking lists what is unproven behind the loader, each once.
func lacking(outcomes []outcome) []course.Question {
	questions := []course.Question{}
	seen := map[identity]bool{}
	for _, o := range outcomes {
		if o.chosen < 0 {
			continue
		}
		drive := o.attempts[o.chosen].Drive
		for _, s := range o.attempts[o.chosen].Steps {
			id := Finding{Rule: s.Rule, Drive: drive, Facts: s.Facts}.identity()
			if s.State == course.Unproven && s.How != "" && !seen[id] {
				seen[id] = true
				questions = append(questions, course.Question{ID: fmt.Sprintf("lacking-%d", len(questions)), Stage: s.Stage,
					Drive: drive, Text: s.Text, How: s.How, Options: []course.Option{}})
			}
		}
	}
	return questions
}

// say puts the verdict into words a customer understands, and the technician's
// reason beside it.
func (t *Trace) say(m machine.Machine) (headline, reason string) {
	switch {
	case t.Verdict == Stops:
		return "Stops at the " + stageWords(t.Stage) + ": " + machine.LowerFirst(t.brief()), t.stopReason()
	case t.Verdict == StartsOriginal && m.Without(machine.RoleClone):
		return "Starts the original: the clone is not attached.", t.startReason()
	case t.Verdict == StartsOriginal && t.Started() == machine.RoleOther:
		return "Starts another drive, " + t.Drive + ": the machine comes up from the wrong disk.", t.wrongDiskReason()
	case t.Verdict == StartsOriginal:
		return "Starts the original: the machine comes up from the wrong disk.", t.wrongDiskReason()
	case t.Verdict == Starts && m.Until == machine.UntilSystem:
		return "Starts: the machine comes up from the clone.", t.startReason()
	case t.Verdict == Starts:
		return "Starts the loader on the clone.", t.startReason()
	case t.Reaches == Starts && t.Asks():
		return "The clone reaches its loader; what follows depends on what is not known.", t.dependsReason()
	case t.Reaches == Starts:
		return "The clone reaches its loader; what follows is not proven.", t.startReason()
	case t.Reaches == StartsOriginal && t.Started() == machine.RoleOther:
		return "Starts the loader on another drive, " + t.Drive + "; which system that leads to is not proven.", t.startReason()
	case t.Reaches == StartsOriginal:
		return "Starts the loader on the original; which system that leads to is not proven.", t.startReason()
	case len(t.Missing) == 1:
		return "Depends on one fact that is not known.", t.dependsReason()
	case t.Complete:
		return fmt.Sprintf("Depends on %d facts that are not known.", len(t.Missing)), t.dependsReason()
	}
	return "Depends on many facts that are not known.", t.dependsReason()
}

// Asks reports whether an answer may settle the verdict.
func (t *Trace) Asks() bool {
	return slices.ContainsFunc(t.Missing, func(q course.Question) bool { return len(q.Options) > 0 })
}

// brief says what stops the start; the whole stands at its pin.
func (t *Trace) brief() string {
	for _, a := range t.Attempts {
		for _, s := range a.Steps {
			if s.State == course.Blocks && s.Stage == t.Stage && a.Drive == t.Drive {
				return s.Brief()
			}
		}
	}
	return "nothing is attached that could be started."
}

func (t *Trace) stopReason() string {
	return "On the screen: " + t.Symptom
}

func (t *Trace) startReason() string {
	text := "The firmware starts " + cmp.Or(t.Loader, "a loader")
	if t.Partition > 0 {
		text += fmt.Sprintf(" on partition %d", t.Partition)
	}
	if t.Entry != "" {
		text += " by entry " + t.Entry
	}
	text += "."
	for _, a := range t.Attempts {
		for _, s := range a.Steps {
			if a.HandsOver && (s.Stage == course.StageConfiguration || s.Stage == course.StageSystem) &&
				s.State != course.Behind {
				text += " " + s.Text
			}
		}
	}
	return text
}

// Started is the role of the drive whose loader is started; "" where none is.
func (t *Trace) Started() machine.Role {
	for _, a := range t.Attempts {
		if a.HandsOver && a.Drive == t.Drive {
			return a.Role
		}
	}
	return ""
}

func (t *Trace) wrongDiskReason() string {
	before := "the original"
	if t.Started() == machine.RoleOther {
		before = t.Drive
	}
	reason := "The firmware comes to " + before + " before the clone."
	for _, a := range t.Attempts {
		for _, s := range a.Steps {
			if s.State == course.Wrong {
				return s.Text
			}
		}
		if a.Role == machine.RoleClone && !a.HandsOver && len(a.Steps) > 0 {
			return "The clone was tried first and failed at the " + stageWords(a.Last()) + ": " + a.Steps[len(a.Steps)-1].Text
		}
	}
	return reason
}

func (t *Trace) dependsReason() string {
	var parts []string
	for _, q := range t.Missing {
		if t.Asks() && len(q.Options) == 0 {
			continue // said of the step that is not proven
		}
		parts = append(parts, q.Text)
		for _, o := range q.Options {
			if o.Leads != "" {
				parts = append(parts, o.Label+": "+o.Leads+".")
			}
		}
	}
	return strings.Join(parts, " ")
}
