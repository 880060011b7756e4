package repair_test

import (
	"io"
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
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

func machineOf(t testing.TB, mode firmware.Mode, m *diskmaker.Image) machine.Machine {
	t.Helper()
	return machineOn(t, mode, m, m.Size)
}

// fromFile is the machine with a disk as it stands in a file.
func fromFile(t testing.TB, mode firmware.Mode, path string) machine.Machine {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(t, err)
	return machineOn(t, mode, f, info.Size())
}

func machineOn(t testing.TB, mode firmware.Mode, r io.ReaderAt, size int64) machine.Machine {
	t.Helper()
	b, _ := firmware.Named(map[firmware.Mode]string{firmware.UEFI: "edk2", firmware.Legacy: "seabios"}[mode])
	on, err := disk.New(r, size, 512)
	require.NoError(t, err)
	return machine.Machine{Until: machine.UntilLoader, DeviceOrder: []string{"b"},
		Drives: []machine.Drive{{Name: "b", Role: machine.RoleClone, Bus: fact.Tell("sata"), Attached: fact.Tell(true), Contents: machine.Examine(on)}},
		Firmware: firmware.Settings{Mode: fact.Tell(mode), Arch: fact.Tell(firmware.X64), SecureBoot: fact.Tell(false), Behaviour: b,
			Entries: &firmware.Entries{All: map[uint16]firmware.Entry{}}}}
}

func windows(guid byte) diskmaker.Disk {
	d := diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.GPT, GUID: disk.MustGUID("D15C0000-0000-4000-8000-000000000000"), Partitions: []diskmaker.Partition{
		{Type: disk.TypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32", Files: map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()}}},
		{Type: disk.TypeBasicData, Volume: diskmaker.Volume{Kind: "ntfs", UsedMiB: 10, Files: map[string][]byte{`\Windows\System32\winload.efi`: diskmaker.Program{}.Bytes()}}}}}
	d.GUID[15] = guid
	return d
}

func legacyDisk(active ...int) diskmaker.Disk {
	d := diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.MBR, Signature: 0xCAFE, BootCode: "classic", Partitions: []diskmaker.Partition{
		{MBRType: 7, MiB: 100, Volume: diskmaker.Volume{Kind: "ntfs"}}, {MBRType: 7, Volume: diskmaker.Volume{Kind: "ntfs"}}}}
	for _, i := range active {
		d.Partitions[i].Active = true
	}
	return d
}

func spoiled(d diskmaker.Disk, off int64, b ...byte) *diskmaker.Image {
	m := d.MustBuild()
	if off < 0 {
		off += m.Size
	}
	if _, err := m.WriteAt(b, off); err != nil {
		panic(err)
	}
	return m
}

// leftBehind are disks that a copy left incomplete, by what is wrong.
func leftBehind() map[string]diskmaker.Disk {
	noBoot := windows(2)
	noBoot.Partitions = noBoot.Partitions[1:]
	unformatted := windows(3)
	unformatted.Partitions[0].Volume = diskmaker.Volume{}
	vendor := windows(4)
	vendor.Partitions[0].Volume.Files = map[string][]byte{`\EFI\debian\grubx64.efi`: diskmaker.Program{}.Bytes()}
	noFiles := windows(5)
	noFiles.Partitions[0].Volume.Files = nil
	codeless := legacyDisk(0)
	codeless.BootCode = ""
	return map[string]diskmaker.Disk{"no boot partition": noBoot, "not formatted": unformatted, "vendor's path": vendor, "no files": noFiles, "no boot code": codeless}
}

// broken are machines that do not start, each with the actions that put it right.
func broken() map[string]struct {
	mode  firmware.Mode
	image *diskmaker.Image
	plan  []string
} {
	left := leftBehind()
	return map[string]struct {
		mode  firmware.Mode
		image *diskmaker.Image
		plan  []string
	}{
		"primary table damaged":     {firmware.UEFI, spoiled(windows(6), 512+16, 0xEE), nil}, // this firmware uses the backup
		"no protective MBR":         {firmware.UEFI, spoiled(windows(7), 446, make([]byte, 66)...), []string{"protective-mbr"}},
		"boot partition left out":   {firmware.UEFI, left["no boot partition"].MustBuild(), []string{"create-esp", "windows-boot-files"}},
		"boot partition not FAT":    {firmware.UEFI, left["not formatted"].MustBuild(), []string{"format-esp", "windows-boot-files"}},
		"only the vendor's path":    {firmware.UEFI, left["vendor's path"].MustBuild(), []string{"add-entry"}},
		"boot partition empty":      {firmware.UEFI, left["no files"].MustBuild(), []string{"windows-boot-files"}},
		"legacy mode, GPT":          {firmware.Legacy, windows(8).MustBuild(), []string{"set-mode", "add-entry"}},
		"UEFI mode, MBR":            {firmware.UEFI, legacyDisk(0).MustBuild(), []string{"set-mode"}},
		"no active partition":       {firmware.Legacy, legacyDisk().MustBuild(), []string{"set-active"}},
		"two active partitions":     {firmware.Legacy, legacyDisk(0, 1).MustBuild(), []string{"set-active"}},
		"no boot code":              {firmware.Legacy, left["no boot code"].MustBuild(), []string{"boot-code"}},
		"moved, not corrected":      {firmware.Legacy, spoiled(legacyDisk(0), 1<<20+28, 1, 2, 3, 0), []string{"hidden-sectors"}},
		"both copies of it damaged": {firmware.UEFI, spoiledTwice(windows(9)), nil},
	}
}

func spoiledTwice(d diskmaker.Disk) *diskmaker.Image {
	m := spoiled(d, 512+16, 0xEE)
	if _, err := m.WriteAt([]byte{0xEE}, m.Size-512+16); err != nil {
		panic(err)
	}
	return m
}

func script(p repair.Plan, t repair.Toolbox) string {
	text, _ := repair.Script(p, t)
	return text
}

func actionsOf(p repair.Plan) []string {
	var actions []string
	for _, s := range p.Steps {
		actions = append(actions, s.Action)
	}
	return actions
}

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

// Where two ways differ in kind, both are shown with their price.
func TestModeOrStyle(t *testing.T) {
	d := legacyDisk(0)
	d.Partitions[1].Volume = diskmaker.Volume{Kind: "ntfs", UsedMiB: 10, Files: map[string][]byte{`\Windows\System32\winload.efi`: diskmaker.Program{}.Bytes()}}
	p := repair.Find(machineOf(t, firmware.UEFI, d.MustBuild()))
	assert.Equal(t, []string{"set-mode"}, actionsOf(p))
	require.Len(t, p.Alternatives, 1)
	assert.Equal(t, []string{"convert-to-gpt"}, actionsOf(p.Alternatives[0]))
	assert.Contains(t, p.Alternatives[0].Reason, "risk to the data")
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
	path := filepath.Join(t.TempDir(), "clone.img")
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
	twin.Drives = append(slices.Clone(m.Drives), machine.Drive{Name: "a", Role: machine.RoleOriginal, Attached: fact.Tell(true), Bus: fact.Tell("sata"), Contents: m.Drives[0].Contents})
	twin.DeviceOrder = []string{"b", "a"}
	var names []string
	for _, s := range repair.Find(twin).Afterwards {
		names = append(names, s.Action)
	}
	assert.Equal(t, []string{"rewrite-backup", "disk-identifier", "stale-letters"}, names)
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
}

// The rendered commands are run as they stand on a loop device, and the disk is
// read again: it must start by the bytes, not only by the model.
func TestRenderedCommandsRepairTheBytes(t *testing.T) {
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
			path := filepath.Join(t.TempDir(), "clone.img")
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
		if len(p.Steps) == 0 || slices.ContainsFunc(p.Steps, func(s repair.PlanStep) bool { return !slices.Contains(bytesAlone, s.Action) }) {
			continue
		}
		ran++
		path := filepath.Join(t.TempDir(), "clone.img")
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
	reference.Need(t, "losetup", "blkid", "blockdev")
	p := repair.Find(machineOf(t, firmware.Legacy, legacyDisk().MustBuild()), repair.Linux)
	other := legacyDisk()
	other.Signature = 0xBEEF
	path := filepath.Join(t.TempDir(), "other.img")
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
