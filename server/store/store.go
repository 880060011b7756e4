// Package store keeps cases and their evidence in MariaDB.
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"time"

	mysqldriver "github.com/go-sql-driver/mysql"
	"gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("changed by someone else in the meantime")
	// ErrUnavailable: the database does not answer, and nothing was changed.
	ErrUnavailable = errors.New("the database does not answer")
	// ErrUncertain: the database went away while a change was being confirmed; whether
	// it was made is not known.
	ErrUncertain = errors.New("the database went away while the change was being confirmed")
	ErrTaken     = errors.New("there is one of that name already")
)

// Bounds on how long the database is waited for.
const (
	dialTime  = 3 * time.Second  // to connect
	quietTime = 10 * time.Second // for a single answer
	readTime  = 10 * time.Second // for all that one request reads
	writeTime = 30 * time.Second // for a change, with what it is tried again
	pingTime  = 700 * time.Millisecond
)

// Store is the database.
type Store struct {
	gorm   *gorm.DB
	config *mysqldriver.Config
	chunks *chunkCache
}

// Open connects to the database at dsn (the form of go-sql-driver/mysql).
func Open(dsn string) (*Store, error) {
	cfg, err := mysqldriver.ParseDSN(dsn)
	if err != nil {
		return nil, errors.New("the database's address cannot be read: expected user:password@tcp(host:port)/name") // never the address itself: it has the password
	}
	cfg.ParseTime, cfg.Loc = true, time.UTC
	cfg.Timeout, cfg.ReadTimeout, cfg.WriteTimeout = dialTime, quietTime, quietTime
	cfg.Logger = &mysqldriver.NopLogger{} // its complaints come back as errors
	if cfg.Params == nil {
		cfg.Params = map[string]string{}
	}
	// Without locks on gaps, writers of different cases do not wait for each other.
	cfg.Params["tx_isolation"] = "'READ-COMMITTED'"
	cfg.Params["innodb_lock_wait_timeout"] = "5"
	connector, err := mysqldriver.NewConnector(cfg)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	pool := sql.OpenDB(connector)
	pool.SetMaxOpenConns(16)
	pool.SetMaxIdleConns(8)
	pool.SetConnMaxLifetime(5 * time.Minute)
	db, err := gorm.Open(mysql.New(mysql.Config{Conn: pool, DSNConfig: cfg, SkipInitializeWithVersion: true}),
		&gorm.Config{
			TranslateError: true, Logger: logger.Default.LogMode(logger.Silent),
			NowFunc: func() time.Time { return time.Now().UTC() }, DisableAutomaticPing: true,
		})
	if err != nil {
		return nil, errors.Join(explain(err), pool.Close())
	}
	return &Store{gorm: db, config: cfg, chunks: newChunkCache()}, nil
}

// Close ends the connections.
func (s *Store) Close() error {
	pool, err := s.gorm.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

// Ping reports within a second whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, pingTime)
	defer cancel()
	pool, err := s.gorm.DB()
	if err != nil {
		return err
	}
	return explain(pool.PingContext(ctx))
}

// read runs queries, bounded in time.
func (s *Store) read(ctx context.Context, do func(db *gorm.DB) error) error {
	ctx, cancel := context.WithTimeout(ctx, readTime)
	defer cancel()
	return explain(do(s.gorm.WithContext(ctx)))
}

// tries bounds how often a change is tried that others stand in the way of.
const tries = 12

// write runs a change as one transaction, bounded in time. One that came to a deadlock,
// or waited too long for a lock, is undone whole and tried again: do must be able to be
// repeated.
func (s *Store) write(ctx context.Context, do func(tx *gorm.DB) error) error {
	ctx, cancel := context.WithTimeout(ctx, writeTime)
	defer cancel()
	for n := 1; ; n++ {
		err := s.transaction(ctx, do)
		if n == tries || !blocked(err) {
			return err
		}
		select {
		case <-ctx.Done():
			return explain(ctx.Err())
		case <-time.After(time.Duration(rand.Int64N(int64(n) * int64(20*time.Millisecond)))):
		}
	}
}

func (s *Store) transaction(ctx context.Context, do func(tx *gorm.DB) error) (err error) {
	tx := s.gorm.WithContext(ctx).Begin()
	if tx.Error != nil {
		return explain(tx.Error)
	}
	done := false
	defer func() {
		if !done { // a panic too
			tx.Rollback()
		}
	}()
	if err := do(tx); err != nil {
		return explain(err)
	}
	done = true
	if err := tx.Commit().Error; err != nil {
		if blocked(err) {
			return err
		}
		return fmt.Errorf("%w (%v)", ErrUncertain, err)
	}
	return nil
}

// Numbers of MariaDB's errors: its documentation, "MariaDB Error Code Reference".
const (
	errLockWait  = 1205 // ER_LOCK_WAIT_TIMEOUT
	errDeadlock  = 1213 // ER_LOCK_DEADLOCK
	errDuplicate = 1062 // ER_DUP_ENTRY
)

// blocked reports whether others stood in the way.
func blocked(err error) bool {
	var said *mysqldriver.MySQLError
	return errors.As(err, &said) && (said.Number == errLockWait || said.Number == errDeadlock)
}

// explain turns the driver's errors into those that callers tell apart.
func explain(err error) error {
	var network net.Error
	var said *mysqldriver.MySQLError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, gorm.ErrRecordNotFound):
		return ErrNotFound
	case errors.Is(err, gorm.ErrDuplicatedKey), errors.As(err, &said) && said.Number == errDuplicate:
		return fmt.Errorf("%w (%v)", ErrTaken, err)
	case errors.Is(err, driver.ErrBadConn), errors.Is(err, mysqldriver.ErrInvalidConn), errors.As(err, &network),
		errors.Is(err, sql.ErrConnDone), errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("%w (%v)", ErrUnavailable, err)
	}
	return err
}
