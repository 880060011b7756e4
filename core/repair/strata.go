package repair

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
)

// Table is a partition table that a step writes: what a disk's strata are going to be.
type Table struct {
	Sectors    uint64    `json:"sectors"`    // of the disk
	SectorSize int       `json:"sectorSize"` // bytes
	Strata     []Stratum `json:"strata"`     // in their order on the disk
}

// Stratum is a partition of a table that a step writes, with what tells that it lies there. It is
// sure where its file system and a table or record say the same: tables are copies of each other.
type Stratum struct {
	Number int       `json:"number"`
	Start  uint64    `json:"start"`  // sectors
	Length uint64    `json:"length"` // sectors
	Size   string    `json:"size"`
	Role   disk.Role `json:"role"`
	Holds  string    `json:"holds"` // the kind of its volume, or what it is for
	Sure   bool      `json:"sure"`
	By     string    `json:"by"` // by what its place is told
}

// by says in words by what a stratum's place is told.
func by(told []string) string {
	switch n := len(told); n {
	case 0:
		return "told by nothing but what lies beside it"
	case 1:
		return "told by " + told[0] + " alone"
	default:
		return "told by " + strings.Join(told[:n-1], ", ") + " and " + told[n-1]
	}
}

// text says what the table is going to hold.
func (t *Table) text() string {
	var parts []string
	for _, s := range t.Strata {
		parts = append(parts, fmt.Sprintf("%d: %s at sector %d, %s, %s", s.Number, s.Holds, s.Start, s.Size, s.By))
	}
	return strings.Join(parts, "; ")
}
