package truth_test

import (
	"slices"
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
	list, err := truth.StickScenarios()
	require.NoError(t, err)
	i := slices.IndexFunc(list, func(s truth.Scenario) bool {
		return s.Firmware == truth.SeaBIOS && s.Name == "Linux, kernel line names another partition"
	})
	require.GreaterOrEqual(t, i, 0)
	r := truth.OnStickByPlan(list[i])
	require.NoError(t, r.Err)
	assert.True(t, r.Same, "its evidence gives another answer")
	assert.True(t, r.Kept)
	assert.True(t, r.Started, "%s %s", r.Result.Mark, r.Result.Ended)
	assert.Contains(t, strings.Join(r.Shown, "\n"), "By the plan of the case A machine")
}

// With secure boot and the usual keys the stick starts by its signed programs, and says so.
func TestTheStickStartsUnderSecureBoot(t *testing.T) {
	needStick(t)
	list, err := truth.StickScenarios()
	require.NoError(t, err)
	for _, s := range list {
		if s.Firmware == truth.OVMF {
			s.Firmware = truth.OVMFSecure
			page, err := truth.FirstPage(s, 6*time.Minute)
			require.NoError(t, err)
			assert.Contains(t, page, "Started in UEFI mode, secure boot is on.")
			assert.Contains(t, page, "clone: ")
			return
		}
	}
	t.Fatal("there is no machine to start")
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
