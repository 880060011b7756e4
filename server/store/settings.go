package store

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"latchkey/core/handover"
)

type setting struct {
	Name  string `gorm:"primaryKey"`
	Value string
}

// keepDays is the setting of how long a closed case keeps its evidence.
const keepDays = "keep evidence of closed cases, days"

// releaseRule is the setting of when an old drive may be released: starts, days, and 1
// where everything must have been looked at.
const releaseRule = "release rule"

// ReleaseRule returns the bench's rule, or the one that holds where none is set.
func (s *Store) ReleaseRule(ctx context.Context) (handover.Rule, error) {
	r, looked := handover.TheRule, 1
	var rows []setting
	err := s.read(ctx, func(db *gorm.DB) error { return db.Where("name = ?", releaseRule).Limit(1).Find(&rows).Error })
	if err != nil || len(rows) == 0 {
		return r, err
	}
	_, err = fmt.Sscan(rows[0].Value, &r.Starts, &r.Days, &looked)
	r.Looked = looked == 1
	return r, err
}

// SetReleaseRule sets it.
func (s *Store) SetReleaseRule(ctx context.Context, r handover.Rule) error {
	looked := map[bool]int{true: 1}[r.Looked]
	return s.set(ctx, releaseRule, fmt.Sprint(r.Starts, r.Days, looked))
}

// takeModel is the setting of whether a new case takes over what other cases of its
// machine's model say.
const takeModel = "take over what a model's cases say"

// TakesModel returns whether it does.
func (s *Store) TakesModel(ctx context.Context) (bool, error) {
	var rows []setting
	err := s.read(ctx, func(db *gorm.DB) error { return db.Where("name = ?", takeModel).Limit(1).Find(&rows).Error })
	return err == nil && len(rows) == 1 && rows[0].Value == "yes", err
}

// SetTakesModel sets it.
func (s *Store) SetTakesModel(ctx context.Context, takes bool) error {
	return s.set(ctx, takeModel, map[bool]string{true: "yes", false: "no"}[takes])
}

func (s *Store) set(ctx context.Context, name, value string) error {
	return s.write(ctx, func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&setting{name, value}).Error
	})
}

// KeepDays returns after how many days a closed case's evidence is removed; 0 keeps it.
func (s *Store) KeepDays(ctx context.Context) (int, error) {
	var rows []setting
	err := s.read(ctx, func(db *gorm.DB) error { return db.Where("name = ?", keepDays).Limit(1).Find(&rows).Error })
	if err != nil || len(rows) == 0 {
		return 0, err
	}
	return strconv.Atoi(rows[0].Value)
}

// SetKeepDays sets it.
func (s *Store) SetKeepDays(ctx context.Context, days int) error {
	return s.set(ctx, keepDays, strconv.Itoa(days))
}

// Clear removes the evidence of the cases that were closed more than so many days ago,
// at most a hundred at once, and returns how many there were. What was found and done
// stays.
func (s *Store) Clear(ctx context.Context, days int) (cleared int, err error) {
	var ids []uint64
	before := time.Now().UTC().AddDate(0, 0, -days)
	err = s.read(ctx, func(db *gorm.DB) error {
		return db.Model(&Case{}).Where("closed_at < ? AND cleared_at IS NULL", before).Order("id").Limit(100).Pluck("id", &ids).Error
	})
	if err != nil {
		return 0, err
	}
	for _, id := range ids {
		err := s.write(ctx, func(tx *gorm.DB) error {
			res := tx.Model(&Case{}).Where("id = ? AND closed_at < ? AND cleared_at IS NULL", id, before).
				Updates(map[string]any{"cleared_at": time.Now().UTC(), "version": gorm.Expr("version + 1")})
			if res.Error != nil || res.RowsAffected == 0 {
				return res.Error // opened again, or cleared by another server
			}
			for _, what := range []any{&Listing{}, &Evidence{}} { // the chunks go with the evidence
				if err := tx.Where("case_id = ?", id).Delete(what).Error; err != nil {
					return err
				}
			}
			if err := tx.Model(&Drive{}).Where("case_id = ?", id).Select("told").Updates(&Drive{}).Error; err != nil {
				return err
			}
			return Entry{Who: "Latchkey", What: WhatCleared, Detail: "The case was closed more than " + strconv.Itoa(days) + " days ago."}.write(tx, id)
		})
		if err != nil {
			return cleared, err
		}
		cleared++
	}
	return cleared, nil
}
