package judge

import (
	"context"
	"fmt"
	"slices"
	"time"

	"latchkey/capture/running"
	"latchkey/core/disk"
	"latchkey/core/handover"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/server/store"
)

// HandOver is what follows the first good start.
type HandOver struct {
	Phase    handover.Phase `json:"phase" enum:"not-started,watched,ready,released"`
	Headline string         `json:"headline"`
	Still    string         `json:"still,omitempty" doc:"What is still wanted, in one sentence"`
	Rule     ReleaseRule    `json:"rule"`
	Good     int            `json:"good" doc:"Cold starts that count"`
	Starts   []StartSeen    `json:"starts" doc:"The oldest first"`
	Looks    []LookAt       `json:"looks"`
	Answers  []AnswerSeen   `json:"answers"`
	Times    []Timing       `json:"times"`
	Sides    []Side         `json:"sides" doc:"How long a start takes, before and after; empty where only one is known"`
	Old      OldDrive       `json:"old"`
}

// ReleaseRule is what is wanted before the old drive may be released.
type ReleaseRule struct {
	Starts int  `json:"starts" minimum:"1" maximum:"20" doc:"Cold starts from the clone, one after the other"`
	Days   int  `json:"days" minimum:"1" maximum:"20" doc:"Different days on which they were seen"`
	Looked bool `json:"looked" doc:"Everything that a case asks for was looked at"`
}

// StartSeen is a start that somebody saw.
type StartSeen struct {
	ID      uint64    `json:"id"`
	At      time.Time `json:"at"`
	Kind    string    `json:"kind" enum:"cold,warm,unknown"`
	From    string    `json:"from" enum:"clone,original,neither,open,failed"`
	Why     string    `json:"why"`
	Note    string    `json:"note,omitempty"`
	Who     string    `json:"who"`
	Capture bool      `json:"capture" doc:"A capture that the running system took proves it"`
	Counts  bool      `json:"counts" doc:"Towards the release"`
}

// LookAt is a thing to look at in the running system.
type LookAt struct {
	Key    string         `json:"key"`
	Text   string         `json:"text"`
	Why    string         `json:"why"`
	State  handover.State `json:"state" enum:"open,right,wrong,aside"`
	Ask    string         `json:"ask,omitempty" doc:"Prints what the answer is judged by"`
	Shell  string         `json:"shell,omitempty" doc:"Where it is typed"`
	Remedy string         `json:"remedy,omitempty"`
	ByHand bool           `json:"byHand" doc:"A person may say that it is right"`
	Hide   int            `json:"hide,omitempty" doc:"Number of the clone's partition whose letter can be taken off"`
	Who    string         `json:"who,omitempty" doc:"Who said so"`
	At     *time.Time     `json:"at,omitempty"`
}

// AnswerSeen is what the running system answered.
type AnswerSeen struct {
	ID    uint64    `json:"id"`
	At    time.Time `json:"at"`
	Who   string    `json:"who"`
	Means []string  `json:"means" doc:"What was understood; empty for nothing"`
}

// Timing is how long one start took.
type Timing struct {
	Side    string    `json:"side" enum:"original,clone"`
	Seconds float64   `json:"seconds"`
	How     string    `json:"how"`
	Who     string    `json:"who"`
	At      time.Time `json:"at"`
}

// Side is how long a start takes from one of the drives.
type Side struct {
	Side    string  `json:"side" enum:"original,clone"`
	Seconds float64 `json:"seconds" doc:"The middle one of those measured in the same way"`
	Of      int     `json:"of" doc:"How many were measured"`
	How     string  `json:"how"`
}

// OldDrive is the drive that was copied.
type OldDrive struct {
	Place     string     `json:"place,omitempty"`
	Serial    string     `json:"serial,omitempty"`
	KeepUntil *time.Time `json:"keepUntil,omitempty"`
	Beside    bool       `json:"beside"`
	SavedBy   string     `json:"savedBy,omitempty" doc:"Who said that there is an image of it"`
	Fate      string     `json:"fate,omitempty" enum:"kept,data,wiped"`
	Released  *time.Time `json:"released,omitempty"`
	By        string     `json:"by,omitempty"`
	Says      string     `json:"says"`
	// Systems are those in which its commands can be run here.
	Systems []repair.System `json:"systems" enum:"linux,windows"`
	Lost    []string        `json:"lost" doc:"What is on it, and lost once it is wiped or made a drive for data"`
	May     bool            `json:"may" doc:"Its commands may be handed out"`
	Why     string          `json:"why,omitempty" doc:"Why not"`
}

// HandOver computes a case's hand-over.
func (j *Judge) HandOver(ctx context.Context, c *store.Case, now time.Time) (*HandOver, error) {
	h, _, err := j.handOver(ctx, c, now)
	return h, err
}

func (j *Judge) handOver(ctx context.Context, c *store.Case, now time.Time) (*HandOver, *assembled, error) {
	a, err := j.assemble(ctx, c)
	if err != nil {
		return nil, nil, err
	}
	rule, err := j.store.ReleaseRule(ctx)
	if err != nil {
		return nil, nil, err
	}
	starts, err := j.store.Starts(ctx, c.ID)
	if err != nil {
		return nil, nil, err
	}
	answers, err := j.store.Answers(ctx, c.ID)
	if err != nil {
		return nil, nil, err
	}
	kept := store.Handover{}
	if c.Handover != nil {
		kept = *c.Handover
	}
	h := &HandOver{Rule: ReleaseRule{rule.Starts, rule.Days, rule.Looked}, Starts: []StartSeen{}, Looks: []LookAt{},
		Answers: []AnswerSeen{}, Times: []Timing{}, Sides: []Side{}}
	told, err := j.told(answers, h)
	if err != nil {
		return nil, nil, err
	}
	looks := situationOf(c, a, kept, told).Looks()
	h.looks(looks, kept, a.machine)
	old := handover.Old{KeepUntil: kept.KeepUntil, Fate: kept.Fate}
	if kept.Released != nil {
		old.Released = &kept.Released.At
	}
	standing := rule.Stand(startsOf(starts), looks, old, now, time.Local)
	h.Phase, h.Headline, h.Still, h.Good = standing.Phase, standing.Headline, standing.Still, standing.Count.Good
	for _, s := range starts {
		h.Starts = append(h.Starts, StartSeen{s.ID, s.At, s.Kind, s.Origin, s.Why, s.Note, s.Who, s.EvidenceID != nil,
			standing.Count.Counts[s.ID]})
	}
	h.times(kept.Times)
	h.old(kept, j.serialOf(ctx, c, "original"), a.machine.ContentsOf(machine.RoleOriginal))
	h.Old.Systems = []repair.System{repair.InLinux}
	if windows, _, _ := a.machine.ContentsOf(machine.RoleClone).Systems(); windows {
		h.Old.Systems = append(h.Old.Systems, repair.InWindows)
	}
	return h, a, nil
}

func startsOf(starts []store.Start) []handover.Start {
	var out []handover.Start
	for _, s := range starts {
		out = append(out, handover.Start{ID: s.ID, At: s.At, Kind: handover.Kind(s.Kind), From: s.Origin})
	}
	return out
}

func situationOf(c *store.Case, a *assembled, kept store.Handover, told handover.Told) *handover.Situation {
	s := &handover.Situation{Machine: a.machine, Told: told, Beside: kept.Beside, Seen: map[string]bool{}}
	if c.Preparation != nil {
		_, s.FastStart = c.Preparation.Ticks["fast-start"]
		s.Beside = s.Beside || c.Preparation.Beside
	}
	for key := range kept.Seen {
		s.Seen[key] = true
	}
	return s
}

// told reads the answers; the newest that tells a fact tells it.
func (j *Judge) told(answers []store.RunningAnswer, h *HandOver) (handover.Told, error) {
	var all handover.Told
	for i := range answers {
		got, err := j.answer(&answers[i])
		if err != nil {
			return all, err
		}
		h.Answers = append(h.Answers, AnswerSeen{answers[i].ID, answers[i].At, answers[i].Who,
			append([]string{}, got.Means...)})
		if len(got.Disks) > 0 {
			all.Disks = got.Disks
		}
		for _, f := range []struct{ to, from **bool }{{&all.Recovery, &got.Recovery},
			{&all.Protected, &got.Protected}, {&all.Licensed, &got.Licensed},
			{&all.FastStart, &got.FastStart}, {&all.Mounts, &got.Mounts}, {&all.Services,
				&got.Services}, {&all.Encryption, &got.Encryption}} {
			if *f.from != nil {
				*f.to = *f.from
			}
		}
	}
	return all, nil
}

// answer reads an answer. What was read is kept, as answers never change.
func (j *Judge) answer(a *store.RunningAnswer) (running.Answer, error) {
	if known, ok := j.answers.get(a.ID); ok {
		return known, nil
	}
	text, err := a.Text()
	if err != nil {
		return running.Answer{}, err
	}
	got := running.Read(text)
	j.answers.add(a.ID, got, perListing*int64(len(text)))
	return got, nil
}

func (h *HandOver) looks(looks []handover.Look, kept store.Handover, m machine.Machine) {
	clone := m.ContentsOf(machine.RoleClone)
	for _, l := range looks {
		out := LookAt{Key: l.Key, Text: l.Text, Why: l.Why, State: l.State, Ask: l.Ask, Shell: l.Shell,
			Remedy: l.Remedy, ByHand: l.ByHand}
		if l.Hide >= 0 && clone != nil {
			out.Hide = clone.Layout.Partitions[l.Hide].Number
		}
		if tick, seen := kept.Seen[l.Key]; seen && l.ByHand {
			out.Who, out.At = tick.Who, &tick.At
		}
		h.Looks = append(h.Looks, out)
	}
}

// times puts beside each other what was measured in the same way on both drives.
func (h *HandOver) times(kept []store.Timed) {
	by := map[string]map[string][]float64{}
	for _, t := range kept {
		h.Times = append(h.Times, Timing{t.Side, t.Seconds, t.How, t.Who, t.At})
		if by[t.How] == nil {
			by[t.How] = map[string][]float64{}
		}
		by[t.How][t.Side] = append(by[t.How][t.Side], t.Seconds)
	}
	for i := len(kept) - 1; i >= 0; i-- { // the way that was used last, of those that both have
		how := kept[i].How
		if len(by[how]["original"]) == 0 || len(by[how]["clone"]) == 0 {
			continue
		}
		for _, side := range store.Roles {
			h.Sides = append(h.Sides, Side{side, middle(by[how][side]), len(by[how][side]), how})
		}
		return
	}
}

// middle is the median.
func middle(all []float64) float64 {
	sorted := slices.Sorted(slices.Values(all))
	n := len(sorted)
	return (sorted[(n-1)/2] + sorted[n/2]) / 2
}

// old says how the old drive stands.
func (h *HandOver) old(kept store.Handover, serial string, c *machine.Contents) {
	o := OldDrive{Place: kept.Place, Serial: serial, KeepUntil: kept.KeepUntil, Beside: kept.Beside,
		Fate: kept.Fate, Lost: []string{}}
	if kept.Saved != nil {
		o.SavedBy = kept.Saved.Who
	}
	if kept.Released != nil {
		o.Released, o.By = &kept.Released.At, kept.Released.Who
	}
	where := "It lies unplugged"
	if kept.Place != "" {
		where = "It lies unplugged, in " + kept.Place
	}
	switch {
	case kept.Fate == "data":
		o.Says = "It is a drive for data now: it starts no machine any more."
	case kept.Fate == "wiped":
		o.Says = "It was wiped: it starts no machine any more."
	case kept.Beside:
		o.Says = "It hangs in the machine beside the clone. Give it an identifier of its own, or unplug it: two disks of one identifier confuse the system."
	default:
		o.Says = where + ", with its identifiers as they were: put back, it starts the machine as before. What keeps it so: never start the machine with both plugged in."
	}
	if c != nil {
		for i, p := range c.Layout.Partitions {
			v := &c.Volumes[i]
			line := fmt.Sprintf("partition %d, %s, %s", p.Number, p.Type.Name, disk.Binary(disk.Span(p.Length, c.Layout.SectorSize)))
			if v.Label != "" {
				line += fmt.Sprintf(", “%s”", v.Label)
			}
			o.Lost = append(o.Lost, line)
		}
	}
	switch {
	case h.Phase == handover.Ready || h.Phase == handover.Released:
		o.May = kept.Saved != nil
		if !o.May {
			o.Why = "First say that there is an image or copy of what is on it: nothing brings it back."
		}
	default:
		o.Why = "Its commands are handed out once the starts and looks that are wanted were seen."
		if kept.KeepUntil != nil && h.Still == "" {
			o.Why = "It is the way back until then; its commands are handed out afterwards."
		}
	}
	h.Old = o
}

// serialOf is a drive's serial number, as the old drive's label, a capture or a listing
// tells it.
func (j *Judge) serialOf(ctx context.Context, c *store.Case, role string) string {
	if role == "original" && c.Handover != nil && c.Handover.Serial != "" {
		return c.Handover.Serial
	}
	if e := stored(c, role).Evidence; e != nil && e.Serial != "" {
		return e.Serial
	}
	listings, err := j.readings(ctx, c)
	if err != nil {
		return ""
	}
	for _, l := range listings {
		for i := range l.Disks {
			if d := &l.Disks[i]; d.Serial != "" && l.disks[d.Name] == role {
				return d.Serial
			}
		}
	}
	return ""
}

// Release renders the commands that make the old drive a drive for data, or wipe it. They
// are handed out only once it may be released.
func (j *Judge) Release(ctx context.Context, c *store.Case, fate repair.Fate, in repair.System,
	now time.Time) (*repair.Work, error) {
	h, a, err := j.handOver(ctx, c, now)
	if err != nil {
		return nil, err
	}
	if !h.Old.May && fate != repair.Imaged { // which only reads it
		return nil, &BadChange{h.Old.Why + " " + h.Still}
	}
	if serial := h.Old.Serial; serial != "" && serial == j.serialOf(ctx, c, "clone") {
		return nil, &BadChange{"The serial number " + serial + " is the clone's: type the old drive's, off its label."}
	}
	w, why := repair.Release(a.machine, h.Old.Serial, fate, in)
	if why != "" {
		return nil, &BadChange{why}
	}
	return &w, nil
}

// HideRecovery renders what takes the letter off a recovery partition of the clone.
func (j *Judge) HideRecovery(ctx context.Context, c *store.Case, number int) (*repair.Work, error) {
	a, err := j.assemble(ctx, c)
	if err != nil {
		return nil, err
	}
	if c := a.machine.ContentsOf(machine.RoleClone); c != nil {
		for k, p := range c.Layout.Partitions {
			if p.Number != number {
				continue
			}
			w, why := repair.HideRecovery(a.machine, k)
			if why != "" {
				return nil, &BadChange{why}
			}
			return &w, nil
		}
	}
	return nil, &BadChange{fmt.Sprintf("The clone has no partition %d in evidence.", number)}
}
