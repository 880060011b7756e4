package fit

import (
	"fmt"
	"maps"
	"slices"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/core/volume"
)

// Prediction is what the machine would do with a copy.
type Prediction struct {
	Way Way
	// Clone is the disk that the copy would be, of the same kind as evidence; nil where
	// it cannot be made, and Says says why.
	Clone *machine.Contents
	Trace startup.Trace
	Pins  []startup.Pin
	Says  string
	// Verdict is startup's, or "" where nothing was computed.
	Verdict startup.Verdict
	// After are the steps that lead to a start, where it does not start by itself.
	After []string
	Bytes int64 // that are read from the original; 0 is not known
}

// Planned is the machine for which a copy is predicted: the clone on the bus it will hang
// on, the original unplugged where that is planned, and a boot entry for the clone made or
// not, where that is known.
func Planned(m machine.Machine, bus string, unplugged bool, entry fact.Of[bool]) machine.Machine {
	m.Drives = append([]machine.Drive{}, m.Drives...)
	for i := range m.Drives {
		d := &m.Drives[i]
		source := fact.Source{Origin: fact.Typed, Structure: "as planned"}
		switch d.Role {
		case machine.RoleClone:
			d.Attached = fact.Known(true, source)
			if bus != "" {
				d.Bus = fact.Known(bus, source)
			}
			if _, planned := entry.Get(); planned {
				d.HasEntry = entry
			}
		case machine.RoleOriginal:
			d.Attached = fact.Known(!unplugged, source)
		}
	}
	return m
}

// Predict computes what the machine does with a copy that is made in a way: the machine
// as it is planned, with the clone as it would be.
func Predict(m machine.Machine, w Way, parts []Part, l Layout, t Target) Prediction {
	p := Prediction{Way: w}
	original := m.ContentsOf(machine.RoleOriginal)
	if original == nil {
		p.Says = "Nothing of the original is in evidence."
		return p
	}
	p.Bytes = amount(original, parts, w)
	clone, says := copied(original, w, parts, l, t)
	if clone == nil {
		p.Says = says
		return p
	}
	m.Answers = w.answers(m)
	if w.ToUEFI {
		m.Firmware.Mode = fact.Known(firmware.UEFI, fact.Source{Origin: fact.Typed, Structure: "as planned"})
	}
	planned := p.start(m, clone)
	if kept, differs := clone.WithHiddenSectorsKept(); differs && firmwareMode(m) != firmware.UEFI {
		p.hangsOn(m, kept)
	}
	switch {
	case p.Verdict == startup.Starts && l.Fits == "unknown" && !w.Whole:
		p.Verdict, p.Says = startup.Depends, "Depends on whether it fits. "+l.Says
	case p.Verdict != startup.Starts && p.Verdict != startup.Depends:
		p.repaired(planned)
	}
	return p
}

// answers are those of the machine with what the way itself tells: whether a Mac's sealed
// system comes along whole, and whether it is blessed.
func (w Way) answers(m machine.Machine) map[string]string {
	out := maps.Clone(m.Answers)
	if out == nil {
		out = map[string]string{}
	}
	for i := range m.Drives {
		if m.Drives[i].Role == machine.RoleClone {
			out["mac-installed:"+m.Drives[i].Name] = yesOrNo(!w.Files)
			if w.Mac {
				out["mac-offered:"+m.Drives[i].Name] = "yes"
			}
		}
	}
	return out
}

func yesOrNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// start runs the start check on the machine with the copy in it, and returns that machine.
func (p *Prediction) start(m machine.Machine, clone *machine.Contents) machine.Machine {
	m.Drives = append([]machine.Drive{}, m.Drives...)
	for i := range m.Drives {
		if d := &m.Drives[i]; d.Role == machine.RoleClone {
			d.Contents = clone
			p.Trace, p.Pins = startup.Simulate(m), startup.Pins(m, d.Name)
		}
	}
	p.Clone, p.Verdict, p.Says = clone, p.Trace.Reaches, p.Trace.Headline
	if p.Trace.Verdict == startup.Depends && len(p.Trace.Missing) > 0 {
		p.Says = p.Trace.Missing[0].Text
	}
	return m
}

// repaired names the steps after which the copy starts, where it does not by itself.
// Copying again is no such step.
func (p *Prediction) repaired(m machine.Machine) {
	allowed := slices.Clone(repair.Toolboxes)
	if p.Way.ToUEFI { // the mode is what was wanted
		allowed = slices.DeleteFunc(allowed, func(t repair.Toolbox) bool { return t == repair.Firmware })
	}
	plan := repair.Find(m, allowed...)
	if plan.Verdict != startup.Starts {
		return
	}
	for _, s := range plan.Steps {
		if s.Action == "copy-again" {
			p.After = nil
			return
		}
		p.After = append(p.After, s.Title)
	}
}

// hangsOn makes a prediction depend on what a copying program does with the boot sectors
// of partitions that it moves, where the two ends differ.
func (p *Prediction) hangsOn(m machine.Machine, kept *machine.Contents) {
	other := Prediction{Way: p.Way}
	other.start(m, kept)
	if other.Verdict == p.Verdict {
		return
	}
	p.Verdict = startup.Depends
	p.Says = "Depends on whether the copying program tells the moved boot sector where it lies now. " +
		"With the boot partition in its old place it does not."
}

// copied is the disk that a copy would be; nil where it cannot be made, with the reason.
func copied(original *machine.Contents, w Way, parts []Part, l Layout, t Target) (*machine.Contents, string) {
	sectors := uint64(t.Bytes / int64(t.SectorSize))
	other := t.SectorSize != original.Layout.SectorSize
	switch {
	case w.Whole:
		return everySector(original, t, sectors)
	case !original.TableKnown() || original.Layout.Open && len(parts) == 0:
		return nil, "The original's partitions are not in evidence."
	case l.Fits == "no":
		return nil, "Does not fit: " + l.Says
	case other && !w.Files:
		return nil, fmt.Sprintf("The new drive has sectors of %d bytes and the original of %d: its file systems are made for the old ones. Hang it where its sectors have %[2]d bytes, as many enclosures hide them, or copy files into new partitions.",
			t.SectorSize, original.Layout.SectorSize)
	case w.Alone:
		return alone(original, parts, l, t, sectors)
	}
	places := l.Places(parts, t)
	if w.Needed {
		places = slices.DeleteFunc(places, func(p machine.Place) bool { return !neededAt(parts, p.Partition) })
	}
	c := original.CopiedByPartition(places, sectors)
	if other {
		c.Layout.SectorSize = t.SectorSize
	}
	if w.NewIDs {
		c = c.WithNewIdentifiers()
	}
	if w.Files {
		c = c.WithoutBootRecord()
		for i := range c.Volumes {
			c = c.WithFilesCopied(i)
		}
	}
	return c, ""
}

// neededAt reports whether the part at an index of the original's partitions is needed.
func neededAt(parts []Part, index int) bool {
	return slices.ContainsFunc(parts, func(p Part) bool { return p.Index == index && p.Needed })
}

func everySector(original *machine.Contents, t Target, sectors uint64) (*machine.Contents, string) {
	size, known := original.Size()
	switch {
	case !known:
		return nil, "The original's capacity is not known."
	case (t.Rounded || original.Rounded) && size > t.Bytes-t.Bytes/nearly && size < t.Bytes+t.Bytes/nearly:
		return nil, "It hangs on the exact capacity of both: one sector less, and it does not fit."
	case size > t.Bytes:
		return nil, fmt.Sprintf("Does not fit: %s onto %s.", disk.Binary(size), disk.Binary(t.Bytes))
	case t.SectorSize != original.Layout.SectorSize:
		return nil, fmt.Sprintf("The new drive has sectors of %d bytes and the original of %d: its table would stand where nothing looks for it.",
			t.SectorSize, original.Layout.SectorSize)
	case size == t.Bytes:
		return original, ""
	}
	c := original.CopiedWhole(&machine.Contents{Layout: disk.Layout{Sectors: sectors, SectorSize: t.SectorSize}})
	if c.Layout.Style == disk.StyleUnknown {
		// The tables were told: their partitions lie where they lay.
		var same []machine.Place
		for i, p := range original.Layout.Partitions {
			same = append(same, machine.Place{Partition: i, Start: p.Start, Length: p.Length})
		}
		c = original.CopiedByPartition(same, sectors)
	}
	return c, ""
}

// alone is the main partition by itself, under a table made anew.
func alone(original *machine.Contents, parts []Part, l Layout, t Target, sectors uint64) (*machine.Contents, string) {
	main := -1
	for i, p := range parts {
		if original.IsSystem(p.Index) && (main < 0 || p.Size > parts[main].Size) {
			main = i
		}
	}
	if main < 0 {
		return nil, "Which partition is the main one is not known."
	}
	for _, place := range l.Places(parts, t) {
		if place.Partition == parts[main].Index {
			place.Start = uint64(MiB / t.SectorSize)
			c := original.CopiedByPartition([]machine.Place{place}, sectors).WithNewIdentifiers().WithoutBootRecord()
			c.Layout.Partitions[0].Number = 1
			if c.Layout.Style == disk.StyleMBR && c.Layout.MBR != nil {
				c = c.WithActive(-1)
			}
			return c, ""
		}
	}
	return nil, "The main partition has no place on the new drive."
}

// amount is how much a way reads from the original, in bytes; 0 is not known.
func amount(original *machine.Contents, parts []Part, w Way) int64 {
	if w.Whole {
		size, _ := original.Size()
		return size
	}
	var sum int64
	for _, p := range parts {
		used, known := p.Used.Get()
		switch {
		case w.Alone && !original.IsSystem(p.Index), w.Needed && !p.Needed:
		case known:
			sum += used
		case p.Role == disk.RoleReserved || p.Kind == volume.KindSwap:
		case p.Fixed || p.Size < 1<<30:
			sum += p.Size
		default:
			return 0
		}
	}
	if w.Twice {
		sum *= 2
	}
	return sum
}

// Best is the way to recommend: the first that starts, else the first that may without
// anything being done, else the first that does after some steps; -1 for none.
func Best(list []Prediction) int {
	rank := func(p Prediction) int {
		switch {
		case p.Verdict == startup.Starts && p.Trace.Verdict == startup.Starts:
			return 0
		case p.Verdict == startup.Starts:
			return 1
		case p.Verdict == startup.Depends:
			return 2
		case len(p.After) > 0:
			return 3
		}
		return 4
	}
	best := -1
	for i, p := range list {
		if rank(p) < 4 && (best < 0 || rank(p) < rank(list[best])) {
			best = i
		}
	}
	return best
}
