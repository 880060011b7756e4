package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Sessions keeps browsers' sessions, under the hash of what the browser holds. It is a
// store of alexedwards/scs.
type Sessions struct{ s *Store }

// Sessions returns the store of sessions.
func (s *Store) Sessions() *Sessions { return &Sessions{s} }

type session struct {
	Token     string `gorm:"primaryKey"`
	Data      []byte
	ExpiresAt time.Time
}

// FindCtx returns a session's data.
func (k *Sessions) FindCtx(ctx context.Context, token string) (data []byte, found bool, err error) {
	var rows []session
	err = k.s.read(ctx, func(db *gorm.DB) error {
		return db.Where("token = ? AND expires_at > ?", token, time.Now().UTC()).Limit(1).Find(&rows).Error
	})
	if err != nil || len(rows) == 0 {
		return nil, false, err
	}
	return rows[0].Data, true, nil
}

// CommitCtx stores a session.
func (k *Sessions) CommitCtx(ctx context.Context, token string, data []byte, expiry time.Time) error {
	return k.s.write(ctx, func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&session{token, data, expiry.UTC()}).Error
	})
}

// DeleteCtx ends a session.
func (k *Sessions) DeleteCtx(ctx context.Context, token string) error {
	return k.s.write(ctx, func(tx *gorm.DB) error { return tx.Where("token = ?", token).Delete(&session{}).Error })
}

// Find is FindCtx without a context.
func (k *Sessions) Find(token string) ([]byte, bool, error) {
	return k.FindCtx(context.Background(), token)
}

// Commit is CommitCtx without a context.
func (k *Sessions) Commit(token string, data []byte, expiry time.Time) error {
	return k.CommitCtx(context.Background(), token, data, expiry)
}

// Delete is DeleteCtx without a context.
func (k *Sessions) Delete(token string) error { return k.DeleteCtx(context.Background(), token) }

// DeleteExpired removes the sessions and keys that have run out.
func (k *Sessions) DeleteExpired(ctx context.Context) error {
	return k.s.write(ctx, func(tx *gorm.DB) error {
		now := time.Now().UTC()
		if err := tx.Where("expires_at < ?", now).Delete(&session{}).Error; err != nil {
			return err
		}
		return tx.Where("expires_at < ?", now).Delete(&keyOnce{}).Error
	})
}
