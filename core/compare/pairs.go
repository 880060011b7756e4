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
	By       string `json:"by"` // how the counterpart was found
}

// Pairs finds counterparts by unique GUID, then by type and order, then by
// position. Partitions without one come last, with -1 on the other side.
func Pairs(original, clone *machine.Contents) []Pair {
	p := pairing{a: partitions(original), b: partitions(clone), usedA: map[int]bool{}, usedB: map[int]bool{}}
	p.match("unique GUID", func(i, j int) bool {
		return !p.a[i].GUID.IsZero() && p.a[i].GUID == p.b[j].GUID
	})
	p.match("type and order", func(i, j int) bool { return kindKey(original, i) == kindKey(clone, j) })
	p.match("position", func(i, j int) bool { return p.a[i].Start == p.b[j].Start })
	for i := range p.a {
		if !p.usedA[i] {
			p.pairs = append(p.pairs, Pair{i, -1, "nothing"})
		}
	}
	for j := range p.b {
		if !p.usedB[j] {
			p.pairs = append(p.pairs, Pair{-1, j, "nothing"})
		}
	}
	return p.pairs
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

// kindKey is what a partition is, whichever style its disk has: a copy that
// changes the style keeps the kind.
func kindKey(c *machine.Contents, i int) string {
	p := c.Layout.Partitions[i]
	if p.IsESP() {
		return "esp"
	}
	return string(p.Type.Role) + " " + string(c.Volumes[i].Kind)
}
