package truth_test

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/loader"
	"latchkey/core/startup"
	"latchkey/internal/reference"
	"latchkey/truth"
)

// ready skips where real firmware cannot be run, but fails where the full test
// run asks for it.
func ready(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("takes two minutes")
	}
	if err := truth.Ready(); err != nil {
		reference.Lacks(t, "%v", err)
	}
}

// About a hundred of the machines are started in Debian's edk2 and SeaBIOS at every run: those
// that tell most, what starts under legacy firmware in half a second, and each fourth of the
// others under UEFI. All of them are by cmd/firmware-truth.
func TestRealFirmwareAgrees(t *testing.T) {
	ready(t)
	var chosen []truth.Scenario
	for i, s := range truth.Scenarios() {
		switch {
		case s.Smoke, s.Firmware == truth.OVMF && i%4 == 0 && !s.Whole:
			chosen = append(chosen, s)
		case s.Firmware == truth.SeaBIOS && !s.Whole && starts(t, s):
			chosen = append(chosen, s)
		}
	}
	require.GreaterOrEqual(t, len(chosen), 85)
	t.Logf("%d machines are started", len(chosen))
	truth.RunAll(chosen, 2, truth.Run, func(r truth.Report) {
		assert.NoError(t, r.Err, r.Scenario.Name)
		assert.Empty(t, r.Differs, "%s: %s\n%s", r.Scenario.Firmware, r.Scenario.Name, r.Result.Serial)
	})
}

// starts reports whether the computed start comes to a loader: one that hangs takes its limit.
func starts(t *testing.T, s truth.Scenario) bool {
	description, err := s.Prepare(t.TempDir())
	require.NoError(t, err)
	trace, err := truth.Compute(description)
	require.NoError(t, err)
	return trace.Verdict == startup.Starts || trace.Verdict == startup.StartsOriginal
}

// A few of the machines that do not start are repaired by the rendered commands,
// in a live Linux, and started again; all of them by cmd/firmware-truth.
func TestRenderedRepairsEndInAStart(t *testing.T) {
	ready(t)
	if truth.KernelFolder() == "" {
		reference.Lacks(t, "LATCHKEY_KERNEL names no kernel: scripts/kernel fetches one")
	}
	chosen, err := truth.Repairs(regexp.MustCompile(
		"^(?:OVMF|SeaBIOS): (?:no active partition|no protective MBR|entry outside the order|Linux, kernel line names another file system)$"))
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(chosen), 4)
	truth.RepairAll(chosen, 2, truth.Repair, func(r truth.Repaired) {
		assert.NoError(t, r.Err, r.Scenario.Name)
		assert.True(t, r.Started, "%s: %s", r.Scenario.Name, r.Result.Serial)
	})
}

// A few machines made at random; thousands by cmd/firmware-truth -random.
func TestRandomMachinesAgree(t *testing.T) {
	ready(t)
	agree := 0
	truth.TryAll(1, 20, regexp.MustCompile(""), 2, func(seed uint64, r truth.Tried) {
		assert.NoError(t, r.Err, r.Scenario.Name)
		if r.Open {
			return
		}
		assert.Empty(t, r.Differs, "%s\n%s", r.Scenario.Name, r.Result.Serial)
		agree++
	})
	assert.GreaterOrEqual(t, agree, 15, "few are open")
}

// The keys of Debian's edk2 with the usual ones are read out of its own store of variables: the
// authorities that a shim and Windows name are among them.
func TestTheUsualKeysOfFirmware(t *testing.T) {
	ready(t)
	seen := 0
	for _, s := range truth.Scenarios() {
		if s.Name != "unsigned program under secure boot" {
			continue
		}
		description, err := s.Prepare(t.TempDir())
		require.NoError(t, err)
		m, err := capture.Load(description)
		require.NoError(t, err)
		require.NotNil(t, m.Firmware.Entries.Keys)
		assert.Subset(t, m.Firmware.Entries.Keys.Firmware.Names,
			[]string{"Microsoft Corporation UEFI CA 2011", loader.WindowsAuthority}, s.Called())
		seen++
	}
	assert.Equal(t, 2, seen)
}

func TestScenarioNamesAreTheirOwn(t *testing.T) {
	seen := map[string]bool{}
	for _, s := range truth.Scenarios() {
		name := string(s.Firmware) + s.Name
		assert.False(t, seen[name], name)
		seen[name] = true
	}
	assert.GreaterOrEqual(t, len(seen), 150)
}
