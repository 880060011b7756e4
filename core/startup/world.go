package startup

import (
	"cmp"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/machine"
)

// maxWorlds bounds the worlds that are evaluated: eleven independent yes-or-no facts make
// 2,048. Where some start and some do not, the verdict is "depends" whatever the others
// do; then maxMixed are enough to ask by.
const (
	maxWorlds = 2048
	maxMixed  = 256
)

// evaluate walks the machine in every world, up to the bound.
func evaluate(m machine.Machine) (outcomes []outcome, complete bool) {
	todo := [][]string{nil}
	mixed := false
	for len(todo) > 0 {
		if len(outcomes) >= maxWorlds || mixed && len(outcomes) >= maxMixed {
			return outcomes, false
		}
		w := &course.World{Answers: m.Answers, Assume: todo[0]}
		todo = todo[1:]
		o := walkMachine(m, w)
		outcomes = append(outcomes, o)
		mixed = mixed || o.verdict != outcomes[0].verdict && o.atHandOver() != outcomes[0].atHandOver()
		todo = append(todo, w.Branches()...)
	}
	return outcomes, true
}

// deciding returns the one or two questions whose answers settle the verdict. Where it
// takes more, those come first that are answered at a glance, and on which most worlds
// hang: each answer takes a share of the others away.
func deciding(outcomes []outcome, complete bool) []course.Question {
	t := tabulate(outcomes)
	order := make([]int, len(t.questions))
	scores := make([]int, len(t.questions))
	for i := range order {
		order[i], scores[i] = i, t.mixed([]int{i})
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(scores[a], scores[b]) })
	for size := 1; complete && size <= 2; size++ {
		if set := t.pureSet(order, nil, size); set != nil {
			return t.pick(set)
		}
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Or(cmp.Compare(effort(t.questions[a]), effort(t.questions[b])), cmp.Compare(t.asked[b], t.asked[a]))
	})
	return t.pick(order[:min(3, len(order))])
}

// effort is what it takes to answer a question: a glance at the machine or its screen, a
// look into its papers, or evidence.
func effort(q course.Question) int {
	switch q.Fact.Of {
	case course.OfMode, course.OfAttached, course.OfShown, course.OfFirst, course.OfBus, course.OfEntry:
		return 0
	case course.OfAnswer:
		if strings.HasPrefix(q.ID, "partitions:") || strings.HasPrefix(q.ID, "usb:") {
			return 0
		}
		return 2
	}
	return 1
}

// withLeads tells for every answer of a question how the start ends with it.
func withLeads(q course.Question, outcomes []outcome) course.Question {
	options := append([]course.Option{}, q.Options...)
	for i := range options {
		ends := map[string]bool{}
		for j := range outcomes {
			if outcomes[j].world.AnswerTo(q.ID) == options[i].ID {
				ends[outcomes[j].words()] = true
			}
		}
		if len(ends) == 1 {
			for words := range ends {
				options[i].Leads = words
			}
		}
	}
	q.Options = options
	return q
}

// table holds the answers of all worlds to all questions, and how each world ends, as
// numbers.
type table struct {
	questions []course.Question
	asked     []int    // in how many worlds each is asked
	answers   [][]int8 // by question, by world
	ends      []int    // by world
}

func tabulate(outcomes []outcome) *table {
	t := &table{ends: make([]int, len(outcomes))}
	at, classes := map[string]int{}, map[Verdict]int{}
	for i := range outcomes {
		for _, a := range outcomes[i].world.Asked {
			if _, seen := at[a.Question.ID]; !seen {
				at[a.Question.ID] = len(t.questions)
				t.questions = append(t.questions, a.Question)
			}
		}
		class := outcomes[i].verdict
		if _, seen := classes[class]; !seen {
			classes[class] = len(classes)
		}
		t.ends[i] = classes[class]
	}
	t.asked = make([]int, len(t.questions))
	for q := range t.questions {
		words := map[string]int8{"-": 0}
		column := make([]int8, len(outcomes))
		for i := range outcomes {
			answer := outcomes[i].world.AnswerTo(t.questions[q].ID)
			if _, seen := words[answer]; !seen {
				words[answer] = int8(len(words))
			}
			if column[i] = words[answer]; answer != "-" {
				t.asked[q]++
			}
		}
		t.answers = append(t.answers, column)
	}
	return t
}

func (t *table) pick(list []int) []course.Question {
	out := make([]course.Question, len(list))
	for i, q := range list {
		out[i] = t.questions[q]
	}
	return out
}

// pureSet finds the first set of a size that settles how every world ends.
func (t *table) pureSet(from, chosen []int, size int) []int {
	if size == 0 {
		if t.mixed(chosen) == 0 {
			return chosen
		}
		return nil
	}
	for i, q := range from {
		if set := t.pureSet(from[i+1:], append(slices.Clone(chosen), q), size-1); set != nil {
			return set
		}
	}
	return nil
}

// mixed counts the worlds whose group, by the answers to a set of questions, still holds
// more than one end.
func (t *table) mixed(set []int) int {
	type group struct {
		end, worlds int
		mixed       bool
	}
	groups := map[uint64]*group{}
	for i, end := range t.ends {
		key := uint64(0)
		for _, q := range set {
			key = key<<8 | uint64(uint8(t.answers[q][i]))
		}
		g := groups[key]
		if g == nil {
			g = &group{end: end}
			groups[key] = g
		}
		g.worlds++
		g.mixed = g.mixed || g.end != end
	}
	n := 0
	for _, g := range groups {
		if g.mixed {
			n += g.worlds
		}
	}
	return n
}
