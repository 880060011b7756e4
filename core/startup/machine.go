// Package startup computes what a machine will do at power-on: which disk it
// starts from, by which path, or at which of eight stages it stops.
package startup

import (
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
)

// RulesVersion names the state of the rules, for verdicts that are kept.
const RulesVersion = "2026-11-25"

// Stage is one of the eight stages of a start.
type Stage string

// The stages, in the order in which a start passes them.
const (
	StageDrive         Stage = "drive"
	StageMode          Stage = "mode"
	StageOrder         Stage = "order"
	StageTable         Stage = "table"
	StageBootPartition Stage = "boot-partition"
	StageLoader        Stage = "loader"
	StageConfiguration Stage = "configuration"
	StageSystem        Stage = "system"
)

// Stages lists all stages in order.
var Stages = []Stage{StageDrive, StageMode, StageOrder, StageTable, StageBootPartition, StageLoader, StageConfiguration, StageSystem}

// Title returns the stage's name as the screens show it.
func (s Stage) Title() string {
	return map[Stage]string{
		StageDrive: "Drive", StageMode: "Mode", StageOrder: "Order", StageTable: "Table", StageBootPartition: "Boot partition",
		StageLoader: "Loader", StageConfiguration: "Configuration", StageSystem: "System",
	}[s]
}

// Before reports whether a start passes the stage before another one.
func (s Stage) Before(t Stage) bool { return s.index() < t.index() }

func (s Stage) index() int {
	for i, t := range Stages {
		if s == t {
			return i
		}
	}
	return len(Stages)
}

// Role is what a drive is in the case.
type Role string

// The roles of drives.
const (
	RoleOriginal Role = "original"
	RoleClone    Role = "clone"
	RoleOther    Role = "other"
)

// Machine is everything that is known about a start. Absent facts are unknown.
type Machine struct {
	Firmware firmware.Settings
	Drives   []Drive
	// DeviceOrder names the drives in the legacy boot order, and under UEFI in
	// the order in which the firmware goes through its devices; nil is unknown.
	DeviceOrder []string
	// Answers are typed answers to questions, by their ID.
	Answers map[string]string
	// Until is how far the start is judged.
	Until Until
}

// Until is how far a start is judged.
type Until string

// Where the judgement can end before the whole start.
const (
	UntilSystem        Until = ""              // the whole start
	UntilLoader        Until = "loader"        // the loader was started
	UntilConfiguration Until = "configuration" // the system to start is known
)

// Drive is a drive of the machine.
type Drive struct {
	Name     string
	Role     Role
	Bus      fact.Of[string] // "sata", "nvme", "usb", "ide", "virtio"
	Port     fact.Of[int]    // of its SATA or USB controller, from 0
	Attached fact.Of[bool]
	// HasEntry tells whether a boot entry leads to the drive's own loader; it
	// counts only while the boot entries themselves are not known.
	HasEntry fact.Of[bool]
	// Shown: the firmware's boot list shows the drive.
	Shown    fact.Of[bool]
	Contents *Contents // nil when nothing of the disk is in evidence
}

// called names a drive in a sentence; the original always carries the word.
func (d *Drive) called() string {
	switch d.Role {
	case RoleOriginal:
		return "the original"
	case RoleClone:
		return "the clone"
	}
	return "drive " + d.Name
}

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

// Fact is a fact as a finding cites it.
type Fact struct {
	Label  string      `json:"label"`
	Value  string      `json:"value"`
	Source fact.Source `json:"source"`
}

// Step is how one attempt fared at one stage.
type Step struct {
	Stage Stage  `json:"stage"`
	State State  `json:"state"`
	Text  string `json:"text"`
	How   string `json:"how,omitempty" doc:"What would prove it, where it is unproven"`
	Facts []Fact `json:"facts,omitempty"`
	Risks []Risk `json:"risks,omitempty" doc:"What does not block here and is worth knowing"`
}

// Risk is something wrong that does not stop the start.
type Risk struct {
	Text  string `json:"text"`
	Facts []Fact `json:"facts,omitempty"`
}

// Attempt is one entry or device that the firmware tries.
type Attempt struct {
	Drive     string `json:"drive,omitempty"`
	Role      Role   `json:"role,omitempty"`
	Entry     string `json:"entry,omitempty" doc:"Boot entry number, four hexadecimal digits"`
	Name      string `json:"name,omitempty" doc:"The boot entry's description"`
	Partition int    `json:"partition,omitempty"`
	Loader    string `json:"loader,omitempty"`
	Steps     []Step `json:"steps"`
	HandsOver bool   `json:"handsOver" doc:"The loader was started"`
	Final     bool   `json:"final" doc:"Nothing is tried after this attempt"`
	Symptom   string `json:"symptom,omitempty"`
	// Also names the other drives that its entry could have meant.
	Also []string `json:"also,omitempty" doc:"Other drives that answer to the same entry"`
}

// last returns the stage the attempt ended at.
func (a *Attempt) last() Stage {
	if len(a.Steps) == 0 {
		return StageDrive
	}
	return a.Steps[len(a.Steps)-1].Stage
}

func (a *Attempt) pass(s Stage, text string, facts ...Fact) {
	a.Steps = append(a.Steps, Step{Stage: s, State: Passes, Text: text, Facts: facts})
}

// block ends the attempt at a stage; it returns false for the caller to pass on.
func (a *Attempt) block(s Stage, text string, facts ...Fact) bool {
	a.Steps = append(a.Steps, Step{Stage: s, State: Blocks, Text: text, Facts: facts})
	return false
}

// risk adds to the latest step something that does not stop the start.
func (a *Attempt) risk(text string, facts ...Fact) {
	if n := len(a.Steps); n > 0 {
		a.Steps[n-1].Risks = append(a.Steps[n-1].Risks, Risk{text, facts})
	}
}

func problemFact(p disk.Problem, drive string) Fact {
	f := Fact{Label: p.Source.Structure + " " + p.Source.Field, Value: p.Got, Source: p.Source}
	if p.Want != "" {
		f.Value = p.Got + " (expected " + p.Want + ")"
	}
	f.Source.Drive = drive
	return f
}

func (d *Drive) cite(label, value string, s fact.Source) Fact {
	s.Drive = d.Name
	return Fact{Label: label, Value: value, Source: s}
}
