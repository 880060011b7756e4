package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// Handover is what was decided and seen after the first good start.
type Handover struct {
	KeepUntil *time.Time `json:"keepUntil,omitempty"` // the old drive stays as it is until then
	Place     string     `json:"place,omitempty"`     // where it lies
	Serial    string     `json:"serial,omitempty"`    // of the old drive, as its label tells it
	Beside    bool       `json:"beside,omitempty"`    // it will hang in the machine beside the clone
	// Saved is who said that there is an image or copy of what is on the old drive.
	Saved *Tick `json:"saved,omitempty"`
	// Seen tells who looked at something in the running system, by the look's key.
	Seen  map[string]Tick `json:"seen,omitempty"`
	Times []Timed         `json:"times,omitempty"`
	// Released is who released the old drive, and Fate what became of it.
	Released *Tick  `json:"released,omitempty"`
	Fate     string `json:"fate,omitempty"`
}

// Timed is how long a start took.
type Timed struct {
	Side    string    `json:"side"` // original or clone
	Seconds float64   `json:"seconds"`
	How     string    `json:"how"` // stopwatch, or what the system's own record counts
	Who     string    `json:"who"`
	At      time.Time `json:"at"`
}

// MaxTimes bounds the times of a hand-over.
const MaxTimes = 40

// HandOver changes a case's hand-over if the case still has the version.
func (s *Store) HandOver(ctx context.Context, id uint64, by Entry, version uint32, change func(h *Handover)) error {
	return s.write(ctx, func(tx *gorm.DB) error {
		if err := claim(tx, id, version, by); err != nil {
			return err
		}
		var c Case
		if err := tx.Select("id", "handover").First(&c, id).Error; err != nil {
			return err
		}
		if c.Handover == nil {
			c.Handover = &Handover{}
		}
		change(c.Handover)
		return tx.Model(&c).Select("handover").Updates(&c).Error
	})
}

// RunningAnswer is what a running system answered after a start, kept as it came.
type RunningAnswer struct {
	ID     uint64
	CaseID uint64
	At     time.Time
	Who    string
	Body   []byte // zstd
}

// TableName is the answers'.
func (RunningAnswer) TableName() string { return "answers" }

// Text returns the answer as it came.
func (a *RunningAnswer) Text() (string, error) {
	raw, err := textDecoder.DecodeAll(a.Body, nil)
	if err != nil {
		return "", fmt.Errorf("answer %d is damaged in the database: %w", a.ID, err)
	}
	return string(raw), nil
}

// MaxAnswers bounds the answers of a case.
const MaxAnswers = 60

// ErrFull: a case has as many of something as it may have.
var ErrFull = errors.New("there are as many as are kept")

// AddAnswer keeps an answer.
func (s *Store) AddAnswer(ctx context.Context, a *RunningAnswer, text string, by Entry, version uint32) error {
	a.At, a.Who, a.Body = time.Now().UTC(), by.Who, encoder.EncodeAll([]byte(text), nil)
	return s.write(ctx, func(tx *gorm.DB) error {
		a.ID = 0
		if err := claim(tx, a.CaseID, version, by); err != nil {
			return err
		}
		var n int64
		if err := tx.Model(&RunningAnswer{}).Where("case_id = ?", a.CaseID).Count(&n).Error; err != nil {
			return err
		}
		if n >= MaxAnswers {
			return ErrFull
		}
		return tx.Create(a).Error
	})
}

// WithdrawAnswer takes an answer back.
func (s *Store) WithdrawAnswer(ctx context.Context, caseID, id uint64, by Entry, version uint32) error {
	return s.write(ctx, func(tx *gorm.DB) error {
		if err := claim(tx, caseID, version, by); err != nil {
			return err
		}
		res := tx.Where("case_id = ? AND id = ?", caseID, id).Delete(&RunningAnswer{})
		if res.Error == nil && res.RowsAffected == 0 {
			return ErrNotFound
		}
		return res.Error
	})
}

// Answers returns a case's answers, the oldest first.
func (s *Store) Answers(ctx context.Context, id uint64) ([]RunningAnswer, error) {
	var answers []RunningAnswer
	err := s.read(ctx, func(db *gorm.DB) error {
		return db.Where("case_id = ?", id).Order("id").Limit(MaxAnswers).Find(&answers).Error
	})
	return answers, err
}
