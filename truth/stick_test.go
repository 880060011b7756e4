package truth_test

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/internal/reference"
	"latchkey/truth"
)

// The stick, as scripts/stick made it, in real firmware: it takes the evidence, repairs by a
// plan that was put on it what a person confirms on the serial line, and the machine starts
// without it. scripts/truth -stick does so for all, by plans made on the spot.
func TestTheStickRepairsAMachine(t *testing.T) {
	needStick(t)
	list, err := truth.StickScenarios(regexp.MustCompile("^SeaBIOS: Linux, kernel line names another partition$"))
	require.NoError(t, err)
	require.Len(t, list, 1)
	r := truth.OnStickByPlan(list[0])
	require.NoError(t, r.Err)
	assert.True(t, r.Same, "its evidence gives another answer")
	assert.True(t, r.Kept)
	assert.True(t, r.Started, "%s %s", r.Result.Mark, r.Result.Ended)
	assert.Contains(t, strings.Join(r.Shown, "\n"), "By the plan of the case A machine")
}

// With secure boot and the usual keys the stick starts by its signed programs, and says so.
func TestTheStickStartsUnderSecureBoot(t *testing.T) {
	needStick(t)
	list, err := truth.StickScenarios(regexp.MustCompile("^OVMF: Linux, kernel line names another partition$"))
	require.NoError(t, err)
	require.Len(t, list, 1)
	list[0].Firmware = truth.OVMFSecure
	page, err := truth.FirstPage(list[0], 6*time.Minute)
	require.NoError(t, err)
	assert.Contains(t, page, "Started in UEFI mode, secure boot is on.")
	assert.Contains(t, page, "clone: ")
}

func needStick(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("takes a minute")
	}
	if truth.StickImage() == "" || truth.KernelFolder() == "" {
		reference.Lacks(t, "LATCHKEY_STICK names no stick: scripts/stick makes one")
	}
	if err := truth.Ready(); err != nil {
		reference.Lacks(t, "%v", err)
	}
}
