package handover

import (
	"fmt"
	"latchkey/core/machine"
	"strings"
	"time"
)

// Phase is where a hand-over stands.
type Phase string

// The phases.
const (
	NotStarted Phase = "not-started" // no start from the clone was seen
	Watched    Phase = "watched"     // starts are counted
	Ready      Phase = "ready"       // the old drive may be released
	Released   Phase = "released"
)

// Old is what is decided of the old drive.
type Old struct {
	KeepUntil *time.Time // the way back stays until then
	Released  *time.Time
	Fate      string // what became of it: kept, data or wiped
}

// Standing is a hand-over in two sentences.
type Standing struct {
	Phase    Phase
	Headline string
	Still    string // what is still wanted; "" when nothing is
	Count    Count
}

// Stand says where a hand-over stands.
func (r Rule) Stand(starts []Start, looks []Look, old Old, now time.Time, zone *time.Location) Standing {
	c := r.Counted(starts, zone)
	wanted := r.Wanted(c, starts, now, zone)
	if r.Looked {
		wanted = append(wanted, open(looks)...)
	}
	if old.Released != nil {
		return Standing{Phase: Released, Count: c, Headline: fmt.Sprintf("Released on %s: %s", old.Released.In(zone).Format("2 Jan 2006"),
			fates[old.Fate])}
	}
	any := false
	for _, s := range starts {
		any = any || s.From == "clone"
	}
	s := Standing{Phase: Watched, Count: c, Headline: fmt.Sprintf("%s of %s.", machine.UpperFirst(plural(c.Good, "good start")),
		word(r.Starts))}
	if c.Good >= r.Starts {
		s.Headline = fmt.Sprintf("%s.", machine.UpperFirst(plural(c.Good, "good start")))
	}
	if len(wanted) > 0 {
		s.Still = "Still wanted: " + sentence(wanted) + "."
	}
	kept := old.KeepUntil != nil && now.Before(*old.KeepUntil)
	switch {
	case !any:
		s.Phase, s.Headline = NotStarted, "No start from the clone was seen yet."
	case c.Broken != nil && c.Good == 0:
		s.Headline = map[string]string{"failed": "The last start failed", "original": "The last start was from the original", "neither": "The last start was from another disk"}[c.Broken.From] + ": counting begins anew."
	case len(wanted) > 0 || kept:
		s.Headline += " " + stays(old, now, zone)
	default:
		s.Phase, s.Headline = Ready, s.Headline+" The old drive may be released."
	}
	return s
}

// fates say what became of the old drive.
var fates = map[string]string{
	"kept":  "the old drive is kept as it is.",
	"data":  "the old drive became a drive for data.",
	"wiped": "the old drive was wiped.",
}

// stays says until when the old drive is the way back.
func stays(old Old, now time.Time, zone *time.Location) string {
	const back = "The old drive stays as the way back"
	if old.KeepUntil == nil || !now.Before(*old.KeepUntil) {
		return back + "."
	}
	on := old.KeepUntil.In(zone)
	if old.KeepUntil.Sub(now) < 6*24*time.Hour {
		return fmt.Sprintf("%s until %s.", back, on.Format("Monday"))
	}
	return fmt.Sprintf("%s until %s.", back, on.Format("2 January"))
}

// open are what of the looks keeps the old drive, in words: what is wrong first.
func open(looks []Look) []string {
	var wrong, unseen []string
	for _, l := range looks {
		switch l.State {
		case Wrong:
			wrong = append(wrong, l.Wants)
		case Open:
			unseen = append(unseen, l.Wants)
		}
	}
	all := append(wrong, unseen...)
	if most := 3; len(all) > most {
		all = append(all[:most-1:most-1], fmt.Sprintf("%s more to look at", word(len(all)-most+1)))
	}
	for i := range all {
		all[i] = strings.TrimSuffix(all[i], ".")
	}
	return all
}
