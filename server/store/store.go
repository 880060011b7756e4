// Package store keeps cases and their evidence in MariaDB.
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"time"

	mysqldriver "github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/database"
	"gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Errors that callers tell apart.
var (
	ErrNotFound    = errors.New("not found")
	ErrConflict    = errors.New("changed by someone else in the meantime")
	ErrUnavailable = errors.New("the database does not answer")
)

// Store is the database.
type Store struct {
	db     *gorm.DB
	chunks *chunkCache
}

// Open connects to the database at dsn (the form of go-sql-driver/mysql).
func Open(dsn string) (*Store, error) {
	cfg, err := mysqldriver.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	cfg.ParseTime, cfg.Loc = true, time.UTC
	cfg.Logger = &mysqldriver.NopLogger{} // its complaints come back as errors
	connector, err := mysqldriver.NewConnector(cfg)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	pool := sql.OpenDB(connector)
	db, err := gorm.Open(mysql.New(mysql.Config{Conn: pool, DSNConfig: cfg}), &gorm.Config{
		TranslateError: true, Logger: logger.Default.LogMode(logger.Silent), NowFunc: func() time.Time { return time.Now().UTC() },
	})
	if err != nil {
		return nil, errors.Join(explain(err), pool.Close())
	}
	pool.SetMaxOpenConns(16)
	pool.SetMaxIdleConns(8)
	pool.SetConnMaxLifetime(5 * time.Minute)
	return &Store{db: db, chunks: newChunkCache()}, nil
}

// Close ends the connections.
func (s *Store) Close() error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return explain(pool.PingContext(ctx))
}

// Migrate brings the schema to the newest version and returns the versions that
// were applied. Migrations only go forward.
func (s *Store) Migrate(ctx context.Context) ([]string, error) {
	pool, err := s.db.DB()
	if err != nil {
		return nil, err
	}
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	provider, err := goose.NewProvider(database.DialectMySQL, pool, dir)
	if err != nil {
		return nil, err
	}
	results, err := provider.Up(ctx)
	var applied []string
	for _, r := range results {
		applied = append(applied, r.Source.Path)
	}
	return applied, explain(err)
}

// explain turns the driver's errors into those that callers tell apart.
func explain(err error) error {
	var network *net.OpError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, gorm.ErrRecordNotFound):
		return ErrNotFound
	case errors.Is(err, driver.ErrBadConn), errors.Is(err, mysqldriver.ErrInvalidConn), errors.As(err, &network), errors.Is(err, sql.ErrConnDone):
		return fmt.Errorf("%w (%v)", ErrUnavailable, err)
	}
	return err
}
