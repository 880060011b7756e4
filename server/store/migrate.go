package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/database"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Migrations only go forward. One server at a time runs them; each can be repeated, as
// the database keeps what it did of one that was cut off.

// migrationLock is the name of the lock that a server holds while it changes the
// schema, and lockTime how long another one waits for it.
const (
	migrationLock = "latchkey-schema"
	lockTime      = 5 * time.Minute
)

// Migrate brings the schema to the newest version and returns the migrations that
// were applied.
func (s *Store) Migrate(ctx context.Context) (applied []string, err error) {
	pool, err := s.patient()
	if err != nil {
		return nil, err
	}
	defer pool.Close()
	conn, err := pool.Conn(ctx)
	if err != nil {
		return nil, explain(err)
	}
	defer conn.Close()
	var got sql.NullInt64
	// The lock is the database's own: one of the same name in another is another one.
	if err := conn.QueryRowContext(ctx, "SELECT GET_LOCK(CONCAT(?, '-', DATABASE()), ?)", migrationLock, int(lockTime.Seconds())).Scan(&got); err != nil {
		return nil, explain(err)
	}
	if got.Int64 != 1 {
		return nil, fmt.Errorf("another server has been changing the schema for %v", lockTime)
	}
	defer func() {
		_, e := conn.ExecContext(context.WithoutCancel(ctx), "SELECT RELEASE_LOCK(CONCAT(?, '-', DATABASE()))", migrationLock)
		err = errors.Join(err, explain(e))
	}()
	if err := finishTable(ctx, conn); err != nil {
		return nil, explain(err)
	}
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	provider, err := goose.NewProvider(database.DialectMySQL, pool, dir,
		goose.WithGoMigrations(goose.NewGoMigration(packVersion, &goose.GoFunc{RunDB: packEvidence}, nil)))
	if err != nil {
		return nil, err
	}
	results, err := provider.Up(ctx)
	for _, r := range results {
		applied = append(applied, name(r.Source))
	}
	return applied, explain(err)
}

func name(s *goose.Source) string {
	if s.Path == "" {
		return fmt.Sprintf("%05d_pack_evidence", s.Version)
	}
	return s.Path
}

// finishTable gives the table of versions its first row, where a server was ended
// between making the table and that.
func finishTable(ctx context.Context, conn *sql.Conn) error {
	const table = goose.DefaultTablename
	var there int
	if err := conn.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = ?", table).Scan(&there); err != nil || there == 0 {
		return err
	}
	_, err := conn.ExecContext(ctx, "INSERT INTO "+table+" (version_id, is_applied) SELECT 0, TRUE FROM DUAL WHERE NOT EXISTS (SELECT 1 FROM "+table+")")
	return err
}

// Wait returns once the database answers, or when the time is up. Each try that fails
// is told to say.
func (s *Store) Wait(ctx context.Context, most time.Duration, say func(error)) error {
	ctx, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	for {
		err := s.Ping(ctx)
		if err == nil || !errors.Is(err, ErrUnavailable) {
			return err
		}
		say(err)
		select {
		case <-ctx.Done():
			return fmt.Errorf("after %v: %w", most, err)
		case <-time.After(time.Second):
		}
	}
}
