package compare

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
)

func geometryRows(a, b side, pairs []Pair) []Row {
	r := row(GroupGeometry, "Logical sector size", sectorSize(a), sectorSize(b), Matters,
		"a raw copy puts the table in the wrong place")
	r.decides(r.Matter == Matters && b.blocked(course.StageTable), r.Meaning)
	rows := []Row{capacityRow(a, b), r}
	for _, p := range pairs {
		rows = append(rows, partitionRow(a, b, p))
	}
	return rows
}

func sectorSize(s side) value {
	if s.Contents == nil || s.Contents.Layout.SectorOpen {
		return s.none(false)
	}
	return s.value(present, fmt.Sprintf("%d bytes", s.Contents.Layout.SectorSize), fact.Source{})
}

func capacityRow(a, b side) Row {
	va, na := capacity(a)
	vb, nb := capacity(b)
	if nb < na {
		return row(GroupGeometry, "Capacity", va, vb, Matters,
			"smaller: what lay beyond its end is lost unless the partitions were shrunk first")
	}
	return row(GroupGeometry, "Capacity", va, vb, Fine, "larger: fine")
}

// capacity is a drive's size in bytes, 0 where it is not known.
func capacity(s side) (value, int64) {
	if s.Contents == nil {
		return s.none(false), 0
	}
	n, known := s.Contents.Size()
	if !known {
		return s.none(false), 0
	}
	return s.value(present, disk.Both(n), fact.Source{}), n
}

func partitionRow(a, b side, p Pair) Row {
	va, pa := extent(a, p.Original, p)
	vb, pb := extent(b, p.Clone, p)
	named := pa
	if p.Original < 0 {
		named = pb
	}
	matter, meaning := partitionMeaning(b, p, pa, pb)
	r := row(GroupGeometry, fmt.Sprintf("%d · %s", named.Number, named.Type.Name), va, vb, matter, meaning)
	r.decides(p.Clone >= 0 && b.Contents.Lost(pb),
		fmt.Sprintf("cut off: the disk ends at sector %d", b.lastSector()))
	return r
}

func (s side) lastSector() uint64 {
	if s.Contents == nil {
		return 0
	}
	return s.Contents.Layout.Sectors - 1
}

// extent says where the partition of the index lies and how large it is.
func extent(s side, i int, p Pair) (value, disk.Partition) {
	if i < 0 {
		return s.none(p.By != NotTold), disk.Partition{}
	}
	part := s.Contents.Layout.Partitions[i]
	text := disk.Binary(disk.Span(part.Length, s.Contents.Layout.SectorSize))
	if !part.Unplaced {
		text += fmt.Sprintf(" from %d", part.Start)
	}
	return s.value(present, text, part.Source), part
}

func partitionMeaning(b side, p Pair, pa, pb disk.Partition) (Matter, string) {
	switch {
	case p.Original < 0:
		return Fine, "only on the clone"
	case p.Clone < 0 && pa.Type.Role == disk.RoleBoot:
		if b.blocked(course.StageBootPartition) || b.blocked(course.StageMode) {
			return Decides, "left behind: blocks"
		}
		return Matters, "left behind"
	case p.Clone < 0 && pa.Type.Role == disk.RoleRecovery:
		return Matters, "left behind: starts without, the recovery tools are missing"
	case p.Clone < 0 && pa.Type.Role == disk.RoleSystem:
		return Matters, "left behind: what it held is not on the clone"
	case p.Clone < 0:
		return Fine, "left behind: not needed to start"
	case pa.Unplaced || pb.Unplaced:
		return Fine, "another size"
	case pa.Start != pb.Start && pa.Length != pb.Length:
		return Fine, "moved and resized: fine where nothing names its place"
	case pa.Start != pb.Start:
		return Fine, "moved: fine where nothing names its place"
	}
	return Fine, "resized: fine"
}
