package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Entry is a line of a case's history: who did what with it, and when. Entries are
// only added.
type Entry struct {
	ID     uint64
	CaseID uint64
	At     time.Time
	Who    string
	What   string
	Detail string
}

// TableName is the history's.
func (Entry) TableName() string { return "history" }

// What can be done with a case.
const (
	WhatMade       = "case made"
	WhatChanged    = "case changed"
	WhatAnswered   = "question answered"
	WhatTakenBack  = "statement withdrawn"
	WhatEvidence   = "evidence added"
	WhatWithdrawn  = "evidence withdrawn"
	WhatPutBack    = "evidence put back"
	WhatTold       = "disk told"
	WhatSwapped    = "original and clone exchanged"
	WhatPrepared   = "copy prepared"
	WhatStep       = "repair step"
	WhatStart      = "start seen"
	WhatStartBack  = "start taken back"
	WhatHandOver   = "hand-over"
	WhatReleased   = "old drive released"
	WhatRemembered = "taken over from the model's cases"
	WhatImported   = "case imported"
	WhatScript     = "script downloaded"
	WhatStick      = "on the stick"
	WhatClosed     = "case closed"
	WhatOpened     = "case opened again"
	WhatCleared    = "evidence removed"
)

// write adds the entry to a case's history; an empty one adds nothing.
func (e Entry) write(tx *gorm.DB, id uint64) error {
	if e.What == "" {
		return nil
	}
	e.ID, e.CaseID, e.At = 0, id, time.Now().UTC()
	e.Who, e.Detail = clip(e.Who, 80), clip(e.Detail, 500)
	return tx.Create(&e).Error
}

// Note adds to a case's history what changes nothing of the case.
func (s *Store) Note(ctx context.Context, id uint64, e Entry) error {
	return s.write(ctx, func(tx *gorm.DB) error { return e.write(tx, id) })
}

// maxHistory bounds the entries of one page.
const maxHistory = 200

// History returns a case's history, the newest first, from before an entry; 0 is the
// newest.
func (s *Store) History(ctx context.Context, id, before uint64) ([]Entry, error) {
	var entries []Entry
	err := s.read(ctx, func(db *gorm.DB) error {
		q := db.Where("case_id = ?", id)
		if before > 0 {
			q = q.Where("id < ?", before)
		}
		return q.Order("id DESC").Limit(maxHistory).Find(&entries).Error
	})
	return entries, err
}

// Event is a line of the security log.
type Event struct {
	ID      uint64
	At      time.Time
	Who     string // the account, or the name that was tried
	What    string
	Detail  string
	Address string
}

// TableName is the security log's.
func (Event) TableName() string { return "security_log" }

// maxEvents bounds the security log that is kept.
const maxEvents = 100_000

// Log adds an event to the security log.
func (s *Store) Log(ctx context.Context, e Event) error {
	e.At, e.Who, e.Detail, e.Address = time.Now().UTC(), clip(e.Who, 80), clip(e.Detail, 500), clip(e.Address, 60)
	return s.write(ctx, func(tx *gorm.DB) error {
		e.ID = 0
		if err := tx.Create(&e).Error; err != nil {
			return err
		}
		if e.ID%1000 == 0 && e.ID > maxEvents {
			return tx.Where("id <= ?", e.ID-maxEvents).Delete(&Event{}).Error
		}
		return nil
	})
}

// Events returns the security log, the newest first, from before an event.
func (s *Store) Events(ctx context.Context, before uint64) ([]Event, error) {
	var events []Event
	err := s.read(ctx, func(db *gorm.DB) error {
		if before > 0 {
			db = db.Where("id < ?", before)
		}
		return db.Order("id DESC").Limit(maxHistory).Find(&events).Error
	})
	return events, err
}
