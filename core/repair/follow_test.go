package repair_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/sample"
)

// Steps that were chosen elsewhere are made for this machine, and only where they lead to a
// start of it.
func TestStepsAreFollowed(t *testing.T) {
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, sample.LinuxDisk(2, 1).MustBuild()))
	want := repair.Find(m, repair.Linux)
	require.Equal(t, startup.Starts, want.Verdict)
	var keys []string
	for _, s := range want.Steps {
		keys = append(keys, s.Key)
	}
	got, err := repair.Follow(m, keys, repair.Linux)
	require.NoError(t, err)
	assert.Equal(t, want.Steps, got.Steps)
	assert.Equal(t, want.Reason, got.Reason)

	_, err = repair.Follow(m, []string{"no such step"})
	assert.ErrorContains(t, err, "cannot be done")
	_, err = repair.Follow(m, keys, repair.Firmware)
	assert.ErrorContains(t, err, "cannot be done", "by another toolbox")
	_, err = repair.Follow(m, nil)
	assert.ErrorContains(t, err, "do not lead to a start")
	_, err = repair.Follow(m, make([]string, 99))
	assert.ErrorContains(t, err, "at most")
	m.Drives[0].Bus = fact.Unknown[string]()
	m.Firmware.Behaviour = firmware.Behaviour{}
	if _, err = repair.Follow(m, keys); err != nil {
		assert.ErrorIs(t, err, repair.ErrOpen)
	}
}
