package repair_test

import (
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// hopeless is a clone of which nothing is left.
func hopeless(sectors uint64, guid byte) diskmaker.Disk {
	d := windows(guid)
	d.Sectors = sectors
	d.Partitions = []diskmaker.Partition{{Type: disk.TypeLinuxData}}
	return d
}

func TestCopyingAgainIsTheLastThing(t *testing.T) {
	m := twoDisks(t, windows(1).MustBuild(), hopeless(1<<22, 2).MustBuild())
	p := repair.Find(m)
	require.Equal(t, []string{"copy-again"}, actionsOf(p), p.Reason)
	s := p.Steps[0]
	assert.Equal(t, repair.RiskReal, s.Risk)
	assert.Equal(t, "b", s.Disk)
	assert.Contains(t, s.Save, "overwritten whole")
	assert.Equal(t, repair.Linux, s.Toolbox)
	require.Len(t, s.Also, 1)
	assert.Equal(t, repair.OldDrive, s.Also[0].Toolbox)
	assert.True(t, s.Also[0].Commands[0].ByHand)

	empty := windows(2)
	empty.Partitions[0].Volume.Files = nil
	p = repair.Find(twoDisks(t, windows(1).MustBuild(), empty.MustBuild()))
	for _, plan := range append([]repair.Plan{p}, p.Alternatives...) {
		assert.NotContains(t, actionsOf(plan), "copy-again", "there is something better")
	}
	none := repair.Find(machineOf(t, firmware.UEFI, hopeless(1<<22, 2).MustBuild()))
	assert.Empty(t, none.Steps, "without the original there is nothing to copy")
}

// A smaller drive is copied onto by the space in use, or not at all.
func TestCopyingOntoASmallerDrive(t *testing.T) {
	roomy := windows(1) // 1 GiB with some ten MiB in use
	p := repair.Find(twoDisks(t, roomy.MustBuild(), hopeless(1<<20, 2).MustBuild()))
	require.Equal(t, []string{"copy-again"}, actionsOf(p), p.Reason)
	assert.Equal(t, repair.OldDrive, p.Steps[0].Toolbox, "sector by sector it does not fit")
	assert.Contains(t, p.Steps[0].Commands[0].Text, "by the space in use")
	full := windows(1)
	full.Partitions[1].Volume.UsedMiB = 900
	p = repair.Find(twoDisks(t, full.MustBuild(), hopeless(1<<20, 2).MustBuild()))
	assert.Empty(t, p.Steps, "what is in use does not fit")
	assert.Contains(t, p.Reason, "Copy again")
}

// The rendered commands are run as they stand on two loop devices.
func TestTheRenderedCopy(t *testing.T) {
	t.Parallel()
	reference.Need(t, "losetup", "blkid", "blockdev", "dd")
	original, clone := windows(1), hopeless(1<<22, 2)
	p := repair.Find(twoDisks(t, original.MustBuild(), clone.MustBuild()), repair.Linux)
	require.Equal(t, []string{"copy-again"}, actionsOf(p), p.Reason)
	var loops []string
	dir := t.TempDir()
	for name, d := range map[string]diskmaker.Disk{"original": original, "clone": clone} {
		path := filepath.Join(dir, name)
		require.NoError(t, d.MustBuild().WriteFile(path))
		loops = append(loops, reference.Loop(t, path))
	}
	cmd := exec.Command("sh", "-c", strings.ReplaceAll(script(p, repair.Linux), "lsblk -dnpo NAME", "echo "+strings.Join(loops, " ")))
	cmd.Dir = dir
	answer, err := cmd.CombinedOutput()
	require.NoError(t, err, string(answer))
	trace := startup.Simulate(fromFile(t, firmware.UEFI, filepath.Join(dir, "clone")))
	assert.Equal(t, startup.Starts, trace.Verdict, trace.Headline)
}

// A machine that lacks parts has no plan, and says so.
func TestAMachineThatLacksParts(t *testing.T) {
	whole := twoDisks(t, windows(1).MustBuild(), hopeless(1<<22, 2).MustBuild())
	keys := repair.Progress{Done: []string{"copy-again", "mode legacy", "first", "detach", "attach", "entry", "safe", "gpt", "esp", "format", "gone"}}
	empty := func(m machine.Machine, name string) machine.Machine {
		m.Drives = slices.Clone(m.Drives)
		for i := range m.Drives {
			if m.Drives[i].Name == name {
				m.Drives[i].Contents = nil
			}
		}
		return m
	}
	left := func(m machine.Machine, name string) machine.Machine {
		m.Drives = slices.DeleteFunc(slices.Clone(m.Drives), func(d machine.Drive) bool { return d.Name != name })
		return m
	}
	for name, m := range map[string]machine.Machine{
		"nothing": {}, "no clone": left(whole, "a"), "no original": left(whole, "b"),
		"a clone of which nothing is known": empty(whole, "b"), "an original of which nothing is known": empty(whole, "a"),
		"both unknown": empty(empty(whole, "a"), "b"),
	} {
		t.Run(name, func(t *testing.T) {
			for _, mode := range []fact.Of[firmware.Mode]{m.Firmware.Mode, fact.Tell(firmware.Legacy),
				fact.Unknown[firmware.Mode]()} {
				m.Firmware.Mode = mode
				s := repair.Continue(m, keys)
				assert.NotEqual(t, startup.Starts, s.Verdict)
				assert.NotEmpty(t, s.Reason)
				assert.Contains(t, s.Vanished, "gone")
			}
		})
	}
}
