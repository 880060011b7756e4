package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Mark is what a person did with a step of a repair plan. Marks are only added:
// together they are the history of a repair.
type Mark struct {
	ID     uint64
	CaseID uint64
	Step   string
	Title  string
	State  string
	Note   string
	Who    string
	At     time.Time
}

// The states of a step.
const (
	MarkDone    = "done"
	MarkFailed  = "failed"
	MarkSkipped = "skipped"
	MarkUndone  = "undone" // an earlier mark is taken back
)

// maxMarks bounds the marks of a case that are read.
const maxMarks = 500

// AddMark adds a mark to a case, as a change of the case's version.
func (s *Store) AddMark(ctx context.Context, version uint32, m *Mark) error {
	m.At = time.Now().UTC()
	m.Title = clip(m.Title, 300)
	return s.write(ctx, func(tx *gorm.DB) error {
		m.ID = 0
		if err := claim(tx, m.CaseID, version, m.entry()); err != nil {
			return err
		}
		return tx.Create(m).Error
	})
}

// Marks returns the marks of a case, the oldest first.
func (s *Store) Marks(ctx context.Context, id uint64) ([]Mark, error) {
	var marks []Mark
	err := s.read(ctx, func(db *gorm.DB) error {
		return db.Where("case_id = ?", id).Order("id").Limit(maxMarks).Find(&marks).Error
	})
	return marks, err
}

// InForce returns the marks that count: the latest of each step, those taken back
// left out, and those from before the newest evidence, which tells better.
func InForce(marks []Mark, evidence time.Time) []Mark {
	latest := map[string]int{}
	for i, m := range marks {
		latest[m.Step] = i
	}
	force := []Mark{}
	for i, m := range marks {
		if latest[m.Step] == i && m.State != MarkUndone && (m.State != MarkDone || m.At.After(evidence)) {
			force = append(force, m)
		}
	}
	return force
}

// LatestEvidence is when the newest piece in force came in.
func (c *Case) LatestEvidence() time.Time {
	var latest time.Time
	for _, d := range c.Drives {
		if d.Evidence != nil && d.Evidence.ReceivedAt.After(latest) {
			latest = d.Evidence.ReceivedAt
		}
	}
	for _, l := range c.Listings {
		if l.ReceivedAt.After(latest) {
			latest = l.ReceivedAt
		}
	}
	return latest
}

// entry is the mark in the case's history.
func (m *Mark) entry() Entry {
	return Entry{Who: m.Who, What: WhatStep, Detail: m.Title + ": " + m.State}
}
