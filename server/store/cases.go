package store

import (
	"context"
	"strings"
	"time"

	"gorm.io/gorm"

	"latchkey/capture/told"
)

// Case is one machine with its two drives.
type Case struct {
	ID          uint64
	Title       string
	Machine     string
	Firmware    Firmware   `gorm:"serializer:json"`
	DeviceOrder []string   `gorm:"serializer:json"` // drive roles
	ProvedAt    *time.Time // when a first start from the clone was proved
	Proof       string
	Said        string // what the screen said when the machine did not start
	Stands      string // where the person stands: before the copy, at a machine that does not start
	Reach       string // what the person can get hold of
	// Sayings tell who told each fact of the machine, by the fact's name.
	Sayings map[string]Saying `gorm:"serializer:json"`
	// Preparation is nil where nothing was planned.
	Preparation *Preparation `gorm:"serializer:json"`
	// Handover is nil where nothing was decided after a first start.
	Handover  *Handover `gorm:"serializer:json"`
	Version   uint32
	Verdict   string
	Reaches   string
	Stage     string
	Headline  string
	Model     string // of the machine, by which cases are alike
	Rules     string // version of the rules of the latest check
	Demo      *string
	ClosedAt  *time.Time // when a person closed it
	ClearedAt *time.Time // when its evidence was removed, some time after
	CreatedAt time.Time
	UpdatedAt time.Time
	Drives    []Drive `gorm:"foreignKey:CaseID"`
	// Listings are those that count, the newest first.
	Listings []Listing `gorm:"foreignKey:CaseID"`
}

// Firmware holds the typed facts of a machine's firmware; nil is unknown.
type Firmware struct {
	Mode       *string `json:"mode,omitempty"`
	Arch       *string `json:"arch,omitempty"`
	SecureBoot *bool   `json:"secureBoot,omitempty"`
	// StorageMode is the storage controller's mode now, StorageModeBefore when the
	// system last ran.
	StorageMode       *string `json:"storageMode,omitempty"`
	StorageModeBefore *string `json:"storageModeBefore,omitempty"`
	// Choices are what was told of the firmware's choices, by their keys.
	Choices map[string]bool `json:"choices,omitempty"`
	// Entries tells, by drive role, whether a boot entry leads to the drive's
	// own loader.
	Entries map[string]bool `json:"entries,omitempty"`
	// BootOrder is the order of the boot entries as it was changed since the
	// evidence was taken: numbers of four hexadecimal digits; nil is unchanged.
	BootOrder []string `json:"bootOrder,omitempty"`
	// Shown tells, by drive role, whether the firmware's boot list shows the drive.
	Shown map[string]bool `json:"shown,omitempty"`
	// Answers are typed answers to the questions of a check, by their ID.
	Answers map[string]string `json:"answers,omitempty"`
}

// Drive is a drive of a case.
type Drive struct {
	CaseID     uint64 `gorm:"primaryKey"`
	Role       string `gorm:"primaryKey"`
	Model      string
	Bus        *string
	Attached   *bool
	EvidenceID *uint64
	Evidence   *Evidence
	Told       *told.Disk `gorm:"serializer:json"`
}

// Check is the dated record of a verdict.
type Check struct {
	ID       uint64
	CaseID   uint64
	At       time.Time
	Rules    string
	Verdict  string
	Reaches  string
	Stage    string
	Headline string
}

// Roles of the drives of a case, in the order in which they are shown.
var Roles = []string{"original", "clone"}

// Create stores a new case with its drives.
func (s *Store) Create(ctx context.Context, c *Case, by Entry) error {
	c.Version = 1
	if c.DeviceOrder == nil {
		c.DeviceOrder = []string{}
	}
	c.sign(&Case{}, by.Who, time.Now().UTC())
	c.Model = ModelOf(c.Machine)
	return s.write(ctx, func(tx *gorm.DB) error {
		c.ID = 0
		for i := range c.Drives {
			c.Drives[i].CaseID = 0
		}
		if err := tx.Omit("Listings").Create(c).Error; err != nil {
			return err
		}
		if err := by.write(tx, c.ID); err != nil {
			return err
		}
		return indexWords(tx, c)
	})
}

// Get returns a case with its drives and the evidence in force.
func (s *Store) Get(ctx context.Context, id uint64) (*Case, error) {
	var c Case
	err := s.read(ctx, func(db *gorm.DB) error {
		return db.Preload("Drives", func(tx *gorm.DB) *gorm.DB {
			return tx.Order("role DESC") // original before clone
		}).Preload("Drives.Evidence").Preload("Listings", func(tx *gorm.DB) *gorm.DB {
			return tx.Omit("body").Where("withdrawn_at IS NULL").Order("id DESC").Limit(MaxListings)
		}).First(&c, id).Error
	})
	if err != nil {
		return nil, err
	}
	return &c, nil
}

// Update stores a changed case if it still has the version it was read with.
func (s *Store) Update(ctx context.Context, c *Case, by Entry) error {
	version := c.Version
	return s.write(ctx, func(tx *gorm.DB) error {
		if err := claim(tx, c.ID, version, by); err != nil {
			return err
		}
		c.Version = version + 1
		var before Case
		if err := tx.Preload("Drives").First(&before, c.ID).Error; err != nil {
			return err
		}
		c.sign(&before, by.Who, time.Now().UTC())
		c.Model = ModelOf(c.Machine)
		if err := tx.Model(c).Select("title", "machine", "model", "firmware", "device_order", "said", "stands", "reach", "sayings").Updates(c).Error; err != nil {
			return err
		}
		for _, d := range c.Drives {
			err := tx.Model(&Drive{}).Where("case_id = ? AND role = ?", c.ID, d.Role).
				Select("model", "bus", "attached").Updates(d).Error
			if err != nil {
				return err
			}
		}
		if err := tx.Exec("DELETE FROM case_words WHERE case_id = ?", c.ID).Error; err != nil {
			return err
		}
		return indexWords(tx, c)
	})
}

// Close marks a case as closed, or opens it again.
func (s *Store) CloseCase(ctx context.Context, id uint64, closed bool, by Entry, version uint32) error {
	return s.write(ctx, func(tx *gorm.DB) error {
		if err := claim(tx, id, version, by); err != nil {
			return err
		}
		return tx.Model(&Case{}).Where("id = ?", id).Update("closed_at", when(closed)).Error
	})
}

// Delete removes a case with everything that belongs to it. The case must still have
// the given version.
func (s *Store) Delete(ctx context.Context, id uint64, version uint32) error {
	return s.write(ctx, func(tx *gorm.DB) error {
		if err := claim(tx, id, version, Entry{}); err != nil {
			return err
		}
		return tx.Delete(&Case{}, id).Error // what refers to it goes with it
	})
}

// claim raises the version of a case and keeps in its history who changed it, or
// reports that it is another one by now.
func claim(tx *gorm.DB, id uint64, version uint32, by Entry) error {
	res := tx.Model(&Case{}).Where("id = ? AND version = ?", id, version).
		Updates(map[string]any{"version": version + 1, "updated_at": time.Now().UTC()})
	if res.Error != nil {
		return res.Error
	}
	if res.RowsAffected == 1 {
		return by.write(tx, id)
	}
	var n int64
	if err := tx.Model(&Case{}).Where("id = ?", id).Count(&n).Error; err != nil {
		return err
	}
	if n == 0 {
		return ErrNotFound
	}
	return ErrConflict
}

// ModelOf is a machine's model: what stands before the comma, as in "Fenmark D4, harbour
// office".
func ModelOf(machine string) string {
	model, _, _ := strings.Cut(machine, ",")
	return strings.TrimSpace(model)
}

// Record keeps a verdict as a dated record, shows it in lists, and lets the case be found
// by words. It does not change the case's version: nothing that a person entered has
// changed.
func (s *Store) Record(ctx context.Context, k Check, words []string) error {
	k.At = time.Now().UTC()
	k.Headline = clip(k.Headline, 500)
	return s.write(ctx, func(tx *gorm.DB) error {
		if err := k.write(tx); err != nil {
			return err
		}
		return findBy(tx, k.CaseID, words)
	})
}

func (k *Check) write(tx *gorm.DB) error {
	k.ID = 0
	if err := tx.Create(k).Error; err != nil {
		return err
	}
	return tx.Model(&Case{}).Where("id = ?", k.CaseID).UpdateColumns(map[string]any{
		"verdict": k.Verdict, "reaches": k.Reaches, "stage": k.Stage, "headline": k.Headline, "rules": k.Rules,
	}).Error
}

func clip(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

// FindDemo returns the case that was made from a demo case.
func (s *Store) FindDemo(ctx context.Context, name string) (*Case, error) {
	var c Case
	err := s.read(ctx, func(db *gorm.DB) error { return db.Where("demo = ?", name).First(&c).Error })
	return &c, err
}
