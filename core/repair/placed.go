package repair

import (
	"slices"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// How the entries of a table are brought to where the file systems lie.

// foundAt is the volume that begins at a sector.
func foundAt(c *machine.Contents, start uint64) (machine.Found, bool) {
	i := slices.IndexFunc(c.Found, func(f machine.Found) bool { return f.Partition.Start == start })
	if i < 0 {
		return machine.Found{}, false
	}
	return c.Found[i], true
}

// placed brings the entries that begin where no volume does to the one that begins near by,
// and returns the volumes that no entry tells of.
func placed(c *machine.Contents, entries []disk.Partition) (parts []disk.Partition, unclaimed []machine.Found) {
	unclaimed = slices.Clone(c.Found)
	claim := func(start uint64) {
		unclaimed = slices.DeleteFunc(unclaimed, func(f machine.Found) bool { return f.Partition.Start == start })
	}
	for _, p := range entries {
		claim(p.Start)
	}
	near := uint64(1<<20) / uint64(c.Layout.SectorSize)
	for _, p := range entries {
		if _, sits := foundAt(c, p.Start); !sits && !bare(p) {
			for _, f := range unclaimed {
				if at := f.Partition.Start; max(at, p.Start)-min(at, p.Start) <= near {
					end := p.End()
					p.Start, p.Length = at, max(end, at)-at
					claim(at)
					break
				}
			}
		}
		parts = append(parts, p)
	}
	return parts, unclaimed
}

// dropped takes out what holds no volume and lies over what does, or beyond the end. It
// reports false where the evidence does not tell what an entry holds.
func dropped(c *machine.Contents, r *machine.Record) bool {
	end, known := c.Layout.Sectors, true
	r.Partitions = slices.DeleteFunc(r.Partitions, func(p disk.Partition) bool {
		if _, sits := foundAt(c, p.Start); sits {
			return false
		}
		over := p.Start >= end || p.Length == 0 || slices.ContainsFunc(r.Partitions, func(q disk.Partition) bool {
			_, sits := foundAt(c, q.Start)
			return sits && p.Start < q.End() && q.Start < p.End()
		})
		known = known && !(over && c.FoundLacks)
		return over
	})
	return known
}

// shortened ends each partition before the next one and before the end of the disk. It
// reports false where the volume in it needs more, or does not tell what it needs.
func shortened(c *machine.Contents, r *machine.Record) bool {
	limit := c.Layout.Sectors
	if r.Style == disk.StyleGPT {
		limit = disk.LastUsable(limit, c.Layout.SectorSize) + 1
	}
	for i := range r.Partitions {
		p, end := &r.Partitions[i], limit
		for _, q := range r.Partitions {
			if q.Start > p.Start {
				end = min(end, q.Start)
			}
		}
		f, sits := foundAt(c, p.Start)
		need := f.Partition.Length
		switch {
		case p.End() <= end && p.Length >= need:
		case !sits || need == 0 || p.Start > end || need > end-p.Start:
			return false
		case p.End() > end:
			p.Length = end - p.Start
		default:
			p.Length = need
		}
	}
	return true
}

// bare reports whether a partition may hold no file system: room that a system keeps for
// itself, or for a loader.
func bare(p disk.Partition) bool {
	return p.TypeGUID == disk.TypeMSReserved || p.TypeGUID == disk.TypeBIOSBoot || p.Type.Role == disk.RoleReserved
}
