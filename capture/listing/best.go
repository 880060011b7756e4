package listing

import (
	"strings"

	"latchkey/core/fact"
)

// best reads a text in the way of which most lines are understood. Lines are put together
// where more is told then: a remark below a listing would else be taken for the rest of its
// last line.
func (t *text) best(format Format) (*Listing, error) {
	var best *Listing
	var failed error
	facts := 0
	taken, understood, unread := asPasted(t.lines), -1, 0
	for _, w := range taken.ways() {
		l, err := t.in(w, format)
		if err != nil {
			if failed == nil {
				failed = err
			}
			continue
		}
		if n, not := l.count(w); n > understood || n == understood && not < unread {
			best, taken, understood, unread = l, w, n, not
		}
	}
	if best != nil {
		facts = best.facts()
	}
	if best == nil || unread > 0 || best.Problem != "" {
		for _, w := range taken.joined(best) {
			l, err := t.in(w, format)
			if err != nil {
				continue
			}
			if n, _ := l.count(w); n >= understood && (best == nil || l.facts() > facts) {
				best, taken, understood, facts = l, w, n, l.facts()
			}
		}
	}
	if best == nil {
		return nil, failed
	}
	best.renumber(taken, t.lines)
	return best, nil
}

// doubt takes back that all partitions of a disk are listed where a line among theirs was not
// understood, or one right behind them: it may be another partition's.
func (l *Listing) doubt(t *text, from int) {
	for i := range l.Disks {
		d := &l.Disks[i]
		first, last := d.Line, d.Line
		for i, p := range d.Partitions {
			if last = max(last, p.Line); i == 0 {
				first = p.Line
			}
		}
		end := len(t.lines)
		for _, other := range l.Disks {
			if other.Line > last {
				end = min(end, other.Line-1)
			}
		}
		if strings.EqualFold(d.Name, unnamed) {
			d.Whole = false // nor is its beginning in the text
		}
		for n := first; n > from && n <= end && (n <= last || strings.TrimSpace(t.lines[n-1]) != ""); n++ {
			d.Whole = d.Whole && (l.Lines[n-1].State != Unread || strings.TrimSpace(t.lines[n-1]) == "")
		}
	}
}

// in reads a text in one way.
func (t *text) in(w way, format Format) (*Listing, error) {
	as := *t
	as.lines = w.lines
	if as.broken {
		as.lines = withoutLastFigure(as.lines)
	}
	l := &Listing{Format: format, paths: map[string]string{}}
	for i, s := range w.lines {
		state := Unread
		if strings.TrimSpace(s) == "" || isPrompt(s) {
			state = Passed
		}
		l.Lines = append(l.Lines, Line{Number: i + 1, Text: clip(s), State: state})
	}
	if err := l.read(&as, format); err != nil {
		return nil, err
	}
	l.byPath()
	l.warned(&as)
	l.placeVolumes()
	return l, nil
}

// count counts the lines of a pasted text from which something was taken, and those that
// were not understood.
func (l *Listing) count(w way) (understood, unread int) {
	for i, line := range l.Lines {
		pieces := 1
		if i < len(w.pieces) {
			pieces = w.pieces[i]
		}
		switch line.State {
		case Understood:
			understood += pieces
		case Unread:
			unread += pieces
		}
	}
	return understood, unread
}

// facts counts what is told of disks, and the entries and objects of boot lists.
func (l *Listing) facts() (n int) {
	tell := func(all ...bool) {
		for _, told := range all {
			if told {
				n++
			}
		}
	}
	for _, d := range l.Disks {
		tell(d.Size > 0, d.SectorSize > 0, d.Style != "", d.ID != "", d.Model != "", d.Bus != "", d.Serial != "")
		for _, p := range d.Partitions {
			tell(true, p.Start >= 0, p.Length > 0, !p.Type.IsZero() || p.MBRType != 0 || p.Role != "", p.Kind != "",
				p.Serial != "", !p.GUID.IsZero(), p.Label != "", p.Name != "", p.Letter != "")
		}
	}
	if l.Entries != nil {
		n += len(l.Entries.All) + len(l.Entries.Order)
		for _, e := range l.Entries.All {
			tell(e.Path.Partition != nil, e.Path.File != "", !e.Path.Open)
		}
	}
	if l.Store != nil {
		for _, o := range l.Store.Objects {
			n += len(o.Elements)
		}
	}
	return n
}

// renumber gives what was read the numbers that its lines have in what was pasted.
func (l *Listing) renumber(w way, pasted []string) {
	if len(w.lines) == len(pasted) {
		return
	}
	at := func(n *int) {
		if *n >= 1 && *n <= len(w.from) {
			*n = w.from[*n-1]
		}
	}
	lines := make([]Line, len(pasted))
	for i, s := range pasted {
		lines[i] = Line{Number: i + 1, Text: clip(s), State: Passed}
	}
	for i, read := range l.Lines {
		next := len(pasted) + 1
		if i+1 < len(w.from) {
			next = w.from[i+1]
		}
		for k := w.from[i]; k < next; k++ {
			if k == w.from[i] || strings.TrimSpace(pasted[k-1]) != "" {
				lines[k-1].State, lines[k-1].Means = read.State, read.Means
			}
		}
	}
	l.Lines = lines
	for i := range l.Disks {
		d := &l.Disks[i]
		at(&d.Line)
		at(&d.StyleLine)
		at(&d.IDLine)
		for j := range d.Partitions {
			at(&d.Partitions[j].Line)
		}
	}
	for i := range l.Written {
		at(&l.Written[i].Line)
	}
	l.Mode, l.SecureBoot = moved(l.Mode, at), moved(l.SecureBoot, at)
	l.StorageMode, l.MacStart = moved(l.StorageMode, at), moved(l.MacStart, at)
	if l.Entries != nil {
		for n, e := range l.Entries.All {
			at(&e.Source.Line)
			l.Entries.All[n] = e
		}
	}
	if l.Store != nil {
		for i := range l.Store.Objects {
			for j := range l.Store.Objects[i].Elements {
				at(&l.Store.Objects[i].Elements[j].Line)
			}
		}
	}
}

// moved is a fact with another line of its source.
func moved[T any](f fact.Of[T], at func(*int)) fact.Of[T] {
	v, known := f.Get()
	if !known {
		return f
	}
	from := f.Source()
	at(&from.Line)
	return fact.Known(v, from)
}
