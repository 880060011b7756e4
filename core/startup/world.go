package startup

import (
	"sort"
	"strings"

	"latchkey/core/course"
	"latchkey/core/machine"
)

// maxWorlds bounds the worlds that are evaluated. Ten independent yes-or-no
// facts make 1,024; beyond the bound the verdict is "depends" and says so.
const maxWorlds = 2048

// evaluate walks the machine in every world, up to the bound.
func evaluate(m machine.Machine) (outcomes []outcome, complete bool) {
	todo := [][]string{nil}
	for len(todo) > 0 {
		if len(outcomes) >= maxWorlds {
			return outcomes, false
		}
		w := &course.World{Answers: m.Answers, Assume: todo[0]}
		todo = todo[1:]
		outcomes = append(outcomes, walkMachine(m, w))
		todo = append(todo, w.Branches()...)
	}
	return outcomes, true
}

// deciding returns the smallest set of questions whose answers settle the
// verdict, the most telling first; up to three are looked for.
func deciding(outcomes []outcome) []course.Question {
	questions := allQuestions(outcomes)
	scores := map[string]int{}
	for _, q := range questions {
		scores[q.ID] = mixed(outcomes, []course.Question{q})
	}
	sort.SliceStable(questions, func(i, j int) bool { return scores[questions[i].ID] < scores[questions[j].ID] })
	for size := 1; size <= 3; size++ {
		if set := pureSet(outcomes, questions, nil, size); set != nil {
			return set
		}
	}
	return questions[:min(3, len(questions))]
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

func allQuestions(outcomes []outcome) []course.Question {
	var questions []course.Question
	seen := map[string]bool{}
	for _, o := range outcomes {
		for _, a := range o.world.Asked {
			if !seen[a.Question.ID] {
				seen[a.Question.ID] = true
				questions = append(questions, a.Question)
			}
		}
	}
	return questions
}

func pureSet(outcomes []outcome, from, chosen []course.Question, size int) []course.Question {
	if size == 0 {
		if mixed(outcomes, chosen) == 0 {
			return chosen
		}
		return nil
	}
	for i, q := range from {
		next := append(append([]course.Question{}, chosen...), q)
		if set := pureSet(outcomes, from[i+1:], next, size-1); set != nil {
			return set
		}
	}
	return nil
}

// mixed counts the worlds whose group, by the answers to a set of questions,
// still holds more than one verdict.
func mixed(outcomes []outcome, set []course.Question) int {
	groups := map[string]map[string]int{}
	for i := range outcomes {
		var key strings.Builder
		for _, q := range set {
			key.WriteString(outcomes[i].world.AnswerTo(q.ID) + "|")
		}
		k := key.String()
		if groups[k] == nil {
			groups[k] = map[string]int{}
		}
		groups[k][outcomes[i].class()]++
	}
	n := 0
	for _, g := range groups {
		if len(g) > 1 {
			for _, c := range g {
				n += c
			}
		}
	}
	return n
}
