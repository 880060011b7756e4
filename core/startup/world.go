package startup

import (
	"slices"
	"sort"
	"strings"

	"latchkey/core/fact"
)

// maxWorlds bounds the worlds that are evaluated. Ten independent yes-or-no
// facts make 1,024; beyond the bound the verdict is "depends" and says so.
const maxWorlds = 2048

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
	question Question
	option   string
}

// world is one way in which the unknown facts can stand.
type world struct {
	told   map[string]string // typed answers, by question
	assume []string          // options for the questions in the order they come up
	asked  []answer
}

// ask returns the answer to a question in this world.
func (w *world) ask(q Question) string {
	for _, a := range w.asked {
		if a.question.ID == q.ID {
			return a.option
		}
	}
	if told, ok := w.told[q.ID]; ok && slices.ContainsFunc(q.Options, func(o Option) bool { return o.ID == told }) {
		return told
	}
	if q.Field == "" {
		q.Field = "answer:" + q.ID
	}
	option := q.Options[0].ID
	if i := len(w.asked); i < len(w.assume) {
		option = w.assume[i]
	}
	w.asked = append(w.asked, answer{q, option})
	return option
}

var unknownBool = fact.Unknown[bool]()

// yes answers a yes-or-no fact, asking when it is unknown.
func (w *world) yes(f fact.Of[bool], q Question) bool {
	if v, ok := f.Get(); ok {
		return v
	}
	q.Options = yesNo
	return w.ask(q) == "yes"
}

// branches returns the assumptions that lead to the worlds next to this one.
func (w *world) branches() [][]string {
	var next [][]string
	path := []string{}
	for i, a := range w.asked {
		if i >= len(w.assume) {
			for _, o := range a.question.Options {
				if o.ID != a.option {
					next = append(next, append(append([]string{}, path...), o.ID))
				}
			}
		}
		path = append(path, a.option)
	}
	return next
}

func (w *world) answerTo(id string) string {
	for _, a := range w.asked {
		if a.question.ID == id {
			return a.option
		}
	}
	return "-"
}

// outcome is how a start ends in one world.
type outcome struct {
	world    *world
	verdict  Verdict
	stage    Stage // where it stops
	attempts []Attempt
	chosen   int // index of the attempt that decides, -1 for none
	symptom  string
}

func (o *outcome) class() string { return string(o.verdict) + " " + string(o.reaches()) }

// reaches tells apart an unproven start from the other reasons to depend.
func (o *outcome) reaches() Stage {
	if o.verdict == Depends {
		return StageLoader
	}
	return ""
}

// evaluate walks the machine in every world, up to the bound.
func evaluate(m Machine) (outcomes []outcome, complete bool) {
	todo := [][]string{nil}
	for len(todo) > 0 {
		if len(outcomes) >= maxWorlds {
			return outcomes, false
		}
		w := &world{told: m.Answers, assume: todo[0]}
		todo = todo[1:]
		outcomes = append(outcomes, walkMachine(m, w))
		todo = append(todo, w.branches()...)
	}
	return outcomes, true
}

// deciding returns the smallest set of questions whose answers settle the
// verdict, the most telling first; up to three are looked for.
func deciding(outcomes []outcome) []Question {
	questions := allQuestions(outcomes)
	scores := map[string]int{}
	for _, q := range questions {
		scores[q.ID] = mixed(outcomes, []Question{q})
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
func withLeads(q Question, outcomes []outcome) Question {
	options := append([]Option{}, q.Options...)
	for i := range options {
		ends := map[string]bool{}
		for j := range outcomes {
			if outcomes[j].world.answerTo(q.ID) == options[i].ID {
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

// words says how a start ends.
func (o *outcome) words() string {
	switch o.verdict {
	case Stops:
		return "stops at the " + stageWords(o.stage)
	case StartsOriginal:
		return "starts the original"
	case Starts:
		return "starts the clone"
	}
	return "the clone reaches its loader"
}

func allQuestions(outcomes []outcome) []Question {
	var questions []Question
	seen := map[string]bool{}
	for _, o := range outcomes {
		for _, a := range o.world.asked {
			if !seen[a.question.ID] {
				seen[a.question.ID] = true
				questions = append(questions, a.question)
			}
		}
	}
	return questions
}

func pureSet(outcomes []outcome, from, chosen []Question, size int) []Question {
	if size == 0 {
		if mixed(outcomes, chosen) == 0 {
			return chosen
		}
		return nil
	}
	for i, q := range from {
		next := append(append([]Question{}, chosen...), q)
		if set := pureSet(outcomes, from[i+1:], next, size-1); set != nil {
			return set
		}
	}
	return nil
}

// mixed counts the worlds whose group, by the answers to a set of questions,
// still holds more than one verdict.
func mixed(outcomes []outcome, set []Question) int {
	groups := map[string]map[string]int{}
	for i := range outcomes {
		var key strings.Builder
		for _, q := range set {
			key.WriteString(outcomes[i].world.answerTo(q.ID) + "|")
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
