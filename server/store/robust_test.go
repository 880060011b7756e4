package store_test

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

func opened(t *testing.T, dsn string) *store.Store {
	t.Helper()
	s, err := store.Open(dsn)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func plainSQL(t *testing.T, dsn string) *sql.DB {
	t.Helper()
	db, err := sql.Open("mysql", dsn+"&multiStatements=true")
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return db
}

// Fifty writers at once make cases whose words overlap, change them and delete some: no
// one is told of the others.
func TestFiftyWritersAtOnce(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	var failed atomic.Int32
	var wg sync.WaitGroup
	for w := range 50 {
		wg.Go(func() {
			for n := range 4 {
				c := &store.Case{Title: fmt.Sprintf("Kiosk of the north pier %d", n), Machine: "Quayside K2", Drives: []store.Drive{{Role: "original", Model: "Corvane S210"},
					{Role: "clone", Model: "Ostra N3"}}}
				err := s.Create(context.Background(), c, store.Entry{Who: fmt.Sprint("writer ", w), What: store.WhatMade})
				if err == nil {
					c.Title = "Kiosk of the south pier"
					err = s.Update(context.Background(), c, store.Entry{Who: "x", What: store.WhatChanged})
				}
				if err == nil && n%2 == 1 {
					err = s.Delete(context.Background(), c.ID, c.Version)
				}
				if !assert.NoError(t, err) {
					failed.Add(1)
				}
			}
		})
	}
	wg.Wait()
	require.Zero(t, failed.Load())
	found, err := s.List(t.Context(), store.Page{Search: "south quayside", Limit: 500})
	require.NoError(t, err)
	assert.Len(t, found, 100)
}

// A migration that was ended at any place is taken up again: every version can be run
// on a database that has it already, and the table of versions may be empty.
func TestMigrationsCanBeRepeated(t *testing.T) {
	t.Parallel()
	dsn := storetest.Address(t)
	s, db := opened(t, dsn), plainSQL(t, dsn)
	all, err := s.Migrate(t.Context())
	require.NoError(t, err)
	c := newCase(t, s, "Kept")
	for version := range len(all) {
		_, err := db.Exec("DELETE FROM goose_db_version WHERE version_id > ?", version)
		require.NoError(t, err)
		again, err := s.Migrate(t.Context())
		require.NoError(t, err, "from version %d on", version)
		assert.Len(t, again, len(all)-version)
	}
	_, err = db.Exec("DELETE FROM goose_db_version")
	require.NoError(t, err)
	_, err = s.Migrate(t.Context())
	require.NoError(t, err)
	got, err := s.Get(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, "Kept", got.Title)
}

func TestThreeServersStartAtOnce(t *testing.T) {
	t.Parallel()
	dsn := storetest.Address(t)
	applied := make([]int, 3)
	var wg sync.WaitGroup
	for i := range 3 {
		s := opened(t, dsn)
		wg.Go(func() {
			got, err := s.Migrate(context.Background())
			assert.NoError(t, err)
			applied[i] = len(got)
		})
	}
	wg.Wait()
	assert.Positive(t, max(applied[0], applied[1], applied[2]))
	assert.Equal(t, applied[0]+applied[1]+applied[2], max(applied[0], applied[1], applied[2]), "one of them did all")
}

// Evidence of an earlier version, in chunks by their place on the disk, is packed, and
// reads the same.
func TestOldEvidenceIsPacked(t *testing.T) {
	t.Parallel()
	dsn := storetest.Address(t)
	s, db := opened(t, dsn), plainSQL(t, dsn)
	_, err := s.Migrate(t.Context())
	require.NoError(t, err)
	c := newCase(t, s, "Old")
	held := []capture.Extent{{Offset: 0, Length: 512}, {Offset: 256<<10 - 512, Length: 1024},
		{Offset: 1 << 40, Length: 300 << 10}}
	extents, err := json.Marshal(held)
	require.NoError(t, err)
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	disk := map[int64][]byte{0: bytes.Repeat([]byte{1}, 256<<10), 1: bytes.Repeat([]byte{2}, 256<<10),
		1 << 22: bytes.Repeat([]byte{3}, 256<<10)} // the last chunk is one of zeros
	res, err := db.Exec("INSERT INTO evidence (case_id, role, filename, capacity, sector_size, extents, received_at, packed) VALUES (?, 'clone', 'old.img', ?, 512, ?, NOW(6), FALSE)", c.ID, int64(2)<<40, extents)
	require.NoError(t, err)
	id, err := res.LastInsertId()
	require.NoError(t, err)
	for number, data := range disk {
		_, err := db.Exec("INSERT INTO evidence_chunks VALUES (?, ?, ?)", id, number, enc.EncodeAll(data, nil))
		require.NoError(t, err)
	}
	_, err = db.Exec("DELETE FROM goose_db_version WHERE version_id >= 9")
	require.NoError(t, err)
	_, err = s.Migrate(t.Context())
	require.NoError(t, err)
	r := reader(t, s, uint64(id))
	for off, want := range map[int64]byte{0: 1, 511: 1, 256<<10 - 1: 1, 256 << 10: 2, 1 << 40: 3, 1<<40 +
		256<<10 - 1: 3, 1<<40 + 256<<10: 0, 1<<40 + 300<<10 - 1: 0} {
		got := make([]byte, 1)
		_, err := r.ReadAt(got, off)
		require.NoError(t, err)
		assert.Equal(t, want, got[0], "byte %d", off)
	}
	var chunks, total int64
	require.NoError(t, db.QueryRow("SELECT COUNT(*), (SELECT held FROM evidence WHERE id = ?) FROM evidence_chunks WHERE evidence_id = ?", id, id).Scan(&chunks, &total))
	assert.EqualValues(t, 2, chunks)
	assert.EqualValues(t, 512+1024+300<<10, total)
}

// Evidence of many scattered pieces is one short transaction.
func TestScatteredEvidenceIsSoonStored(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	c := newCase(t, s, "Scattered")
	var held []capture.Extent
	for i := range int64(20_000) {
		held = append(held, capture.Extent{Offset: i * 10 << 20, Length: 512})
	}
	p := piece(c.ID, 1<<40, ones{}, held...)
	began := time.Now()
	require.NoError(t, s.AddEvidence(t.Context(), p, storetest.Nobody, 1))
	t.Logf("20,000 pieces in %v", time.Since(began))
	got := make([]byte, 512)
	_, err := reader(t, s, p.ID).ReadAt(got, 19_999*10<<20)
	require.NoError(t, err)
	assert.Equal(t, strings.Repeat("1", 512), string(got))
}

type ones struct{}

func (ones) ReadAt(p []byte, _ int64) (int, error) {
	for i := range p {
		p[i] = '1'
	}
	return len(p), nil
}

func TestTheHistoryNamesWhoDidWhat(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	c := &store.Case{Title: "Kiosk", Drives: []store.Drive{{Role: "original"}, {Role: "clone"}}}
	require.NoError(t, s.Create(t.Context(), c, store.Entry{Who: "Marit", What: store.WhatMade, Detail: "Kiosk"}))
	require.NoError(t, s.AddMark(t.Context(), 1, &store.Mark{CaseID: c.ID, Step: "x", Title: "Set the mode", State: store.MarkDone,
		Who: "Jonas"}))
	assert.ErrorIs(t, s.AddMark(t.Context(), 1, &store.Mark{CaseID: c.ID, Who: "nobody"}), store.ErrConflict)
	require.NoError(t, s.Note(t.Context(), c.ID, store.Entry{Who: "Jonas", What: store.WhatScript,
		Detail: strings.Repeat("x", 600)}))
	entries, err := s.History(t.Context(), c.ID, 0)
	require.NoError(t, err)
	require.Len(t, entries, 3, "a change that was refused is not in it")
	assert.Equal(t, []string{"Jonas", "Jonas", "Marit"}, []string{entries[0].Who, entries[1].Who, entries[2].Who})
	assert.Equal(t, "Set the mode: done", entries[1].Detail)
	assert.Len(t, []rune(entries[0].Detail), 500)
	older, err := s.History(t.Context(), c.ID, entries[1].ID)
	require.NoError(t, err)
	assert.Len(t, older, 1)
}

// Closed cases lose their evidence after the time that was set, and nothing else.
func TestEvidenceOfClosedCasesIsRemoved(t *testing.T) {
	t.Parallel()
	dsn := storetest.Address(t)
	s, db := opened(t, dsn), plainSQL(t, dsn)
	_, err := s.Migrate(t.Context())
	require.NoError(t, err)
	days, err := s.KeepDays(t.Context())
	require.NoError(t, err)
	assert.Zero(t, days, "without a word it is kept")
	require.NoError(t, s.SetKeepDays(t.Context(), 30))
	require.NoError(t, s.SetKeepDays(t.Context(), 20))
	days, err = s.KeepDays(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 20, days)
	var ids []uint64
	for i, closed := range []bool{true, true, false} {
		c := newCase(t, s, fmt.Sprint("Case ", i))
		require.NoError(t, s.AddEvidence(t.Context(),
			piece(c.ID, 1<<20, ones{}, capture.Extent{Offset: 0, Length: 512}), storetest.Nobody, 1))
		require.NoError(t, s.CloseCase(t.Context(), c.ID, closed, store.Entry{Who: "Marit", What: store.WhatClosed}, 2))
		ids = append(ids, c.ID)
	}
	_, err = db.Exec("UPDATE cases SET closed_at = closed_at - INTERVAL 21 DAY WHERE id = ?", ids[0])
	require.NoError(t, err)
	cleared, err := s.Clear(t.Context(), days)
	require.NoError(t, err)
	assert.Equal(t, 1, cleared)
	for i, id := range ids {
		c, err := s.Get(t.Context(), id)
		require.NoError(t, err)
		assert.Equal(t, i > 0, c.Drives[1].Evidence != nil, c.Title)
		assert.Equal(t, i == 0, c.ClearedAt != nil)
	}
	var chunks int
	require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM evidence_chunks").Scan(&chunks))
	assert.Equal(t, 2, chunks)
	again, err := s.Clear(t.Context(), days)
	require.NoError(t, err)
	assert.Zero(t, again)
}

func TestDeletingTakesEverythingAlong(t *testing.T) {
	t.Parallel()
	dsn := storetest.Address(t)
	s, db := opened(t, dsn), plainSQL(t, dsn)
	_, err := s.Migrate(t.Context())
	require.NoError(t, err)
	c := newCase(t, s, "Gone")
	require.NoError(t, s.AddEvidence(t.Context(), piece(c.ID, 1<<20, ones{}, capture.Extent{Offset: 0, Length: 512}),
		store.Entry{Who: "Marit", What: store.WhatEvidence}, 1))
	require.NoError(t, s.AddListing(t.Context(), &store.Listing{CaseID: c.ID, Format: "blkid", Disks: map[string]string{}},
		[]byte("x"), storetest.Nobody, 2))
	require.NoError(t, s.Record(t.Context(), store.Check{CaseID: c.ID}, nil))
	assert.ErrorIs(t, s.Delete(t.Context(), c.ID, 1), store.ErrConflict)
	require.NoError(t, s.Delete(t.Context(), c.ID, 3))
	for _, table := range []string{"cases", "drives", "evidence", "evidence_chunks", "listings", "checks", "marks", "history", "case_words"} {
		var n int
		require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM "+table).Scan(&n))
		assert.Zero(t, n, table)
	}
	assert.ErrorIs(t, s.Delete(t.Context(), c.ID, 4), store.ErrNotFound)
}

func TestTheLastLeadStays(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	first, err := s.FirstLead(t.Context(), "Lead")
	require.NoError(t, err)
	again, err := s.FirstLead(t.Context(), "Other")
	require.NoError(t, err)
	assert.Equal(t, first.ID, again.ID, "there is one already")
	disable := func(a *store.Account) error { now := time.Now(); a.DisabledAt = &now; return nil }
	_, err = s.ChangeAccount(t.Context(), first.ID, disable)
	assert.ErrorIs(t, err, store.ErrLastLead)
	second := &store.Account{Name: "Sunniva", Role: store.Lead, Password: "hash"}
	require.NoError(t, s.AddAccount(t.Context(), second))
	assert.ErrorIs(t, s.AddAccount(t.Context(), &store.Account{Name: "sunniva", Role: store.Reader}), store.ErrTaken)
	none, err := s.FirstLead(t.Context(), "Lead")
	require.NoError(t, err)
	assert.Nil(t, none, "a lead can sign in by a password")
	// Both at once: one of them is refused.
	var refused atomic.Int32
	var wg sync.WaitGroup
	for _, id := range []uint64{first.ID, second.ID} {
		wg.Go(func() {
			if _, err := s.ChangeAccount(context.Background(), id, disable); err != nil {
				assert.ErrorIs(t, err, store.ErrLastLead)
				refused.Add(1)
			}
		})
	}
	wg.Wait()
	assert.EqualValues(t, 1, refused.Load())
}

func TestAKeyIsGoodOnce(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	a := &store.Account{Name: "Marit", Role: store.Technician}
	require.NoError(t, s.AddAccount(t.Context(), a))
	first, err := s.NewKey(t.Context(), a.ID)
	require.NoError(t, err)
	key, err := s.NewKey(t.Context(), a.ID)
	require.NoError(t, err)
	_, err = s.UseKey(t.Context(), first)
	assert.ErrorIs(t, err, store.ErrNotFound, "another one was made in its place")
	var used atomic.Int32
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			if got, err := s.UseKey(context.Background(), key); err == nil {
				assert.Equal(t, "Marit", got.Name)
				used.Add(1)
			}
		})
	}
	wg.Wait()
	assert.EqualValues(t, 1, used.Load())
}
