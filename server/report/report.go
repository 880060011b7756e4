// Package report puts a case together as one document: for the customer on its first page,
// with the technical record behind it; as PDF, as Markdown and as JSON.
package report

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"latchkey/core/compare"
	"latchkey/core/course"
	"latchkey/core/handover"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/server/judge"
	"latchkey/server/store"
)

// Version is that of the JSON form: docs/formats.md.
const Version = 1

// Report is everything that the document says.
type Report struct {
	Version int             `json:"version"`
	Made    time.Time       `json:"made"`
	By      string          `json:"by"`
	Case    Case            `json:"case"`
	Result  Result          `json:"result"`
	Check   *judge.Check    `json:"check"`
	Steps   []Step          `json:"steps"`
	After   *judge.HandOver `json:"handOver"`
	Pieces  []Piece         `json:"evidence"`
	Log     []Line          `json:"history"`
}

// Case is the case as such.
type Case struct {
	ID      uint64     `json:"id"`
	Title   string     `json:"title"`
	Machine string     `json:"machine"`
	Made    time.Time  `json:"made"`
	Closed  *time.Time `json:"closed,omitempty"`
}

// Result is what the customer reads.
type Result struct {
	Headline string   `json:"headline"`
	Lines    []string `json:"lines"`
	Done     []string `json:"done"` // what was done, in order
	Keep     []string `json:"keep"` // what to keep in mind
	Old      string   `json:"old"`  // the old drive
}

// Step is what a person did with a step of a repair.
type Step struct {
	Title string    `json:"title"`
	State string    `json:"state"`
	Who   string    `json:"who"`
	At    time.Time `json:"at"`
	Note  string    `json:"note,omitempty"`
}

// Piece is a piece of evidence.
type Piece struct {
	Of   string    `json:"of"`
	What string    `json:"what"`
	At   time.Time `json:"at"`
	Out  bool      `json:"withdrawn"`
}

// Line is a line of the history.
type Line struct {
	At     time.Time `json:"at"`
	Who    string    `json:"who"`
	What   string    `json:"what"`
	Detail string    `json:"detail,omitempty"`
}

// Parts are what a report is put together from.
type Parts struct {
	Case     *store.Case
	Check    *judge.Check
	HandOver *judge.HandOver
	Marks    []store.Mark
	History  []store.Entry // the newest first
	Evidence []store.Evidence
	Listings []store.Listing
	By       string
	Now      time.Time
}

// New puts a report together.
func New(p Parts) *Report {
	c := p.Case
	r := &Report{Version: Version, Made: p.Now, By: p.By, Check: p.Check, After: p.HandOver,
		Case:  Case{c.ID, c.Title, c.Machine, c.CreatedAt, c.ClosedAt},
		Steps: []Step{}, Pieces: []Piece{}, Log: []Line{}}
	for _, m := range p.Marks {
		r.Steps = append(r.Steps, Step{m.Title, m.State, m.Who, m.At, m.Note})
	}
	for _, e := range p.Evidence {
		r.Pieces = append(r.Pieces, Piece{e.Role, "sectors, " + e.Filename, e.ReceivedAt, e.WithdrawnAt != nil})
	}
	for _, l := range p.Listings {
		r.Pieces = append(r.Pieces, Piece{strings.Join(rolesOf(l.Disks), ", "), "listing, " + l.Format, l.ReceivedAt,
			l.WithdrawnAt != nil})
	}
	slices.SortStableFunc(r.Pieces, func(a, b Piece) int { return a.At.Compare(b.At) })
	for _, e := range slices.Backward(p.History) {
		r.Log = append(r.Log, Line{e.At, e.Who, e.What, e.Detail})
	}
	r.Result = r.result(p)
	return r
}

func rolesOf(disks map[string]string) []string {
	var out []string
	for _, role := range disks {
		if role != "" && !slices.Contains(out, role) {
			out = append(out, role)
		}
	}
	slices.Sort(out)
	return out
}

func (r *Report) result(p Parts) Result {
	out := Result{Lines: []string{}, Done: []string{}, Keep: []string{}, Old: r.After.Old.Says}
	out.Headline, out.Lines = r.headline(p)
	latest := map[string]int{}
	for i, m := range p.Marks {
		latest[m.Step] = i
	}
	for i, m := range p.Marks {
		if m.State == store.MarkDone && latest[m.Step] == i {
			out.Done = append(out.Done, m.Title)
		}
	}
	for _, s := range r.After.Sides {
		out.Lines = append(out.Lines, fmt.Sprintf("With the %s a start took %s (%s).", driveWord(s.Side), Seconds(s.Seconds), s.How))
	}
	out.Keep = append(out.Keep, r.keep()...)
	return out
}

// driveWord is what a customer calls a drive.
func driveWord(role string) string {
	return map[string]string{"original": "old drive", "clone": "new drive"}[role]
}

// headline is the result in the customer's words. What was seen comes before what was
// computed, and what is not proved is said to be so.
func (r *Report) headline(p Parts) (string, []string) {
	lines := []string{}
	switch h := r.After; {
	case p.Case.ProvedAt != nil:
		good := 0
		for _, s := range h.Starts {
			if s.From == "clone" {
				good++
			}
		}
		lines = append(lines, fmt.Sprintf("It was seen to start from the new drive %s, last on %s.", times(good), day(*p.Case.ProvedAt)))
		if h.Phase == handover.Watched && h.Still != "" {
			lines = append(lines, h.Still)
		}
		return "The machine starts from its new drive.", lines
	case len(h.Starts) > 0:
		return "The machine does not start from its new drive yet.", append(lines, h.Starts[len(h.Starts)-1].Why)
	}
	lines = append(lines, r.Check.Trace.Reason)
	switch r.Check.Trace.Verdict {
	case startup.Starts:
		return "By what is on the disks, the machine will start from its new drive. Nobody has seen it yet.", lines
	case startup.StartsOriginal:
		if r.Check.Trace.Started() == machine.RoleOther {
			return "As it stands, the machine starts from another drive than its new one.", lines
		}
		return "As it stands, the machine starts from its old drive.", lines
	case startup.Stops:
		return "As it stands, the machine does not start from its new drive.", lines
	}
	return "Whether the machine starts from its new drive is not known yet.", lines
}

func times(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return fmt.Sprintf("%d times", n)
}

// keep is what to keep in mind: what is open or wrong, and what is a risk.
func (r *Report) keep() []string {
	var out []string
	add := func(s string) {
		if s != "" && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	for _, l := range r.After.Looks {
		if l.State == handover.Wrong {
			add(strings.TrimSpace(l.Text + ". " + l.Remedy))
		}
	}
	for _, d := range r.Check.Drives {
		if d.Role != "clone" {
			continue
		}
		for _, pin := range d.Pins {
			for _, risk := range pin.Risks {
				if pin.State == course.Passes || pin.State == course.Unproven {
					add(risk.Text)
				}
			}
		}
	}
	for _, c := range r.Check.Contradictions {
		add(fmt.Sprintf("Two pieces of evidence tell %s differently.", c.What))
	}
	return out
}

// Differs are the rows of the comparison that do not agree.
func (r *Report) differs() []compare.Row {
	return slices.DeleteFunc(slices.Clone(r.Check.Comparison.Rows),
		func(row compare.Row) bool { return row.Matter == compare.Agrees })
}

// Seconds is a span as the screens show it.
func Seconds(s float64) string {
	if s >= 100 {
		return fmt.Sprintf("%d min %d s", int(s)/60, int(s)%60)
	}
	return strings.TrimSuffix(fmt.Sprintf("%.1f", s), ".0") + " s"
}

func day(t time.Time) string     { return t.In(time.Local).Format("2 Jan 2006") }
func instant(t time.Time) string { return t.In(time.Local).Format("2 Jan 2006 15:04 MST") }

// driveLine is everything that tells a drive from the other one.
func driveLine(d *judge.Drive, serial string) string {
	parts := []string{d.Model}
	if d.Disk != nil {
		if d.Disk.Size != nil {
			parts = append(parts, d.Disk.Size.Label, d.Disk.Size.Binary)
		}
		parts = append(parts, string(d.Disk.Style))
		if d.Disk.ID != "" {
			parts = append(parts, "identifier "+d.Disk.ID)
		}
	}
	if serial != "" {
		parts = append(parts, "serial number "+serial)
	}
	parts = slices.DeleteFunc(parts, func(s string) bool { return s == "" })
	if len(parts) == 0 {
		return "nothing is known of it"
	}
	return strings.Join(parts, " · ")
}

// serial of the old drive is the only one that a hand-over asks for.
func (r *Report) serial(d *judge.Drive) string {
	if d.Role == "original" {
		return r.After.Old.Serial
	}
	return ""
}
