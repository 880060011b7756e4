package report

import (
	"fmt"
	"strings"
	"unicode"

	"latchkey/core/command"
	"latchkey/core/handover"
	"latchkey/core/machine"
)

// Markdown is the report as CommonMark, with tables as GitHub Flavored Markdown has them.
// What comes from evidence is escaped: every sign of punctuation that Markdown could act on
// stands behind a backslash (CommonMark 0.31, section 2.4).
func (r *Report) Markdown() []byte {
	m := &markdown{}
	m.line("# %s", r.Case.Title)
	m.para("%s, case %d. %s, by %s.", or(r.Case.Machine, "Machine not named"), r.Case.ID, instant(r.Made), r.By)
	m.para("**%s**", r.Result.Headline)
	for _, l := range r.Result.Lines {
		m.para("%s", l)
	}
	for i := range r.Check.Drives {
		d := &r.Check.Drives[i]
		m.para("**%s** (%s): %s", machine.UpperFirst(driveWord(string(d.Role))), d.Role, driveLine(d, r.serial(d)))
	}
	m.list("What was done", r.Result.Done)
	m.list("What to keep in mind", r.Result.Keep)
	m.line("## The old drive")
	m.para("%s", r.Result.Old)
	m.record(r)
	return []byte(m.String())
}

// record is the technical record behind the first page.
func (m *markdown) record(r *Report) {
	m.line("# Technical record")
	m.line("## Start check")
	m.para("%s %s", r.Check.Trace.Headline, r.Check.Trace.Reason)
	for _, d := range r.Check.Drives {
		m.line("### Pins of the %s", d.Role)
		m.table([]string{"Stage", "State", "Why", "Proof"})
		for _, p := range d.Pins {
			m.row(p.Stage.Title(), string(p.State), p.Text, proof(p.Facts))
		}
		m.end()
	}
	m.line("## What differs")
	m.table([]string{"What", "Original", "Clone", "Means"})
	for _, row := range r.differs() {
		m.row(row.Label, row.Original, row.Clone, row.Meaning)
	}
	m.end()
	for _, d := range r.Check.Drives {
		if d.Disk == nil {
			continue
		}
		m.line("## Partitions of the %s", d.Role)
		m.table([]string{"No.", "Type", "First sector", "Size", "Holds", "Label"})
		for _, p := range d.Disk.Partitions {
			m.row(fmt.Sprint(p.Number), p.Type, fmt.Sprint(p.Start), p.Size.Binary, p.Kind, p.Label)
		}
		m.end()
	}
	m.line("## Steps of the repair")
	m.table([]string{"When", "Who", "Step", "State", "Note"})
	for _, s := range r.Steps {
		m.row(instant(s.At), s.Who, s.Title, s.State, s.Note)
	}
	m.end()
	m.line("## Starts")
	m.table([]string{"When", "How", "From", "Proof", "Who"})
	for _, s := range r.After.Starts {
		m.row(instant(s.At), s.Kind, s.From, s.Why, s.Who)
	}
	m.end()
	m.line("## What was looked at in the running system")
	m.table([]string{"What", "State", "Who"})
	for _, l := range r.After.Looks {
		m.row(l.Text, lookWord[l.State], l.Who)
	}
	m.end()
	m.line("## Evidence")
	m.table([]string{"When", "Of", "What"})
	for _, p := range r.Pieces {
		m.row(instant(p.At), p.Of, p.What+map[bool]string{true: " (withdrawn)"}[p.Out])
	}
	m.end()
	m.line("## History")
	m.table([]string{"When", "Who", "What", "Detail"})
	for _, l := range r.Log {
		m.row(instant(l.At), l.Who, l.What, l.Detail)
	}
	m.end()
}

var lookWord = map[handover.State]string{handover.Open: "not looked at", handover.Right: "right", handover.Wrong: "wrong", handover.Aside: "left so"}

// proof cites facts.
func proof(facts []machine.Fact) string {
	var out []string
	for _, f := range facts {
		s := f.Label + ": " + f.Value
		switch {
		case f.Source.Length > 0:
			s += fmt.Sprintf(" (byte %d, %d long)", f.Source.Offset, f.Source.Length)
		case f.Source.Line > 0:
			s += fmt.Sprintf(" (listing, line %d)", f.Source.Line)
		}
		out = append(out, s)
	}
	return strings.Join(out, "; ")
}

func or(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

// markdown is a document in the making.
type markdown struct{ strings.Builder }

// escaped makes a value one line of plain text that is no markup, no list and no link.
func escaped(s string) string {
	var b strings.Builder
	signs := []rune(command.Clean(s))
	for i, r := range signs {
		next := rune(' ')
		if i+1 < len(signs) {
			next = signs[i+1]
		}
		switch {
		case strings.ContainsRune("\\`*_{}[]<>#+!|~&$^=\"@", r),
			r == '-' && (i == 0 || next == '-'),
			r == ':' && next == '/',
			r == '.' && unicode.IsLetter(next),
			(r == '.' || r == ')') && strings.Trim(string(signs[:i]), "0123456789") == "":
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

func (m *markdown) line(format string, values ...any) {
	m.WriteString(fill(format, values) + "\n\n")
}

func (m *markdown) para(format string, values ...any) { m.line(format, values...) }

// fill puts escaped values into a form.
func fill(format string, values []any) string {
	for i, v := range values {
		values[i] = escaped(fmt.Sprint(v))
	}
	return fmt.Sprintf(strings.ReplaceAll(format, "%d", "%s"), values...)
}

func (m *markdown) list(title string, items []string) {
	if len(items) == 0 {
		return
	}
	m.line("## " + title)
	for _, i := range items {
		m.WriteString("- " + escaped(i) + "\n")
	}
	m.WriteString("\n")
}

func (m *markdown) table(heads []string) {
	m.WriteString("| " + strings.Join(heads, " | ") + " |\n|" + strings.Repeat(" --- |", len(heads)) + "\n")
}

func (m *markdown) row(cells ...string) {
	for i := range cells {
		cells[i] = escaped(cells[i])
	}
	m.WriteString("| " + strings.Join(cells, " | ") + " |\n")
}

func (m *markdown) end() { m.WriteString("\n") }
