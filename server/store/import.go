package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Imported is a case that comes in whole from another bench.
type Imported struct {
	Case *Case // with its drives; without evidence
	// Pieces are opened one after the other, again where the change is tried again.
	Pieces   []func() (piece *Piece, done func(), err error)
	Listings []Listing
	Answers  []RunningAnswer
	Marks    []Mark
	// Starts name the piece that proves them by its place in Pieces, from 1; 0 is none.
	Starts   []Start
	ProvedBy []int
	History  []Entry
}

// Text packs a listing's or an answer's text as it is stored.
func PackText(text []byte) []byte { return encoder.EncodeAll(text, nil) }

// Import stores a case that comes in whole, or nothing of it.
func (s *Store) Import(ctx context.Context, in *Imported, by Entry) (id uint64, err error) {
	err = s.write(ctx, func(tx *gorm.DB) error {
		c := *in.Case
		c.ID, c.Version, c.Model = 0, 1, ModelOf(in.Case.Machine)
		c.Drives = nil
		if err := tx.Omit("Listings", "Drives").Create(&c).Error; err != nil {
			return err
		}
		id = c.ID
		for _, d := range in.Case.Drives {
			d.CaseID = id
			if err := tx.Omit("Evidence").Create(&d).Error; err != nil {
				return err
			}
		}
		c.Drives = in.Case.Drives
		if err := indexWords(tx, &c); err != nil {
			return err
		}
		if err := in.evidence(tx, id); err != nil {
			return err
		}
		return by.write(tx, id)
	})
	return id, err
}

// evidence stores what belongs to the case.
func (in *Imported) evidence(tx *gorm.DB, id uint64) error {
	ids := make([]uint64, len(in.Pieces))
	for i, open := range in.Pieces {
		p, done, err := open()
		if err != nil {
			return err
		}
		p.CaseID = id
		received, withdrawn := p.ReceivedAt, p.WithdrawnAt
		err = p.add(tx)
		done()
		if err != nil {
			return err
		}
		ids[i] = p.ID
		changes := map[string]any{"received_at": received, "withdrawn_at": withdrawn}
		if err := tx.Model(&Evidence{}).Where("id = ?", p.ID).Updates(changes).Error; err != nil {
			return err
		}
		if err := putInForce(tx, id, p.Role, map[string]any{}); err != nil {
			return err
		}
	}
	return in.rows(tx, id, ids)
}

// batch bounds the rows of one insertion.
const batch = 200

func (in *Imported) rows(tx *gorm.DB, id uint64, pieces []uint64) error {
	starts := append([]Start{}, in.Starts...)
	for i := range starts {
		starts[i].ID, starts[i].CaseID = 0, id
		if n := in.ProvedBy[i]; n > 0 {
			starts[i].EvidenceID = &pieces[n-1]
		}
	}
	listings, answers, marks, history := append([]Listing{}, in.Listings...), append([]RunningAnswer{},
		in.Answers...), append([]Mark{}, in.Marks...), append([]Entry{}, in.History...)
	for i := range listings {
		listings[i].ID, listings[i].CaseID = 0, id
	}
	for i := range answers {
		answers[i].ID, answers[i].CaseID = 0, id
	}
	for i := range marks {
		marks[i].ID, marks[i].CaseID = 0, id
	}
	for i := range history {
		history[i].ID, history[i].CaseID = 0, id
	}
	for _, rows := range []struct {
		n    int
		rows any
	}{{len(listings), &listings}, {len(answers), &answers}, {len(marks), &marks}, {len(history),
		&history}, {len(starts), &starts}} {
		if rows.n == 0 {
			continue
		}
		if err := tx.CreateInBatches(rows.rows, batch).Error; err != nil {
			return err
		}
	}
	if err := proved(tx, id); err != nil {
		return err
	}
	return tx.Model(&Case{}).Where("id = ?", id).Update("updated_at", time.Now().UTC()).Error
}
