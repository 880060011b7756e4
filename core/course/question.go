package course

import (
	"fmt"
	"strings"

	"latchkey/core/firmware"
	"latchkey/core/machine"
)

// Question is a fact that is not known and that a walk came to need.
type Question struct {
	ID    string `json:"id"`
	Stage Stage  `json:"stage"`
	Drive string `json:"drive,omitempty"`
	Text  string `json:"text"`
	How   string `json:"how"` // where to look, or the command that tells
	// Fact is what settles it when a person tells it; the zero value where only
	// evidence does.
	Fact    FactName `json:"fact,omitzero"`
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

// FirstEntry is the question whose boot entry is tried first, answered by a drive's name.
const FirstEntry = "first-entry"

var yesNo = []Option{{ID: "yes", Label: "Yes"}, {ID: "no", Label: "No"}}

// Subject is what a told fact is of.
type Subject string

// The subjects of told facts.
const (
	OfMode       Subject = "mode"
	OfArch       Subject = "arch"
	OfSecureBoot Subject = "secureBoot"
	// The mode of the storage controller, now and when the system last ran.
	OfStorageMode       Subject = "storageMode"
	OfStorageModeBefore Subject = "storageModeBefore"
	OfFirst             Subject = "first"     // the drive that is tried first
	OfBootOrder         Subject = "bootOrder" // the order of the boot entries, as changed
	OfChoice            Subject = "choice"    // of the firmware, by its key
	OfAttached          Subject = "attached"  // of a drive
	OfBus               Subject = "bus"       // of a drive
	OfEntry             Subject = "entry"     // whether a boot entry leads to a drive
	OfShown             Subject = "shown"     // whether the boot list shows a drive
	OfAnswer            Subject = "answer"    // to a question, by its ID
)

// subjects tells of each subject whether it needs a key.
var subjects = map[Subject]bool{OfMode: false, OfArch: false, OfSecureBoot: false, OfStorageMode: false,
	OfStorageModeBefore: false,
	OfFirst:             false, OfBootOrder: false, OfChoice: true, OfAttached: true, OfBus: true, OfEntry: true,
	OfShown: true, OfAnswer: true}

// FactName names a fact that a person can tell of a machine.
type FactName struct {
	Of  Subject
	Key string // of a choice, a drive or a question; "" where the subject is one
}

// String writes the name as interfaces hand it on: the subject, and the key behind a
// colon.
func (t FactName) String() string {
	if t.Key == "" {
		return string(t.Of)
	}
	return string(t.Of) + ":" + t.Key
}

// MarshalText implements encoding.TextMarshaler.
func (t FactName) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler. The error says what was expected.
func (t *FactName) UnmarshalText(text []byte) error {
	of, key, _ := strings.Cut(string(text), ":")
	keyed, known := subjects[Subject(of)]
	switch {
	case !known:
		return fmt.Errorf("%q is no fact that can be told", of)
	case keyed != (key != ""):
		return fmt.Errorf("%q: expected a key behind the colon where the fact is one of several", text)
	case Subject(of) == OfChoice && firmware.ChoiceOf(key) == nil:
		return fmt.Errorf("%q is no choice of a firmware", key)
	}
	t.Of, t.Key = Subject(of), key
	return nil
}

// Choice reports how the firmware made a choice, asking when it is unknown. Of says
// what it is asked of, "" where the question says it all.
func (k *Walk) Choice(c *firmware.Choice, stage Stage, d *machine.Drive, of string) bool {
	q := Question{ID: c.Key, Stage: stage, Text: c.Question, How: c.How, Fact: FactName{OfChoice, c.Key}}
	if d != nil {
		q.Drive = d.Name
	}
	if of != "" {
		q.Text = strings.TrimSuffix(c.Question, "?") + " (" + of + ")?"
	}
	return k.World.Yes(k.Machine.Firmware.Behaviour.Of(c), q)
}
