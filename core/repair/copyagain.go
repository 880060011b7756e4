package repair

import (
	"fmt"

	"latchkey/core/command"
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
	if o == nil || d.Contents == nil || toldOnly(m) || d.Contents.Layout.SectorSize != o.Contents.Layout.SectorSize {
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
	how := "By the space in use, the largest partition made smaller: it fits."
	tools := map[Toolbox]func() []Command{OldDrive: func() []Command { return copyByHand(o, d, whole) }}
	if whole {
		how = "Whole, sector by sector."
	}
	if whole && toldApart(o, d) {
		tools[Linux] = func() []Command { return copyCommands(o) }
	}
	mv := onDisk(m, PlanStep{Action: "copy-again", Title: "Copy the original onto the clone's drive again", Why: fmt.Sprintf("Nothing that is on the clone can be put right. %s Copying takes %d to %d minutes on most pairs of drives.", how, int(bytes/perMinuteFast)+1, minutes), Risk: RiskReal, Minutes: minutes, Save: "Whatever on the clone is still wanted: it is overwritten whole.", Undo: "None: what was on the clone is gone."},
		"copy-again", changed, tools)
	mv.result = with(mv.result, o.Name, func(d *machine.Drive) { d.Attached = fact.Known(false, told) })
	return []move{mv}
}

// toldApart reports whether a guard tells two disks apart: by their identifiers, or
// by their sizes.
func toldApart(a, b *machine.Drive) bool {
	x, y := identifier(a), identifier(b)
	return x != "" && y != "" && x != y || a.Contents.Layout.Sectors != b.Contents.Layout.Sectors
}

// original returns the original when its very sectors are in evidence.
func original(m machine.Machine) *machine.Drive {
	for i := range m.Drives {
		d := &m.Drives[i]
		if d.Role == machine.RoleOriginal && d.Contents != nil && !isTold(d.Contents) {
			return d
		}
	}
	return nil
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

func copyByHand(o, d *machine.Drive, whole bool) []Command {
	way := "the whole disk"
	if !whole {
		way = "by the space in use, all partitions, the largest made smaller"
	}
	size := func(x *machine.Drive) string {
		return disk.Both(x.Contents.Layout.Bytes())
	}
	return []Command{{ByHand: true, Text: fmt.Sprintf("With the copying tool that you have: %s, from the original (%s, identifier %s) onto the clone's drive (%s), while it hangs where it is to stay.", way, size(o), diskpartID(o), size(d)),
		Good: "All partitions are on the clone.", Bad: "Read errors on the original: copy sector by sector, to a drive at least as large."},
		{ByHand: true, Text: "Unplug the original before the first start.", Good: "The clone is the only drive.", Bad: "Look at the models and capacities."}}
}

func copyCommands(o *machine.Drive) []Command {
	from, to := command.Var("original"), onClone
	return []Command{findNow("original", o),
		line(command.All(command.Run("[", from, "!=", to, "]"), dd(command.Join("if=", from), command.Join("of=", to), "bs=4M", "conv=fsync")),
			"As many records out as in, and no error.", "Read errors on the original: it is failing; copy with a tool that goes on after errors, and check the file systems."),
		reread(),
		{ByHand: true, Text: "Shut down, and unplug the original before the first start.", Good: "The clone is the only drive.", Bad: "Look at the models and capacities."}}
}
