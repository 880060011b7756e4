package machine

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/volume"
)

// Contradiction is a fact that two pieces of evidence tell differently. Bytes
// outrank text, text outranks typing: the stronger one is used.
type Contradiction struct {
	Drive    string `json:"drive,omitempty"`
	What     string `json:"what"`
	Stronger Fact   `json:"stronger"` // what is used
	Weaker   Fact   `json:"weaker"`
}

// Merge joins what several pieces of evidence tell of one drive, the strongest
// first: the first that knows a fact is used, and where another one tells it
// differently, that is a contradiction.
func Merge(drive string, pieces ...*Contents) (*Contents, []Contradiction) {
	var merged *Contents
	var found []Contradiction
	for _, c := range pieces {
		switch {
		case c == nil:
		case merged == nil:
			merged = c.clone()
		default:
			found = append(found, merged.against(drive, c)...)
			merged.fill(c)
		}
	}
	return merged, found
}

// clone copies contents as far as filling in changes them.
func (c *Contents) clone() *Contents {
	copied := *c
	copied.Volumes = append([]Volume{}, c.Volumes...)
	copied.Layout.Partitions = append([]disk.Partition{}, c.Layout.Partitions...)
	return &copied
}

// fill takes over what only the weaker piece knows.
func (c *Contents) fill(weak *Contents) {
	if c.Layout.Style == disk.StyleUnknown {
		known := *c
		*c = *weak.clone()
		if known.Layout.Sectors != disk.SectorsUnknown {
			c.takeSize(&known)
		}
		return
	}
	if c.Layout.Sectors == disk.SectorsUnknown || c.Rounded && !weak.Rounded &&
		weak.Layout.Sectors != disk.SectorsUnknown {
		c.takeSize(weak)
	}
	matched := map[int]bool{}
	for i := range c.Volumes {
		if j := c.counterpart(i, weak); j >= 0 {
			matched[j] = true
			if c.Volumes[i].Told {
				fillPartition(&c.Layout.Partitions[i], weak.Layout.Partitions[j])
			}
			c.Volumes[i].fill(&weak.Volumes[j])
		}
	}
	if c.listsLess() && weak.Layout.Style == c.Layout.Style {
		for j, p := range weak.Layout.Partitions {
			if !matched[j] {
				c.Layout.Partitions, c.Volumes = append(c.Layout.Partitions, p), append(c.Volumes, weak.Volumes[j])
			}
		}
		c.Layout.Open = weak.Layout.Open || !weak.TableKnown()
	}
	if _, known := c.Layout.DiskIDTold.Get(); !known && c.Layout.MBR != nil && c.Layout.MBR.BootCode == nil {
		c.Layout.DiskIDTold = weak.Layout.DiskIDTold
		if weak.Layout.MBR != nil {
			c.Layout.MBR = weak.Layout.MBR
		}
	}
}

// listsLess reports whether another piece may tell of more partitions than this one.
func (c *Contents) listsLess() bool { return c.Layout.Open || !c.TableKnown() }

// takeSize takes over the capacity that another piece knows.
func (c *Contents) takeSize(from *Contents) {
	c.Layout.Sectors = uint64(from.Layout.Bytes()) / uint64(c.Layout.SectorSize)
	c.Capacity, c.Rounded = from.Capacity, from.Rounded
}

// fillPartition takes over what only the weaker listing tells of a partition.
func fillPartition(p *disk.Partition, weak disk.Partition) {
	if p.Unplaced && !weak.Unplaced {
		p.Start, p.Length, p.Unplaced, p.Rough, p.Source = weak.Start, weak.Length, false, weak.Rough, weak.Source
	}
	if p.Rough && !weak.Rough && !weak.Unplaced {
		p.Start, p.Length, p.Rough, p.Source = weak.Start, weak.Length, false, weak.Source
	}
	if p.Length == 0 {
		p.Length = weak.Length
	}
	if p.TypeGUID.IsZero() && p.MBRType == 0 && (!weak.TypeGUID.IsZero() || weak.MBRType != 0) || p.TypeOpen &&
		!weak.TypeOpen {
		p.TypeGUID, p.MBRType, p.Type, p.TypeOpen = weak.TypeGUID, weak.MBRType, weak.Type, weak.TypeOpen
	}
	if p.ActiveOpen && !weak.ActiveOpen {
		p.Active, p.ActiveOpen = weak.Active, false
	}
	if p.GUID.IsZero() {
		p.GUID = weak.GUID
	}
	if p.Name == "" {
		p.Name = weak.Name
	}
}

// fill takes over what only the weaker account of a volume knows.
func (v *Volume) fill(weak *Volume) {
	if v.Kind == volume.NotCaptured || v.KindOpen && recognised(weak.Kind) {
		v.Kind, v.KindOpen = weak.Kind, weak.KindOpen
	}
	if v.Label == "" {
		v.Label = weak.Label
	}
	if v.Serial == "" {
		v.Serial = weak.Serial
	}
	if v.Letter == "" {
		v.Letter = weak.Letter
	}
	if _, known := v.Used.Get(); !known {
		v.Used = weak.Used
	}
	if _, known := v.Unclean.Get(); !known {
		v.Unclean = weak.Unclean
	}
	if v.Apple == nil || v.Apple.Open && weak.Apple != nil && !weak.Apple.Open {
		v.Apple = weak.Apple
	}
	for i := range weak.Configs {
		if v.Config(weak.Configs[i].Kind, weak.Configs[i].Path) == nil {
			v.Configs = append(append([]Config{}, v.Configs...), weak.Configs[i])
		}
	}
}

// counterpart finds a partition in another account of the same disk: by its
// place, else by its unique GUID, else by its number where a place is not told or rounded.
func (c *Contents) counterpart(i int, other *Contents) int {
	p := c.Layout.Partitions[i]
	for _, same := range []func(q disk.Partition) bool{
		func(q disk.Partition) bool {
			return !q.Unplaced && !p.Unplaced && c.Base(i) == disk.Span(q.Start, other.Layout.SectorSize)
		},
		func(q disk.Partition) bool { return !p.GUID.IsZero() && p.GUID == q.GUID },
		func(q disk.Partition) bool { return (p.Unplaced || q.Unplaced) && p.Number == q.Number },
		func(q disk.Partition) bool {
			return (p.Rough || q.Rough) && p.Number == q.Number &&
				near(c.Base(i), disk.Span(q.Start, other.Layout.SectorSize))
		},
	} {
		for j, q := range other.Layout.Partitions {
			if same(q) {
				return j
			}
		}
	}
	return -1
}

// against lists what a weaker piece tells differently.
func (c *Contents) against(drive string, weak *Contents) []Contradiction {
	d := differ{drive: drive, strong: c.Origin(), weak: weak.Origin()}
	if c.Layout.Style != disk.StyleUnknown && weak.Layout.Style != disk.StyleUnknown {
		d.add("partition style", string(c.Layout.Style), string(weak.Layout.Style), c.StyleSource(), weak.StyleSource())
	}
	a, okA := c.Layout.DiskID().Get()
	b, okB := weak.Layout.DiskID().Get()
	if okA && okB {
		d.add("disk identifier", strings.ToUpper(a), strings.ToUpper(b), c.Layout.DiskID().Source(), weak.Layout.DiskID().Source())
	}
	sizeA, okA := c.Size()
	sizeB, okB := weak.Size()
	if okA && okB && !near(sizeA, sizeB) {
		d.add("capacity", disk.Both(sizeA), disk.Both(sizeB), c.Capacity, weak.Capacity)
	}
	if c.Layout.Style != disk.StyleUnknown {
		c.comparePartitions(&d, weak)
	}
	return d.found
}

// near allows for sizes that were rounded on a screen.
func near(a, b int64) bool {
	diff := a - b
	if diff < 0 {
		diff = -diff
	}
	return diff <= max(a, b)/64
}

// Origin is where a piece comes from.
func (c *Contents) Origin() fact.Source {
	for _, p := range c.Layout.Partitions {
		return fact.Source{Origin: p.Source.Origin, Structure: p.Source.Structure, Evidence: p.Source.Evidence}
	}
	if _, known := c.Layout.DiskIDTold.Get(); known {
		s := c.Layout.DiskIDTold.Source()
		return fact.Source{Origin: s.Origin, Structure: s.Structure, Evidence: s.Evidence}
	}
	if c.Layout.MBR != nil && c.Layout.MBR.BootCode != nil {
		return fact.Source{Origin: fact.Bytes, Structure: "MBR", Length: 512}
	}
	return fact.Source{Origin: fact.Typed}
}

// StyleSource says where the partition style was read.
func (c *Contents) StyleSource() fact.Source {
	s := c.Origin()
	if s.Origin == fact.Bytes || c.Layout.MBR != nil && c.Layout.MBR.BootCode != nil {
		return fact.Source{Origin: fact.Bytes, Structure: "MBR", Field: "partition records", Offset: 446, Length: 64}
	}
	return s
}

func (c *Contents) comparePartitions(d *differ, weak *Contents) {
	matched := map[int]bool{}
	for i, p := range c.Layout.Partitions {
		j := c.counterpart(i, weak)
		if j < 0 {
			continue
		}
		matched[j] = true
		q := weak.Layout.Partitions[j]
		what := func(s string) string { return fmt.Sprintf("partition %d: %s", p.Number, s) }
		if !p.Unplaced && !q.Unplaced && (!p.Rough && !q.Rough || !near(c.Base(i), weak.Base(j))) {
			d.add(what("first byte"), fmt.Sprint(c.Base(i)), fmt.Sprint(weak.Base(j)), p.Source, q.Source)
		}
		lengthA, lengthB := disk.Span(p.Length, c.Layout.SectorSize), disk.Span(q.Length, weak.Layout.SectorSize)
		if p.Length > 0 && q.Length > 0 && !near(lengthA, lengthB) {
			d.add(what("size"), disk.Both(lengthA), disk.Both(lengthB), p.Source, q.Source)
		}
		if !p.GUID.IsZero() && !q.GUID.IsZero() {
			d.add(what("unique GUID"), p.GUID.String(), q.GUID.String(), p.Source, q.Source)
		}
		if !p.TypeGUID.IsZero() && !q.TypeGUID.IsZero() {
			d.add(what("type"), p.Type.Name, q.Type.Name, p.Source, q.Source)
		}
		d.volumes(what, &c.Volumes[i], &weak.Volumes[j], p.Source, q.Source)
	}
	for j, q := range weak.Layout.Partitions {
		if !matched[j] && !c.listsLess() {
			d.add(fmt.Sprintf("partition %d", q.Number), "not there", disk.Both(disk.Span(q.Length, weak.Layout.SectorSize)), c.Origin(),
				q.Source)
		}
	}
}

// differ gathers contradictions between two pieces.
type differ struct {
	drive        string
	strong, weak fact.Source
	found        []Contradiction
}

func (d *differ) add(what, a, b string, from, against fact.Source) {
	if a == b {
		return
	}
	if from.Origin == "" {
		from = d.strong
	}
	if against.Origin == "" {
		against = d.weak
	}
	from.Drive, against.Drive = d.drive, d.drive
	d.found = append(d.found, Contradiction{Drive: d.drive, What: what, Stronger: Fact{what, a, from},
		Weaker: Fact{what, b, against}})
}

func (d *differ) volumes(what func(string) string, a, b *Volume, from, against fact.Source) {
	if recognised(a.Kind) && recognised(b.Kind) && !sameKind(a, b) {
		d.add(what("file system"), string(a.Kind), string(b.Kind), from, against)
	}
	if a.Serial != "" && b.Serial != "" && a.Kind != volume.KindAPFS {
		d.add(what("identifier of the file system"), strings.ToUpper(a.Serial), strings.ToUpper(b.Serial), from, against)
	}
}

func recognised(k volume.Kind) bool {
	return k != volume.NotCaptured && k != volume.Unknown && k != volume.Empty
}

func sameKind(a, b *Volume) bool { return a.Kind == b.Kind || a.IsFAT() && b.IsFAT() }
