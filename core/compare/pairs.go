// Package compare holds the original against the clone: which partitions
// correspond, what differs, and which differences matter to the start.
package compare

import (
	"latchkey/core/disk"
	"latchkey/core/machine"
)

// Pair ties a partition of the original to its counterpart on the clone, by
// index into the layouts' partitions; -1 is none.
type Pair struct {
	Original int    `json:"original"`
	Clone    int    `json:"clone"`
	By       string `json:"by"` // how the counterpart was found, or why there is none
}

// Why a partition has no counterpart.
const (
	Nothing = "nothing"   // nothing on the other disk corresponds
	NotTold = "not known" // the evidence does not tell which partitions that disk has
)

// Pairs finds counterparts by unique GUID, then by type and order, then by
// position. Partitions without one come last, with -1 on the other side.
func Pairs(original, clone *machine.Contents) []Pair {
	p := pairing{a: partitions(original), b: partitions(clone), usedA: map[int]bool{}, usedB: map[int]bool{}}
	p.match("unique GUID", func(i, j int) bool {
		return !p.a[i].GUID.IsZero() && p.a[i].GUID == p.b[j].GUID
	})
	p.match("type and order", func(i, j int) bool { return sameKind(original, i, clone, j) })
	p.match("position", func(i, j int) bool { return p.a[i].Start == p.b[j].Start })
	for i := range p.a {
		if !p.usedA[i] {
			p.pairs = append(p.pairs, Pair{i, -1, without(clone)})
		}
	}
	for j := range p.b {
		if !p.usedB[j] {
			p.pairs = append(p.pairs, Pair{-1, j, without(original)})
		}
	}
	return p.pairs
}

func without(other *machine.Contents) string {
	if other == nil || !other.TableKnown() || other.Layout.Open {
		return NotTold
	}
	return Nothing
}

func partitions(c *machine.Contents) []disk.Partition {
	if c == nil {
		return nil
	}
	return c.Layout.Partitions
}

type pairing struct {
	a, b         []disk.Partition
	usedA, usedB map[int]bool
	pairs        []Pair
}

func (p *pairing) match(by string, same func(i, j int) bool) {
	for i := range p.a {
		for j := range p.b {
			if !p.usedA[i] && !p.usedB[j] && same(i, j) {
				p.usedA[i], p.usedB[j] = true, true
				p.pairs = append(p.pairs, Pair{i, j, by})
			}
		}
	}
}

// sameKind reports whether two partitions are of one kind, whichever style their
// disks have: a copy that changes the style keeps the kind. A file system that is not
// in the evidence may be any.
func sameKind(a *machine.Contents, i int, b *machine.Contents, j int) bool {
	p, q := a.Layout.Partitions[i], b.Layout.Partitions[j]
	if p.IsESP() || q.IsESP() {
		return p.IsESP() && q.IsESP()
	}
	one, other := &a.Volumes[i], &b.Volumes[j]
	return p.Type.Role == q.Type.Role && (one.Kind == other.Kind || one.KindUnseen() || other.KindUnseen())
}
