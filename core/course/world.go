package course

import (
	"slices"

	"latchkey/core/fact"
)

// Question is a fact that is not known and that a walk came to need.
type Question struct {
	ID      string   `json:"id"`
	Stage   Stage    `json:"stage"`
	Drive   string   `json:"drive,omitempty"`
	Text    string   `json:"text"`
	How     string   `json:"how" doc:"Where to look, or the command that tells"`
	Field   string   `json:"field,omitempty" doc:"The typed fact that answers it, when one does"`
	Options []Option `json:"options"`
}

// Option is a possible answer.
type Option struct {
	ID    string `json:"id"`
	Label string `json:"label"`
	// Leads says how the start ends with this answer; "" when that hangs on
	// more.
	Leads string `json:"leads,omitempty"`
}

var yesNo = []Option{{ID: "yes", Label: "Yes"}, {ID: "no", Label: "No"}}

type answer struct {
	Question Question
	option   string
}

// World is one way in which the unknown facts can stand.
type World struct {
	Told   map[string]string // typed answers, by question
	Assume []string          // options for the questions in the order they come up
	Asked  []answer
}

// Ask returns the answer to a question in this world.
func (w *World) Ask(q Question) string {
	for _, a := range w.Asked {
		if a.Question.ID == q.ID {
			return a.option
		}
	}
	if told, ok := w.Told[q.ID]; ok && slices.ContainsFunc(q.Options, func(o Option) bool { return o.ID == told }) {
		return told
	}
	if q.Field == "" {
		q.Field = "answer:" + q.ID
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
