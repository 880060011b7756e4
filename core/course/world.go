package course

import (
	"slices"

	"latchkey/core/fact"
)

type answer struct {
	Question Question
	option   string
}

// World is one way in which the unknown facts can stand.
type World struct {
	Answers map[string]string // typed answers, by question
	Assume  []string          // options for the questions in the order they come up
	Asked   []answer
}

// Ask returns the answer to a question in this world.
func (w *World) Ask(q Question) string {
	for _, a := range w.Asked {
		if a.Question.ID == q.ID {
			return a.option
		}
	}
	if told, ok := w.Answers[q.ID]; ok && slices.ContainsFunc(q.Options, func(o Option) bool { return o.ID == told }) {
		return told
	}
	if q.Fact == (FactName{}) {
		q.Fact = FactName{OfAnswer, q.ID}
	}
	option := q.Options[0].ID
	if i := len(w.Asked); i < len(w.Assume) {
		option = w.Assume[i]
	}
	w.Asked = append(w.Asked, answer{q, option})
	return option
}

// UnknownBool is a yes-or-no fact that nobody has told.
var UnknownBool = fact.Unknown[bool]()

// Yes answers a yes-or-no fact, asking when it is unknown.
func (w *World) Yes(f fact.Of[bool], q Question) bool {
	if v, ok := f.Get(); ok {
		return v
	}
	q.Options = yesNo
	return w.Ask(q) == "yes"
}

// Denied reports whether one of the questions that were asked since there were n of them
// is for evidence, and this world takes it for missing: what fails then fails for that.
func (w *World) Denied(n int) bool {
	return slices.ContainsFunc(w.Asked[n:], func(a answer) bool {
		return a.Question.Fact.Of == OfAnswer && a.option == "no"
	})
}

// Branches returns the assumptions that lead to the worlds next to this one.
func (w *World) Branches() [][]string {
	var next [][]string
	path := []string{}
	for i, a := range w.Asked {
		if i >= len(w.Assume) {
			for _, o := range a.Question.Options {
				if o.ID != a.option {
					next = append(next, append(append([]string{}, path...), o.ID))
				}
			}
		}
		path = append(path, a.option)
	}
	return next
}

// AnswerTo returns the answer that this world gives to a question, empty where it
// was not asked.
func (w *World) AnswerTo(id string) string {
	for _, a := range w.Asked {
		if a.Question.ID == id {
			return a.option
		}
	}
	return "-"
}
