// Package repair finds the least risky way to a machine that starts from the
// clone: actions with what they need and what they change, a search over them
// that simulates after every step, and the commands for each toolbox.
package repair

import (
	"fmt"

	"latchkey/core/command"
	"latchkey/core/course"
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
	OldDrive        Toolbox = "old-drive"        // the system of the original, put back beside the clone
)

// Toolboxes lists all of them.
var Toolboxes = []Toolbox{Firmware, WindowsRecovery, Linux, MacRecovery, OldDrive}

// Command is a line to type, or a thing to do, with what to look for.
type Command struct {
	Text string `json:"text"`
	// Typed is the same for typing by hand, where the text is made for a script.
	Typed  string       `json:"typed,omitempty"`
	ByHand bool         `json:"byHand,omitempty"` // a thing to do, in words, and no line to type
	Good   string       `json:"good"`             // what a good answer looks like
	Bad    string       `json:"bad"`              // what to do on another one
	node   command.Node // that Text was rendered of, for the POSIX shell
	unfit  bool         // told instead of a line that cannot carry a name
}

// Shell is what a form's lines are written for.
type Shell string

// The shells.
const (
	POSIX Shell = "posix" // sh of a live Linux or a Mac's recovery
	Batch Shell = "batch" // Windows' own, as lines of a batch file
)

var shells = map[Toolbox]Shell{Linux: POSIX, MacRecovery: POSIX, WindowsRecovery: Batch}

// Form is how a step is done with one toolbox.
type Form struct {
	Toolbox  Toolbox   `json:"toolbox"`
	Commands []Command `json:"commands"`
	Shell    Shell     `json:"shell,omitempty"` // what the lines are of; absent when there is none to type
	// PutBack are the commands that put the saved sectors back.
	PutBack []Command `json:"putBack,omitempty"`
}

// Sectors is a run of sectors of a disk, in its logical sectors.
type Sectors struct {
	First uint64 `json:"first"`
	Count uint64 `json:"count"`
}

// PlanStep is a step of a plan.
type PlanStep struct {
	Action string `json:"action"`
	Key    string `json:"key"` // the action with what it is done to: names the step in a session
	Title  string `json:"title"`
	Why    string `json:"why"` // what it puts right
	Form
	Also    []Form    `json:"also"`           // the same step by other toolboxes
	Disk    string    `json:"disk,omitempty"` // the drive it touches; absent when it touches none
	Risk    Risk      `json:"risk"`
	Minutes int       `json:"minutes"`
	Table   *Table    `json:"table,omitempty"` // the partition table it writes; absent where it writes none anew
	Saves   []Sectors `json:"saves"`           // the sectors it overwrites: they are saved first
	Save    string    `json:"save"`            // what must be saved first, in words
	Undo    string    `json:"undo"`
	// Passphrase is what the commands open, and ask the passphrase of; absent for nothing.
	Passphrase string `json:"passphrase,omitempty"`
	// After is how the machine stands after the step.
	After State `json:"after"`
}

// State is how a machine stands at a step.
type State struct {
	Verdict  startup.Verdict `json:"verdict"`
	Stage    course.Stage    `json:"stage,omitempty"`
	Headline string          `json:"headline"`
	Pins     []startup.Pin   `json:"pins"` // of the clone
}

// Plan is a way to a machine that starts from the clone.
type Plan struct {
	Verdict      startup.Verdict `json:"verdict"`
	Steps        []PlanStep      `json:"steps"`
	Reason       string          `json:"reason"` // why it is this plan, or why there is none
	Alternatives []Plan          `json:"alternatives"`
	// Afterwards is what is worth doing once the clone starts.
	Afterwards []PlanStep `json:"afterwards"`
	// Ask is the fact that must be known first; absent when there is a plan.
	Ask    *course.Question `json:"ask,omitempty"`
	Before State            `json:"before"`
	States int              `json:"states"` // how many machines were simulated in the search
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
	return fmt.Sprintf("%s, about %d minutes, %s.", steps, minutes, p.risk().Words())
}

// Words says what a risk means.
func (r Risk) Words() string {
	return map[Risk]string{RiskNone: "nothing on a disk changes", RiskLow: "only what starts the system changes", RiskReal: "a risk to the data: save it first"}[r]
}

// Risks lists them, the least first.
var Risks = []Risk{RiskNone, RiskLow, RiskReal}

// weight orders the risks: one real risk outweighs any number of low ones.
var weight = map[Risk]int{RiskNone: 0, RiskLow: 1, RiskReal: 100}
