package compare

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// Doubt is a reason to look again at which disk is which.
type Doubt struct {
	// Kind: both pieces are one disk, nothing tells them apart, they look exchanged, or
	// a piece fits the other disk better.
	Kind string `json:"kind"`
	Text string `json:"text"`
}

// Doubts says when the two disks look like one, like each other, or like each
// other's place. Choosing the wrong disk as the target destroys the original.
func Doubts(original, clone *machine.Drive, originalModel, cloneModel string) []Doubt {
	doubts := []Doubt{}
	if original == nil || clone == nil || original.Contents == nil || clone.Contents == nil {
		return doubts
	}
	a, b := original.Contents, clone.Contents
	if identical(a, b) {
		if originalModel != "" && originalModel == cloneModel {
			doubts = append(doubts, Doubt{"same", "Both pieces look like the same disk: capacity, identifier, every partition and the model agree. Was one disk taken twice?"})
		} else {
			doubts = append(doubts, Doubt{"alike", "Nothing in the evidence tells the two disks apart: capacity, identifier and every partition agree, as after a bit-for-bit copy to a drive of the same size. Go by the model and the serial number on the label."})
		}
	}
	if why := swapped(a, b); why != "" {
		doubts = append(doubts, Doubt{"swapped", "Original and clone look exchanged: " + why + " Check which is which before anything is written."})
	}
	return doubts
}

func identical(a, b *machine.Contents) bool {
	sizeA, okA := a.Size()
	sizeB, okB := b.Size()
	idA, hasA := a.Layout.DiskID().Get()
	idB, hasB := b.Layout.DiskID().Get()
	if !okA || !okB || sizeA != sizeB || !hasA || !hasB || idA != idB ||
		len(a.Layout.Partitions) != len(b.Layout.Partitions) {
		return false
	}
	for i, p := range a.Layout.Partitions {
		q := b.Layout.Partitions[i]
		if p.Start != q.Start || p.Length != q.Length || p.GUID != q.GUID || p.Type != q.Type ||
			p.Active != q.Active || a.Volumes[i].Serial != b.Volumes[i].Serial {
			return false
		}
	}
	return true
}

// swapped names a sign that the disk declared as the original is the new one.
func swapped(original, clone *machine.Contents) string {
	sizeA, okA := original.Size()
	sizeB, okB := clone.Size()
	_, grown := original.Layout.Find(disk.CodeGPTBackupMisplaced)
	switch {
	case len(clone.Layout.Partitions) > 0 && empty(original) && original.Layout.WrittenFor == 0:
		return "the disk called the original is empty, the other one holds partitions."
	case grown && okA && okB && sizeA > sizeB:
		return fmt.Sprintf("the table of the disk called the original (%s) was written for a smaller one, as a raw copy leaves it, and the other disk (%s) is smaller.", disk.Both(sizeA), disk.Both(sizeB))
	case okA && okB && sizeA > sizeB && used(original) > 0 && used(clone) > used(original):
		return fmt.Sprintf("the disk called the original is larger and emptier (%s in use) than the other one (%s).", disk.Binary(int64(used(original))), disk.Binary(int64(used(clone))))
	}
	return ""
}

// empty reports whether the disk is known to have no partition, as far as systems see.
func empty(c *machine.Contents) bool {
	return len(c.Layout.Partitions) == 0 && c.TableKnown() &&
		(!c.Layout.Open || c.Layout.Style == disk.StyleNone)
}

func used(c *machine.Contents) uint64 {
	var sum uint64
	for i := range c.Volumes {
		n, _ := c.Volumes[i].Used.Get()
		sum += n
	}
	return sum
}

// Belongs says which drive of a case a new piece of evidence is about, and why;
// the drive is "" when nothing tells.
func Belongs(piece *machine.Contents, model string, drives []machine.Drive, models map[string]string) (drive,
	why string) {
	best := 0
	tied := false
	for i := range drives {
		d := &drives[i]
		points, reasons := likeness(piece, model, d.Contents, models[d.Name])
		switch {
		case points > best:
			best, tied = points, false
			drive, why = d.Name, "because "+strings.Join(reasons, ", ")+"."
		case points == best && points > 0:
			tied = true
		}
	}
	if tied {
		return "", "It fits both disks of the case equally well."
	}
	return drive, why
}

// Other says which drive a piece is of because it is another disk than the only one of the
// two that is known: by its identifier, or by its capacity.
func Other(piece *machine.Contents, drives []machine.Drive) (drive, why string) {
	if piece == nil || len(drives) != 2 || (drives[0].Contents == nil) == (drives[1].Contents == nil) {
		return "", ""
	}
	known, other := &drives[0], &drives[1]
	if known.Contents == nil {
		known, other = other, known
	}
	a, okA := piece.Layout.DiskID().Get()
	b, okB := known.Contents.Layout.DiskID().Get()
	if okA && okB && !strings.EqualFold(a, b) {
		return other.Name, "because its disk identifier is not the " + string(known.Role) + "'s."
	}
	sizeA, okA := piece.Size()
	sizeB, okB := known.Contents.Size()
	if okA && okB && !close64(sizeA, sizeB) {
		return other.Name, "because its capacity is not the " + string(known.Role) + "'s."
	}
	return "", ""
}

// likeness weighs what two pieces have in common.
func likeness(piece *machine.Contents, model string, known *machine.Contents, knownModel string) (points int,
	reasons []string) {
	if model != "" && strings.EqualFold(model, knownModel) {
		points += 4
		reasons = append(reasons, "the model is the same")
	}
	if piece == nil || known == nil {
		return points, reasons
	}
	a, okA := piece.Layout.DiskID().Get()
	b, okB := known.Layout.DiskID().Get()
	switch {
	case okA && okB && strings.EqualFold(a, b):
		points += 4
		reasons = append(reasons, "the disk identifier is the same")
	case okA && okB:
		return 0, nil // another disk, however alike
	}
	sizeA, okA := piece.Size()
	sizeB, okB := known.Size()
	if okA && okB && close64(sizeA, sizeB) {
		points += 3
		reasons = append(reasons, "the capacity is the same")
	}
	if n := sameStarts(piece, known); n > 0 && n == len(known.Layout.Partitions) {
		points += 2
		reasons = append(reasons, "every partition stands where this disk's does")
	}
	return points, reasons
}

// close64 allows for a size that was rounded on a screen.
func close64(a, b int64) bool {
	return max(a, b)-min(a, b) <= max(a, b)/64
}

func sameStarts(a, b *machine.Contents) int {
	at := map[uint64]bool{}
	for _, p := range a.Layout.Partitions {
		if !p.Unplaced {
			at[p.Start*uint64(a.Layout.SectorSize)] = true
		}
	}
	n := 0
	for _, p := range b.Layout.Partitions {
		if at[p.Start*uint64(b.Layout.SectorSize)] {
			n++
		}
	}
	return n
}

// Guess says which of two disks of a listing is the original when the case knows
// nothing yet: the one that holds partitions, else the one that holds more.
func Guess(a, b *machine.Contents) (originalFirst bool, why string) {
	switch {
	case a == nil || b == nil:
		return true, ""
	case len(a.Layout.Partitions) > 0 && empty(b):
		return true, "because it holds partitions and the other one is empty."
	case len(b.Layout.Partitions) > 0 && empty(a):
		return false, "because it holds partitions and the other one is empty."
	case used(a) > used(b):
		return true, "because more of it is in use."
	case used(b) > used(a):
		return false, "because more of it is in use."
	}
	return true, ""
}
