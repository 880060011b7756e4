package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	mysqldriver "github.com/go-sql-driver/mysql"

	"latchkey/capture"
)

// packVersion is the migration that lays the bytes of evidence one after the other:
// before, a chunk held a stretch of the disk, and evidence that is scattered over a
// large disk took a chunk for each of its pieces.
const packVersion = 9

// patient returns connections for the migrations alone, which may take longer than a
// request may.
func (s *Store) patient() (*sql.DB, error) {
	cfg := s.config.Clone()
	cfg.ReadTimeout, cfg.WriteTimeout = 0, 0
	connector, err := mysqldriver.NewConnector(cfg)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

// packEvidence packs every piece that is not packed yet, each in a transaction of its
// own.
func packEvidence(ctx context.Context, db *sql.DB) error {
	for {
		var id uint64
		var extents []byte
		err := db.QueryRowContext(ctx, "SELECT id, extents FROM evidence WHERE NOT packed ORDER BY id LIMIT 1").Scan(&id, &extents)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		var held []capture.Extent
		if err := json.Unmarshal(extents, &held); err != nil {
			return fmt.Errorf("evidence %d: extents: %w", id, err)
		}
		if err := packPiece(ctx, db, id, held); err != nil {
			return fmt.Errorf("evidence %d: %w", id, err)
		}
	}
}

func packPiece(ctx context.Context, db *sql.DB, id uint64, held []capture.Extent) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // does nothing after a commit
	old := &diskChunks{ctx, tx, id, 0, nil}
	sparse, err := capture.NewSparse(old, held)
	if err != nil {
		return err
	}
	// The new chunks are numbered behind all old ones until those are gone.
	const behind = 1 << 31
	err = packed(sparse, held, func(number uint32, data []byte) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO evidence_chunks (evidence_id, number, data) VALUES (?, ?, ?)", id, number+behind, data)
		return err
	})
	if err != nil {
		return err
	}
	for _, step := range []string{"DELETE FROM evidence_chunks WHERE evidence_id = ? AND number < 2147483648", "UPDATE evidence_chunks SET number = number - 2147483648 WHERE evidence_id = ? ORDER BY number"} {
		if _, err := tx.ExecContext(ctx, step, id); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, "UPDATE evidence SET packed = TRUE, held = ? WHERE id = ?", total(held), id); err != nil {
		return err
	}
	return tx.Commit()
}

// diskChunks reads evidence as it was kept before: a chunk for each stretch of the disk
// that is not all zeros.
type diskChunks struct {
	ctx    context.Context
	tx     *sql.Tx
	id     uint64
	number int64 // of the chunk that is held, counted from 1
	data   []byte
}

func (c *diskChunks) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if number := at/chunkSize + 1; number != c.number {
			if err := c.load(number); err != nil {
				return done, err
			}
		}
		n := min(len(p)-done, int(chunkSize-at%chunkSize))
		clear(p[done : done+n])
		if c.data != nil {
			copy(p[done:done+n], c.data[at%chunkSize:])
		}
		done += n
	}
	return done, nil
}

func (c *diskChunks) load(number int64) error {
	var data []byte
	err := c.tx.QueryRowContext(c.ctx, "SELECT data FROM evidence_chunks WHERE evidence_id = ? AND number = ?", c.id, number-1).Scan(&data)
	c.number, c.data = number, nil
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil
	case err != nil:
		return err
	}
	if c.data, err = decoder.DecodeAll(data, nil); err != nil {
		return fmt.Errorf("chunk %d is damaged in the database: %w", number-1, err)
	}
	if len(c.data) < chunkSize {
		return io.ErrUnexpectedEOF
	}
	return nil
}
