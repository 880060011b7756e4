package repair_test

import (
	"os"
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
	"latchkey/internal/sample"
	"latchkey/truth"
)

// wiped is what happened to the tables of a disk.
type wiped func(t *testing.T, m *diskmaker.Image)

func zeros(t *testing.T, m *diskmaker.Image, from, count int64) {
	_, err := m.WriteAt(make([]byte, count*512), from*512)
	require.NoError(t, err)
}

func bothTables(t *testing.T, m *diskmaker.Image) {
	zeros(t, m, 0, 34)
	zeros(t, m, m.Size/512-33, 33)
}

// bothSums spoils the checksums of both headers, and nothing else.
func bothSums(t *testing.T, m *diskmaker.Image) {
	for _, at := range []int64{512, m.Size - 512} {
		_, err := m.WriteAt([]byte{1, 2, 3, 4}, at+16)
		require.NoError(t, err)
	}
}

func sector0(t *testing.T, m *diskmaker.Image) { zeros(t, m, 0, 1) }

// table0 wipes the table of sector 0, and leaves its code.
func table0(t *testing.T, m *diskmaker.Image) {
	_, err := m.WriteAt(make([]byte, 72), 440)
	require.NoError(t, err)
}

// carriedOut runs a plan's lines for a live Linux on an image, and reads it again.
func carriedOut(t *testing.T, m *diskmaker.Image, plan repair.Plan, actions ...string) *machine.Contents {
	t.Helper()
	reference.Need(t, "sfdisk")
	path := filepath.Join(reference.Folder(t), "clone.img")
	require.NoError(t, m.WriteFile(path))
	if len(actions) > 0 {
		other := func(s repair.PlanStep) bool { return s.Action != actions[0] }
		plan.Steps = slices.DeleteFunc(slices.Clone(plan.Steps), other)
	}
	answer, err := truth.CarryOut(path, plan)
	require.NoError(t, err, answer)
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	d, err := disk.New(f, m.Size, 512)
	require.NoError(t, err)
	return machine.Examine(d)
}

// A table is written anew by sfdisk where none is left, and is what it was.
func TestATableIsRebuilt(t *testing.T) {
	old := sample.LegacyWindowsDisk(true)
	for name, c := range map[string]struct {
		disk     diskmaker.Disk
		mode     firmware.Mode
		wipe     wiped
		original bool
		from     string
		same     bool // types, identifiers and all
	}{
		"Windows, both copies gone, with the original": {sample.WindowsDisk(1, 1), firmware.UEFI, bothTables, true, "the original's", true},
		"Windows, both checksums wrong":                {sample.WindowsDisk(1, 1), firmware.UEFI, bothSums, false, "what is left of it", true},
		"Windows, both copies gone, alone":             {sample.WindowsDisk(1, 1), firmware.UEFI, bothTables, false, "the file systems found", false},
		"Linux, both copies gone, with the original":   {sample.LinuxDisk(1, 1), firmware.UEFI, bothTables, true, "the original's", true},
		"Linux, both copies gone, alone":               {sample.LinuxDisk(1, 1), firmware.UEFI, bothTables, false, "the file systems found", false},
		"legacy Windows, sector 0 gone, with another":  {old, firmware.Legacy, sector0, true, "the original's", true},
		"legacy Windows, its table gone, with another": {old, firmware.Legacy, table0, true, "the original's", true},
	} {
		t.Run(name, func(t *testing.T) {
			image := c.disk.MustBuild()
			was := sample.Examine(t, image)
			original := sample.Drive(t, machine.RoleOriginal, c.disk.MustBuild())
			original.Attached = fact.Tell(false)
			c.wipe(t, image)
			m := sample.Whole(c.mode, sample.Drive(t, machine.RoleClone, image))
			if c.original {
				m.Drives = append(m.Drives, original)
			}
			require.NotEqual(t, startup.Starts, startup.Simulate(m).Verdict)
			require.NotEmpty(t, m.Drives[0].Contents.Found)
			plan := repair.Find(m)
			require.Equal(t, startup.Starts, plan.Verdict, "%s %v", plan.Reason, actionsOf(plan))
			assert.Equal(t, "rebuild "+c.from, plan.Steps[0].Key)
			after := carriedOut(t, image, plan, "rebuild-table")
			require.Len(t, after.Layout.Partitions, len(was.Layout.Partitions)-missing(was, c.same))
			for i, p := range after.Layout.Partitions {
				q := numbered(was, p, c.same)
				assert.Equal(t, q.Start, p.Start, i)
				if c.same {
					assert.Equal(t, []any{q.Number, q.Length, q.TypeGUID, q.MBRType, q.GUID, q.Name, q.Attributes,
						q.Active},
						[]any{p.Number, p.Length, p.TypeGUID, p.MBRType, p.GUID, p.Name, p.Attributes, p.Active})
				}
			}
			if c.same {
				a, _ := was.Layout.DiskID().Get()
				b, _ := after.Layout.DiskID().Get()
				assert.True(t, strings.EqualFold(a, b), "%s, %s", a, b)
			}
			if strings.Contains(name, "its table gone") {
				assert.Equal(t, was.Layout.MBR.BootCode, after.Layout.MBR.BootCode, "the code of sector 0 stays")
			}
		})
	}
}

// missing counts the partitions that hold no file system, which nothing tells of where the
// original is not there.
func missing(c *machine.Contents, same bool) (n int) {
	for _, p := range c.Layout.Partitions {
		if !same && p.TypeGUID == disk.TypeMSReserved {
			n++
		}
	}
	return n
}

func numbered(c *machine.Contents, p disk.Partition, same bool) disk.Partition {
	for _, q := range c.Layout.Partitions {
		if same && q.Number == p.Number || !same && q.Start == p.Start {
			return q
		}
	}
	return disk.Partition{}
}

// Where what lies on the disk does not bear the original's table out, it is not written.
func TestATableThatNothingConfirmsIsNotWritten(t *testing.T) {
	image := sample.WindowsDisk(1, 1).MustBuild()
	bothTables(t, image)
	other := sample.WindowsDisk(1, 1)
	other.Partitions[0].MiB = 200
	original := sample.Drive(t, machine.RoleOriginal, other.MustBuild())
	original.Attached = fact.Tell(false)
	plan := repair.Find(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, image), original))
	for _, p := range append([]repair.Plan{plan}, plan.Alternatives...) {
		for _, s := range p.Steps {
			assert.NotEqual(t, "rebuild the original's", s.Key)
		}
	}
}

// A boot partition without programs is filled from the original's, where the family's own
// tools cannot do it; one that the table hides is shown again.
func TestABootPartitionIsFilledFromTheOriginal(t *testing.T) {
	full := sample.With(sample.LinuxDisk(1, 1), 1, "etc/os-release", releases["fedora"])
	original := sample.Drive(t, machine.RoleOriginal, full.MustBuild())
	original.Attached = fact.Tell(false)
	bare := sample.With(sample.LinuxDisk(1, 1), 1, "etc/os-release", releases["fedora"])
	bare.Sectors *= 2
	bare.Partitions[0].Volume.Files = map[string][]byte{"readme": []byte("x")}
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, bare.MustBuild()), original)
	plan := repair.Find(m)
	require.Equal(t, []string{"copy-boot-files"}, actionsOf(plan), plan.Reason)
	assert.Equal(t, startup.Starts, plan.Verdict)
	assert.Contains(t, textOf(plan), "mount -o ro")
	assert.Contains(t, textOf(plan), `[ "$original" != "$clone" ]`)

	hidden := sample.LinuxDisk(1, 1)
	hidden.Partitions[0].Attributes = 1 | 1<<1
	m = sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, hidden.MustBuild()))
	require.Equal(t, startup.Stops, startup.Simulate(m).Verdict)
	image := hidden.MustBuild()
	plan = repair.Find(m)
	require.Equal(t, []string{"unhide"}, actionsOf(plan), plan.Reason)
	assert.Equal(t, uint64(1), carriedOut(t, image, plan).Layout.Partitions[0].Attributes)
}

// GRUB's core image behind a sector 0 without its signature is looked at, too: with the table
// written anew nothing more is left to be done.
func TestATableBeforeGRUBsCoreImage(t *testing.T) {
	t.Parallel()
	image := logicalLinux().MustBuild()
	_, err := image.WriteAt([]byte{0, 0}, 510)
	require.NoError(t, err)
	m := machineOf(t, firmware.Legacy, image)
	core := m.Drives[0].Contents.Core
	assert.True(t, core.Known && core.Present)
	require.NotNil(t, core.Image)
	p := repair.Find(m)
	require.Len(t, p.Steps, 1, "%v", actionsOf(p))
	assert.Equal(t, "rebuild-table", p.Steps[0].Action)
	assert.Equal(t, startup.Starts, p.Steps[0].After.Verdict)
}
