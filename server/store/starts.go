package store

import (
	"context"
	"slices"
	"time"

	"gorm.io/gorm"
)

// Start is a start of a case's machine that somebody saw.
type Start struct {
	ID         uint64
	CaseID     uint64
	At         time.Time // when the machine was started
	RecordedAt time.Time
	Kind       string // cold, warm or unknown
	Origin     string // which disk it came up from: clone, original, neither, open; or failed
	Why        string // what proves it
	Note       string // what else was seen, or what the screen said
	Who        string
	// EvidenceID is the capture that proves it; nil for none.
	EvidenceID  *uint64
	WithdrawnAt *time.Time
}

// maxStarts bounds the starts of a case that are read.
const maxStarts = 500

// Starts returns a case's starts that count, the oldest first.
func (s *Store) Starts(ctx context.Context, id uint64) ([]Start, error) {
	var starts []Start
	err := s.read(ctx, func(db *gorm.DB) error {
		return db.Where("case_id = ? AND withdrawn_at IS NULL", id).Order("at DESC, id DESC").Limit(maxStarts).Find(&starts).Error
	})
	slices.Reverse(starts)
	return starts, err
}

// Proof is what comes with a start: what the screen said of one that failed, the capture
// that it was proved by, which comes into force, and what it says of the firmware.
type Proof struct {
	Said    string
	By      *Piece
	Learned map[string]bool
}

// AddStart records a start.
func (s *Store) AddStart(ctx context.Context, version uint32, t *Start, with Proof) error {
	t.RecordedAt = time.Now().UTC()
	if t.At.IsZero() {
		t.At = t.RecordedAt
	}
	t.Why, t.Note = clip(t.Why, 500), clip(t.Note, 2000)
	return s.write(ctx, func(tx *gorm.DB) error {
		t.ID = 0
		e := Entry{Who: t.Who, What: WhatStart, Detail: t.Kind + ", " + t.Origin + ": " + t.Why}
		if err := claim(tx, t.CaseID, version, e); err != nil {
			return err
		}
		if with.By != nil {
			if err := with.By.add(tx); err != nil {
				return err
			}
			t.EvidenceID = &with.By.ID
		}
		if with.Said != "" {
			if err := tx.Model(&Case{}).Where("id = ?", t.CaseID).Update("said", with.Said).Error; err != nil {
				return err
			}
		}
		if err := tx.Create(t).Error; err != nil {
			return err
		}
		for choice, value := range with.Learned {
			if err := tx.Create(&Observation{CaseID: t.CaseID, StartID: t.ID, Choice: choice,
				Value: value}).Error; err != nil {
				return err
			}
		}
		return proved(tx, t.CaseID)
	})
}

// WithdrawStart takes back a start that was recorded by mistake.
func (s *Store) WithdrawStart(ctx context.Context, caseID, id uint64, by Entry, version uint32) error {
	return s.write(ctx, func(tx *gorm.DB) error {
		if err := claim(tx, caseID, version, by); err != nil {
			return err
		}
		res := tx.Model(&Start{}).Where("case_id = ? AND id = ? AND withdrawn_at IS NULL", caseID, id).
			Update("withdrawn_at", time.Now().UTC())
		if res.Error != nil {
			return res.Error
		}
		if res.RowsAffected == 0 {
			return ErrNotFound
		}
		return proved(tx, caseID)
	})
}

// proved keeps with the case what its latest start proves, for lists.
func proved(tx *gorm.DB, id uint64) error {
	var last []Start
	if err := tx.Where("case_id = ? AND withdrawn_at IS NULL", id).Order("at DESC, id DESC").Limit(1).Find(&last).Error; err != nil {
		return err
	}
	changes := map[string]any{"proved_at": nil, "proof": ""}
	if len(last) > 0 {
		changes["proof"] = clip(last[0].Why, 300)
		if last[0].Origin == "clone" {
			changes["proved_at"] = last[0].At
		}
	}
	return tx.Model(&Case{}).Where("id = ?", id).Updates(changes).Error
}
