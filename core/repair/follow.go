package repair

import (
	"fmt"

	"latchkey/core/machine"
	"latchkey/core/startup"
)

// Follow is the plan of steps that were chosen elsewhere, by their keys, in that order. Their
// commands are made for this very machine. It fails where one cannot be done on it with the
// toolboxes allowed, and where they do not lead to a start.
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
	if p.Verdict != startup.Starts {
		return p, fmt.Errorf("its steps do not lead to a start of this machine as it stands")
	}
	p.Reason, p.Afterwards = p.price(), afterwards(m)
	return p, nil
}
