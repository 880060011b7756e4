package repair

import (
	"cmp"
	"fmt"
	"slices"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/machine"
)

// correctTable writes a table that can be read anew where it tells otherwise than the file
// systems on the disk: an entry that begins where none does, that reaches over another or
// beyond the end, that is gone. What an entry says besides stays as it is.
func correctTable(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || len(c.Found) == 0 || c.LacksTable() || !c.TableSeen() || entangled(c) {
		return nil
	}
	w := tableWriter{m: m, c: c, action: "correct-table", key: "correct ", title: "Correct the partition table, by "}
	if r, ok := staleRecord(c); ok {
		w.add(r, "the GPT behind it", "The record in sector 0 hides a sound GPT, and what that says is confirmed by the file systems that were found.")
	}
	if _, two := c.Layout.Find(disk.CodeGPTCopiesDiffer); two {
		if r := recordOf(&c.Layout.GPT.Backup); !c.FoundLacks && confirmed(c, r) && differs(c, r) {
			w.add(r, "its backup", "The two copies differ, and it is the backup that says where the file systems lie.")
		}
	}
	if r, ok := originalRecord(m, c); ok && differs(c, r) {
		w.add(r, "the original's", "It says otherwise than the file systems lie, and they lie where the original's says."+otherwise(c, r))
	}
	words := map[bool]string{false: "its file systems", true: "its file systems, with those that have no entry"}
	for _, more := range []bool{false, true} {
		if r, ok := correctedRecord(m, c, more); ok && differs(c, r) {
			why := "It says otherwise than the file systems that were found." + otherwise(c, r)
			same := slices.EqualFunc(r.Partitions, c.Layout.Partitions, samePlace)
			if p, none := c.Layout.NoneForTools(); none && same {
				why = "Linux does not take it as it is, nor do its tools. " + p.Text
			}
			w.add(r, words[more], why)
		}
	}
	return w.moves
}

// differs reports whether a table says something else than the one in force, or that one
// is out of order in itself.
func differs(c *machine.Contents, r machine.Record) bool {
	_, strange := c.Layout.Find(disk.CodeMBRStatus)
	_, outside := c.Layout.Find(disk.CodeGPTEntryOutside)
	_, refused := c.Layout.RefusedByLinux()
	return strange || outside || refused || c.Layout.ChainBroken() || r.Style != c.Layout.Style ||
		!slices.EqualFunc(r.Partitions, c.Layout.Partitions, samePlace)
}

// staleRecord is the table of a GPT that an MBR in force hides.
func staleRecord(c *machine.Contents) (machine.Record, bool) {
	g := c.Layout.Stale.Valid()
	if g == nil || c.FoundLacks {
		return machine.Record{}, false
	}
	r := recordOf(g)
	return r, len(r.Partitions) > 0 && confirmed(c, r)
}

// correctedRecord is the table in force with its entries brought to where the file systems
// lie; with more, those that no entry tells of get one.
func correctedRecord(m machine.Machine, c *machine.Contents, more bool) (machine.Record, bool) {
	l := &c.Layout
	r := machine.Record{Style: l.Style}
	switch g := l.GPT.Valid(); {
	case l.Style == disk.StyleGPT && g != nil:
		r.ID, r.FirstLBA = g.Header.DiskGUID, g.Header.FirstUsableLBA
	case l.Style == disk.StyleMBR:
		r.Signature = l.MBR.DiskSignature
		r.Extended, _ = extendedOf(c)
	default:
		return r, false
	}
	var unclaimed []machine.Found
	r.Partitions, unclaimed = placed(c, besides(l.Partitions, r.Extended))
	if !dropped(c, &r) || !shortened(c, &r) {
		return r, false
	}
	if more {
		if c.FoundLacks || !added(m, c, &r, unclaimed) {
			return r, false
		}
	}
	for _, p := range r.Partitions {
		if p.Start < r.FirstLBA {
			r.FirstLBA = disk.FirstUsable(l.SectorSize)
		}
	}
	linked := chain(c, &r)
	slices.SortStableFunc(r.Partitions, func(p, q disk.Partition) int { return cmp.Compare(p.Number, q.Number) })
	return r, linked && apart(c, r)
}

// added gives an entry to each volume that none tells of: the original's where it has one
// that begins there, else one of the kind's own type. A volume that reaches over what has an
// entry is left over from before. Reports whether any was added.
func added(m machine.Machine, c *machine.Contents, r *machine.Record, unclaimed []machine.Found) (any bool) {
	for _, f := range unclaimed {
		p := disk.Partition{Start: f.Partition.Start, Length: f.Partition.Length}
		guid, kind := typesOf(&f.Volume)
		if r.Style == disk.StyleGPT {
			p.TypeGUID, p.Type = guid, disk.GPTType(guid)
		} else {
			p.MBRType, p.Type = kind, disk.MBRType(kind)
			p = asLogical(c, p, f, r)
		}
		if q, there := ofOriginal(m, c, p.Start); there && q.Length >= p.Length {
			p = q
		}
		taken := func(n int) bool {
			of := func(q disk.Partition) bool { return q.Number == n }
			return n == r.Extended.Number || slices.ContainsFunc(r.Partitions, of)
		}
		for n := 1; p.Number == 0 || !p.Logical && taken(p.Number); n++ {
			p.Number = n
		}
		if r.Style == disk.StyleGPT && p.GUID.IsZero() {
			p.GUID = made(c, p.Number)
		}
		with := *r
		with.Partitions = append(slices.Clone(r.Partitions), p)
		if p.Length > 0 && apart(c, with) {
			*r, any = with, true
		}
	}
	return any
}

// ofOriginal is the original's partition that begins at a sector, where its table is of the
// same style and known from its bytes.
func ofOriginal(m machine.Machine, c *machine.Contents, start uint64) (disk.Partition, bool) {
	o := m.ContentsOf(machine.RoleOriginal)
	if o == nil || o.Layout.Style != c.Layout.Style || o.Layout.SectorSize != c.Layout.SectorSize {
		return disk.Partition{}, false
	}
	for i, p := range o.Layout.Partitions {
		open := p.Unplaced || p.Rough || p.TypeOpen || p.ActiveOpen || o.Volumes[i].Told
		if p.Start == start && !open {
			return p, true
		}
	}
	return disk.Partition{}, false
}

// otherwise says what a table tells otherwise than the one in force.
func otherwise(c *machine.Contents, r machine.Record) (text string) {
	for _, p := range c.Layout.Partitions {
		i := slices.IndexFunc(r.Partitions, func(q disk.Partition) bool { return q.Number == p.Number })
		switch {
		case i < 0:
			text += fmt.Sprintf(" Partition %d is taken out.", p.Number)
		case r.Partitions[i].Start != p.Start:
			text += fmt.Sprintf(" Partition %d begins at sector %d and not at %d.", p.Number, r.Partitions[i].Start, p.Start)
		}
	}
	return text
}
