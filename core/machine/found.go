package machine

import (
	"cmp"
	"slices"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// Found is a volume that lies on a disk of which no table tells, or one that tells otherwise
// than the volumes.
type Found struct {
	Partition disk.Partition // where it lies; its length is the volume's own, or 0
	Volume    Volume
	Record    disk.MBREntry // that tells of it as of a logical partition; its type is 0 where none does
}

// lacksTable reports whether the disk has no table that tells of its partitions, and that
// is known.
func (c *Contents) lacksTable() bool {
	l := &c.Layout
	switch {
	case l.WrittenFor != 0 || l.Open:
		return false
	case l.Style == disk.StyleGPT:
		lost := func(g *disk.GPTCopy) bool { return g.State == disk.CopyAbsent || g.State == disk.CopyDamaged }
		return l.GPT != nil && l.GPT.Valid() == nil && lost(&l.GPT.Primary) && lost(&l.GPT.Backup)
	}
	return l.Style != disk.StyleUnknown && len(l.Partitions) == 0
}

// LacksTable reports whether the volumes were found on a disk that has no table of them.
func (c *Contents) LacksTable() bool { return len(c.Found) > 0 && c.lacksTable() }

// SearchEnded reports whether volumes were looked for on a disk without a table, and not up to
// its end.
func (c *Contents) SearchEnded() bool { return c.lacksTable() && c.FoundUpTo < c.Layout.Sectors }

// search looks for the volumes of a disk without a table, and reads them.
func (c *Contents) search(d *disk.Disk, left *budget) {
	hits, upTo, lacks := volume.Search(d)
	c.FoundUpTo, c.FoundLacks = upTo, lacks
	c.examineFound(d, hits, left)
}

// searchDoubted looks for volumes where the table lets them be missed: where it says that a
// partition begins and no volume does, and at the beginning of what it leaves free. With
// them stand those that begin where it says.
func (c *Contents) searchDoubted(d *disk.Disk, left *budget) {
	hits, lacks := c.searchGaps(d)
	if len(hits) == 0 && !c.tableDoubted() {
		return
	}
	c.FoundUpTo, c.FoundLacks = c.Layout.Sectors, lacks
	for i, p := range c.Layout.Partitions {
		v := &c.Volumes[i]
		if holdsNone(v) {
			c.FoundLacks = c.FoundLacks || v.KindUnseen()
			continue
		}
		length, _ := v.TotalSectors.Get()
		hits = slices.DeleteFunc(hits, func(h volume.Hit) bool { return h.Start == p.Start })
		at := disk.Partition{Number: p.Number, Start: p.Start, Length: length}
		c.Found = append(c.Found, Found{Partition: at, Volume: *v})
	}
	c.examineFound(d, hits, left)
}

// searchGaps looks at the doubted places, and behind what it found there: more volumes may
// follow of which no record is left.
func (c *Contents) searchGaps(d *disk.Disk) (hits []volume.Hit, lacks bool) {
	l := &c.Layout
	per := uint64(1<<20) / uint64(l.SectorSize)
	seen := map[uint64]bool{}
	starts, _, _ := volume.Searched(d)
	starts = slices.DeleteFunc(starts, c.heldAt)
	for places := append(c.doubted(), starts...); len(places) > 0; {
		for _, at := range places {
			seen[at] = true
		}
		more, missing := volume.SearchAt(d, places)
		hits, lacks, places = append(hits, more...), lacks || missing, nil
		for _, h := range more {
			end := h.Start + h.Length
			up := (end + per - 1) / per * per
			for _, at := range []uint64{end, end + 63, up, up + per} {
				if h.Length > 0 && !seen[at] && !c.heldAt(at) && len(hits) < maxFound {
					places = append(places, at)
				}
			}
		}
	}
	return hits, lacks
}

// Stretch is a run of sectors, from one up to another.
type Stretch struct{ From, To uint64 }

// Unsearched are the stretches of a disk in which a volume may lie that was not looked for: what
// a search did not come to where no table tells of partitions, else what lies between those
// that hold volumes.
func (c *Contents) Unsearched() (all []Stretch) {
	l := &c.Layout
	if c.lacksTable() {
		if c.FoundUpTo < l.Sectors {
			all = append(all, Stretch{c.FoundUpTo, l.Sectors})
		}
		return all
	}
	var held []Stretch
	for i, p := range l.Partitions {
		if !holdsNone(&c.Volumes[i]) || p.Type.Role == disk.RoleReserved {
			held = append(held, Stretch{p.Start, p.End()})
		}
	}
	for _, f := range c.Found {
		held = append(held, Stretch{f.Partition.Start, f.Partition.End()})
	}
	slices.SortFunc(held, func(a, b Stretch) int { return cmp.Compare(a.From, b.From) })
	per, free := uint64(1<<20)/uint64(l.SectorSize), uint64(0)
	for _, h := range append(held, Stretch{l.Sectors, l.Sectors}) {
		if h.From > free+per*(ofGap+1) {
			all = append(all, Stretch{free, h.From})
		}
		free = max(free, h.To)
	}
	return all
}

// maxFound bounds the volumes that are followed from one to the next.
const maxFound = 64

// heldAt reports whether a sector belongs to a partition that holds a volume.
func (c *Contents) heldAt(at uint64) bool {
	for i, p := range c.Layout.Partitions {
		if p.Start <= at && at < p.End() && !holdsNone(&c.Volumes[i]) {
			return true
		}
	}
	return false
}

// tableDoubted reports whether a table that is in force contradicts itself, or is one that Linux and
// its tools do not take.
func (c *Contents) tableDoubted() bool {
	for _, code := range []disk.ProblemCode{disk.CodeOverlap, disk.CodeBeyondEnd, disk.CodeGPTEntryOutside,
		disk.CodeGPTEntryBackwards, disk.CodeMBRStatus, disk.CodeGPTStale, disk.CodeGPTCopiesDiffer} {
		if _, found := c.Layout.Find(code); found {
			return true
		}
	}
	for i := range c.Volumes {
		if _, long := c.Volumes[i].Problem(volume.CodeVolumeTooLong); long {
			return true
		}
	}
	_, refused := c.Layout.RefusedByLinux()
	return refused || c.Layout.ChainBroken()
}

// holdsNone reports whether no volume is known to begin where a partition does.
func holdsNone(v *Volume) bool {
	return v.Kind == volume.Unknown || v.Kind == volume.Empty || v.Kind == volume.NotCaptured || v.Kind == ""
}

// ofGap is how many places of free room are looked at, a MiB from each other.
const ofGap = 8

// doubted lists the sectors at which a volume may begin that the table does not tell of: near
// partitions that hold none, where another copy of the table has one begin, and at the
// beginning of free room.
func (c *Contents) doubted() []uint64 {
	l := &c.Layout
	if l.WrittenFor != 0 || l.Open || l.Style != disk.StyleGPT && l.Style != disk.StyleMBR {
		return nil
	}
	per := uint64(1<<20) / uint64(l.SectorSize)
	places := append(otherStarts(l), freeStarts(l, per)...)
	for i, p := range l.Partitions {
		if holdsNone(&c.Volumes[i]) && p.Type.Role != disk.RoleReserved {
			near := p.Start / per * per
			places = append(places, p.Start-min(p.Start, 1), p.Start+1, p.Start+63, near, near+per)
		}
	}
	if l.Style == disk.StyleMBR && l.MBR != nil {
		for _, e := range l.MBR.Entries {
			for _, behind := range disk.BeforeLogical(l.SectorSize) {
				if at := e.Start + behind; e.Extended() && !c.heldAt(at) {
					places = append(places, at)
				}
			}
		}
	}
	slices.Sort(places)
	return slices.Compact(places)
}

// otherStarts are where a copy that is not in force has partitions begin, and the one in
// force has none.
func otherStarts(l *disk.Layout) (places []uint64) {
	other := l.Stale.Valid()
	if l.GPT != nil && other == nil {
		other = &l.GPT.Backup
	}
	if other == nil || other.State != disk.CopyGood {
		return nil
	}
	for _, e := range other.Entries {
		if !slices.ContainsFunc(l.Partitions, func(p disk.Partition) bool { return p.Start == e.First }) {
			places = append(places, e.First)
		}
	}
	return places
}

// freeStarts are the places at the beginning of each stretch of free room.
func freeStarts(l *disk.Layout, per uint64) (places []uint64) {
	taken := slices.Clone(l.Partitions)
	slices.SortFunc(taken, func(p, q disk.Partition) int { return cmp.Compare(p.Start, q.Start) })
	free := uint64(0)
	for _, p := range append(taken, disk.Partition{Start: l.Sectors}) {
		if p.Start > free && p.Start-free >= per {
			if free == 0 {
				places = append(places, volume.First...)
			}
			places = append(places, free)
			for i := range uint64(ofGap) {
				if at := (free/per + 1 + i) * per; at < p.Start {
					places = append(places, at)
				}
			}
		}
		free = max(free, p.End())
	}
	return places
}

// examineFound reads the volumes that were found.
func (c *Contents) examineFound(d *disk.Disk, hits []volume.Hit, left *budget) {
	for i, h := range hits {
		p := disk.Partition{Number: i + 1, Start: h.Start, Length: h.Length}
		read := p
		if read.Length == 0 {
			read.Length = d.Sectors() - h.Start
		}
		v := examineVolume(d, read, nil, left)
		v.dropProblem(volume.CodeVolumeTooLong)
		read.MBRType = 7
		v.runAlone(d, read)
		c.Found = append(c.Found, Found{Partition: p, Volume: v})
	}
	for i := range c.Found {
		c.tellRecord(d, &c.Found[i])
	}
}

// tellRecord looks for the record that a volume has before it as a logical partition.
func (c *Contents) tellRecord(d *disk.Disk, f *Found) {
	if c.Layout.Style == disk.StyleGPT {
		return
	}
	e, found, err := disk.RecordBefore(d, f.Partition.Start)
	switch {
	case found && e.Length >= f.Partition.Length:
		f.Record = e
	case !found && disk.IsNotCaptured(err):
		c.FoundLacks = true
	}
}

// Record is a table as it can be written.
type Record struct {
	Style      disk.Style
	ID         disk.GUID // of a GPT's disk
	Signature  uint32    // of an MBR
	FirstLBA   uint64    // the first usable sector of a GPT; 0 is the usual one
	Partitions []disk.Partition
	Extended   disk.MBREntry // in which the logical partitions of an MBR lie; number 0 is none
}

// Entries are the records of an MBR's table, as they are written: those of sector 0, and of
// logical partitions.
func (r *Record) Entries(sectorSize int) (primary [4]disk.MBREntry, logical []disk.MBREntry) {
	for i := range primary {
		primary[i] = disk.MBREntry{Number: i + 1, Offset: 446 + 16*int64(i)}
	}
	for _, p := range r.Partitions {
		e := disk.MBREntry{Number: p.Number, Type: p.MBRType, Start: p.Start, Length: p.Length}
		if p.Active {
			e.Status = 0x80
		}
		if p.Logical {
			e.Offset = disk.Span(p.EBR, sectorSize) + 446
			logical = append(logical, e)
		} else {
			e.Offset = primary[p.Number-1].Offset
			primary[p.Number-1] = e
		}
	}
	if x := r.Extended; x.Number > 0 {
		x.Offset = primary[x.Number-1].Offset
		if !x.Active() {
			x.Status = 0 // tools that change the table later leave a strange one as it is
		}
		primary[x.Number-1] = x
	}
	return primary, logical
}

// overwritten has nothing more of what boot code loads from sectors from one up to another.
func (c *Contents) overwritten(from, to uint64) {
	if at := c.Core.Sector; c.Core.Present && from <= at && at < to {
		c.Core = GRUBCore{Sector: at, Known: true}
	}
}

// WithTable has the table, with the volumes that were found where its partitions begin.
func (c *Contents) WithTable(r Record) *Contents {
	e := c.edited()
	l := &e.Layout
	l.Problems = slices.DeleteFunc(l.Problems, func(p disk.Problem) bool { return p.Code != disk.CodeNotReadToItsEnd })
	l.Style, l.Partitions, e.Volumes, e.Found = r.Style, nil, nil, nil
	for _, p := range r.Partitions {
		p.Source = repaired
		v := Volume{Volume: volume.Volume{Kind: volume.Unknown}}
		if c.FoundLacks {
			v = Volume{Volume: volume.Volume{Kind: volume.NotCaptured}, LoaderErr: &disk.NotCaptured{}}
		}
		for _, f := range c.Found {
			if f.Partition.Start == p.Start {
				if v = f.Volume; p.Length >= f.Partition.Length {
					v.dropProblem(volume.CodeVolumeTooLong)
				}
			}
		}
		l.Partitions, e.Volumes = append(l.Partitions, p), append(e.Volumes, v)
	}
	mbr := disk.MBR{Signature: true, DiskSignature: r.Signature}
	if l.MBR != nil {
		mbr.BootCode = l.MBR.BootCode
	}
	l.MBR, l.GPT = &mbr, nil
	if r.Style == disk.StyleGPT {
		e.overwritten(1, disk.FirstUsable(l.SectorSize))
		l.GPT = &disk.GPT{Primary: disk.GPTCopy{Header: disk.GPTHeader{DiskGUID: r.ID, FirstUsableLBA: r.FirstLBA}}}
		e.tablesAnew(l.Sectors)
	} else {
		mbr.Entries, mbr.Logical = r.Entries(l.SectorSize)
	}
	if e.Code = loader.CodeNone; len(mbr.BootCode) > 0 {
		e.Code = loader.Classify(mbr.BootCode)
	}
	e.rerun()
	return e
}
