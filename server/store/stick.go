package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Sticked is what the stick did with a case's machine: the steps, as marks, and its record.
type Sticked struct {
	Marks []Mark
	Lines []string
	Who   string // who brought it
}

// AddSticked adds what the stick did to a case, as a change of its version. What is there
// already, from the same folder brought before, is not added again; added is how much was.
// The marks keep the time they were made, before the evidence that came with them.
func (s *Store) AddSticked(ctx context.Context, id uint64, version uint32, in Sticked) (added int, err error) {
	err = s.write(ctx, func(tx *gorm.DB) error {
		added = 0
		var marks []Mark
		if err := tx.Where("case_id = ?", id).Limit(maxMarks).Find(&marks).Error; err != nil {
			return err
		}
		known := map[string]bool{}
		key := func(m Mark) string {
			return m.Step + "\x00" + m.State + "\x00" + m.At.UTC().Truncate(time.Second).Format(time.RFC3339)
		}
		for _, m := range marks {
			known[key(m)] = true
		}
		var lines []string
		if err := tx.Model(&Entry{}).Where("case_id = ? AND what = ?", id, WhatStick).Pluck("detail", &lines).Error; err != nil {
			return err
		}
		for _, l := range lines {
			known[l] = true
		}
		for _, m := range in.Marks {
			m.ID, m.CaseID, m.Title, m.At = 0, id, clip(m.Title, 300), m.At.UTC().Truncate(time.Second)
			if known[key(m)] || len(marks)+added >= maxMarks {
				continue
			}
			if err := tx.Create(&m).Error; err != nil {
				return err
			}
			added++
		}
		for _, l := range in.Lines {
			if l = clip(l, 500); known[l] {
				continue
			}
			if err := (Entry{Who: in.Who, What: WhatStick, Detail: l}).write(tx, id); err != nil {
				return err
			}
			added++
		}
		if added == 0 {
			return nil
		}
		return claim(tx, id, version, Entry{})
	})
	return added, err
}
