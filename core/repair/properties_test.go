package repair_test

import (
	"math/rand/v2"
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
)

// randomMachine is a machine whose clone, entries and firmware are chosen by chance
// from what a copy leaves behind, with the original beside it or not.
func randomMachine(t testing.TB, r *rand.Rand) machine.Machine {
	one := func(n int) bool { return r.IntN(n) == 0 }
	mode := firmware.UEFI
	if one(2) {
		mode = firmware.Legacy
	}
	var d diskmaker.Disk
	if one(2) {
		d = windows(byte(1 + r.IntN(2)))
		esp := &d.Partitions[0]
		esp.Volume.Files = [](map[string][]byte){nil, {`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()},
			{`\EFI\debian\grubx64.efi`: diskmaker.Program{}.Bytes()}}[r.IntN(3)]
		if one(3) {
			esp.Type = disk.TypeBasicData
		}
		if one(4) {
			esp.Volume = diskmaker.Volume{}
		}
		if one(4) {
			d.Partitions = d.Partitions[1:]
		}
	} else {
		d = legacyDisk([][]int{{}, {0}, {1}, {0, 1}}[r.IntN(4)]...)
		if one(3) {
			d.BootCode = ""
		}
		d.Partitions[1].Volume = diskmaker.Volume{Kind: "ntfs", UsedMiB: 10,
			Files: map[string][]byte{`\Windows\System32\winload.efi`: diskmaker.Program{}.Bytes()}}
	}
	image := d.MustBuild()
	for range r.IntN(3) {
		_, err := image.WriteAt([]byte{byte(r.IntN(256))}, []int64{446, 510, 512, 1024, 1 << 20, 1<<20 + 28,
			r.Int64N(2 << 20)}[r.IntN(7)])
		require.NoError(t, err)
	}
	m := machineOf(t, mode, image)
	m.Firmware.Behaviour = m.Firmware.Behaviour.Tell(map[string]bool{
		"usesBackupGPT": one(2), "startsAnyFATPartition": one(2), "fallbackOnFixedDisks": !one(3)})
	m.Drives[0].Attached = fact.Tell(!one(8))
	if one(2) {
		original := windows(1).MustBuild()
		on, err := disk.New(original, original.Size, 512)
		require.NoError(t, err)
		m.Drives = append(m.Drives, machine.Drive{Name: "a", Role: machine.RoleOriginal, Bus: fact.Tell("sata"),
			Attached: fact.Tell(one(2)), Contents: machine.Examine(on)})
		m.DeviceOrder = [][]string{{"a", "b"}, {"b", "a"}}[r.IntN(2)]
	}
	return m
}

func keysOf(steps []repair.PlanStep, left int) []string {
	var keys []string
	for i, s := range steps {
		if i != left {
			keys = append(keys, s.Key)
		}
	}
	return keys
}

// What must hold of every plan for every machine.
func TestPropertiesOfPlans(t *testing.T) {
	t.Parallel()
	planned, lengths := 0, map[int]int{}
	machines := uint64(250)
	if testing.Short() {
		machines = 80
	}
	for seed := range machines {
		m := randomMachine(t, rand.New(rand.NewPCG(seed, 7)))
		p := repair.Find(m)
		require.LessOrEqual(t, p.States, 800)
		if len(p.Steps) == 0 {
			require.NotEmpty(t, p.Reason, "machine %d", seed)
			continue
		}
		planned++
		lengths[len(p.Steps)]++
		require.Equal(t, startup.Starts, p.Verdict, "machine %d: %v", seed, actionsOf(p))
		for _, plan := range append([]repair.Plan{p}, p.Alternatives...) {
			whole := repair.Continue(m, repair.Progress{Done: keysOf(plan.Steps, -1)})
			assert.Empty(t, whole.Vanished, "machine %d: a step of %v cannot be done when its turn comes", seed, actionsOf(plan))
			assert.Equal(t, startup.Starts, whole.Before.Verdict, "machine %d: %v", seed, actionsOf(plan))
			for i, s := range plan.Steps {
				less := repair.Continue(m, repair.Progress{Done: keysOf(plan.Steps, i)})
				assert.NotEqual(t, startup.Starts, less.Before.Verdict, "machine %d: %v starts without step %d", seed, actionsOf(plan), i+1)
				assert.Contains(t, []string{"", "b"}, s.Disk, "machine %d: %s touches the original", seed, s.Action)
			}
		}
		again := repair.Find(m)
		assert.Equal(t, actionsOf(p), actionsOf(again), "machine %d: not the same plan twice", seed)
	}
	t.Logf("%d plans, by their steps: %v", planned, lengths)
	assert.Greater(t, planned, int(machines)/2)
	assert.Greater(t, lengths[2], int(machines)/12, "plans of two steps")
}
