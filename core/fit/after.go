package fit

import (
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// Otherwise is a fact of the real copy that is not as it was predicted.
type Otherwise struct {
	What      string `json:"what"`
	Predicted string `json:"predicted"`
	Found     string `json:"found"`
}

// Held holds the real copy against the prediction: what came out otherwise, what matters
// most first. What either of them does not tell is no difference.
func Held(w Way, predicted, found *machine.Contents) []Otherwise {
	out := []Otherwise{}
	if predicted == nil || found == nil {
		return out
	}
	differs := func(what string, a, b any) {
		if x, y := fmt.Sprint(a), fmt.Sprint(b); x != y {
			out = append(out, Otherwise{what, x, y})
		}
	}
	p, f := &predicted.Layout, &found.Layout
	if f.Style == disk.StyleUnknown || p.Style == disk.StyleUnknown {
		return out
	}
	differs("Partition style", p.Style, f.Style)
	if p.Style != f.Style {
		return out
	}
	for _, one := range p.Partitions {
		i := numbered(f, one.Number)
		switch {
		case i < 0 && !f.Open:
			differs(fmt.Sprintf("Partition %d", one.Number), one.Type.Name, "not there")
		case i >= 0:
			out = append(out, ofPartition(w, predicted, found, one, i)...)
		}
	}
	for _, one := range f.Partitions {
		if numbered(p, one.Number) < 0 && !p.Open {
			differs(fmt.Sprintf("Partition %d", one.Number), "not there", one.Type.Name)
		}
	}
	if a, known := p.DiskID().Get(); known {
		if b, told := f.DiskID().Get(); told && !w.NewIDs {
			differs("Disk identifier", a, b)
		}
	}
	if predicted.Code != found.Code && found.Layout.MBR != nil && found.Layout.MBR.BootCode != nil && p.MBR != nil &&
		p.MBR.BootCode != nil {
		differs("Code in the boot record", predicted.Code, found.Code)
	}
	return out
}

func numbered(l *disk.Layout, number int) int {
	for i, p := range l.Partitions {
		if p.Number == number {
			return i
		}
	}
	return -1
}

func ofPartition(w Way, predicted, found *machine.Contents, a disk.Partition, i int) []Otherwise {
	var out []Otherwise
	b := found.Layout.Partitions[i]
	of := func(what string) string { return fmt.Sprintf("Partition %d, %s", a.Number, what) }
	differs := func(what string, x, y any) {
		if s, t := fmt.Sprint(x), fmt.Sprint(y); s != t {
			out = append(out, Otherwise{of(what), s, t})
		}
	}
	if !a.TypeOpen && !b.TypeOpen {
		differs("type", a.Type.Name, b.Type.Name)
	}
	if !a.ActiveOpen && !b.ActiveOpen {
		differs("active", yesOrNo(a.Active), yesOrNo(b.Active))
	}
	if !a.GUID.IsZero() && !b.GUID.IsZero() && !w.NewIDs {
		differs("identifier", a.GUID, b.GUID)
	}
	if !a.Unplaced && !b.Unplaced && !a.Rough && !b.Rough {
		differs("first sector", a.Start, b.Start)
		x, y := disk.Span(a.Length, predicted.Layout.SectorSize), disk.Span(b.Length, found.Layout.SectorSize)
		if s, t := disk.Binary(x), disk.Binary(y); s != t {
			differs("size", s, t)
		} else {
			differs("size in bytes", x, y)
		}
	}
	v, u := &predicted.Volumes[numbered(&predicted.Layout, a.Number)], &found.Volumes[i]
	if v.Serial != "" && u.Serial != "" && !w.Files {
		differs("serial number of the file system", v.Serial, u.Serial)
	}
	return out
}
