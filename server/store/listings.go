package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"

	"latchkey/capture/listing"
	"latchkey/capture/told"
)

// Listing is a piece of text evidence: the output of a command, kept as it came.
type Listing struct {
	ID       uint64
	CaseID   uint64
	Filename string
	Format   string
	// Disks gives the drive role of each disk that the listing tells of; a disk
	// left out belongs to none.
	Disks       map[string]string `gorm:"serializer:json"`
	Body        []byte            // zstd
	Length      int
	ReceivedAt  time.Time
	WithdrawnAt *time.Time
}

// Text returns the listing as it came.
func (l *Listing) Text() ([]byte, error) {
	raw, err := textDecoder.DecodeAll(l.Body, nil)
	if err != nil {
		return nil, fmt.Errorf("listing %d is damaged in the database: %w", l.ID, err)
	}
	return raw, nil
}

// MaxListings bounds the listings of one case that count at once.
const MaxListings = 40

// AddListing stores a listing with its text. The case must still have the given
// version.
func (s *Store) AddListing(ctx context.Context, l *Listing, text []byte, by Entry, version uint32) error {
	if len(text) > listing.MaxBytes {
		return fmt.Errorf("a listing of %d bytes", len(text))
	}
	l.ReceivedAt, l.Filename = time.Now().UTC(), clip(l.Filename, 255)
	l.Body, l.Length = encoder.EncodeAll(text, nil), len(text)
	return s.write(ctx, func(tx *gorm.DB) error {
		l.ID = 0
		if err := claim(tx, l.CaseID, version, by); err != nil {
			return err
		}
		return tx.Create(l).Error
	})
}

// Listing returns one listing of a case.
func (s *Store) Listing(ctx context.Context, caseID, id uint64) (*Listing, error) {
	var l Listing
	err := s.read(ctx, func(db *gorm.DB) error { return db.Where("case_id = ?", caseID).First(&l, id).Error })
	return &l, err
}

// WithdrawListing takes a listing out of a case, or puts it back; it is kept either way.
func (s *Store) WithdrawListing(ctx context.Context, caseID, id uint64, withdrawn bool, by Entry,
	version uint32) error {
	return s.write(ctx, func(tx *gorm.DB) error {
		if err := claim(tx, caseID, version, by); err != nil {
			return err
		}
		res := tx.Model(&Listing{}).Where("case_id = ? AND id = ?", caseID, id).Update("withdrawn_at", when(withdrawn))
		if res.Error == nil && res.RowsAffected == 0 {
			return ErrNotFound
		}
		return res.Error
	})
}

func when(withdrawn bool) *time.Time {
	if !withdrawn {
		return nil
	}
	now := time.Now().UTC()
	return &now
}

// WithdrawEvidence takes a disk's bytes out of a case, or puts them back. The
// piece of the drive that was taken last and is not withdrawn is then in force.
func (s *Store) WithdrawEvidence(ctx context.Context, caseID, id uint64, withdrawn bool, by Entry,
	version uint32) error {
	return s.write(ctx, func(tx *gorm.DB) error {
		if err := claim(tx, caseID, version, by); err != nil {
			return err
		}
		var e Evidence
		if err := tx.Where("case_id = ?", caseID).First(&e, id).Error; err != nil {
			return err
		}
		if err := tx.Model(&e).Update("withdrawn_at", when(withdrawn)).Error; err != nil {
			return err
		}
		return putInForce(tx, caseID, e.Role, map[string]any{})
	})
}

// Pieces returns every piece of a case's evidence, the newest first, those that
// were replaced or withdrawn too. The listings come without their text.
func (s *Store) Pieces(ctx context.Context, caseID uint64) ([]Evidence, []Listing, error) {
	var pieces []Evidence
	var listings []Listing
	err := s.read(ctx, func(db *gorm.DB) error {
		if err := db.Where("case_id = ?", caseID).Order("id DESC").Limit(maxPieces).Find(&pieces).Error; err != nil {
			return err
		}
		return db.Omit("body").Where("case_id = ?", caseID).Order("id DESC").Limit(maxPieces).Find(&listings).Error
	})
	return pieces, listings, err
}

// maxPieces bounds the pieces of a case that are listed.
const maxPieces = 500

// TellDisk keeps what a person tells of a drive's disk; nil forgets it.
func (s *Store) TellDisk(ctx context.Context, caseID uint64, role string, disk *told.Disk, by Entry,
	version uint32) error {
	return s.write(ctx, func(tx *gorm.DB) error {
		if err := claim(tx, caseID, version, by); err != nil {
			return err
		}
		return tx.Model(&Drive{}).Where("case_id = ? AND role = ?", caseID, role).Select("told").Updates(&Drive{Told: disk}).Error
	})
}

// Swap lets what is known of one disk be the other one's: bytes, listings, what was told
// of the disks, and their models. How the drives hang in the machine stays as it is.
func (s *Store) Swap(ctx context.Context, caseID uint64, by Entry, version uint32) error {
	return s.write(ctx, func(tx *gorm.DB) error {
		if err := claim(tx, caseID, version, by); err != nil {
			return err
		}
		var drives []Drive
		if err := tx.Where("case_id = ?", caseID).Order("role").Find(&drives).Error; err != nil {
			return err
		}
		if len(drives) != 2 {
			return ErrNotFound
		}
		for i, d := range drives {
			o := drives[1-i]
			change := Drive{Model: o.Model, EvidenceID: o.EvidenceID, Told: o.Told}
			if err := tx.Model(&Drive{}).Where("case_id = ? AND role = ?", caseID, d.Role).Select("model", "evidence_id", "told").Updates(change).Error; err != nil {
				return err
			}
		}
		if err := tx.Exec("UPDATE evidence SET role = IF(role = 'clone', 'original', 'clone') WHERE case_id = ?", caseID).Error; err != nil {
			return err
		}
		var listings []Listing
		if err := tx.Omit("body").Where("case_id = ?", caseID).Find(&listings).Error; err != nil {
			return err
		}
		for _, l := range listings {
			for name, role := range l.Disks {
				l.Disks[name] = map[string]string{"clone": "original", "original": "clone"}[role]
			}
			if err := tx.Model(&Listing{}).Where("id = ?", l.ID).Select("disks").Updates(Listing{Disks: l.Disks}).Error; err != nil {
				return err
			}
		}
		return nil
	})
}
