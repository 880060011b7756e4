package repair_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// What a table is going to hold is shown with what tells it: a file system alone, or with it an
// entry that is left, or the original's table.
func TestHowSureATableIs(t *testing.T) {
	wiped := func(backup bool) *diskmaker.Image {
		m := sample.LinuxDisk(1, 1).MustBuild()
		_, err := m.WriteAt(make([]byte, 34*512), 0)
		require.NoError(t, err)
		if backup { // its entries stay, and no header tells of them
			_, err = m.WriteAt(make([]byte, 34*512), m.Size-34*512)
		} else {
			_, err = m.WriteAt([]byte{0xFF}, m.Size-512+16)
		}
		require.NoError(t, err)
		return m
	}
	tableOf := func(drives ...machine.Drive) *repair.Table {
		p := repair.Find(sample.Whole(firmware.UEFI, drives...), repair.Linux)
		require.NotEmpty(t, p.Steps, p.Reason)
		require.NotNil(t, p.Steps[0].Table, p.Steps[0].Title)
		return p.Steps[0].Table
	}
	alone := tableOf(sample.Drive(t, machine.RoleClone, wiped(true)))
	require.Len(t, alone.Strata, 2)
	for _, s := range alone.Strata {
		assert.False(t, s.Sure)
		assert.Equal(t, "told by its file system alone", s.By)
	}
	assert.EqualValues(t, 2048, alone.Strata[0].Start)
	assert.EqualValues(t, "boot", alone.Strata[0].Role)

	left := tableOf(sample.Drive(t, machine.RoleClone, wiped(false)))
	for _, s := range left.Strata {
		assert.True(t, s.Sure)
		assert.Equal(t, "told by its file system and the backup table's entry", s.By)
	}

	clone := sample.Drive(t, machine.RoleClone, wiped(true))
	original := sample.Drive(t, machine.RoleOriginal, sample.LinuxDisk(1, 1).MustBuild())
	original.Attached = fact.Tell(false)
	for _, s := range tableOf(clone, original).Strata {
		assert.True(t, s.Sure)
		assert.Equal(t, "told by its file system and the original's table", s.By)
	}
}
