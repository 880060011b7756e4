package machine

import (
	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/volume"
	"slices"
)

// Found is a volume that lies on a disk of which no table tells.
type Found struct {
	Partition disk.Partition // where it lies; its length is the volume's own, or 0
	Volume    Volume
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

// search looks for the volumes of a disk without a table, and reads them.
func (c *Contents) search(d *disk.Disk, left *int64) {
	hits, upTo, lacks := volume.Search(d)
	c.FoundUpTo, c.FoundLacks = upTo, lacks
	for i, h := range hits {
		p := disk.Partition{Number: i + 1, Start: h.Start, Length: h.Length}
		read := p
		if read.Length == 0 {
			read.Length = d.Sectors() - h.Start
		}
		v := examineVolume(d, read, nil, left)
		v.dropProblem(volume.CodeVolumeTooLong)
		if v.Kind == volume.KindNTFS || v.IsFAT() {
			read.MBRType = 7
			v.runAlone(d, read)
		}
		c.Found = append(c.Found, Found{p, v})
	}
}

// Record is a table as it can be written.
type Record struct {
	Style      disk.Style
	ID         disk.GUID // of a GPT's disk
	Signature  uint32    // of an MBR
	FirstLBA   uint64    // the first usable sector of a GPT; 0 is the usual one
	Partitions []disk.Partition
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
		for _, f := range c.Found {
			if f.Partition.Start == p.Start {
				v = f.Volume
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
		l.GPT = &disk.GPT{Primary: disk.GPTCopy{Header: disk.GPTHeader{DiskGUID: r.ID, FirstUsableLBA: r.FirstLBA}}}
		e.tablesAnew(l.Sectors)
	} else {
		for _, p := range r.Partitions {
			i := p.Number - 1
			mbr.Entries[i] = disk.MBREntry{Number: p.Number, Type: p.MBRType, Start: p.Start, Length: p.Length,
				Offset: 446 + 16*int64(i)}
			if p.Active {
				mbr.Entries[i].Status = 0x80
			}
		}
	}
	if e.Code = loader.CodeNone; len(mbr.BootCode) > 0 {
		e.Code = loader.Classify(mbr.BootCode)
	}
	e.Run = nil // what it does is not known now
	return e
}
