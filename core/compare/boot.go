package compare

import (
	"fmt"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// bootRows compares what the firmware or the boot code runs.
func bootRows(a, b side) []Row {
	rows := []Row{}
	if has(a, disk.Partition.IsESP) || has(b, disk.Partition.IsESP) {
		rows = append(rows, bootRow("EFI system partition", systemPartition(a), systemPartition(b), b,
			course.StageBootPartition, lacks{"the firmware has nothing to run", "the firmware cannot read it"}))
	}
	if has(a, active) || has(b, active) || style(a).text == string(disk.StyleMBR) ||
		style(b).text == string(disk.StyleMBR) {
		rows = append(rows, bootRow("Active partition", activePartition(a), activePartition(b), b,
			course.StageBootPartition, lacks{"the boot code finds nothing to start", "only one may be marked"}),
			bootRow("Boot code", bootCode(a), bootCode(b), b, course.StageTable,
				lacks{"sector 0 holds nothing to run", ""}))
	}
	meaning := lacks{"the firmware does not find its program", "the firmware does not start a damaged program"}
	if b.blocked(course.StageBootPartition) || b.blocked(course.StageMode) {
		meaning.absent = "follows from the boot partition's absence"
	}
	for _, path := range loaderPaths(a, b) {
		rows = append(rows, bootRow(path, loaderAt(a, path), loaderAt(b, path), b, course.StageLoader, meaning))
	}
	return rows
}

// lacks says what it means that the clone lacks a thing, or has a flawed one.
type lacks struct{ absent, flawed string }

// bootRow compares a thing that the stage needs.
func bootRow(label string, va, vb value, b side, stage course.Stage, means lacks) Row {
	meaning := map[presence]string{absent: means.absent, flawed: means.flawed}[vb.is]
	matter := Matters
	switch {
	case vb.is == present && va.is == absent:
		matter, meaning = Fine, "only on the clone"
	case vb.is == present:
		matter, meaning = Fine, "another one, on the clone too"
	}
	r := row(GroupBoot, label, va, vb, matter, meaning)
	r.decides(b.blocked(stage) && va.text != vb.text && (vb.is == absent || vb.is == flawed), "blocks: "+meaning)
	return r
}

func has(s side, want func(disk.Partition) bool) bool { return len(wanted(s, want)) > 0 }

func active(p disk.Partition) bool { return p.Active }

// wanted returns the indices of the partitions that are wanted.
func wanted(s side, want func(disk.Partition) bool) []int {
	var out []int
	for i, p := range partitions(s.Contents) {
		if want(p) {
			out = append(out, i)
		}
	}
	return out
}

func systemPartition(s side) value {
	on := wanted(s, disk.Partition.IsESP)
	if len(on) == 0 {
		return s.none(s.whole() && len(wanted(s, func(p disk.Partition) bool { return p.TypeOpen })) == 0)
	}
	v := bootPartitions(s, on)
	for _, i := range on {
		if x := &s.Contents.Volumes[i]; x.IsFAT() || x.Kind == volume.NotCaptured {
			return v
		}
	}
	v.is = flawed
	return v
}

func activePartition(s side) value {
	on := wanted(s, active)
	if len(on) == 0 {
		return s.none(s.whole() && len(wanted(s, func(p disk.Partition) bool { return p.ActiveOpen })) == 0)
	}
	v := bootPartitions(s, on)
	if len(on) > 1 {
		v.is = flawed
	}
	return v
}

// bootPartitions describes the partitions, each by number, size and file system.
func bootPartitions(s side, on []int) value {
	var texts []string
	for _, i := range on {
		p := s.Contents.Layout.Partitions[i]
		text := fmt.Sprintf("%d · %s", p.Number, disk.Binary(disk.Span(p.Length, s.Contents.Layout.SectorSize)))
		if kind := s.Contents.Volumes[i].Kind; kind != volume.NotCaptured {
			text += " · " + string(kind)
		}
		texts = append(texts, text)
	}
	return s.value(present, strings.Join(texts, ", "), s.Contents.Layout.Partitions[on[0]].Source)
}

func bootCode(s side) value {
	if s.Contents == nil || s.Contents.Layout.MBR == nil || s.Contents.Code == loader.CodeUnknown {
		return s.none(false)
	}
	v := s.value(present, string(s.Contents.Code),
		fact.Source{Origin: fact.Bytes, Structure: "MBR", Field: "boot code", Length: 440})
	if s.Contents.Code == loader.CodeNone {
		v.is = absent
	}
	return v
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

func loaderAt(s side, path string) value {
	if s.Contents == nil {
		return s.none(false)
	}
	known := s.whole()
	for i := range s.Contents.Volumes {
		v := &s.Contents.Volumes[i]
		if f, ok := v.Loader(path); ok {
			return program(s, i, f)
		}
		known = known && v.Kind != volume.NotCaptured && !disk.IsNotCaptured(v.LoaderErr)
	}
	return s.none(known)
}

// program describes a loader on the partition of the index.
func program(s side, i int, f loader.Found) value {
	start := disk.Span(s.Contents.Layout.Partitions[i].Start, s.Contents.Layout.SectorSize)
	v := s.value(present, string(f.Program.Arch), fact.Source{Origin: fact.Bytes, Structure: "FAT directory entry",
		Field: f.File.Name, Offset: start + f.File.Offset, Length: 32})
	switch {
	case f.Missing():
		return s.none(false)
	case f.Err != nil:
		v.is, v.text = flawed, "damaged"
		return v
	case v.text == "":
		v.text = fmt.Sprintf("machine 0x%04X", f.Program.Machine)
	}
	if f.Program.Signed {
		v.text += " · signed"
	}
	return v
}

// filesKnown reports whether the evidence tells of every file that a start follows.
func filesKnown(s side) bool {
	if !s.whole() {
		return false
	}
	for i := range s.Contents.Volumes {
		v := &s.Contents.Volumes[i]
		if v.Kind == volume.NotCaptured || machine.Missing(v) || disk.IsNotCaptured(v.LoaderErr) {
			return false
		}
		for j := range v.Configs {
			if v.Configs[j].Missing() {
				return false
			}
		}
	}
	return true
}
