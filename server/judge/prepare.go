package judge

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/fit"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/server/store"
)

// Prepare computes a case's preparation with a plan; nil is the stored one.
func (j *Judge) Prepare(ctx context.Context, c *store.Case, plan *PlanOfCopy, now time.Time) (*Preparing, error) {
	kept := store.Preparation{}
	if c.Preparation != nil {
		kept = *c.Preparation
	}
	if plan == nil {
		kept := PlanFrom(&kept)
		plan = &kept
	}
	a, err := j.assemble(ctx, c)
	if err != nil {
		return nil, err
	}
	back, err := j.room.simulating(ctx, a.machine, planTimes)
	if err != nil {
		return nil, err
	}
	defer back()
	p := preparing{plan: *plan, kept: kept, of: c, machine: a.machine, now: now, serials: map[string]string{}}
	for _, role := range store.Roles {
		p.serials[role] = j.serialOf(ctx, c, role)
	}
	return p.compute()
}

// PlanFrom is the plan that is stored.
func PlanFrom(p *store.Preparation) PlanOfCopy {
	return PlanOfCopy{p.Capacity, p.SectorSize, p.FromLink, p.FromMedium, p.ToLink, p.ToMedium, p.Beside, p.Entry,
		p.Strategy,
		p.Sizes, p.Way}
}

// Into takes the plan over into what is stored.
func (p PlanOfCopy) Into(s *store.Preparation) {
	s.Capacity, s.SectorSize, s.FromLink, s.FromMedium, s.ToLink, s.ToMedium = p.Capacity, p.SectorSize, p.FromLink,
		p.FromMedium, p.ToLink, p.ToMedium
	s.Beside, s.Entry, s.Strategy, s.Sizes, s.Way = p.Beside, p.Entry, p.Strategy, p.Sizes, p.Way
}

// entry is whether the way of copying makes a boot entry for the clone; unknown where
// nothing is planned.
func (p PlanOfCopy) entry() fact.Of[bool] {
	if p.Entry == "" {
		return fact.Unknown[bool]()
	}
	return fact.Known(p.Entry == "made", fact.Source{Origin: fact.Typed, Structure: "as planned"})
}

// preparing is the computation of a preparation.
type preparing struct {
	plan     PlanOfCopy
	kept     store.Preparation
	of       *store.Case
	machine  machine.Machine
	now      time.Time
	serials  map[string]string // by drive role
	original *machine.Contents
	clone    *machine.Contents
	target   fit.Target
	parts    []fit.Part
	out      Preparing
}

func (p *preparing) compute() (*Preparing, error) {
	p.original, p.clone = p.machine.ContentsOf(machine.RoleOriginal), p.machine.ContentsOf(machine.RoleClone)
	p.out = Preparing{Plan: p.plan, Parts: []PartNeed{}, Layouts: []CopyLayout{}, Ways: []CopyWay{},
		Otherwise: []fit.Otherwise{},
		Links:     choices(fit.Links), Media: choices(fit.Media)}
	if err := p.drives(); err != nil {
		return nil, err
	}
	from, to := fit.End{Link: p.plan.FromLink, Medium: p.plan.FromMedium},
		fit.End{Link: p.plan.ToLink, Medium: p.plan.ToMedium}
	p.needs()
	layout := p.layouts()
	p.ways(layout, from, to)
	situation := fit.Situation{Machine: p.machine, Parts: p.parts, Target: p.target, From: from, To: to,
		BusLater: bus(p.of, "clone"), Time: fit.Long(p.bytes(), from, to)}
	p.out.Time = timeOf(situation.Time)
	for _, l := range situation.List() {
		line := ReadyLine{Key: l.Key, Text: l.Text, Why: l.Why, How: l.How, Command: l.Command, Evidence: l.Evidence,
			First: l.First}
		if tick, done := p.kept.Ticks[l.Key]; done {
			line.Who, line.At = tick.Who, &tick.At
		}
		p.out.Ready = append(p.out.Ready, line)
	}
	p.out.Settings = fit.Settings(p.machine)
	p.out.Countdown = countdown(p.kept.Seen, p.now)
	p.out.Cards = []DriveCard{p.card("original", p.original), p.card("clone", p.clone)}
	return &p.out, nil
}

func choices(rates []fit.Rate) []Choice {
	var out []Choice
	for _, r := range rates {
		out = append(out, Choice{r.Key, r.Name})
	}
	return out
}

func bus(c *store.Case, role string) string {
	if b := stored(c, role).Bus; b != nil {
		return *b
	}
	return ""
}

// drives settles both capacities.
func (p *preparing) drives() error {
	if p.original != nil {
		if n, known := p.original.Size(); known {
			size := sizeOf(n)
			p.out.Original = &size
		}
	}
	p.target.SectorSize = 512
	if p.clone != nil {
		if n, known := p.clone.Size(); known {
			p.target = fit.Target{Bytes: n, SectorSize: p.clone.Layout.SectorSize, Rounded: p.clone.Rounded}
			p.out.InEvidence = true
		}
	}
	if p.plan.SectorSize != 0 {
		p.target.SectorSize, p.target.Physical = p.plan.SectorSize, p.plan.SectorSize
	}
	if !p.out.InEvidence && p.plan.Capacity != "" {
		var err error
		if p.target.Bytes, p.target.Rounded, err = p.plan.capacity(); err != nil {
			return err
		}
	}
	p.out.SectorSize, p.out.EntriesKnown = p.target.SectorSize, p.machine.Firmware.Entries != nil
	if p.target.Bytes > 0 {
		size := sizeOf(p.target.Bytes)
		p.out.Target, p.out.Rounded = &size, p.target.Rounded
	}
	return nil
}

// Sound says what of a typed plan cannot be; nil where nothing is wrong.
func (p PlanOfCopy) Sound() error {
	if p.Capacity == "" {
		return nil
	}
	_, _, err := p.capacity()
	return err
}

// capacity reads the typed capacity; a whole number of GB that drives are sold with is
// what the standard gives for it.
func (p PlanOfCopy) capacity() (bytes int64, rounded bool, err error) {
	n, rounded, err := disk.ParseSize(p.Capacity, disk.EitherUnits)
	if err == nil && n < 1<<20 {
		err = fmt.Errorf("%q is too small for a drive", p.Capacity)
	}
	if err != nil {
		return 0, false, &BadChange{"capacity: " + err.Error() + "."}
	}
	if sold := fit.Sold(n / 1_000_000_000); rounded && n%1_000_000_000 == 0 && sold > 0 {
		return sold, true, nil
	}
	return n, rounded, nil
}

func known(n int64, yes bool) *Size {
	if !yes {
		return nil
	}
	s := sizeOf(n)
	return &s
}

func (p *preparing) needs() {
	if p.original == nil {
		p.out.Answer = FitAnswer{Fits: "unknown", Says: "Nothing of the original is in evidence.", Spare: []int{}}
		return
	}
	p.parts = fit.Parts(p.original)
	for _, part := range p.parts {
		need := PartNeed{Number: part.Number, Name: part.Name, Role: part.Role, Kind: string(part.Kind),
			Start: part.Start,
			Size:  sizeOf(part.Size), Fixed: part.Fixed, Why: part.Why}
		need.Used, need.Least = known(part.Used.Get()), known(part.Least.Get())
		p.out.Parts = append(p.out.Parts, need)
	}
	if p.target.Bytes == 0 {
		p.out.Answer = FitAnswer{Fits: "unknown", Says: "How large the new drive is, is not known.", Spare: []int{}}
		return
	}
	a := fit.Judge(p.original, p.parts, p.target)
	p.out.Answer = FitAnswer{Fits: a.Fits, Says: a.Says, Trap: a.Trap, Spare: a.Spare,
		Short: known(a.Short, a.Short > 0)}
}

// layouts lays the partitions out by each strategy, and returns the chosen one. Without
// a choice it is that by which it fits with the least change.
func (p *preparing) layouts() fit.Layout {
	var chosen fit.Layout
	if p.target.Bytes == 0 || p.original == nil {
		return fit.Layout{Fits: "no", Says: "the capacities are not known"}
	}
	strategy := fit.Strategy(p.plan.Strategy)
	hand := map[int]int64{}
	for number, bytes := range p.plan.Sizes {
		if n, err := strconv.Atoi(number); err == nil && bytes > 0 && bytes <= disk.MaxSize {
			hand[n] = bytes
		}
	}
	for _, s := range fit.Strategies {
		l := fit.Lay(p.parts, p.original.Layout.Style, p.target, s, hand)
		if better(chosen, l, strategy) {
			chosen = l
		}
		view := CopyLayout{Strategy: string(s), Fits: l.Fits, Says: l.Says, Free: sizeOf(l.Free), Moved: l.Moved,
			Placed: []PlacedPart{}}
		for _, one := range l.Placed {
			view.Placed = append(view.Placed, PlacedPart{p.parts[one.Part].Number, one.Start, sizeOf(one.Size)})
		}
		p.out.Layouts = append(p.out.Layouts, view)
	}
	p.out.Plan.Strategy = string(chosen.Strategy)
	return chosen
}

// better reports whether a layout is to be chosen over the one so far: the one that is
// wanted; without a wish the first that fits, the main partition's before the shares of
// all, and where none fits the main partition's.
func better(chosen, l fit.Layout, wanted fit.Strategy) bool {
	switch {
	case wanted != "":
		return l.Strategy == wanted
	case l.Strategy == fit.Hand || chosen.Fits == "yes" && (chosen.Strategy == fit.Keep || l.Strategy != fit.Main):
		return false
	}
	return l.Fits == "yes" || l.Strategy == fit.Main || chosen.Strategy == ""
}

// ways predicts what the machine does with the copy of each way.
func (p *preparing) ways(layout fit.Layout, from, to fit.End) {
	if p.target.Bytes == 0 {
		return
	}
	planned := fit.Planned(p.machine, bus(p.of, "clone"), !p.plan.Beside, p.plan.entry())
	var list []fit.Prediction
	for _, w := range fit.WaysOf(p.original) {
		list = append(list, fit.Predict(planned, w, p.parts, layout, p.target))
	}
	best := fit.Best(list)
	for i, one := range list {
		view := CopyWay{Key: one.Way.Key, Name: one.Way.Name, Does: one.Way.Does, Verdict: one.Verdict, Says: one.Says,
			After: append([]string{}, one.After...), Pins: append([]startup.Pin{}, one.Pins...), Best: i == best,
			Time: timeOf(fit.Long(one.Bytes, from, to))}
		if one.Verdict != "" {
			view.Whole = one.Trace.Verdict
		}
		p.out.Ways = append(p.out.Ways, view)
		if one.Way.Key == p.plan.Way || p.plan.Way == "" && i == best {
			p.out.Plan.Way = one.Way.Key
			p.compare(one)
		}
	}
	p.out.Recommends = recommends(list, best)
	if p.out.Answer.Fits == "no" {
		p.out.Recommends = "Not before it fits."
	}
}

// recommends is the recommendation in one sentence.
func recommends(list []fit.Prediction, best int) string {
	if best < 0 {
		return "No way of copying is known to lead to a start."
	}
	b := list[best]
	switch {
	case b.Verdict == startup.Starts && b.Trace.Verdict == startup.Starts:
		return fmt.Sprintf("Copy by %s: the copy starts.", b.Way.Name)
	case b.Verdict == startup.Starts:
		return fmt.Sprintf("Copy by %s: the copy reaches its loader; what follows is not proven.", b.Way.Name)
	case len(b.After) > 0:
		return fmt.Sprintf("Copy by %s, then: %s.", b.Way.Name, machine.LowerFirst(b.After[0]))
	}
	return fmt.Sprintf("Copy by %s. Whether it starts hangs on this: %s", b.Way.Name, b.Says)
}

// compare holds the real copy against the prediction, once there is one.
func (p *preparing) compare(one fit.Prediction) {
	if p.of.Stands == "" || p.of.Stands == "before" || p.clone == nil || one.Clone == nil || len(p.clone.Layout.Partitions) == 0 {
		return
	}
	p.out.Compared, p.out.Otherwise = true, fit.Held(one.Way, one.Clone, p.clone)
}

// bytes is how much the chosen way reads.
func (p *preparing) bytes() int64 {
	for _, w := range p.out.Ways {
		if w.Key == p.out.Plan.Way && w.Time.Bytes != nil {
			return w.Time.Bytes.Bytes
		}
	}
	return 0
}

func timeOf(t fit.Time) CopyTime {
	out := CopyTime{Words: t.Words()}
	if t.Known {
		size := sizeOf(t.Bytes)
		out.From, out.To, out.Bytes, out.Slow = int(t.From.Seconds()), int(t.To.Seconds()), &size, t.Slow
		out.Rates = fmt.Sprintf("%.0f to %.0f MB/s (%s)", t.Rate.Low/1e6, t.Rate.High/1e6, t.Rate.From)
	}
	return out
}

func countdown(seen []store.Seen, now time.Time) Countdown {
	var list []fit.Seen
	for _, s := range seen {
		list = append(list, fit.Seen{At: s.At, Done: s.Done})
	}
	c := fit.Count(list, now)
	out := Countdown{Says: c.Says, Known: c.Known, Finished: c.Finished, Seen: append([]store.Seen{}, seen...)}
	if c.Known {
		out.First, out.Likely, out.Last = &c.First, &c.Likely, &c.Last
	}
	if !c.Stalled.IsZero() {
		out.Stalled = &c.Stalled
	}
	return out
}

func (p *preparing) card(role string, c *machine.Contents) DriveCard {
	s := stored(p.of, role)
	card := DriveCard{Role: role, Model: s.Model, Serial: p.serials[role], Bus: bus(p.of, role)}
	if c == nil {
		if role == "clone" {
			card.Size = p.out.Target
		}
		return card
	}
	card.Size = known(c.Size())
	if c.Layout.Style != disk.StyleUnknown {
		card.Style = string(c.Layout.Style)
	}
	card.ID, _ = c.Layout.DiskID().Get()
	for _, part := range c.Layout.Partitions {
		if card.Partitions != "" {
			card.Partitions += " · "
		}
		card.Partitions += disk.Binary(disk.Span(part.Length, c.Layout.SectorSize))
	}
	return card
}
