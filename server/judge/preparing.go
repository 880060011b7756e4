package judge

import (
	"time"

	"latchkey/core/disk"
	"latchkey/core/fit"
	"latchkey/core/startup"
	"latchkey/server/store"
)

// Preparing is what is computed before a copy.
type Preparing struct {
	Plan       PlanOfCopy `json:"plan"`
	Original   *Size      `json:"original,omitempty" doc:"The original's capacity; absent when it is not known"`
	Target     *Size      `json:"target,omitempty" doc:"The new drive's capacity; absent when it is not known"`
	Rounded    bool       `json:"rounded" doc:"The new drive's capacity was read off a screen"`
	SectorSize int        `json:"sectorSize" doc:"Of the new drive, in bytes: told, in evidence, or the usual one"`
	InEvidence bool       `json:"inEvidence" doc:"The new drive's capacity is in evidence, and need not be typed"`
	// EntriesKnown: the firmware's boot entries are in evidence, and need not be planned.
	EntriesKnown bool            `json:"entriesKnown"`
	Answer       FitAnswer       `json:"answer"`
	Parts        []PartNeed      `json:"parts"`
	Layouts      []CopyLayout    `json:"layouts" doc:"One for each strategy"`
	Ways         []CopyWay       `json:"ways"`
	Recommends   string          `json:"recommends" doc:"The recommendation in one sentence"`
	Time         CopyTime        `json:"time"`
	Ready        []ReadyLine     `json:"ready"`
	Settings     []string        `json:"settings" doc:"What to see to in the firmware before the first start, in order"`
	Countdown    Countdown       `json:"countdown"`
	Compared     bool            `json:"compared" doc:"The copy is in evidence and was held against the prediction"`
	Otherwise    []fit.Otherwise `json:"otherwise" doc:"What came out otherwise than predicted"`
	Cards        []DriveCard     `json:"cards"`
	Links        []Choice        `json:"links"`
	Media        []Choice        `json:"media"`
}

// PlanOfCopy is what was chosen for the copy.
type PlanOfCopy struct {
	Capacity   string           `json:"capacity,omitempty" maxLength:"40" doc:"Of the new drive as it is sold or shown, such as 240 GB; absent where evidence tells it"`
	SectorSize int              `json:"sectorSize,omitempty" enum:"0,512,4096" doc:"Of the new drive, in bytes; 0 is not told"`
	FromLink   string           `json:"fromLink,omitempty" maxLength:"16" doc:"How the original hangs while it is copied: a key of links"`
	FromMedium string           `json:"fromMedium,omitempty" maxLength:"16" doc:"What the original is: a key of media"`
	ToLink     string           `json:"toLink,omitempty" maxLength:"16"`
	ToMedium   string           `json:"toMedium,omitempty" maxLength:"16"`
	Beside     bool             `json:"beside,omitempty" doc:"The original stays plugged in at the first start"`
	Entry      string           `json:"entry,omitempty" enum:"made,none" doc:"Whether the way of copying makes a boot entry for the clone; absent is not known"`
	Strategy   string           `json:"strategy,omitempty" enum:"keep,proportion,main,hand"`
	Sizes      map[string]int64 `json:"sizes,omitempty" doc:"By hand: bytes by partition number"`
	Way        string           `json:"way,omitempty" maxLength:"16" doc:"The way that is chosen: a key of ways"`
}

// FitAnswer is whether the original fits onto the new drive.
type FitAnswer struct {
	Fits  string `json:"fits" enum:"as-it-is,smaller,no,unknown"`
	Says  string `json:"says"`
	Short *Size  `json:"short,omitempty" doc:"How much must go"`
	Trap  string `json:"trap,omitempty" doc:"A drive of the same nominal size that is a few sectors smaller"`
	Spare []int  `json:"spare" doc:"Numbers of the partitions that could stay behind without harm to the start"`
}

// PartNeed is a partition of the original with what it needs.
type PartNeed struct {
	Number int       `json:"number"`
	Name   string    `json:"name"`
	Role   disk.Role `json:"role" enum:"boot,system,reserved,recovery,data,other,unknown"`
	Kind   string    `json:"kind"`
	Start  int64     `json:"start" doc:"In bytes"`
	Size   Size      `json:"size"`
	Used   *Size     `json:"used,omitempty"`
	Least  *Size     `json:"least,omitempty" doc:"To what it can be brought; absent when it is not known"`
	Fixed  bool      `json:"fixed" doc:"It keeps its size"`
	Why    string    `json:"why,omitempty"`
}

// CopyLayout is how the partitions would lie on the new drive.
type CopyLayout struct {
	Strategy string       `json:"strategy" enum:"keep,proportion,main,hand"`
	Fits     string       `json:"fits" enum:"yes,no,unknown"`
	Says     string       `json:"says,omitempty"`
	Free     Size         `json:"free"`
	Moved    []int        `json:"moved" doc:"Numbers of partitions that lie elsewhere than on the original"`
	Placed   []PlacedPart `json:"placed"`
}

// PlacedPart is a partition on the new drive.
type PlacedPart struct {
	Number int   `json:"number"`
	Start  int64 `json:"start" doc:"In bytes"`
	Size   Size  `json:"size"`
}

// CopyWay is a way of copying with what the machine would do with the copy.
type CopyWay struct {
	Key     string          `json:"key"`
	Name    string          `json:"name"`
	Does    string          `json:"does"`
	Verdict startup.Verdict `json:"verdict,omitempty" enum:"starts,starts-original,stops,depends" doc:"As far as the loader; absent where nothing was computed"`
	Whole   startup.Verdict `json:"whole,omitempty" enum:"starts,starts-original,stops,depends" doc:"Of the whole start"`
	Says    string          `json:"says"`
	After   []string        `json:"after" doc:"The steps after which it starts, where it does not by itself"`
	Pins    []startup.Pin   `json:"pins"`
	Time    CopyTime        `json:"time"`
	Best    bool            `json:"best"`
}

// CopyTime is how long a copy takes.
type CopyTime struct {
	Words string `json:"words"`
	From  int    `json:"from,omitempty" doc:"Seconds"`
	To    int    `json:"to,omitempty" doc:"Seconds"`
	Bytes *Size  `json:"bytes,omitempty"`
	Slow  string `json:"slow,omitempty" doc:"The slowest part of the path"`
	Rates string `json:"rates,omitempty" doc:"What it carries, and where the figures come from"`
}

// ReadyLine is something to have ready.
type ReadyLine struct {
	Key      string     `json:"key"`
	Text     string     `json:"text"`
	Why      string     `json:"why"`
	How      string     `json:"how,omitempty"`
	Command  string     `json:"command,omitempty"`
	Evidence bool       `json:"evidence" doc:"The evidence itself shows that it is done"`
	First    bool       `json:"first" doc:"Without it the copy fails or harms something"`
	Who      string     `json:"who,omitempty" doc:"Who saw to it"`
	At       *time.Time `json:"at,omitempty"`
}

// Countdown is when the copy ends by what was read off the copying program.
type Countdown struct {
	Says     string       `json:"says"`
	Known    bool         `json:"known"`
	Finished bool         `json:"finished"`
	Stalled  *time.Time   `json:"stalled,omitempty" doc:"Since when nothing has moved"`
	First    *time.Time   `json:"first,omitempty" doc:"The earliest end"`
	Likely   *time.Time   `json:"likely,omitempty"`
	Last     *time.Time   `json:"last,omitempty" doc:"The latest end"`
	Seen     []store.Seen `json:"seen"`
}

// DriveCard is everything that tells a drive from the other one.
type DriveCard struct {
	Role       string `json:"role" enum:"original,clone"`
	Model      string `json:"model,omitempty"`
	Serial     string `json:"serial,omitempty"`
	Bus        string `json:"bus,omitempty"`
	Size       *Size  `json:"size,omitempty"`
	Style      string `json:"style,omitempty"`
	ID         string `json:"id,omitempty"`
	Partitions string `json:"partitions,omitempty"`
}

// Choice is a key with its name.
type Choice struct {
	Key  string `json:"key"`
	Name string `json:"name"`
}
