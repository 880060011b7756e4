// Package handover is what follows the first good start: what to look at in the running
// system, how many good starts are wanted before the old drive may go, and what becomes of
// it. Everything here is a pure function of what is known; the time is handed in.
package handover

import (
	"fmt"
	"strings"
	"time"
)

// Kind is how a machine was started.
type Kind string

// The kinds of a start.
const (
	Cold Kind = "cold" // from power-off
	Warm Kind = "warm" // a restart
)

// Start is a start that somebody saw.
type Start struct {
	ID   uint64
	At   time.Time
	Kind Kind
	From string // clone, original, neither, open or failed
}

// Rule is what a bench wants before the old drive is released.
type Rule struct {
	Starts int  // cold starts from the clone, one after the other
	Days   int  // different days on which they were seen
	Looked bool // everything that this case asks for was looked at, and is right
}

// TheRule is the rule of a bench that has set none. Common practice, no source.
var TheRule = Rule{Starts: 5, Days: 3, Looked: true}

// Count is which starts count towards a rule, and what is still wanted.
type Count struct {
	Good   int             // cold starts that count
	Days   int             // on which they were
	Counts map[uint64]bool // by the start's ID
	Broken *Start          // the last start that was not from the clone, after which counting began anew
}

// Counted counts the starts, which may come in any order. A start that failed, or was not
// from the clone, begins the count anew; one of which nobody knows the disk neither counts
// nor breaks it.
func (r Rule) Counted(starts []Start, zone *time.Location) Count {
	c := Count{Counts: map[uint64]bool{}}
	for i := range starts {
		s := &starts[i]
		if s.From != "clone" && s.From != "open" && (c.Broken == nil || !s.At.Before(c.Broken.At)) {
			c.Broken = s
		}
	}
	days := map[string]bool{}
	for _, s := range starts {
		if s.From == "clone" && s.Kind == Cold && (c.Broken == nil || s.At.After(c.Broken.At)) {
			c.Good++
			c.Counts[s.ID] = true
			days[s.At.In(zone).Format(time.DateOnly)] = true
		}
	}
	c.Days = len(days)
	return c
}

// Wanted says what is still wanted, in the parts of one sentence.
func (r Rule) Wanted(c Count, starts []Start, now time.Time, zone *time.Location) []string {
	more, days := r.Starts-c.Good, r.Days-c.Days
	today := false
	for _, s := range starts {
		today = today || c.Counts[s.ID] && s.At.In(zone).Format(time.DateOnly) == now.In(zone).Format(time.DateOnly)
	}
	switch n := max(more, days); {
	case n <= 0:
		return nil
	case days <= 0:
		return []string{plural(n, "cold start")}
	case days == 1 && n == 1 && today:
		return []string{"one cold start, tomorrow or later"}
	case days == 1 && today:
		return []string{plural(n, "cold start") + ", one of them tomorrow or later"}
	case n == days && today:
		return []string{fmt.Sprintf("%s, each on a day of its own, from tomorrow", plural(n, "cold start"))}
	case n == days:
		return []string{plural(n, "cold start") + map[bool]string{true: ", each on a day of its own"}[n > 1]}
	default:
		return []string{fmt.Sprintf("%s, on %s at least", plural(n, "cold start"), plural(days, "more day"))}
	}
}

var numbers = []string{"no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve"}

func word(n int) string {
	if n >= 0 && n < len(numbers) {
		return numbers[n]
	}
	return fmt.Sprint(n)
}

func plural(n int, of string) string {
	if n == 1 {
		return "one " + of
	}
	return word(n) + " " + of + "s"
}

// sentence puts parts together: one, two and three.
func sentence(parts []string) string {
	switch n := len(parts); n {
	case 0:
		return ""
	case 1:
		return parts[0]
	default:
		return strings.Join(parts[:n-1], ", ") + ", and " + parts[n-1]
	}
}
