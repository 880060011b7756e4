package symptom

import (
	"latchkey/core/course"
	"latchkey/core/firmware"
)

// System is whose message it is.
type System string

// The systems; "" is any.
const (
	Windows System = "windows"
	Linux   System = "linux"
	Mac     System = "mac"
)

// Message is something that a screen shows when a start fails, or a sign of it.
type Message struct {
	ID     course.SymptomID `json:"id"`
	Shown  string           `json:"shown"`          // as it stands on the screen, or the sign in words
	Also   []string         `json:"also,omitempty"` // other wordings of the same
	From   string           `json:"from"`           // who says it
	Mode   firmware.Mode    `json:"mode,omitempty"` // the firmware mode it belongs to; absent for any
	System System           `json:"system,omitempty"`
	Causes []Cause          `json:"causes"` // the likeliest first
	Source string           `json:"source"`
}

// Cause is something a message can mean.
type Cause struct {
	Stage course.Stage  `json:"stage"`
	Text  string        `json:"text"`
	Look  string        `json:"look"`           // how to tell
	Mode  firmware.Mode `json:"mode,omitempty"` // the firmware mode it can happen in; absent for any
	// Original is set when the machine came up from another disk than the clone.
	Original bool `json:"original,omitempty"`
}

// Sources of the messages.
const (
	practice = "common practice, no source"
	memory   = "from memory of the program's own messages"
)
