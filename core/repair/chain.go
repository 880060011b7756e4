package repair

import (
	"cmp"
	"encoding/binary"
	"slices"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// Logical partitions: the chain of records that tells of them is laid out anew.

// entangled reports whether records stand beside another table, or tell of two chains: such a
// table is not written anew.
func entangled(c *machine.Contents) bool {
	mbr := c.Layout.MBR
	if mbr == nil {
		return true
	}
	if c.Layout.Style == disk.StyleGPT {
		return mbr.Hybrid() && mbr.Signature
	}
	_, several := extendedOf(c)
	return several
}

// extendedOf is the extended partition's record; one that leads to a chain is such a record,
// whatever its type says. It reports whether there are several.
func extendedOf(c *machine.Contents) (e disk.MBREntry, several bool) {
	for _, r := range c.Layout.MBR.Entries {
		_, sits := foundAt(c, r.Start)
		leads := r.Used() && !sits && slices.ContainsFunc(c.Found, func(f machine.Found) bool {
			return f.Record.Used() && f.Record.Offset/int64(c.Layout.SectorSize) == int64(r.Start)
		})
		if !r.Extended() && !leads {
			continue
		}
		several = several || e.Number > 0
		if e = r; !r.Extended() {
			e.Type, e.Status = extendedType(r.Start+r.Length), 0
		}
	}
	return e, several
}

// extendedType is the type of an extended partition that ends at a sector: one beyond what
// cylinders of 255 heads and 63 sectors reach has its own. Common practice, no source.
func extendedType(end uint64) byte {
	if end > 1024*255*63 {
		return 0x0F
	}
	return 0x05
}

// besides are the partitions but the one whose record is an extended partition's.
func besides(all []disk.Partition, extended disk.MBREntry) []disk.Partition {
	return slices.DeleteFunc(slices.Clone(all), func(p disk.Partition) bool {
		return extended.Number > 0 && p.Number == extended.Number
	})
}

// asLogical has a partition be a logical one, where a record before it says so or it lies in
// the extended partition.
func asLogical(c *machine.Contents, p disk.Partition, f machine.Found, r *machine.Record) disk.Partition {
	x := r.Extended
	told := f.Record.Used()
	if !told && (x.Number == 0 || p.Start <= x.Start || p.Start >= x.Start+x.Length) {
		return p
	}
	p.Logical = true
	if told {
		p.EBR = uint64(f.Record.Offset) / uint64(c.Layout.SectorSize)
		p.Length = max(p.Length, f.Record.Length)
		p.MBRType, p.Type = f.Record.Type, disk.MBRType(f.Record.Type)
	}
	return p
}

// chain numbers the logical partitions of a table in their order, gives each the sector of its
// record, and brings the extended partition around them. It reports false where there is no
// room for a record, or for the partitions themselves.
func chain(c *machine.Contents, r *machine.Record) bool {
	if r.Style != disk.StyleMBR {
		return true
	}
	var logical []*disk.Partition
	for i := range r.Partitions {
		if r.Partitions[i].Logical {
			logical = append(logical, &r.Partitions[i])
		}
	}
	slices.SortFunc(logical, func(p, q *disk.Partition) int { return cmp.Compare(p.Start, q.Start) })
	if len(logical) > 0 && (!around(c, r, logical) || !recorded(c, r, logical)) {
		return false
	}
	var taken [5]bool
	taken[r.Extended.Number] = true
	for _, p := range r.Partitions {
		if p.Logical {
			continue
		}
		if p.Number < 1 || p.Number > 4 || taken[p.Number] {
			return false
		}
		taken[p.Number] = true
	}
	return outside(r)
}

// around has an extended partition that the logical ones lie in.
func around(c *machine.Contents, r *machine.Record, logical []*disk.Partition) bool {
	x, last := &r.Extended, logical[len(logical)-1].End()
	if x.Number == 0 {
		x.Number = 1
		taken := func(p disk.Partition) bool { return !p.Logical && p.Number == x.Number }
		for slices.ContainsFunc(r.Partitions, taken) {
			x.Number++
		}
		x.Start, x.Type = logical[0].EBR, extendedType(last)
		if x.Start == 0 {
			x.Start = logical[0].Start - min(logical[0].Start, disk.BeforeLogical(c.Layout.SectorSize)[0])
		}
	}
	end := max(x.Start+x.Length, last)
	for _, p := range r.Partitions {
		if !p.Logical && p.Start > x.Start {
			end = min(end, p.Start)
		}
	}
	x.Length = max(min(end, c.Layout.Sectors), last) - x.Start
	return x.Number <= 4 && x.Start > 0 && x.Start < logical[0].Start
}

// recorded gives each logical partition the sector of its record: the first one's is the
// extended partition's own, the others' stand where they stood, or a MiB, a track or a sector
// before what they tell of.
func recorded(c *machine.Contents, r *machine.Record, logical []*disk.Partition) bool {
	behind := r.Extended.Start
	for i, p := range logical {
		p.Number, p.Passed = 5+i, false
		if i == 0 {
			p.EBR, behind = r.Extended.Start, p.End()
			continue
		}
		places := []uint64{p.EBR}
		for _, back := range disk.BeforeLogical(c.Layout.SectorSize) {
			places = append(places, p.Start-min(p.Start, back))
		}
		at := slices.IndexFunc(places, func(s uint64) bool { return s >= behind && s < p.Start })
		if at < 0 {
			return false
		}
		p.EBR, behind = places[at], p.End()
	}
	return true
}

// outside reports whether the extended partition lies beside the primary ones, on sectors that
// a record can tell.
func outside(r *machine.Record) bool {
	x := r.Extended
	for _, p := range r.Partitions {
		if !p.Logical && x.Number > 0 && p.Start < x.Start+x.Length && x.Start < p.End() || p.End() > 1<<32 {
			return false
		}
	}
	return true
}

// chainSectors are the sectors of the records of logical partitions.
func chainSectors(r machine.Record) (sectors []Sectors) {
	for _, p := range r.Partitions {
		if p.Logical {
			sectors = append(sectors, Sectors{p.EBR, 1})
		}
	}
	return sectors
}

// chainCommands write a table with logical partitions byte by byte: a tool for tables puts
// the records where it would have them.
func chainCommands(c *machine.Contents, r machine.Record) (cmds []Command) {
	primary, logical := r.Entries(c.Layout.SectorSize)
	for i, e := range logical {
		var next *disk.MBREntry
		at := uint64(e.Offset) / uint64(c.Layout.SectorSize)
		if i+1 < len(logical) {
			follows := uint64(logical[i+1].Offset) / uint64(c.Layout.SectorSize)
			next = &disk.MBREntry{Type: 0x05, Start: follows - r.Extended.Start,
				Length: logical[i+1].Start + logical[i+1].Length - follows}
		}
		cmds = append(cmds, write(e.Offset, "66 bytes copied.", e.Chain(at, next)...))
	}
	if was := c.Layout.MBR; was == nil || was.DiskSignature != r.Signature {
		cmds = append(cmds, write(440, "4 bytes copied.", binary.LittleEndian.AppendUint32(nil, r.Signature)...))
	}
	var table []byte
	for _, e := range primary {
		if e.Used() {
			table = append(table, e.Record()...)
		} else {
			table = append(table, make([]byte, 16)...)
		}
	}
	return append(cmds, write(446, "66 bytes copied.", append(table, 0x55, 0xAA)...), reread())
}
