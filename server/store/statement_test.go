package store_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

// What earlier versions kept of a firmware's choices beside its settings is kept by
// their keys now; nothing is lost, and nobody is said to have told it.
func TestChoicesOfEarlierVersionsAreTakenOver(t *testing.T) {
	t.Parallel()
	dsn := storetest.Address(t)
	s := opened(t, dsn)
	_, err := s.Migrate(t.Context())
	require.NoError(t, err)
	c := newCase(t, s, "Kiosk")
	plain := newCase(t, s, "Nothing told")
	db := plainSQL(t, dsn)
	for range 2 { // the migration can be repeated
		_, err = db.Exec(`UPDATE cases SET firmware = '{"mode": "uefi", "secureBoot": true, "usesBackupGPT": true, "startsFromUSB": false, "answers": {"twin": "clone"}}' WHERE id = ?`, c.ID)
		require.NoError(t, err)
		_, err = db.Exec("DELETE FROM goose_db_version WHERE version_id >= 11")
		require.NoError(t, err)
		_, err = s.Migrate(t.Context())
		require.NoError(t, err)
	}
	got, err := s.Get(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{"usesBackupGPT": true, "startsFromUSB": false}, got.Firmware.Choices)
	assert.Equal(t, map[string]string{"twin": "clone"}, got.Firmware.Answers)
	assert.True(t, *got.Firmware.SecureBoot)
	for _, told := range got.Statements() {
		assert.Empty(t, told.Who)
		assert.NotEmpty(t, told.Label())
	}
	other, err := s.Get(t.Context(), plain.ID)
	require.NoError(t, err)
	assert.Empty(t, other.Statements())
}

// Every fact that can be told is told, shown and withdrawn by its name alone.
func TestEveryStatementByItsName(t *testing.T) {
	t.Parallel()
	values := map[course.Subject]string{course.OfMode: "legacy", course.OfArch: "ia32", course.OfFirst: "clone", course.OfBus: "nvme",
		course.OfStorageMode: "ahci", course.OfStorageModeBefore: "raid", course.OfBootOrder: "0001, 0003", course.OfAnswer: "disk 2"}
	names := []string{"mode", "arch", "secureBoot", "storageMode", "storageModeBefore", "first", "bootOrder", "attached:clone", "bus:original",
		"entry:clone", "shown:original", "answer:loader:clone"}
	for _, c := range firmware.Choices {
		names = append(names, "choice:"+c.Key)
	}
	c := &store.Case{Drives: []store.Drive{{Role: "original"}, {Role: "clone"}}}
	for i, name := range names {
		var fact course.FactName
		require.NoError(t, fact.UnmarshalText([]byte(name)))
		assert.Equal(t, name, fact.String())
		value := values[fact.Of]
		if value == "" {
			value = []string{"yes", "no"}[i%2]
		}
		require.NoError(t, c.State(fact, value), name)
		list := c.Statements()
		require.Len(t, list, 1, name)
		assert.Equal(t, fact, list[0].Fact)
		assert.Equal(t, value, list[0].Value)
		assert.NotEmpty(t, list[0].Label())
		assert.NotContains(t, list[0].Label(), "%")
		assert.NotEmpty(t, list[0].Says())
		if values[fact.Of] == "" || fact.Of == course.OfMode {
			assert.Error(t, c.State(fact, "perhaps"), name)
		}
		require.NoError(t, c.State(fact, ""))
		assert.Empty(t, c.Statements(), name)
	}
	for _, name := range []string{"", "mode:x", "choice", "choice:gone", "bus", "weather"} {
		var fact course.FactName
		assert.Error(t, fact.UnmarshalText([]byte(name)), name)
	}
	assert.Error(t, c.State(course.FactName{Of: course.OfBus, Key: "stranger"}, "sata"), "no drive of the case")
}
