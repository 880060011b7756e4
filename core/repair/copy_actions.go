package repair

import (
	"fmt"
	"slices"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
)

// Copying again is what remains when nothing of the clone can be put right and the
// drive itself will do. start-rules, "last resort".

// perHour is the cautious rule of thumb for copying, in bytes; common practice, no
// source.
const perHour = 100e9

// perMinuteFast is what a pair of solid-state drives has been seen to do, in bytes:
// 84 GB in 12 minutes; common practice, no source.
const perMinuteFast = 84e9 / 12

// copyAgain copies the original onto the clone's drive once more: whole where it
// has room, else by the space in use.
func copyAgain(m machine.Machine, _ course.Stage) []move {
	d, o := clone(m), original(m)
	if o == nil || d.Contents == nil || toldOnly(m) || !lookedAt(d.Contents) ||
		d.Contents.Layout.SectorSize != o.Contents.Layout.SectorSize {
		return nil
	}
	from, to := o.Contents.Layout.Sectors, d.Contents.Layout.Sectors
	var changed *machine.Contents
	whole := to >= from
	if whole {
		changed = o.Contents.CopiedWhole(d.Contents)
	} else if i, fits := largestFits(o.Contents, to); fits {
		changed = o.Contents.CopiedSmaller(i, to)
	}
	if changed == nil {
		return nil
	}
	bytes := float64(amount(o.Contents, whole))
	minutes := 10 + int(bytes/perHour*60)
	nothing := "Nothing that is on the clone can be put right."
	if c := d.Contents; c.SearchEnded() {
		nothing = fmt.Sprintf("Nothing that was found on the clone can be put right. Volumes were looked for up to %s of it: a capture with a thorough search may find some for which the table is written anew, and changes nothing.",
			disk.Binary(disk.Span(c.FoundUpTo, c.Layout.SectorSize)))
	}
	how := "By the space in use, the largest partition made smaller: it fits."
	tools := map[Toolbox]func() []Command{OldDrive: func() []Command { return copyByHand(o, d, whole) }}
	if whole {
		how = "Whole, sector by sector."
	}
	if whole && toldApart(o, d) {
		tools[Linux] = func() []Command { return copyCommands(o) }
	}
	mv := onDisk(m, PlanStep{Action: "copy-again", Title: "Copy the original onto the clone's drive again", Why: fmt.Sprintf("%s %s Copying takes %d to %d minutes on most pairs of drives.", nothing, how, int(bytes/perMinuteFast)+1, minutes),
		Risk: RiskReal, Minutes: minutes, Save: "Whatever on the clone is still wanted: it is overwritten whole.", Undo: "None: what was on the clone is gone."},
		"copy-again", changed, tools)
	mv.result = with(mv.result, o.Name, func(d *machine.Drive) { d.Attached = fact.Known(false, afterRepair) })
	return []move{mv}
}

// lookedAt reports whether the evidence holds all of a disk that a start goes by: before that,
// nobody can say that nothing on it can be put right.
func lookedAt(c *machine.Contents) bool {
	unseen := func(v machine.Volume) bool { return v.Unseen() }
	return c.TableSeen() && !c.FoundLacks && !slices.ContainsFunc(c.Volumes, unseen)
}

// largestFits reports whether the space in use fits a disk of so many sectors when
// the largest partition is made smaller, with a tenth of it to spare.
func largestFits(c *machine.Contents, sectors uint64) (largest int, fits bool) {
	largest = -1
	for i, p := range c.Layout.Partitions {
		if largest < 0 || p.Length > c.Layout.Partitions[largest].Length {
			largest = i
		}
	}
	if largest < 0 {
		return largest, false
	}
	used, known := c.Volumes[largest].Used.Get()
	rest := c.Layout.Sectors - c.Layout.Partitions[largest].Length
	need := rest + used*11/10/uint64(c.Layout.SectorSize)
	return largest, known && need <= sectors
}

// amount is how many bytes a copy moves.
func amount(c *machine.Contents, whole bool) int64 {
	if size, known := c.Size(); whole && known {
		return size
	}
	var sum uint64
	for i := range c.Volumes {
		used, _ := c.Volumes[i].Used.Get()
		sum += used
	}
	return int64(sum)
}
