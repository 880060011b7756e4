package repair

import (
	"cmp"
	"slices"

	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// strataOf are the partitions of a table that is going to be written to the clone.
func strataOf(m machine.Machine, c *machine.Contents, r machine.Record) *Table {
	t := &Table{Sectors: c.Layout.Sectors, SectorSize: c.Layout.SectorSize}
	tables := tablesOf(m, c)
	for _, p := range r.Partitions {
		s := Stratum{Number: p.Number, Start: p.Start, Length: p.Length, Role: p.Type.Role,
			Size: disk.Binary(disk.Span(p.Length, c.Layout.SectorSize)), Holds: string(volume.Unknown)}
		if p.Active {
			s.Role = disk.RoleBoot
		}
		var told []string
		f, there := foundAt(c, p.Start)
		switch {
		case there && f.Partition.Length > 0:
			s.Holds, told = string(f.Volume.Kind), []string{"its file system"}
		case there:
			s.Holds, told = string(f.Volume.Kind), []string{"its file system, which tells no length"}
		case bare(p):
			s.Holds = string(p.Type.Role)
		}
		byVolume := len(told)
		if there && f.Record.Type != 0 && f.Record.Length == p.Length {
			told = append(told, "the record before it")
		}
		lies := func(q disk.Partition) bool { return q.Start == p.Start && q.Length == p.Length }
		for _, of := range tables {
			if slices.ContainsFunc(of.parts, lies) {
				told = append(told, of.called)
			}
		}
		s.Sure, s.By = byVolume > 0 && f.Partition.Length > 0 && len(told) > byVolume, by(told)
		t.Strata = append(t.Strata, s)
	}
	slices.SortStableFunc(t.Strata, func(a, b Stratum) int { return cmp.Compare(a.Start, b.Start) })
	return t
}

// teller is a table that tells of partitions, whatever is wrong with it.
type teller struct {
	called string
	parts  []disk.Partition
}

// tablesOf are the tables that tell of the clone's partitions: the copies of a GPT that hold
// entries, else the records of the other style, and the original's.
func tablesOf(m machine.Machine, c *machine.Contents) (all []teller) {
	for _, g := range []*disk.GPT{c.Layout.GPT, c.Layout.Stale} {
		if g == nil {
			continue
		}
		for _, copied := range []*disk.GPTCopy{&g.Primary, &g.Backup} {
			if len(copied.Entries) > 0 {
				all = append(all, teller{"the " + copied.Which + " table's entry", recordOf(copied).Partitions})
			}
		}
	}
	if len(all) == 0 {
		all = append(all, teller{"the entry that is there", c.Layout.Partitions})
	}
	if o := m.ContentsOf(machine.RoleOriginal); o != nil && !isTold(o) {
		all = append(all, teller{"the original's table", o.Layout.Partitions})
	}
	return all
}

// recordOf is the table that a copy of a GPT holds.
func recordOf(g *disk.GPTCopy) machine.Record {
	r := machine.Record{Style: disk.StyleGPT, ID: g.Header.DiskGUID, FirstLBA: g.Header.FirstUsableLBA}
	for _, e := range g.Entries {
		r.Partitions = append(r.Partitions, disk.Partition{Number: e.Number, Type: disk.GPTType(e.Type),
			TypeGUID: e.Type, GUID: e.GUID, Name: e.Name, Attributes: e.Attributes,
			Start: e.First, Length: max(e.Last, e.First) - e.First + 1})
	}
	return r
}
