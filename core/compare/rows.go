package compare

import (
	"fmt"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// bootRows compares what the firmware or the boot code runs.
func bootRows(a, b side) []Row {
	boot := func(label string, of func(side) (string, fact.Source), stage course.Stage, meaning string) Row {
		va, sa := of(a)
		vb, sb := of(b)
		r := row(GroupBoot, label, va, vb, Matters, meaning, cite(a.Drive, "original: "+label, va, sa),
			cite(b.Drive, "clone: "+label, vb, sb))
		if b.blocked(stage) && va != vb {
			r.Matter, r.Meaning = Decides, "blocks: "+meaning
		}
		return r
	}
	rows := []Row{}
	if has(a, disk.Partition.IsESP) || has(b, disk.Partition.IsESP) {
		rows = append(rows, boot("EFI system partition", bootPartition(disk.Partition.IsESP), course.StageBootPartition, "the firmware has nothing to run"))
	}
	active := func(p disk.Partition) bool { return p.Active }
	if has(a, active) || has(b, active) || styleOf(a) == "MBR" || styleOf(b) == "MBR" {
		rows = append(rows,
			boot("Active partition", bootPartition(active), course.StageBootPartition, "the boot code finds nothing to start"),
			boot("Boot code", bootCode, course.StageTable, "sector 0 holds nothing to run"))
	}
	meaning := "the firmware does not find its program"
	if b.blocked(course.StageBootPartition) || b.blocked(course.StageMode) {
		meaning = "follows from the boot partition's absence"
	}
	for _, path := range loaderPaths(a, b) {
		rows = append(rows, boot(path, loaderAt(path), course.StageLoader, meaning))
	}
	return rows
}

func has(s side, want func(disk.Partition) bool) bool {
	for _, p := range partitions(s.Contents) {
		if want(p) {
			return true
		}
	}
	return false
}

func bootPartition(want func(disk.Partition) bool) func(side) (string, fact.Source) {
	return func(s side) (string, fact.Source) {
		for i, p := range partitions(s.Contents) {
			if want(p) {
				return fmt.Sprintf("%d · %s · %s", p.Number, disk.Binary(disk.Span(p.Length, s.Contents.Layout.SectorSize)),
					s.Contents.Volumes[i].Kind), p.Source
			}
		}
		return "none", fact.Source{Origin: fact.Computed}
	}
}

func bootCode(s side) (string, fact.Source) {
	if s.Contents == nil || s.Contents.Layout.MBR == nil {
		return notInEvidence, fact.Source{Origin: fact.Computed}
	}
	return string(s.Contents.Code), fact.Source{Origin: fact.Bytes, Structure: "MBR", Field: "boot code", Length: 440}
}

func loaderPaths(sides ...side) []string {
	var paths []string
	seen := map[string]bool{}
	for _, s := range sides {
		if s.Contents == nil {
			continue
		}
		for _, v := range s.Contents.Volumes {
			for _, f := range v.Loaders {
				if key := strings.ToLower(f.Path); !seen[key] {
					seen[key] = true
					paths = append(paths, f.Path)
				}
			}
		}
	}
	return paths
}

func loaderAt(path string) func(side) (string, fact.Source) {
	return func(s side) (string, fact.Source) {
		if s.Contents == nil {
			return notInEvidence, fact.Source{Origin: fact.Computed}
		}
		for i, v := range s.Contents.Volumes {
			for _, f := range v.Loaders {
				if strings.EqualFold(f.Path, path) {
					start := disk.Span(s.Contents.Layout.Partitions[i].Start, s.Contents.Layout.SectorSize)
					return programText(f), fact.Source{Origin: fact.Bytes, Structure: "FAT directory entry", Field: f.File.Name,
						Offset: start + f.File.Offset, Length: 32}
				}
			}
		}
		return "none", fact.Source{Origin: fact.Computed}
	}
}

func programText(f loader.Found) string {
	if f.Err != nil {
		return "damaged"
	}
	text := string(f.Program.Arch)
	if text == "" {
		text = fmt.Sprintf("machine 0x%04X", f.Program.Machine)
	}
	if f.Program.Signed {
		text += " · signed"
	}
	return text
}

// orderRows compares how the firmware comes to the disks.
func orderRows(m machine.Machine, a, b side) []Row {
	place := func(s side) string {
		if attached, known := s.Attached.Get(); known && !attached {
			return "not attached"
		}
		for i, name := range m.DeviceOrder {
			if name == s.Name {
				return []string{"first", "second", "third", "fourth"}[min(i, 3)]
			}
		}
		return "not known"
	}
	r := row(GroupOrder, "Place in the order", place(a), place(b), Fine, "the firmware comes to the clone first")
	switch {
	case b.state(course.StageOrder) == course.Wrong:
		r.Matter, r.Meaning = Decides, "the original is started: move the clone to the front, or pull the original"
	case b.state(course.StageDrive) == course.Blocks:
		r.Matter, r.Meaning = Decides, "blocks: the firmware does not see the clone"
	case place(b) == "not known":
		r.Matter, r.Meaning = Matters, "the order decides which disk is started"
	case place(a) == "not attached":
		r.Meaning = "the clone stands alone: it cannot be mistaken"
	}
	rows := []Row{r}
	if e := m.Firmware.Entries; e != nil {
		for _, entry := range e.Sequence() {
			if entry.Path.Partition != nil {
				rows = append(rows, entryRow(a, b, entry))
			}
		}
	}
	return rows
}

func identityRows(a, b side) []Row {
	idA, srcA := diskID(a)
	idB, srcB := diskID(b)
	r := row(GroupIdentity, "Disk identifier", idA, idB, Fine, "of its own: both disks may be attached together",
		cite(a.Drive, "original: disk identifier", idA, srcA), cite(b.Drive, "clone: disk identifier", idB, srcB))
	both := attachedBoth(a, b)
	if r.Matter == Agrees && idA != notInEvidence {
		r.Meaning = "the same on both: do not attach both disks at the first start"
		if both {
			r.Matter = Matters
		}
	}
	rows := []Row{r}
	if same, total := sameGUIDs(a, b); total > 0 {
		g := row(GroupIdentity, "Unique partition GUIDs", fmt.Sprintf("%d", total), fmt.Sprintf("%d the same", same), Fine,
			"made anew by the copy: boot entries and configuration that name the old ones lead nowhere")
		if same == total {
			g.Meaning = "carried over: what refers to the original's partitions fits the clone's"
			if both {
				g.Matter, g.Meaning = Matters, "the same on both attached disks: an entry may mean either"
			}
		}
		rows = append(rows, g)
	}
	return rows
}

func attachedBoth(a, b side) bool {
	x, _ := a.Attached.Get()
	y, _ := b.Attached.Get()
	return x && y
}

func diskID(s side) (string, fact.Source) {
	if s.Contents == nil {
		return notInEvidence, fact.Source{Origin: fact.Computed}
	}
	id, ok := s.Contents.Layout.DiskID().Get()
	if !ok {
		return "none", fact.Source{Origin: fact.Computed}
	}
	return id, s.Contents.Layout.DiskID().Source()
}

func sameGUIDs(a, b side) (same, total int) {
	on := map[disk.GUID]bool{}
	for _, p := range partitions(b.Contents) {
		on[p.GUID] = true
	}
	for _, p := range partitions(a.Contents) {
		if !p.GUID.IsZero() {
			total++
			if on[p.GUID] {
				same++
			}
		}
	}
	return same, total
}

func geometryRows(a, b side, pairs []Pair) []Row {
	rows := []Row{capacityRow(a, b)}
	size := func(s side) string {
		if s.Contents == nil {
			return notInEvidence
		}
		return fmt.Sprintf("%d bytes", s.Contents.Layout.SectorSize)
	}
	r := row(GroupGeometry, "Logical sector size", size(a), size(b), Matters, "a raw copy puts the table in the wrong place")
	if b.blocked(course.StageTable) && r.Matter != Agrees {
		r.Matter = Decides
	}
	rows = append(rows, r)
	for _, p := range pairs {
		rows = append(rows, partitionRow(a, b, p))
	}
	return rows
}

func capacityRow(a, b side) Row {
	size := func(s side) (string, int64) {
		if s.Contents == nil {
			return notInEvidence, 0
		}
		n, known := s.Contents.Size()
		if !known {
			return notInEvidence, 0
		}
		return disk.Both(n), n
	}
	ta, na := size(a)
	tb, nb := size(b)
	meaning := "larger: fine"
	if nb < na {
		meaning = "smaller: what lay beyond its end is lost unless the partitions were shrunk first"
	}
	matter := Fine
	if na == 0 || nb == 0 {
		meaning = "the smaller disk cannot hold what lies at the end of the larger"
	}
	if nb < na && nb > 0 {
		matter = Matters
	}
	return row(GroupGeometry, "Capacity", ta, tb, matter, meaning)
}

func partitionRow(a, b side, p Pair) Row {
	one := func(s side, i int) (string, disk.Partition) {
		if i < 0 {
			return "none", disk.Partition{}
		}
		part := s.Contents.Layout.Partitions[i]
		if part.Unplaced {
			return disk.Binary(disk.Span(part.Length, s.Contents.Layout.SectorSize)), part
		}
		return fmt.Sprintf("%s from %d", disk.Binary(disk.Span(part.Length, s.Contents.Layout.SectorSize)), part.Start), part
	}
	ta, pa := one(a, p.Original)
	tb, pb := one(b, p.Clone)
	named, facts := pa, []machine.Fact{}
	if p.Original >= 0 {
		facts = append(facts, cite(a.Drive, "original: partition "+fmt.Sprint(pa.Number), ta, pa.Source))
	} else {
		named = pb
	}
	if p.Clone >= 0 {
		facts = append(facts, cite(b.Drive, "clone: partition "+fmt.Sprint(pb.Number), tb, pb.Source))
	}
	matter, meaning := partitionMeaning(b, p, pa, pb)
	return row(GroupGeometry, fmt.Sprintf("%d · %s", named.Number, named.Type.Name), ta, tb, matter, meaning, facts...)
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
	case pb.End() > b.Contents.Layout.Sectors:
		return Decides, fmt.Sprintf("cut off: the disk ends at sector %d", b.Contents.Layout.Sectors-1)
	case pa.Unplaced || pb.Unplaced:
		return Fine, "another size"
	case pa.Start != pb.Start && pa.Length != pb.Length:
		return Fine, "moved and resized: fine where nothing names its place"
	case pa.Start != pb.Start:
		return Fine, "moved: fine where nothing names its place"
	}
	return Fine, "resized: fine"
}
