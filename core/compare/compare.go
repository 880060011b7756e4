package compare

import (
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

// Group is a part of the comparison.
type Group string

// The groups, in the order in which they are shown.
const (
	GroupStyle    Group = "partition style"
	GroupMode     Group = "firmware mode"
	GroupBoot     Group = "boot partitions"
	GroupOrder    Group = "boot order"
	GroupIdentity Group = "identity"
	GroupGeometry Group = "geometry"
)

// Matter says what a row means for the start.
type Matter string

// The weights of a row.
const (
	Decides  Matter = "decides"   // the start stops or goes elsewhere because of it
	Matters  Matter = "matters"   // worth doing something about
	NotKnown Matter = "not known" // one side is not in the evidence
	Fine     Matter = "fine"      // differs, and does not matter
	Agrees   Matter = "agrees"
)

// Row is one thing compared.
type Row struct {
	Group    Group          `json:"group"`
	Label    string         `json:"label"`
	Original string         `json:"original"`
	Clone    string         `json:"clone"`
	Matter   Matter         `json:"matter"`
	Meaning  string         `json:"meaning"` // what it means for the start
	Facts    []machine.Fact `json:"facts"`
}

// Comparison is the original against the clone.
type Comparison struct {
	Pairs []Pair `json:"pairs"`
	Rows  []Row  `json:"rows"`
	// Cause says in a sentence what the copy did, when the differences tell.
	Cause string `json:"cause"`
}

// Compare holds two drives of a machine against each other. Either may be nil or
// without contents. A side of which the evidence does not tell reads "not in the
// evidence", and nothing is concluded from it.
func Compare(m machine.Machine, original, clone *machine.Drive, originalPins, clonePins []startup.Pin) Comparison {
	c := Comparison{Pairs: []Pair{}, Rows: []Row{}}
	if original == nil || clone == nil {
		return c
	}
	a, b := side{original, originalPins}, side{clone, clonePins}
	c.Pairs = append(c.Pairs, Pairs(a.Contents, b.Contents)...)
	c.Rows = append(c.Rows, styleRows(a, b)...)
	c.Rows = append(c.Rows, modeRow(m, a, b))
	c.Rows = append(c.Rows, bootRows(a, b)...)
	c.Rows = append(c.Rows, orderRows(m, a, b)...)
	c.Rows = append(c.Rows, identityRows(a, b)...)
	c.Rows = append(c.Rows, configRows(m, a, b)...)
	c.Rows = append(c.Rows, geometryRows(a, b, c.Pairs)...)
	c.Cause = cause(a, b, c.Pairs)
	return c
}

// cause puts the pattern of differences into a sentence.
func cause(a, b side, pairs []Pair) string {
	if !a.whole() || !b.whole() || len(a.Contents.Layout.Partitions) == 0 {
		return ""
	}
	missing, kept := 0, 0
	bootMissing := false
	for _, p := range pairs {
		switch {
		case p.Original >= 0 && p.Clone >= 0:
			kept++
		case p.Original >= 0:
			missing++
			bootMissing = bootMissing || a.Contents.Layout.Partitions[p.Original].Type.Role == disk.RoleBoot
		}
	}
	_, larger := b.Contents.Layout.Find(disk.CodeGPTLargerDisk)
	had, hadKnown := a.Contents.Size()
	has, hasKnown := b.Contents.Size()
	switch {
	case len(b.Contents.Layout.Partitions) == 0 && b.Contents.Layout.WrittenFor != 0:
		return "The table was copied from a disk with another sector size."
	case len(b.Contents.Layout.Partitions) == 0:
		return "No partition of the original can be found on the clone."
	case larger && hadKnown && hasKnown && had > has:
		return fmt.Sprintf("The disk was copied sector by sector to a smaller one: %s were written for, %s exist.",
			disk.Both(had), disk.Both(has))
	case bootMissing && kept == 1 && len(b.Contents.Layout.Partitions) == 1:
		return "Only the big partition was copied."
	case a.Contents.Layout.Style != b.Contents.Layout.Style:
		return fmt.Sprintf("The copy changed the partition style from %s to %s.", a.Contents.Layout.Style,
			b.Contents.Layout.Style)
	case missing > 0:
		return fmt.Sprintf("%d of %d partitions were left behind.", missing, missing+kept)
	}
	return ""
}
