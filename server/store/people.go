package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Role is what a person may do.
type Role string

// The roles, each with what the one before it may.
const (
	Reader     Role = "reader"     // looks
	Technician Role = "technician" // changes cases
	Lead       Role = "lead"       // makes and disables accounts, deletes cases
)

// May reports whether the role may do what another one may.
func (r Role) May(what Role) bool {
	rank := map[Role]int{Reader: 1, Technician: 2, Lead: 3}
	return rank[r] >= rank[what] && rank[r] > 0
}

// Account is a person who works with the application.
type Account struct {
	ID         uint64
	Name       string
	Role       Role
	Password   string // hash; "" until the person has set one
	Epoch      uint32 // sessions of an earlier one are over
	DisabledAt *time.Time
	Demo       bool
	CreatedAt  time.Time
}

// ErrLastLead: without it nobody could make accounts any more.
var ErrLastLead = errors.New("it is the last lead who can sign in")

// AddAccount stores a new account; ErrTaken when there is one of its name.
func (s *Store) AddAccount(ctx context.Context, a *Account) error {
	return s.write(ctx, func(tx *gorm.DB) error { a.ID = 0; return tx.Create(a).Error })
}

// Account returns an account.
func (s *Store) Account(ctx context.Context, id uint64) (*Account, error) {
	var a Account
	err := s.read(ctx, func(db *gorm.DB) error { return db.First(&a, id).Error })
	return &a, err
}

// AccountNamed returns the account of a name.
func (s *Store) AccountNamed(ctx context.Context, name string) (*Account, error) {
	var a Account
	err := s.read(ctx, func(db *gorm.DB) error { return db.Where("name = ?", name).First(&a).Error })
	return &a, err
}

// MaxAccounts bounds the accounts there can be.
const MaxAccounts = 500

// Accounts lists all accounts by name.
func (s *Store) Accounts(ctx context.Context) ([]Account, error) {
	var all []Account
	err := s.read(ctx, func(db *gorm.DB) error { return db.Order("name").Limit(MaxAccounts).Find(&all).Error })
	return all, err
}

// ChangeAccount changes an account under a lock, as do says, which may refuse. The last
// lead who can sign in stays one.
func (s *Store) ChangeAccount(ctx context.Context, id uint64, do func(*Account) error) (*Account, error) {
	var a Account
	err := s.write(ctx, func(tx *gorm.DB) error {
		a = Account{}
		// All leads are locked, so that two changes cannot take the last two at once.
		var leads []Account
		lock := clause.Locking{Strength: "UPDATE"}
		if err := tx.Clauses(lock).Where("role = ? AND disabled_at IS NULL", Lead).Order("id").Find(&leads).Error; err != nil {
			return err
		}
		if err := tx.Clauses(lock).First(&a, id).Error; err != nil {
			return err
		}
		was := a
		if err := do(&a); err != nil {
			return err
		}
		stays := a.Role == Lead && a.DisabledAt == nil
		if was.Role == Lead && was.DisabledAt == nil && !stays && len(leads) < 2 {
			return ErrLastLead
		}
		return tx.Model(&a).Select("role", "password", "epoch", "disabled_at").Updates(&a).Error
	})
	return &a, err
}

// keyTime is how long a key that signs in once is good.
const keyTime = 3 * 24 * time.Hour

type keyOnce struct {
	Hash      []byte `gorm:"primaryKey"`
	AccountID uint64
	ExpiresAt time.Time
}

func (keyOnce) TableName() string { return "keys_once" }

// NewKey makes a key that signs an account in once, in place of any it had.
func (s *Store) NewKey(ctx context.Context, account uint64) (string, error) {
	raw := make([]byte, 24)
	if _, err := rand.Read(raw); err != nil {
		return "", err
	}
	key := base64.RawURLEncoding.EncodeToString(raw)
	hash := sha256.Sum256([]byte(key))
	return key, s.write(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("account_id = ? OR expires_at < ?", account, time.Now().UTC()).Delete(&keyOnce{}).Error; err != nil {
			return err
		}
		return tx.Create(&keyOnce{hash[:], account, time.Now().UTC().Add(keyTime)}).Error
	})
}

// UseKey takes a key and returns the account that it signs in; ErrNotFound when it was
// used, has run out, or never was one.
func (s *Store) UseKey(ctx context.Context, key string) (*Account, error) {
	hash := sha256.Sum256([]byte(key))
	var a Account
	err := s.write(ctx, func(tx *gorm.DB) error {
		a = Account{}
		var k keyOnce
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("hash = ? AND expires_at > ?", hash[:],
			time.Now().UTC()).First(&k).Error; err != nil {
			return err
		}
		if err := tx.Where("hash = ?", hash[:]).Delete(&keyOnce{}).Error; err != nil {
			return err
		}
		return tx.Where("disabled_at IS NULL").First(&a, k.AccountID).Error
	})
	return &a, err
}

// FirstLead returns the lead for whom a server prints a key: the first who is not
// disabled, as long as no lead has a password. Without any lead one is made of the given
// name. It is nil when a lead can sign in by password.
func (s *Store) FirstLead(ctx context.Context, name string) (*Account, error) {
	var first *Account
	err := s.write(ctx, func(tx *gorm.DB) error {
		first = nil
		var leads []Account
		if err := tx.Where("role = ? AND disabled_at IS NULL", Lead).Order("id").Find(&leads).Error; err != nil {
			return err
		}
		for _, l := range leads {
			if l.Password != "" {
				return nil
			}
		}
		if len(leads) > 0 {
			first = &leads[0]
			return nil
		}
		first = &Account{Name: name, Role: Lead}
		return tx.Create(first).Error
	})
	return first, err
}
