package fit

import (
	"math"
	"slices"
	"time"
)

// Seen is what a copying program showed at a time: how much was done, from 0 to 1.
type Seen struct {
	At   time.Time
	Done float64
}

// Countdown is when a copy ends, by the rate that was measured.
type Countdown struct {
	// Known is set when two readings tell a rate.
	Known bool
	// First and Last are the earliest and the latest end that the readings allow, Likely
	// the one in between.
	First, Likely, Last time.Time
	// Stalled is since when nothing has moved; zero where something does.
	Stalled  time.Time
	Finished bool
	Says     string
}

// stall is how long nothing may move before it is said: the shown figure counts whole per
// cents, which take minutes on a large disk.
const stall = 10 * time.Minute

// Count computes the end from what was read off the screen, in any order. The latest
// interval and the whole run give two rates; the spread between them, and a per cent of
// rounding at each reading, give the range.
func Count(seen []Seen, now time.Time) Countdown {
	seen = slices.Clone(seen)
	slices.SortFunc(seen, func(a, b Seen) int { return a.At.Compare(b.At) })
	if len(seen) == 0 {
		return Countdown{Says: "Nothing was read off the copying program yet."}
	}
	first, last := seen[0], seen[len(seen)-1]
	if last.Done >= 1 {
		return Countdown{Finished: true, Says: "The copy is done."}
	}
	since := last.At
	for i := len(seen) - 2; i >= 0 && seen[i].Done >= last.Done; i-- {
		since = seen[i].At
	}
	c := Countdown{}
	if last.At.Sub(since) >= stall {
		c.Stalled = since
		c.Says = "Nothing has moved for " + span(last.At.Sub(since), last.At.Sub(since)) + ": the copy may have stalled at a place that cannot be read."
		return c
	}
	if len(seen) < 2 || last.Done <= first.Done || !last.At.After(first.At) {
		c.Says = "One reading tells no rate: read it off once more in a few minutes."
		return c
	}
	low, high := math.Inf(1), 0.0
	for _, from := range seen[:len(seen)-1] {
		took := last.At.Sub(from.At).Seconds()
		if took <= 0 || last.Done <= from.Done {
			continue
		}
		low = min(low, max(last.Done-from.Done-rounding, rounding/2)/took)
		high = max(high, (last.Done-from.Done+rounding)/took)
	}
	if high == 0 {
		c.Says = "The readings go back: no rate can be told."
		return c
	}
	left := 1 - last.Done
	after := func(rate float64) time.Time {
		return last.At.Add(time.Duration(min(left/rate, 1e7) * float64(time.Second)))
	}
	whole := (last.Done - first.Done) / last.At.Sub(first.At).Seconds()
	c.Known, c.First, c.Likely, c.Last = true, after(high), after(whole), after(low)
	c.Says = "By the measured rate it ends " + span(max(c.First.Sub(now), 0), max(c.Last.Sub(now), 0)) + " from now."
	return c
}

// rounding is how far a shown figure is off: programs show whole per cents.
const rounding = 0.005
