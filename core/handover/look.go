package handover

import (
	"slices"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// State is what is known of a thing to look at.
type State string

// The states.
const (
	Open  State = "open" // not looked at, or the answer does not tell
	Right State = "right"
	Wrong State = "wrong"
	Aside State = "aside" // wrong, and a person leaves it so
)

// Look is a thing to look at in the running system. It is there because of a fact of the
// case.
type Look struct {
	Key   string
	Text  string // what is looked at, or what was found of it
	Wants string // what is wanted of it, as a part of a sentence
	Why   string
	State State
	// Ask prints what the answer is judged by; "" where a person looks.
	Ask    string
	Shell  string // where it is typed
	Remedy string // what puts it right, "" for none
	ByHand bool   // a person may say that it is right
	Hide   int    // index of the clone's partition that a letter is to be taken off; -1 for none
}

// Told is what the running system told of itself in the answers of its commands; what is
// nil or empty is not told.
type Told struct {
	Disks      []machine.Described
	Recovery   *bool // the recovery environment is on
	Protected  *bool // every encrypted volume is protected
	Licensed   *bool
	FastStart  *bool
	Mounts     *bool // the table of mounts was checked, and can be mounted
	Services   *bool // all services run
	Encryption *bool // FileVault is on
}

// Situation is what the looks are computed from.
type Situation struct {
	Machine machine.Machine
	Told    Told
	// Beside: both drives will hang in the machine.
	Beside bool
	// FastStart: it was switched off for the copy.
	FastStart bool
	// Seen are what persons said that they looked at, by the look's key.
	Seen map[string]bool
}

const (
	powershell = "PowerShell, as an administrator"
	terminal   = "a terminal"
	asRoot     = "a terminal, as root"
)

// told is a look that one fact of the running system decides.
func (s *Situation) told(key string, is *bool, text, wants, why, ask, shell, remedy string) Look {
	l := Look{Key: key, Text: text, Wants: wants, Why: why, State: Open, Ask: ask, Shell: shell, ByHand: true, Hide: -1}
	if is == nil {
		return l
	}
	l.State = Right
	if !*is {
		l.State, l.Remedy = Wrong, remedy
	}
	return l
}

// onClone finds the disk of an answer that is the clone: the only one whose partitions
// begin where the clone's do. twice is set where more than one does.
func (s *Situation) onClone(c *machine.Contents) (found *machine.Described, twice bool) {
	if c == nil {
		return nil, false
	}
	for i := range s.Told.Disks {
		d := &s.Told.Disks[i]
		if size, known := c.Size(); known && d.Size > 0 && !d.Rounded && !c.Rounded && d.Size != size {
			continue
		}
		fits := 0
		for _, p := range d.Partitions {
			if indexOf(c, p) >= 0 {
				fits++
			}
		}
		if fits == 0 || fits*2 < len(d.Partitions) {
			continue
		}
		twice = found != nil
		found = d
	}
	return found, twice
}

// indexOf is the clone's partition that an answer tells of: the one that begins at the same
// byte, and where no place is told the one of the same GUID; -1 for none.
func indexOf(c *machine.Contents, told machine.DescribedPartition) int {
	return slices.IndexFunc(c.Layout.Partitions, func(p disk.Partition) bool {
		if told.Start > 0 && !told.Rounded {
			return disk.Span(p.Start, c.Layout.SectorSize) == told.Start
		}
		return !told.GUID.IsZero() && p.GUID == told.GUID
	})
}

const bothAnswer = "Two disks in the answer fit the clone: start with the clone alone, and paste it again."
