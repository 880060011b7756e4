package symptom

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

// Fit is how a cause stands to the evidence.
type Fit string

// The fits, the best first.
const (
	Computed Fit = "computed" // the simulation ends there, in some world
	Open     Fit = "open"     // the evidence leaves that stage unproven
	Against  Fit = "against"  // the evidence says that this stage passes
)

// Ranked is a cause with how it stands to the evidence.
type Ranked struct {
	Cause
	Message string `json:"message"` // the message it belongs to
	Fit     Fit    `json:"fit"`
	Because string `json:"because"` // what the evidence says of that stage
}

// Judgement holds what the screen said against what was computed.
type Judgement struct {
	Said     string   `json:"said"`
	Messages []Match  `json:"messages"` // what it can be, the best first
	Causes   []Ranked `json:"causes"`
	// Contradicts is set when no cause of the message agrees with the evidence.
	Contradicts bool   `json:"contradicts"`
	Verdict     string `json:"verdict"` // how message and computation stand to each other, in a sentence
}

// enough is the score from which on a message counts as recognised.
const enough = 0.6

// Judge ranks the causes of what a screen said by the evidence: how a start can
// end, how the pins of the clone stand, and the firmware's mode, "" when it is not
// known.
func Judge(said string, in firmware.Mode, endings []startup.Ending, pins []startup.Pin) Judgement {
	j := Judgement{Said: said, Messages: []Match{}, Causes: []Ranked{}}
	if strings.TrimSpace(said) == "" {
		return j
	}
	for _, m := range Find(said) {
		if len(j.Messages) < 3 && (len(j.Messages) == 0 || m.Score >= enough) {
			j.Messages = append(j.Messages, m)
		}
	}
	for _, m := range j.Messages {
		for _, c := range m.Causes {
			j.Causes = append(j.Causes, rank(m, c, in, endings, pins))
		}
	}
	slices.SortStableFunc(j.Causes, func(a, b Ranked) int { return a.Fit.rank() - b.Fit.rank() })
	j.settle(endings)
	return j
}

func (f Fit) rank() int { return slices.Index([]Fit{Computed, Open, Against}, f) }

// apart reports whether something of one mode cannot be seen in another.
func apart(of, in firmware.Mode) bool {
	return of != "" && in != "" && in != firmware.UEFICSM && of != in
}

func rank(m Match, c Cause, in firmware.Mode, endings []startup.Ending, pins []startup.Pin) Ranked {
	r := Ranked{Cause: c, Message: m.Shown, Fit: Against}
	if apart(m.Mode, in) || apart(c.Mode, in) {
		r.Because = "The firmware is in " + map[firmware.Mode]string{firmware.UEFI: "UEFI", firmware.Legacy: "legacy"}[in] + " mode."
		return r
	}
	for _, e := range endings {
		if c.Original && e.Verdict == startup.StartsOriginal || !c.Original && e.Verdict == startup.Stops &&
			e.Stage == c.Stage {
			r.Fit, r.Because = Computed, e.Text
			return r
		}
	}
	for _, p := range pins {
		if p.Stage != c.Stage {
			continue
		}
		r.Because = p.Text
		if p.State == course.Unproven && !c.Original {
			r.Fit = Open
		}
	}
	return r
}

// settle says how the message and the computation stand to each other.
func (j *Judgement) settle(endings []startup.Ending) {
	switch {
	case len(j.Messages) == 0:
		j.Verdict = "None of the known messages has these words."
	case len(j.Causes) == 0:
		j.Verdict = "What this message can mean is not known."
	case j.Causes[0].Fit == Computed:
		j.Verdict = "The computation agrees with what the screen said: " + machine.LowerFirst(j.Causes[0].Text)
	case j.Causes[0].Fit == Open:
		j.Verdict = "The evidence leaves open what the screen's message can mean: " + machine.LowerFirst(j.Causes[0].Text)
	default:
		j.Contradicts = true
		j.Verdict = fmt.Sprintf("The screen said something that the computation rules out: by the evidence the machine %s. The evidence is not of this machine as it stands, or the computation is wrong.", words(endings))
	}
}

func words(endings []startup.Ending) string {
	var ends []string
	for _, e := range endings {
		if w := e.Words(); !slices.Contains(ends, w) {
			ends = append(ends, w)
		}
	}
	return strings.Join(ends, ", or ")
}
