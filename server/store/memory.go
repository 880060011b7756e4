package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Observation is what a start says, of necessity, of a firmware's choice.
type Observation struct {
	ID      uint64
	CaseID  uint64
	StartID uint64
	Choice  string
	Value   bool
}

// Told is what one case says of a firmware's choice, and how it came to say so.
type Told struct {
	CaseID uint64
	Title  string
	Choice string
	Value  bool
	Start  bool // a start says so; else a person told it
}

// maxToldCases bounds the cases of a model whose statements are read.
const maxToldCases = 500

// ToldOfModel returns what the cases of a machine's model say of its firmware's choices, but
// for one case. What a case took over from the others says nothing.
func (s *Store) ToldOfModel(ctx context.Context, model string, but uint64) (all []Told, cases int64, err error) {
	err = s.read(ctx, func(db *gorm.DB) error {
		if model == "" {
			return nil
		}
		err := db.Raw(`SELECT o.case_id, c.title, o.choice, o.value, TRUE AS start FROM observations o JOIN cases c ON c.id = o.case_id JOIN starts t ON t.id = o.start_id
			WHERE c.model = ? AND c.id <> ? AND t.withdrawn_at IS NULL ORDER BY o.id DESC LIMIT 5000`, model, but).Scan(&all).Error
		if err != nil {
			return err
		}
		var told []Case
		if err := db.Select("id", "title", "firmware", "sayings").Where("model = ? AND id <> ?", model, but).Order("updated_at DESC").Limit(maxToldCases).Find(&told).Error; err != nil {
			return err
		}
		cases = int64(len(told))
		for i := range told {
			c := &told[i]
			for key, value := range c.Firmware.Choices {
				if !c.Sayings[ChoiceFact(key).String()].Model {
					all = append(all, Told{CaseID: c.ID, Title: c.Title, Choice: key, Value: value})
				}
			}
		}
		return nil
	})
	return all, cases, err
}

// Change is a verdict that is another one by newer rules.
type Change struct {
	ID          uint64
	CaseID      uint64
	At          time.Time
	RulesBefore string
	Rules       string
	BeforeText  string
	AfterText   string
	Why         string
}

// TableName is the changes'.
func (Change) TableName() string { return "verdict_changes" }

// Outdated returns the numbers of cases that were judged by other rules, at most so many,
// from after one; those whose evidence was removed are left as they are.
func (s *Store) Outdated(ctx context.Context, rules string, after uint64, most int) (ids []uint64, err error) {
	err = s.read(ctx, func(db *gorm.DB) error {
		return db.Model(&Case{}).Where("rules <> ? AND cleared_at IS NULL AND id > ?", rules, after).Order("id").Limit(most).Pluck("id", &ids).Error
	})
	return ids, err
}

// Fleet is how many cases there are, and how many were judged by the present rules.
type Fleet struct {
	All, Judged int64
}

// Fleet counts.
func (s *Store) Fleet(ctx context.Context, rules string) (f Fleet, err error) {
	err = s.read(ctx, func(db *gorm.DB) error {
		return db.Raw("SELECT COUNT(*) AS `all`, COALESCE(SUM(rules = ?), 0) AS judged FROM cases WHERE cleared_at IS NULL", rules).Scan(&f).Error
	})
	return f, err
}

// RecordAgain keeps a verdict by newer rules, with how it changed; it does nothing where
// another server was quicker. The case's place in lists stays.
func (s *Store) RecordAgain(ctx context.Context, c *Case, k Check, why string, words []string) error {
	k.At = time.Now().UTC()
	k.Headline = clip(k.Headline, 500)
	return s.write(ctx, func(tx *gorm.DB) error {
		res := tx.Model(&Case{}).Where("id = ? AND version = ? AND rules <> ?", c.ID, c.Version, k.Rules).UpdateColumn("rules", k.Rules)
		if res.Error != nil || res.RowsAffected == 0 {
			return res.Error
		}
		if err := k.write(tx); err != nil {
			return err
		}
		if c.Rules != "" && (c.Verdict != k.Verdict || c.Reaches != k.Reaches || c.Stage != k.Stage) {
			change := Change{CaseID: c.ID, At: k.At, RulesBefore: c.Rules, Rules: k.Rules, BeforeText: c.Headline,
				AfterText: k.Headline, Why: clip(why, 500)}
			if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&change).Error; err != nil {
				return err
			}
		}
		return findBy(tx, c.ID, words)
	})
}

// JudgeAgain lets every case be judged again.
func (s *Store) JudgeAgain(ctx context.Context) error {
	return s.write(ctx, func(tx *gorm.DB) error {
		return tx.Model(&Case{}).Where("rules <> ''").UpdateColumn("rules", gorm.Expr("CONCAT('again ', LEFT(rules, 13))")).Error
	})
}

// Changed is a change with the case's name.
type Changed struct {
	Change
	Title string
}

// Changes returns the latest changes of verdicts, the newest first.
func (s *Store) Changes(ctx context.Context) (all []Changed, err error) {
	err = s.read(ctx, func(db *gorm.DB) error {
		return db.Table("verdict_changes v").Select("v.*, c.title").Joins("JOIN cases c ON c.id = v.case_id").Order("v.id DESC").Limit(200).Scan(&all).Error
	})
	return all, err
}
