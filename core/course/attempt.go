package course

import (
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// State is how a stage stands.
type State string

// The states of a stage.
const (
	Passes   State = "passes"
	Blocks   State = "blocks"
	Unproven State = "unproven"
	Behind   State = "behind"     // not reached: an earlier stage blocks
	Wrong    State = "wrong-disk" // another disk is started before this one
)

// Rule names what came upon something, so that findings are told apart by what they
// are and not by how they are worded. Problems of a disk or a volume go by their codes.
type Rule string

// Step is how one attempt fared at one stage.
type Step struct {
	Rule  Rule           `json:"rule,omitempty"` // absent where the stage passes
	Stage Stage          `json:"stage"`
	State State          `json:"state"`
	Text  string         `json:"text"`
	How   string         `json:"how,omitempty"` // what would prove it, where it is unproven
	Facts []machine.Fact `json:"facts,omitempty"`
	brief string         // what a headline takes of Text; "" is all of it
	Risks []Risk         `json:"risks,omitempty"` // what does not block here and is worth knowing
}

// Risk is something wrong that does not stop the start.
type Risk struct {
	Rule  Rule           `json:"rule"`
	Text  string         `json:"text"`
	Facts []machine.Fact `json:"facts,omitempty"`
}

// Brief is what a headline says of the step.
func (s Step) Brief() string {
	if s.brief != "" {
		return s.brief
	}
	return s.Text
}

// Attempt is one entry or device that the firmware tries.
type Attempt struct {
	Drive     string       `json:"drive,omitempty"`
	Role      machine.Role `json:"role,omitempty"`
	Entry     string       `json:"entry,omitempty"` // boot entry number, four hexadecimal digits
	Name      string       `json:"name,omitempty"`  // the boot entry's description
	Partition int          `json:"partition,omitempty"`
	Loader    string       `json:"loader,omitempty"`
	Steps     []Step       `json:"steps"`
	HandsOver bool         `json:"handsOver"` // the loader was started
	Final     bool         `json:"final"`     // nothing is tried after this attempt
	Symptom   string       `json:"symptom,omitempty"`
	SymptomID SymptomID    `json:"symptomID,omitempty"`
	// Also names the other drives that its entry could have meant.
	Also []string          `json:"also,omitempty"`
	shim *loader.Signature // whom the shim that was started trusts by itself; nil for none
	// strict: the boot loader behind the shim is one that starts no unsigned kernel.
	strict bool
}

// Last returns the stage the attempt ended at.
func (a *Attempt) Last() Stage {
	if len(a.Steps) == 0 {
		return StageDrive
	}
	return a.Steps[len(a.Steps)-1].Stage
}

// Pass notes that a stage is passed.
func (a *Attempt) Pass(s Stage, text string, facts ...machine.Fact) {
	a.Steps = append(a.Steps, Step{Stage: s, State: Passes, Text: text, Facts: facts})
}

// Block ends the attempt at a stage; it returns false for the caller to pass on.
func (a *Attempt) Block(r Rule, s Stage, text string, facts ...machine.Fact) bool {
	a.Steps = append(a.Steps, Step{Rule: r, Stage: s, State: Blocks, Text: text, Facts: facts})
	return false
}

// BlockFor is Block for what is said in brief and explained: a headline takes the
// brief alone.
func (a *Attempt) BlockFor(r Rule, s Stage, brief, why string, facts ...machine.Fact) bool {
	if why == "" {
		return a.Block(r, s, brief+".", facts...)
	}
	a.Block(r, s, brief+": "+why, facts...)
	a.Steps[len(a.Steps)-1].brief = brief + "."
	return false
}

// Shows notes what the person at the machine sees.
func (a *Attempt) Shows(s Symptom) { a.Symptom, a.SymptomID = s.Text, s.ID }

// Shown is what the person at the machine sees, if the attempt ends with a sign of its
// own.
func (a *Attempt) Shown() Symptom { return Symptom{a.SymptomID, a.Symptom} }

// Risk adds to the latest step something that does not stop the start.
func (a *Attempt) Risk(r Rule, text string, facts ...machine.Fact) {
	if n := len(a.Steps); n > 0 {
		a.Steps[n-1].Risks = append(a.Steps[n-1].Risks, Risk{r, text, facts})
	}
}

// What follows the start of a loader: stages 7 and 8.

// Result is how far the start got behind its loader.
type Result struct {
	State State        // Passes, Blocks or Unproven
	Home  machine.Spot // where the system lies, when it was found
	// Chain is another loader that the loader starts, a path on the volume at Home, or
	// BootSector; "" where it starts a system.
	Chain string
}

// BootSector is what a loader goes on to where it starts a partition's boot sector.
const BootSector = "+1"

// Unproven ends the judgement for want of evidence; how says what would help.
func (a *Attempt) Unproven(r Rule, s Stage, text, how string, facts ...machine.Fact) Result {
	a.Steps = append(a.Steps, Step{Rule: r, Stage: s, State: Unproven, Text: text, How: how, Facts: facts})
	return Result{State: Unproven}
}

// Stop ends the start at a stage behind the loader, with what the screen shows.
func (a *Attempt) Stop(r Rule, s Stage, shows Symptom, text string, facts ...machine.Fact) Result {
	a.Shows(shows)
	a.Block(r, s, text, facts...)
	return Result{State: Blocks}
}

// StopFor is Stop for what is said in brief and explained, like BlockFor.
func (a *Attempt) StopFor(r Rule, s Stage, shows Symptom, brief, why string, facts ...machine.Fact) Result {
	a.Shows(shows)
	a.BlockFor(r, s, brief, why, facts...)
	return Result{State: Blocks}
}

// Advice for what the evidence lacks.
const (
	HowCapture = "Take a capture of the drive: it holds the boot configuration."
	HowCheck   = "In a live Linux, with the partition not mounted: e2fsck -fn, xfs_repair -n or btrfs check --readonly tells what is wrong, and writes nothing."
	HowTry     = "Start the machine once with the clone alone, and look at which disk it came up from."
)

// Takes notes that the loader goes on to a place, and whether that is another
// disk than it was started from.
func (a *Attempt) Takes(d *machine.Drive, to machine.Spot, text string, facts ...machine.Fact) {
	state, rule := Passes, Rule("")
	if to.Drive != d && to.Drive.Role != machine.RoleClone {
		state, rule = Wrong, "leads-to-the-other"
		text += " That is " + to.Drive.Called() + "."
	}
	a.Steps = append(a.Steps, Step{Rule: rule, Stage: StageConfiguration, State: state, Text: text, Facts: facts})
}
