package store_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

func newCase(t *testing.T, s *store.Store, title string) *store.Case {
	t.Helper()
	c := &store.Case{Title: title, Machine: "Fenmark D4", Drives: []store.Drive{{Role: "original", Model: "Corvane S210"}, {Role: "clone"}}}
	require.NoError(t, s.Create(t.Context(), c, storetest.Nobody))
	return c
}

func TestMigrationsRunOnce(t *testing.T) {
	t.Parallel()
	s, err := store.Open(storetest.Address(t))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	applied, err := s.Migrate(t.Context())
	require.NoError(t, err)
	assert.NotEmpty(t, applied)
	applied, err = s.Migrate(t.Context())
	require.NoError(t, err)
	assert.Empty(t, applied)
}

func TestACaseIsKeptAsEntered(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	mode, yes := "uefi", true
	c := &store.Case{
		Title: "Kiosk", DeviceOrder: []string{"clone", "original"}, Drives: []store.Drive{{Role: "clone", Attached: &yes}, {Role: "original"}},
		Firmware: store.Firmware{Mode: &mode, SecureBoot: &yes, Choices: map[string]bool{"usesBackupGPT": true},
			Entries: map[string]bool{"clone": false}},
	}
	require.NoError(t, s.Create(t.Context(), c, storetest.Nobody))
	got, err := s.Get(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, c.Firmware, got.Firmware)
	assert.Equal(t, c.DeviceOrder, got.DeviceOrder)
	require.Len(t, got.Drives, 2)
	assert.Equal(t, "original", got.Drives[0].Role, "the original stands first")
	assert.Nil(t, got.Drives[0].Attached, "unknown stays unknown")
	assert.True(t, *got.Drives[1].Attached)
	_, err = s.Get(t.Context(), c.ID+1)
	assert.ErrorIs(t, err, store.ErrNotFound)
}

func TestOneOfManyWritersWins(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	c := newCase(t, s, "Contested")
	var wins, conflicts int
	var mu sync.Mutex
	var wg sync.WaitGroup
	for i := range 8 {
		wg.Go(func() {
			mine := *c
			mine.Title = fmt.Sprint("Writer ", i)
			err := s.Update(context.Background(), &mine, storetest.Nobody)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				wins++
			case assert.ErrorIs(t, err, store.ErrConflict):
				conflicts++
			}
		})
	}
	wg.Wait()
	assert.Equal(t, 1, wins)
	assert.Equal(t, 7, conflicts)
	missing := store.Case{ID: 999, Version: 1}
	assert.ErrorIs(t, s.Update(t.Context(), &missing, storetest.Nobody), store.ErrNotFound)
}

// piece is evidence of some bytes at some places of a disk.
func piece(id uint64, capacity int64, r io.ReaderAt, held ...capture.Extent) *store.Piece {
	return &store.Piece{Evidence: store.Evidence{CaseID: id, Role: "clone", Filename: "a.img", Capacity: capacity,
		SectorSize: 512}, Inside: store.Inside{Extents: held}, Sectors: r}
}

func reader(t *testing.T, s *store.Store, id uint64) *capture.Sparse {
	t.Helper()
	in, err := s.Inside(t.Context(), id)
	require.NoError(t, err)
	r, err := s.Open(t.Context(), id, in)
	require.NoError(t, err)
	return r
}

func TestEvidenceReadsBackAsItCame(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	c := newCase(t, s, "Evidence")
	m := diskmaker.NewImage(64<<30, 512)
	marks := map[int64][]byte{0: []byte("first"), 256<<10 - 3: []byte("across two chunks"), 40 << 30: []byte("far away"), 64<<30 - 4: []byte("last")}
	for off, b := range marks {
		_, err := m.WriteAt(b, off)
		require.NoError(t, err)
	}
	p := piece(c.ID, m.Size, m, capture.Extent{Offset: 0, Length: 1 << 20},
		capture.Extent{Offset: 20 << 30, Length: 8192}, capture.Extent{Offset: 40 << 30, Length: 512},
		capture.Extent{Offset: 64<<30 - 1024, Length: 1024})
	p.Model, p.Bus = "Ostra N3", "usb"
	require.NoError(t, s.AddEvidence(t.Context(), p, storetest.Nobody, 1))
	r := reader(t, s, p.ID)
	for off, b := range marks {
		got := make([]byte, len(b))
		_, err := r.ReadAt(got, off)
		require.NoError(t, err)
		assert.Equal(t, string(b), string(got))
	}
	zeros := make([]byte, 4096)
	_, err := r.ReadAt(zeros, 20<<30)
	require.NoError(t, err)
	assert.Equal(t, make([]byte, 4096), zeros, "what is held and empty reads as zeros")
	_, err = r.ReadAt(zeros, 30<<30)
	assert.True(t, disk.IsNotCaptured(err))
	got, err := s.Get(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, "Ostra N3", got.Drives[1].Model)
	assert.Equal(t, "Corvane S210", got.Drives[0].Model, "the other drive is left alone")
	assert.EqualValues(t, 2, got.Version)
	assert.EqualValues(t, 1<<20+8192+512+1024, got.Drives[1].Evidence.Held)
}

func TestReplacedEvidenceIsKept(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	c := newCase(t, s, "Replaced")
	add := func(version uint32, content string) *store.Piece {
		p := piece(c.ID, 1<<20, bytes.NewReader([]byte(content)),
			capture.Extent{Offset: 0, Length: int64(len(content))})
		require.NoError(t, s.AddEvidence(t.Context(), p, storetest.Nobody, version))
		return p
	}
	first, second := add(1, "first"), add(2, "second")
	got, err := s.Get(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, second.ID, *got.Drives[1].EvidenceID)
	r := reader(t, s, first.ID)
	b := make([]byte, 5)
	_, err = r.ReadAt(b, 0)
	require.NoError(t, err)
	assert.Equal(t, "first", string(b))
	_, err = r.ReadAt(b, 100)
	assert.True(t, disk.IsNotCaptured(err))
	err = s.AddEvidence(t.Context(), piece(c.ID, 512, bytes.NewReader(nil)), storetest.Nobody, 2)
	assert.ErrorIs(t, err, store.ErrConflict)
}

func TestAFileThatBreaksOffLeavesNothingBehind(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	c := newCase(t, s, "Broken off")
	err := s.AddEvidence(t.Context(), piece(c.ID, 1<<20, bytes.NewReader(make([]byte, 1000)),
		capture.Extent{Offset: 0, Length: 1 << 20}), storetest.Nobody, 1)
	assert.ErrorContains(t, err, "1047576 bytes are missing")
	got, err := s.Get(t.Context(), c.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 1, got.Version)
	assert.Nil(t, got.Drives[1].EvidenceID)
}

func TestVerdictsAreRecorded(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	c := newCase(t, s, "Judged")
	require.NoError(t, s.Record(t.Context(), store.Check{CaseID: c.ID, Rules: "r", Verdict: "stops", Reaches: "stops", Stage: "table",
		Headline: string(make([]rune, 900))}, nil))
	got, err := s.Get(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, "stops", got.Verdict)
	assert.EqualValues(t, 1, got.Version, "no one entered anything")
	found, err := s.List(t.Context(), store.Page{Reaches: "stops", Limit: 10})
	require.NoError(t, err)
	assert.Len(t, found, 1)
}

func TestAnAddressThatDoesNotAnswer(t *testing.T) {
	t.Parallel()
	s, err := store.Open("latchkey:secret@tcp(127.0.0.1:1)/latchkey")
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	began, tries := time.Now(), 0
	err = s.Wait(t.Context(), 2500*time.Millisecond, func(error) { tries++ })
	assert.ErrorIs(t, err, store.ErrUnavailable)
	assert.GreaterOrEqual(t, tries, 2, "it is tried more than once")
	assert.Less(t, time.Since(began), 10*time.Second)
	_, err = store.Open("secret but not an address")
	assert.ErrorContains(t, err, "expected user:password")
	assert.NotContains(t, err.Error(), "secret")
}
