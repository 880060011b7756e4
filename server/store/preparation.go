package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Preparation is what was planned for a copy, what was seen to, and what was read off the
// copying program.
type Preparation struct {
	// Capacity of the new drive as it was typed, where it is not in evidence.
	Capacity   string `json:"capacity,omitempty"`
	SectorSize int    `json:"sectorSize,omitempty"` // logical, bytes; 0 is not told
	// How each drive hangs while it is copied, and what it is: keys of core/fit.
	FromLink   string `json:"fromLink,omitempty"`
	FromMedium string `json:"fromMedium,omitempty"`
	ToLink     string `json:"toLink,omitempty"`
	ToMedium   string `json:"toMedium,omitempty"`
	// Beside is set where the original stays plugged in at the first start.
	Beside bool `json:"beside,omitempty"`
	// Entry is "made" where a boot entry for the clone comes with the copy, "none" where not.
	Entry    string           `json:"entry,omitempty"`
	Strategy string           `json:"strategy,omitempty"`
	Sizes    map[string]int64 `json:"sizes,omitempty"` // by hand, bytes by partition number
	Way      string           `json:"way,omitempty"`
	// Ticks tell who saw to a line of the list.
	Ticks map[string]Tick `json:"ticks,omitempty"`
	Seen  []Seen          `json:"seen,omitempty"`
}

// Tick is who saw to something, and when.
type Tick struct {
	Who string    `json:"who"`
	At  time.Time `json:"at"`
}

// Seen is how far the copy was at a time, from 0 to 1.
type Seen struct {
	At   time.Time `json:"at"`
	Done float64   `json:"done"`
}

// Bounds of a preparation.
const (
	MaxTicks = 200
	MaxSeen  = 100
)

// Prepare changes a case's preparation if the case still has the version.
func (s *Store) Prepare(ctx context.Context, id uint64, by Entry, version uint32, change func(p *Preparation)) error {
	return s.write(ctx, func(tx *gorm.DB) error {
		if err := claim(tx, id, version, by); err != nil {
			return err
		}
		var c Case
		if err := tx.Select("id", "preparation").First(&c, id).Error; err != nil {
			return err
		}
		if c.Preparation == nil {
			c.Preparation = &Preparation{}
		}
		change(c.Preparation)
		return tx.Model(&c).Select("preparation").Updates(&c).Error
	})
}
