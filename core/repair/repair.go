// Package repair finds the least risky way to a machine that starts from the
// clone: actions with what they need and what they change, a search over them
// that simulates after every step, and the commands for each toolbox.
package repair

import (
	"fmt"
	"slices"

	"latchkey/core/startup"
)

// Risk is what an action can do to the data on the disk it touches.
type Risk string

// The risks.
const (
	RiskNone Risk = "none" // nothing on a disk changes
	RiskLow  Risk = "low"  // sectors or files of the start change; the data does not
	RiskReal Risk = "real" // a slip or a power cut can cost data
)

// Toolbox is what a step is done with.
type Toolbox string

// The toolboxes.
const (
	Firmware        Toolbox = "firmware"         // the firmware's own screens, and the case's inside
	WindowsRecovery Toolbox = "windows-recovery" // the command prompt of Windows' recovery environment
	Linux           Toolbox = "linux"            // a live Linux from a stick
	MacRecovery     Toolbox = "mac-recovery"     // a Mac's recovery system
)

// Toolboxes lists all of them.
var Toolboxes = []Toolbox{Firmware, WindowsRecovery, Linux, MacRecovery}

// Command is a line to type, or a thing to do, with what to look for.
type Command struct {
	Text string `json:"text"`
	Good string `json:"good,omitempty" doc:"What a good answer looks like"`
	Bad  string `json:"bad,omitempty" doc:"What to do on another one"`
}

// PlanStep is a step of a plan.
type PlanStep struct {
	Action   string    `json:"action"`
	Key      string    `json:"key" doc:"The action with what it is done to: names the step in a session"`
	Title    string    `json:"title"`
	Why      string    `json:"why" doc:"What it puts right"`
	Toolbox  Toolbox   `json:"toolbox" enum:"firmware,windows-recovery,linux,mac-recovery"`
	Disk     string    `json:"disk,omitempty" doc:"The drive it touches; absent when it touches none"`
	Risk     Risk      `json:"risk" enum:"none,low,real"`
	Minutes  int       `json:"minutes"`
	Commands []Command `json:"commands"`
	Undo     string    `json:"undo"`
	// After is how the machine stands after the step.
	After State `json:"after"`
}

// State is how a machine stands at a step.
type State struct {
	Verdict  startup.Verdict `json:"verdict" enum:"starts,starts-original,stops,depends"`
	Stage    startup.Stage   `json:"stage,omitempty"`
	Headline string          `json:"headline"`
	Pins     []startup.Pin   `json:"pins" doc:"Of the clone"`
}

// Plan is a way to a machine that starts from the clone.
type Plan struct {
	Verdict      startup.Verdict `json:"verdict" enum:"starts,starts-original,stops,depends"`
	Steps        []PlanStep      `json:"steps"`
	Reason       string          `json:"reason" doc:"Why it is this plan, or why there is none"`
	Alternatives []Plan          `json:"alternatives"`
	// Afterwards is what is worth doing once the clone starts.
	Afterwards []PlanStep `json:"afterwards"`
	// Ask is the fact that must be known first; absent when there is a plan.
	Ask    *startup.Question `json:"ask,omitempty"`
	Before State             `json:"before"`
	States int               `json:"states" doc:"How many machines were simulated in the search"`
}

// risk is the gravest risk of a plan's steps.
func (p *Plan) risk() Risk {
	worst := RiskNone
	for _, s := range p.Steps {
		if weight[s.Risk] > weight[worst] {
			worst = s.Risk
		}
	}
	return worst
}

// price says what a plan costs, in plain words.
func (p *Plan) price() string {
	minutes := 0
	for _, s := range p.Steps {
		minutes += s.Minutes
	}
	steps := "1 step"
	if len(p.Steps) != 1 {
		steps = fmt.Sprintf("%d steps", len(p.Steps))
	}
	return fmt.Sprintf("%s, about %d minutes, %s.", steps, minutes, riskWords[p.risk()])
}

var riskWords = map[Risk]string{RiskNone: "nothing on a disk changes", RiskLow: "only what starts the system changes", RiskReal: "with a risk to the data: save it first"}

// weight orders the risks: one real risk outweighs any number of low ones.
var weight = map[Risk]int{RiskNone: 0, RiskLow: 1, RiskReal: 100}

// move is an action as it can be done on a machine.
type move struct {
	PlanStep
	tools  map[Toolbox]func() []Command
	result startup.Machine
	key    string // becomes the step's Key
}

// choose picks the first allowed toolbox; ok is false when none is.
func (m *move) choose(allowed []Toolbox) bool {
	for _, t := range Toolboxes {
		if render, can := m.tools[t]; can && slices.Contains(allowed, t) {
			m.Toolbox, m.Commands, m.Key = t, render(), m.key
			return true
		}
	}
	return false
}
