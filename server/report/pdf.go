package report

import (
	"fmt"
	"latchkey/core/machine"
)

// PDF is the report as a document that can be printed: ISO 32000, with its fonts in it.
func (r *Report) PDF() ([]byte, error) {
	p, err := newPage(r.Case.Title)
	if err != nil {
		return nil, err
	}
	p.SetCreationDate(r.Made)
	p.SetModificationDate(r.Made)
	p.AddPage()
	p.customer(r)
	p.AddPage()
	p.record(r)
	return p.bytes()
}

// customer is the first page.
func (p *page) customer(r *Report) {
	p.para("B", 18, "ink", r.Case.Title)
	p.para("", 10, "quiet", fmt.Sprintf("%s · case %d · %s, %s", or(r.Case.Machine, "machine not named"), r.Case.ID, instant(r.Made), r.By))
	p.gap(5)
	p.para("B", 14, "ink", r.Result.Headline)
	p.gap(1)
	for _, l := range r.Result.Lines {
		p.para("", 10.5, "ink", l)
	}
	p.title("Your drives", 20)
	for i := range r.Check.Drives {
		d := &r.Check.Drives[i]
		p.para("B", 10, "ink", fmt.Sprintf("%s (%s)", machine.UpperFirst(driveWord(string(d.Role))), d.Role))
		p.para("", 10, "ink", driveLine(d, r.serial(d)))
		p.gap(1)
	}
	p.times(r)
	if len(r.Result.Done) > 0 {
		p.title("What was done", 15)
		p.bullets(r.Result.Done)
	}
	if len(r.Result.Keep) > 0 {
		p.title("What to keep in mind", 15)
		p.bullets(r.Result.Keep)
	}
	p.title("The old drive", 15)
	p.para("", 10, "ink", r.Result.Old)
	p.gap(2)
	p.para("", 8.5, "quiet", "How this was found, with its proof, stands on the pages behind this one.")
}

// times draws how long a start took as two bars.
func (p *page) times(r *Report) {
	sides := r.After.Sides
	if len(sides) == 0 {
		return
	}
	p.title("From power-on to the desktop", 20)
	most := 0.0
	for _, s := range sides {
		most = max(most, s.Seconds)
	}
	for _, s := range sides {
		y := p.GetY()
		p.font("", 10, "ink")
		p.Text(margin, y+4, driveWord(s.Side))
		p.draw("solid")
		p.fill("solid")
		p.SetLineWidth(0.25)
		p.Rect(margin+24, y+0.8, (inner-54)*s.Seconds/most, 4, map[string]string{"clone": "DF", "original": "D"}[s.Side])
		p.Text(margin+26+(inner-54)*s.Seconds/most, y+4, Seconds(s.Seconds))
		p.SetXY(margin, y+6.5)
	}
}

// record is the technical record.
func (p *page) record(r *Report) {
	p.para("B", 14, "ink", "Technical record")
	p.title("Start check", 50)
	p.para("B", 10, "ink", r.Check.Trace.Headline)
	p.para("", 9.5, "ink", r.Check.Trace.Reason)
	p.para("", 8.5, "quiet", "Rules "+r.Check.Rules)
	p.gap(3)
	p.pins(r.Check.Drives)
	p.strata(r.Check.Drives, r.Check.Comparison.Pairs)
	for _, d := range r.Check.Drives {
		p.title(fmt.Sprintf("Pins of the %s, with their proof", d.Role), 25)
		var rows [][]string
		for _, pin := range d.Pins {
			rows = append(rows, []string{pin.Stage.Title(), string(pin.State), pin.Text, proof(pin.Facts)})
		}
		p.table([]column{{"Stage", 0.13}, {"State", 0.1}, {"Why", 0.37}, {"Proof", 0.4}}, rows)
	}
	p.title("What differs", 25)
	var rows [][]string
	for _, row := range r.differs() {
		rows = append(rows, []string{row.Label, row.Original, row.Clone, row.Meaning})
	}
	p.table([]column{{"What", 0.18}, {"Original", 0.22}, {"Clone", 0.22}, {"Means", 0.38}}, rows)
	p.disks(r)
	p.happened(r)
}

func (p *page) disks(r *Report) {
	for _, d := range r.Check.Drives {
		if d.Disk == nil {
			continue
		}
		p.title(fmt.Sprintf("Partitions of the %s", d.Role), 25)
		var rows [][]string
		for _, q := range d.Disk.Partitions {
			rows = append(rows, []string{fmt.Sprint(q.Number), q.Type, fmt.Sprint(q.Start),
				q.Size.Label + " · " + q.Size.Binary, q.Kind, q.Label})
		}
		p.table([]column{{"No.", 0.06}, {"Type", 0.26}, {"First sector", 0.14}, {"Size", 0.22}, {"Holds", 0.14}, {"Label", 0.18}}, rows)
	}
}

// happened is what people did, saw and brought.
func (p *page) happened(r *Report) {
	var rows [][]string
	section := func(title string, columns []column) {
		p.title(title, 25)
		p.table(columns, rows)
		rows = nil
	}
	for _, s := range r.Steps {
		rows = append(rows, []string{instant(s.At), s.Who, s.Title, s.State, s.Note})
	}
	section("Steps of the repair", []column{{"When", 0.21}, {"Who", 0.12}, {"Step", 0.32}, {"State", 0.09}, {"Note", 0.26}})
	for _, s := range r.After.Starts {
		rows = append(rows, []string{instant(s.At), s.Kind, s.From, s.Why, s.Who})
	}
	section("Starts", []column{{"When", 0.21}, {"How", 0.09}, {"From", 0.09}, {"Proof", 0.47}, {"Who", 0.14}})
	for _, l := range r.After.Looks {
		rows = append(rows, []string{l.Text, lookWord[l.State], l.Who})
	}
	section("Looked at in the running system", []column{{"What", 0.66}, {"State", 0.16}, {"Who", 0.18}})
	for _, e := range r.Pieces {
		what := e.What
		if e.Out {
			what += " (withdrawn)"
		}
		rows = append(rows, []string{instant(e.At), e.Of, what})
	}
	section("Evidence", []column{{"When", 0.21}, {"Of", 0.15}, {"What", 0.64}})
	for _, l := range r.Log {
		rows = append(rows, []string{instant(l.At), l.Who, l.What, l.Detail})
	}
	section("History", []column{{"When", 0.21}, {"Who", 0.15}, {"What", 0.19}, {"Detail", 0.45}})
}
