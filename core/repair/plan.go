package repair

import (
	"container/heap"
	"fmt"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/core/windows"
)

// Bounds of the search, beyond which there is no plan, and that is said: the machines
// that are simulated, those that wait for it, and the steps that follow one machine.
const (
	maxStates  = 400
	maxWaiting = 256
	maxSteps   = 24
)

// Find returns the least risky plan that uses only the toolboxes allowed, then
// the one of fewest steps, then the fastest; and up to two alternatives of
// another kind. It is a pure function.
func Find(m machine.Machine, allowed ...Toolbox) Plan { return find(m, allowed, nil) }

// find leaves out the steps that were tried without success, by their keys.
func find(m machine.Machine, allowed []Toolbox, failed []string) Plan {
	if len(allowed) == 0 {
		allowed = Toolboxes
	}
	best, end := search(m, allowed, failed, false)
	if best.Verdict != startup.Starts && best.Ask == nil {
		states := best.States
		best, end = search(m, allowed, failed, true)
		best.States += states
	}
	if best.Before.Verdict == startup.Depends && slices.ContainsFunc(best.Steps, risky) {
		// A question is cheaper: its answer may be that the machine starts as it is.
		if first := startup.Simulate(m); len(first.Missing) > 0 {
			best.Steps, best.Verdict = []PlanStep{}, first.Verdict
			best.none(m, first, allowed)
			return best
		}
	}
	if best.Verdict == startup.Starts {
		best.Afterwards = afterwards(end)
	}
	if len(best.Steps) == 0 {
		return best
	}
	for _, s := range heaviest(best.Steps) {
		if len(best.Alternatives) == 2 {
			break
		}
		other, _ := search(m, allowed, append(slices.Clone(failed), s.Action), false)
		if len(other.Steps) > 0 && !same(other, best) &&
			!slices.ContainsFunc(best.Alternatives, func(p Plan) bool { return same(p, other) }) {
			best.Alternatives = append(best.Alternatives, other)
		}
	}
	return best
}

// heaviest lists the steps, those of the gravest risk first.
func heaviest(steps []PlanStep) []PlanStep {
	sorted := slices.Clone(steps)
	slices.SortStableFunc(sorted, func(a, b PlanStep) int { return weight[b.Risk] - weight[a.Risk] })
	return sorted
}

func same(a, b Plan) bool {
	return slices.EqualFunc(a.Steps, b.Steps, func(x, y PlanStep) bool {
		return x.Action == y.Action &&
			x.Toolbox == y.Toolbox
	})
}

// node is a machine that some steps lead to.
type node struct {
	machine machine.Machine
	steps   []move
	cost    [3]int // risk, steps, minutes
	keys    []string
}

type queue []*node

func (q queue) Len() int { return len(q) }

func (q queue) Less(i, j int) bool { return slices.Compare(q[i].cost[:], q[j].cost[:]) < 0 }

func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }

func (q *queue) Push(x any) { *q = append(*q, x.(*node)) }

func (q *queue) Pop() any {
	old := *q
	n := old[len(old)-1]
	*q = old[:len(old)-1]
	return n
}

// search is uniform-cost: the first machine taken from the queue that starts is
// the cheapest one. It is returned with the plan; without one, the machine as it
// was. With last the last resorts are tried too.
func search(m machine.Machine, allowed []Toolbox, banned []string, last bool) (plan Plan, end machine.Machine) {
	first := startup.Simulate(m)
	plan = Plan{Verdict: first.Verdict, Steps: []PlanStep{}, Alternatives: []Plan{}, Afterwards: []PlanStep{},
		Before: stateOf(m, first)}
	if first.Verdict == startup.Starts {
		plan.Reason = "The machine starts from the clone: nothing is to be repaired."
		return plan, m
	}
	if mayBeWhole(first) && !wantsKey(first) {
		plan.none(m, first, allowed)
		return plan, m
	}
	q := &queue{{machine: m}}
	seen := map[string]bool{}
	var open []openEnd // behind the cheapest steps
	for q.Len() > 0 && plan.States < maxStates {
		n := heap.Pop(q).(*node)
		key := strings.Join(n.keys, "|")
		if seen[key] {
			continue
		}
		seen[key] = true
		plan.States++
		trace := startup.Simulate(n.machine)
		if len(n.steps) > 0 {
			n.steps[len(n.steps)-1].After = stateOf(n.machine, trace)
		}
		if trace.Verdict == startup.Starts {
			plan.Verdict = startup.Starts
			for _, mv := range n.steps {
				plan.Steps = append(plan.Steps, mv.finish(allowed))
			}
			plan.Reason = plan.price()
			return plan, n.machine
		}
		if trace.Verdict == startup.Depends && len(n.steps) > 0 && len(open) < maxOpen {
			open = append(open, openEnd{n.machine, trace.Missing})
		}
		for _, next := range expand(n, trace, allowed, banned, last) {
			if q.Len() < maxWaiting {
				heap.Push(q, next)
			}
		}
	}
	plan.none(m, first, allowed)
	if first.Verdict != startup.Depends {
		plan.askBehind(open)
	}
	return plan, m
}

// leads reports whether answers lead to a start: one to this question and, of as many as may
// follow, one to each that is best asked then. What hangs on the disk's own code and structures,
// which the steps write, nobody can tell before; what the machine is, one can.
func leads(m machine.Machine, q course.Question, answers int) bool {
	before := []course.Stage{course.StageDrive, course.StageMode, course.StageOrder, course.StageSystem}
	ofDisk := q.Fact.Of == "" || q.Fact.Of == course.OfAnswer
	if answers == 0 || ofDisk && !slices.Contains(before, q.Stage) {
		return false
	}
	return slices.ContainsFunc(q.Options, func(o course.Option) bool {
		then := answered(m, q.ID, o.ID)
		t := startup.Simulate(then)
		return t.Verdict == startup.Starts || t.Verdict == startup.Depends && len(t.Missing) > 0 &&
			t.Missing[0].ID != q.ID && leads(then, t.Missing[0], answers-1)
	})
}

// openEnd is a machine behind steps of which it is not known whether it starts, and what would tell.
type openEnd struct {
	machine machine.Machine
	asks    []course.Question
}

// maxOpen bounds the open ends that are followed.
const maxOpen = 3

// maxAnswers bounds the answers that may all be needed before steps lead to a start.
const maxAnswers = 3

// askBehind asks what decides whether steps lead to a start: with one answer to it, and as few
// others as there may be to what is asked next, they do.
func (p *Plan) askBehind(open []openEnd) {
	for answers := range maxAnswers {
		for _, end := range open {
			for _, q := range end.asks {
				if leads(end.machine, q, answers+1) {
					p.Ask = &q
					p.Reason = "Whether a repair leads to a start goes by what is not known yet: answer this first. " + q.Text
					return
				}
			}
		}
	}
}

// risky reports whether a step puts data at risk.
func risky(s PlanStep) bool { return s.Risk == RiskReal }

// mayBeWhole reports whether the clone reaches its loader and all that keeps the verdict open
// is what the rules do not cover: it may start as it is, and nothing is written on that.
func mayBeWhole(t startup.Trace) bool {
	return t.Verdict == startup.Depends && t.Reaches == startup.Starts && len(t.Missing) > 0 && !t.Asks()
}

// wantsKey reports whether a key that may be asked for keeps the verdict open: to have it at hand writes nothing.
func wantsKey(t startup.Trace) bool {
	asks := func(f startup.Finding) bool { return f.Rule == windows.Encrypted }
	return slices.ContainsFunc(t.Findings, asks)
}

// Progress is what has been done of a plan, by the steps' keys, in order.
type Progress struct {
	Done   []string
	Failed []string // tried without success, or left out
}

// Session is a plan that is under way.
type Session struct {
	Plan
	Done []PlanStep `json:"done"` // what was done, each with how the machine stands after it
	// Vanished are done steps whose preconditions no longer hold: the evidence has
	// changed since.
	Vanished []string `json:"vanished"`
}

// Continue plans from what has been done: the effects of the done steps are taken
// as they are computed until new evidence tells.
func Continue(m machine.Machine, p Progress, allowed ...Toolbox) Session {
	s := Session{Done: []PlanStep{}, Vanished: []string{}}
	for _, key := range p.Done {
		mv, ok := moveOf(m, key)
		if !ok {
			s.Vanished = append(s.Vanished, key)
			continue
		}
		m = mv.result
		mv.After = stateOf(m, startup.Simulate(m))
		s.Done = append(s.Done, mv.finish(Toolboxes))
	}
	s.Plan = find(m, allowed, p.Failed)
	return s
}

func stateOf(m machine.Machine, t startup.Trace) State {
	s := State{Verdict: t.Verdict, Stage: t.Stage, Headline: t.Headline, Pins: []startup.Pin{}}
	if d := clone(m); d != nil {
		s.Pins = startup.Pins(m, d.Name)
	}
	return s
}

// expand lists the machines one step further. Only actions that bear on what
// stops the start now are taken: the others can as well be done when their stage
// is reached.
func expand(n *node, t startup.Trace, allowed []Toolbox, banned []string, last bool) []*node {
	var next []*node
	for _, stage := range blocking(n.machine, t) {
		for _, a := range onStage(stage, last) {
			for _, mv := range a(n.machine, stage) {
				mv.before = n.machine
				if len(next) == maxSteps {
					return next
				}
				if slices.Contains(banned, mv.Action) || slices.Contains(banned, mv.key) ||
					slices.Contains(n.keys, mv.key) || !mv.choose(allowed) {
					continue
				}
				keys := append(slices.Clone(n.keys), mv.key)
				slices.Sort(keys)
				next = append(next, &node{
					machine: mv.result, keys: keys, steps: append(slices.Clone(n.steps), mv),
					cost: [3]int{n.cost[0] + weight[mv.Risk], n.cost[1] + 1, n.cost[2] + mv.Minutes},
				})
			}
		}
	}
	return next
}

// blocking lists the stages that keep the clone from starting: of the clone by
// itself first, then of the machine with all its drives.
func blocking(m machine.Machine, t startup.Trace) []course.Stage {
	d := clone(m)
	if d == nil {
		return nil
	}
	if attached, known := d.Attached.Get(); known && !attached {
		return []course.Stage{course.StageDrive}
	}
	alone := startup.Simulate(machine.Alone(m, d.Name))
	if alone.Verdict == startup.Starts {
		return []course.Stage{course.StageOrder}
	}
	if alone.Verdict == startup.Stops {
		return []course.Stage{alone.Stage}
	}
	var stages []course.Stage
	for _, q := range alone.Missing {
		if !slices.Contains(stages, q.Stage) {
			stages = append(stages, q.Stage)
		}
	}
	if len(stages) == 0 {
		return []course.Stage{t.Stage}
	}
	return stages
}

// none says why there is no plan, what must be known first, and what the last
// resort is.
func (p *Plan) none(m machine.Machine, t startup.Trace, allowed []Toolbox) {
	switch {
	case p.States >= maxStates:
		p.Reason = "The search was ended at its bound without a plan. "
	case t.Verdict == startup.Depends && len(t.Missing) > 0:
		q := t.Missing[0]
		p.Ask = &q
		p.Reason = "What is wrong is not known yet: answer this first. " + q.Text
		if slices.ContainsFunc(t.Missing, func(q course.Question) bool { return q.ID == course.Twin }) {
			p.Reason = "Unplug the original before anything else: both attached drives carry the same identifiers. " + p.Reason
		}
		return
	case toldOnly(m):
		p.Reason = "What is known of the clone was told or listed: commands that fit need its very sectors. Take a capture of the clone as evidence."
		return
	case lacks(m, t):
		p.Reason = "The evidence does not hold all of the clone that a repair goes by: what was not looked at is not written over. Take a capture of the clone as evidence."
		return
	case len(allowed) < len(Toolboxes):
		p.Reason = "No repair is known with these toolboxes. "
	default:
		p.Reason = "No repair is known that leads to a start from the disk as it is. "
	}
	p.Reason += lastResort(m, t)
}

// lacks reports whether parts of the clone that a repair at that stage goes by are not in
// evidence.
func lacks(m machine.Machine, t startup.Trace) bool {
	d := clone(m)
	return d != nil && d.Contents != nil && d.Contents.Layout.WrittenFor == 0 && !lookedAt(d.Contents) &&
		!t.Stage.Before(course.StageTable)
}

// lastResort is what remains when nothing can be put right. start-rules, "What a
// technician does about it".
func lastResort(m machine.Machine, t startup.Trace) string {
	d := clone(m)
	switch {
	case d == nil || d.Contents == nil:
		return "Add evidence of the clone."
	case d.Contents.Layout.WrittenFor != 0:
		return "Attach the drive by a port or enclosure that presents the sector size its table was written for, or copy again while it hangs where it is to stay."
	case t.Stage == course.StageDrive:
		return "This firmware cannot start from the drive where it hangs: use a drive or an adapter for a bus that it starts from, or keep the boot partition on a small drive that it does start from."
	case d.Contents.SearchEnded():
		return fmt.Sprintf("Volumes were looked for up to %s of the clone, where no table tells of any. Take a capture with a thorough search: for what it finds a table may be written. If it finds none, copy again, with all partitions and to the same sector size.",
			disk.Binary(disk.Span(d.Contents.FoundUpTo, d.Contents.Layout.SectorSize)))
	case blockedBy(t, "no-driver"):
		if bus, _ := d.Bus.Get(); bus == "usb" {
			return "Build the drive into the machine, where the original was: another copy would not start from USB either."
		}
		return "Another copy would not start there either: attach the drive to what the original hung on, or start the original once more, give its system the driver, and copy again. Until then put the original back."
	case blockedBy(t, "system-loader-absent", "system-loader-unsound", "system-kernel-absent", "system-kernel-unsound"):
		return "In Windows' recovery environment, with X: for the letter that the system's partition has there, sfc /scannow /offbootdir=X:\\ /offwindir=X:\\Windows puts Windows' own files back where it still keeps them; whether it does is not in evidence. Else copy again. Until then put the original back."
	case t.Stage == course.StageSystem:
		return "Copy again: to a drive that is at least as large, or by the space in use, with all partitions. Until then put the original back."
	}
	return "Copy again, with all partitions and to the same sector size. Until then put the original back."
}

// blockedBy reports whether one of some rules ended the start where it ended.
func blockedBy(t startup.Trace, rules ...course.Rule) bool {
	return slices.ContainsFunc(t.Findings, func(f startup.Finding) bool {
		return f.Severity == string(course.Blocks) && f.Drive == t.Drive && f.Stage == t.Stage &&
			slices.Contains(rules, f.Rule)
	})
}
