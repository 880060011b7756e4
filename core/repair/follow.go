package repair

import (
	"errors"
	"fmt"

	"latchkey/core/machine"
	"latchkey/core/startup"
)

// ErrOpen says that something has to be known before it is sure where steps lead.
var ErrOpen = errors.New("where its steps lead depends on what is not known yet")

// Follow is the plan of steps that were chosen elsewhere, by their keys, in that order. Their
// commands are made for this very machine. It fails where one cannot be done on it with the
// toolboxes allowed, and where they do not lead to a start; with ErrOpen where that depends.
func Follow(m machine.Machine, keys []string, allowed ...Toolbox) (Plan, error) {
	if len(allowed) == 0 {
		allowed = Toolboxes
	}
	first := startup.Simulate(m)
	p := Plan{Verdict: first.Verdict, Steps: []PlanStep{}, Alternatives: []Plan{}, Afterwards: []PlanStep{},
		Before: stateOf(m, first)}
	if len(keys) > maxSteps {
		return p, fmt.Errorf("%d steps, expected at most %d", len(keys), maxSteps)
	}
	for i, key := range keys {
		mv, ok := moveOf(m, key)
		if !ok || !mv.choose(allowed) {
			return p, fmt.Errorf("step %d, %q, cannot be done on this machine as it stands", i+1, key)
		}
		m = mv.result
		trace := startup.Simulate(m)
		mv.After = stateOf(m, trace)
		p.Steps, p.Verdict = append(p.Steps, mv.finish(allowed)), trace.Verdict
	}
	p.Reason = p.price()
	switch p.Verdict {
	case startup.Starts:
		p.Afterwards = afterwards(m)
		return p, nil
	case startup.Depends:
		return p, ErrOpen
	}
	return p, errors.New("its steps do not lead to a start of this machine as it stands")
}
