package repair_test

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
	"latchkey/internal/sample"
)

func TestTheLeastRiskyPlan(t *testing.T) {
	for name, c := range broken() {
		p := repair.Find(machineOf(t, c.mode, c.image))
		assert.Equal(t, c.plan, actionsOf(p), "%s: %s", name, p.Reason)
		assert.NotEmpty(t, p.Reason, name)
		if len(p.Steps) > 0 {
			assert.Equal(t, startup.Starts, p.Verdict, name)
			assert.Equal(t, startup.Starts, p.Steps[len(p.Steps)-1].After.Verdict, name)
		}
		for _, s := range p.Steps {
			assert.NotEmpty(t, s.Commands, name)
			assert.NotEmpty(t, s.Undo, name)
			assert.NotEmpty(t, s.Why, name)
		}
		for _, a := range p.Alternatives {
			assert.Equal(t, startup.Starts, a.Verdict, name)
			assert.NotEqual(t, actionsOf(p), actionsOf(a), name)
		}
	}
}

// Removing a step breaks a plan: without it the machine does not start.
func TestEveryStepIsNeeded(t *testing.T) {
	for name, c := range broken() {
		m := machineOf(t, c.mode, c.image)
		p := repair.Find(m)
		for left := range p.Steps {
			var keys []string
			for i, s := range p.Steps {
				if i != left {
					keys = append(keys, s.Key)
				}
			}
			s := repair.Continue(m, repair.Progress{Done: keys})
			assert.NotEqual(t, startup.Starts, s.Before.Verdict, "%s without step %d", name, left+1)
		}
	}
}

func TestASessionFollowsWhatReallyHappened(t *testing.T) {
	noBoot := leftBehind()["no boot partition"]
	m := machineOf(t, firmware.UEFI, noBoot.MustBuild())
	p := repair.Find(m)
	require.Len(t, p.Steps, 2)
	s := repair.Continue(m, repair.Progress{Done: []string{p.Steps[0].Key}})
	require.Len(t, s.Done, 1)
	assert.Equal(t, course.StageLoader, s.Done[0].After.Stage)
	assert.Equal(t, []string{"windows-boot-files"}, actionsOf(s.Plan))
	s = repair.Continue(m, repair.Progress{Done: []string{p.Steps[0].Key, p.Steps[1].Key}})
	assert.Equal(t, startup.Starts, s.Before.Verdict)
	assert.Empty(t, s.Steps)
	s = repair.Continue(m, repair.Progress{Failed: []string{p.Steps[0].Key}})
	assert.NotContains(t, actionsOf(s.Plan), "create-esp", "what failed is not told again")
	s = repair.Continue(m, repair.Progress{Done: []string{"active 7"}})
	assert.Equal(t, []string{"active 7"}, s.Vanished)
}

func TestToolboxesChangeThePlan(t *testing.T) {
	vendor := leftBehind()["vendor's path"]
	m := machineOf(t, firmware.UEFI, vendor.MustBuild())
	linux := repair.Find(m, repair.Linux)
	require.Len(t, linux.Steps, 1)
	assert.Equal(t, repair.Linux, linux.Steps[0].Toolbox)
	recovery := repair.Find(m, repair.WindowsRecovery)
	require.NotEmpty(t, recovery.Steps)
	for _, s := range recovery.Steps {
		assert.Equal(t, repair.WindowsRecovery, s.Toolbox)
	}
	none := repair.Find(machineOf(t, firmware.Legacy, legacyDisk().MustBuild()), repair.Firmware)
	assert.Empty(t, none.Steps)
	assert.Contains(t, none.Reason, "with these toolboxes")
}

// What keeps nothing from starting is told for afterwards, and the bytes agree.
func TestWhatIsWorthDoingAfterwards(t *testing.T) {
	image := windows(3).MustBuild().Clone(2 << 30) // a raw copy to a larger disk
	m := machineOf(t, firmware.UEFI, image)
	p := repair.Find(m)
	assert.Empty(t, p.Steps)
	require.Len(t, p.Afterwards, 1)
	assert.Equal(t, "rewrite-backup", p.Afterwards[0].Action)
	reference.Need(t, "losetup", "sfdisk")
	path := filepath.Join(reference.Folder(t), "clone.img")
	require.NoError(t, image.WriteFile(path))
	p.Steps = p.Afterwards
	runOnLoop(t, path, script(p, repair.Linux))
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	on, err := disk.New(f, 2<<30, 512)
	require.NoError(t, err)
	assert.Empty(t, disk.ReadLayout(on).Problems)

	twin := m
	twin.Drives = append(slices.Clone(m.Drives), machine.Drive{Name: "a", Role: machine.RoleOriginal,
		Attached: fact.Tell(true), Bus: fact.Tell("sata"), Contents: m.Drives[0].Contents})
	twin.DeviceOrder = []string{"b", "a"}
	var names []string
	for _, s := range repair.Find(twin).Afterwards {
		names = append(names, s.Action)
	}
	assert.Equal(t, []string{"rewrite-backup", "disk-identifier", "stale-letters"}, names)
}

// A system that starts, and mounts a part of the original, is worth being parted from it; one that
// mounts a third drive is as it is meant to be.
func TestASystemIsPartedFromTheOriginal(t *testing.T) {
	clone := sample.Drive(t, machine.RoleClone, sample.LinuxDisk(1, 1).MustBuild())
	other := sample.Drive(t, machine.RoleOriginal, sample.LinuxDisk(0x41, 0x41).MustBuild())
	table := clone.Contents.Volumes[1].Config(machine.ConfigFstab, "/etc/fstab")
	table.Mounts[1].Spec = loader.Spec{Kind: loader.ByFSUUID, Value: other.Contents.Volumes[0].Serial}
	actions := func() (names []string) {
		p := repair.Find(sample.Whole(firmware.UEFI, clone, other))
		assert.Empty(t, p.Steps)
		for _, s := range p.Afterwards {
			names = append(names, s.Action)
		}
		return names
	}
	assert.Contains(t, actions(), "linux-names")
	other.Role = machine.RoleOther
	assert.NotContains(t, actions(), "linux-names")
}

// A Mac's recovery blesses a system, and installs one where only files were
// copied.
func TestAMacsRecovery(t *testing.T) {
	raw := make([]byte, 4096)
	copy(raw[32:], "NXSB")
	d := windows(1)
	d.Partitions[0].Volume.Files = nil
	d.Partitions[1].Type = disk.MustGUID("7C3457EF-0000-11AA-AA11-00306543ECAC")
	d.Partitions[1].Volume = diskmaker.Volume{Kind: "raw", Raw: raw}
	m := machineOf(t, firmware.UEFI, d.MustBuild())
	m.Until, m.Firmware.Behaviour = "", m.Firmware.Behaviour.With(firmware.ReadsMacVolumes, fact.Tell(true))
	m.Answers = map[string]string{"mac-offered:b": "no", "mac-installed:b": "yes"}
	p := repair.Find(m)
	assert.Equal(t, []string{"mac-bless"}, actionsOf(p), p.Reason)
	assert.Equal(t, repair.MacRecovery, p.Steps[0].Toolbox)
	m.Answers = map[string]string{"mac-offered:b": "yes", "mac-installed:b": "no"}
	assert.Equal(t, []string{"mac-install"}, actionsOf(repair.Find(m)))
	none := repair.Find(m, repair.Linux, repair.WindowsRecovery)
	assert.Empty(t, none.Steps)

	// Where there is no system, choosing one is no way; outside, the setting comes first.
	d.Partitions[1].Volume.Raw = diskmaker.Container(1000, diskmaker.AppleVolume{Name: "Home - Data", Role: 0x40})
	m.Drives = machineOf(t, firmware.UEFI, d.MustBuild()).Drives
	m.Answers = nil
	p = repair.Find(m)
	assert.Equal(t, []string{"mac-install"}, actionsOf(p), p.Reason)
	assert.Equal(t, startup.Starts, p.Verdict)
	d.Partitions[1].Volume.Raw = diskmaker.Container(1000, diskmaker.AppleVolume{Name: "Home", Role: 1, Sealed: true},
		diskmaker.AppleVolume{Name: "Preboot", Role: 0x10})
	m.Drives = machineOf(t, firmware.UEFI, d.MustBuild()).Drives
	m.Drives[0].Bus = fact.Tell("usb")
	m.Answers = map[string]string{"mac-offered:b": "yes", "mac-external:b": "no"}
	assert.Equal(t, []string{"mac-external"}, actionsOf(repair.Find(m)))
}

// The rendered commands are run as they stand on a loop device, and the disk is
// read again: it must start by the bytes, not only by the model.
func TestRenderedCommandsRepairTheBytes(t *testing.T) {
	t.Parallel()
	reference.Need(t, "losetup", "sfdisk", "blkid", "lsblk", "blockdev")
	wrongType := windows(1)
	wrongType.Partitions[0].Type = disk.TypeBasicData
	codeless := leftBehind()["no boot code"]
	without := func(c *firmware.Choice) func(machine.Machine) machine.Machine {
		return func(m machine.Machine) machine.Machine {
			m.Firmware.Behaviour = m.Firmware.Behaviour.With(c, fact.Tell(false))
			return m
		}
	}
	for name, c := range map[string]struct {
		mode   firmware.Mode
		image  *diskmaker.Image
		make   func(machine.Machine) machine.Machine
		action string
	}{
		"primary":    {firmware.UEFI, spoiled(windows(6), 512+16, 0xEE), without(firmware.UsesBackupGPT), "restore-primary"},
		"protective": {firmware.UEFI, spoiled(windows(7), 446, make([]byte, 66)...), nil, "protective-mbr"},
		"type":       {firmware.UEFI, wrongType.MustBuild(), without(firmware.StartsAnyFATPartition), "partition-type"},
		"active":     {firmware.Legacy, legacyDisk().MustBuild(), nil, "set-active"},
		"two active": {firmware.Legacy, legacyDisk(0, 1).MustBuild(), nil, "set-active"},
		"hidden":     {firmware.Legacy, spoiled(legacyDisk(0), 1<<20+28, 1, 2, 3, 0), nil, "hidden-sectors"},
		"boot code":  {firmware.Legacy, codeless.MustBuild(), nil, "boot-code"},
	} {
		t.Run(name, func(t *testing.T) {
			change := c.make
			if change == nil {
				change = func(m machine.Machine) machine.Machine { return m }
			}
			p := repair.Find(change(machineOf(t, c.mode, c.image)), repair.Linux)
			require.Equal(t, []string{c.action}, actionsOf(p), p.Reason)
			path := filepath.Join(reference.Folder(t), "clone.img")
			require.NoError(t, c.image.WriteFile(path))
			runOnLoop(t, path, script(p, repair.Linux))
			trace := startup.Simulate(change(fromFile(t, c.mode, path)))
			assert.Equal(t, startup.Starts, trace.Verdict, trace.Headline)
		})
	}
}

// Randomly damaged tables: where the plan is one of bytes alone, its script is run
// as it stands, and the disk that is read again starts.
func TestRandomDamageIsRepairedInTheBytes(t *testing.T) {
	if testing.Short() {
		t.Skip("takes ten seconds")
	}
	t.Parallel()
	reference.Need(t, "losetup", "sfdisk", "blkid", "lsblk", "blockdev")
	bytesAlone := []string{"restore-primary", "protective-mbr", "boot-code", "set-active", "hidden-sectors"}
	random := rand.New(rand.NewPCG(4, 2))
	ran := 0
	for range 40 {
		mode, image := firmware.UEFI, windows(1).MustBuild()
		if random.IntN(2) == 0 {
			mode, image = firmware.Legacy, legacyDisk(0).MustBuild()
		}
		for range 1 + random.IntN(2) {
			off := []int64{446, 512, 1024, 0}[random.IntN(4)] + random.Int64N(64)
			_, err := image.WriteAt([]byte{byte(random.IntN(256))}, off)
			require.NoError(t, err)
		}
		strict := func(m machine.Machine) machine.Machine {
			m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.UsesBackupGPT, fact.Tell(false))
			return m
		}
		p := repair.Find(strict(machineOf(t, mode, image)), repair.Linux)
		if len(p.Steps) == 0 || slices.ContainsFunc(p.Steps,
			func(s repair.PlanStep) bool { return !slices.Contains(bytesAlone, s.Action) }) {
			continue
		}
		ran++
		path := filepath.Join(reference.Folder(t), "clone.img")
		require.NoError(t, image.WriteFile(path))
		runOnLoop(t, path, script(p, repair.Linux))
		trace := startup.Simulate(strict(fromFile(t, mode, path)))
		assert.Equal(t, startup.Starts, trace.Verdict, "%v: %s", actionsOf(p), trace.Headline)
	}
	assert.GreaterOrEqual(t, ran, 5, "few of the damages could be repaired in the bytes")
}

// runOnLoop runs a script while an image is attached as a loop device.
func runOnLoop(t *testing.T, image, script string) {
	t.Helper()
	loop := reference.Loop(t, image)
	// a live system shows disks, not loop devices
	script = strings.ReplaceAll(script, "lsblk -dnpo NAME", "echo "+loop)
	cmd := exec.Command("sh", "-c", script)
	cmd.Dir = t.TempDir()
	cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin", "LC_ALL=C")
	answer, err := cmd.CombinedOutput()
	require.NoError(t, err, string(answer))
}

// A guard must not take another disk for the clone.
func TestTheGuardStopsAtAnotherDisk(t *testing.T) {
	t.Parallel()
	reference.Need(t, "losetup", "blkid", "blockdev")
	p := repair.Find(machineOf(t, firmware.Legacy, legacyDisk().MustBuild()), repair.Linux)
	other := legacyDisk()
	other.Signature = 0xBEEF
	path := filepath.Join(reference.Folder(t), "other.img")
	require.NoError(t, other.MustBuild().WriteFile(path))
	before, err := os.ReadFile(path)
	require.NoError(t, err)
	loop := reference.Loop(t, path)
	cmd := exec.Command("sh", "-c", strings.Replace(script(p, repair.Linux), "lsblk -dnpo NAME", "echo "+loop, 1))
	cmd.Dir = t.TempDir()
	cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	answer, err := cmd.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(answer), "is not here")
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.True(t, slices.Equal(before, after), "not a byte was written")
}

func TestScriptsHoldTheirToolboxAlone(t *testing.T) {
	noBoot := leftBehind()["no boot partition"]
	p := repair.Find(machineOf(t, firmware.UEFI, noBoot.MustBuild()), repair.WindowsRecovery)
	text := script(p, repair.WindowsRecovery)
	assert.Contains(t, text, "\r\n")
	assert.Contains(t, text, "bcdboot")
	assert.Contains(t, text, strings.ToUpper(strings.Trim(noBoot.GUID.String(), "{}")))
	assert.Empty(t, script(p, repair.Linux))
}

func BenchmarkFind(b *testing.B) {
	noBoot := leftBehind()["no boot partition"]
	m := machineOf(b, firmware.UEFI, noBoot.MustBuild())
	for b.Loop() {
		repair.Find(m)
	}
}
