package repair_test

import (
	"crypto/sha256"
	"io"
	"os"
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
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// besides is a machine with a clone and the disk that it was copied from.
func besides(t testing.TB, old, clone diskmaker.Disk) machine.Machine {
	m := machineOf(t, firmware.UEFI, clone.MustBuild())
	o := machineOf(t, firmware.UEFI, old.MustBuild()).Drives[0]
	o.Name, o.Role, o.Attached = "a", machine.RoleOriginal, fact.Tell(true)
	m.Drives = append(m.Drives, o)
	return m
}

// oldAndClone are a disk and its copy on a larger one, with the same identifier.
func oldAndClone() (old, clone diskmaker.Disk) {
	old, clone = windows(1), windows(1)
	old.Sectors, clone.Sectors = 1<<18, 3<<17
	return old, clone
}

// onLoops runs a script while images are attached as loop devices.
func onLoops(t *testing.T, script string, images ...string) (answer string, ok bool) {
	t.Helper()
	var loops []string
	for _, i := range images {
		loops = append(loops, reference.Loop(t, i))
	}
	script = strings.ReplaceAll(script, "lsblk -dnpo NAME", "echo "+strings.Join(loops, " "))
	// A kernel may know no tables (CONFIG_EFI_PARTITION): partx tells it what a live system's sees.
	script = strings.ReplaceAll(script, "udevadm settle", "partx --update "+loops[len(loops)-1])
	cmd := exec.Command("sh", "-c", script)
	cmd.Dir = t.TempDir()
	cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin", "LC_ALL=C")
	out, err := cmd.CombinedOutput()
	return string(out), err == nil
}

func onFile(t *testing.T, d diskmaker.Disk, name string) string {
	path := filepath.Join(reference.Folder(t), name)
	require.NoError(t, d.MustBuild().WriteFile(path))
	return path
}

func sum(t *testing.T, path string) [32]byte {
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, f)
	require.NoError(t, err)
	return [32]byte(h.Sum(nil))
}

// The commands as they stand wipe the old drive, or make it a drive for data, and leave
// the clone as it is, byte for byte.
func TestTheOldDriveIsReleasedInLinux(t *testing.T) {
	t.Parallel()
	reference.Need(t, "losetup", "blkid", "wipefs", "sfdisk", "mkfs.ntfs", "cmp")
	old, clone := oldAndClone()
	for _, fate := range []repair.Fate{repair.FateWiped, repair.FateData} {
		w, why := repair.Release(besides(t, old, clone), "", fate, repair.InLinux)
		require.Empty(t, why)
		a, b := onFile(t, old, "old.img"), onFile(t, clone, "clone.img")
		untouched := sum(t, b)
		answer, ok := onLoops(t, w.Script, b, a)
		require.True(t, ok, answer)
		assert.Equal(t, untouched, sum(t, b), "the clone is untouched")
		if fate == repair.FateWiped {
			out, err := exec.Command("cmp", "-n", "134217728", a, "/dev/zero").CombinedOutput()
			assert.NoError(t, err, string(out))
			continue
		}
		l := fromFile(t, firmware.UEFI, a).Drives[0].Contents
		require.Len(t, l.Layout.Partitions, 1, answer)
		assert.Equal(t, "ntfs", strings.ToLower(string(l.Volumes[0].Kind)), answer)
		assert.Equal(t, "Data", l.Volumes[0].Label)
	}
}

// A clone whose table blkid may not see is told from a drive of the same capacity beside it, by the
// commands as they stand.
func TestTheCloneIsToldFromADriveOfItsCapacity(t *testing.T) {
	t.Parallel()
	reference.Need(t, "losetup", "blkid")
	old, clone := windows(3), windows(1)
	old.GUID[0]++
	twin := clone
	end := clone.MustBuild().Size
	others := map[string]string{"own": onFile(t, old, "own.img"), "twin": onFile(t, twin, "twin.img"),
		"blank": filepath.Join(reference.Folder(t), "blank.img")}
	require.NoError(t, diskmaker.NewImage(end, 512).WriteFile(others["blank"]))
	for name, spoil := range map[string]spoil{
		"no protective record":       put(446, make([]byte, 64)...),
		"no 55 AA":                   put(510, 0, 0),
		"no sector 0":                put(0, make([]byte, 512)...),
		"the primary's checksum":     put(512+16, 1, 2, 3, 4),
		"the primary's identifier":   put(512+56, 1, 2, 3, 4),
		"no primary, no protective":  put(446, make([]byte, 512+66)...),
		"a sound table, as it stood": func(*diskmaker.Image) {},
	} {
		image := clone.MustBuild()
		spoil(image)
		require.Equal(t, end, image.Size)
		path := filepath.Join(reference.Folder(t), "clone.img")
		require.NoError(t, image.WriteFile(path))
		d := fromFile(t, firmware.UEFI, path).Drives[0]
		loop := reference.Loop(t, path)
		for which, beside := range others {
			cmd := exec.Command("sh", "-c", strings.ReplaceAll(repair.FindClone(&d).Text, "lsblk -dnpo NAME",
				"echo "+loop+" "+reference.Loop(t, beside)))
			cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin", "LC_ALL=C")
			out, err := cmd.CombinedOutput()
			other := fromFile(t, firmware.UEFI, beside).Drives[0]
			other.Name = "other"
			twins := repair.Twins(&d, &other, repair.Linux)
			if which == "own" {
				assert.False(t, twins, name)
			}
			if !twins {
				assert.NoError(t, err, "%s, %s: %s", name, which, out)
				assert.Equal(t, "Clone: "+loop+"\n", string(out), "%s, %s", name, which)
			} else {
				assert.Error(t, err, "%s, %s: %s", name, which, out)
			}
		}
	}
}

// diskpart shows a capacity rounded: a copy on a drive that is little larger is not told from its original
// there.
func TestATwinThatIsLittleLarger(t *testing.T) {
	t.Parallel()
	old, clone := windows(1), windows(1)
	old.Sectors, clone.Sectors = 1<<30, 1<<30+2048
	m := besides(t, old, clone)
	other, d := &m.Drives[1], &m.Drives[0]
	assert.True(t, repair.Twins(d, other, repair.WindowsRecovery))
	assert.False(t, repair.Twins(d, other, repair.Linux))
}

// Where commands would take another drive for the clone, it is unplugged first; where that is left out,
// there is no plan of theirs.
func TestATwinIsUnpluggedFirst(t *testing.T) {
	t.Parallel()
	twin, clone := windows(1), windows(1).MustBuild()
	put(512, make([]byte, 512)...)(clone)
	m := besides(t, twin, windows(1))
	path := filepath.Join(reference.Folder(t), "clone.img")
	require.NoError(t, clone.WriteFile(path))
	for i := range m.Drives {
		if m.Drives[i].Role == machine.RoleClone {
			m.Drives[i].Contents = fromFile(t, firmware.UEFI, path).Drives[0].Contents
		}
		m.Drives[i].Attached = fact.Tell(true)
	}
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.UsesBackupGPT, fact.Tell(false))
	plan := repair.Find(m, repair.Linux, repair.Firmware)
	require.NotEmpty(t, plan.Steps, plan.Reason)
	assert.Equal(t, "detach-original", plan.Steps[0].Action)
	for _, s := range repair.Find(m, repair.Linux).Steps {
		assert.NotEqual(t, plan.Steps[1].Action, s.Action)
	}
}

// Before that it is copied into a file, byte for byte, and only read.
func TestTheOldDriveIsCopiedIntoAFile(t *testing.T) {
	t.Parallel()
	reference.Need(t, "losetup", "blkid", "cmp")
	old, clone := oldAndClone()
	w, why := repair.Release(besides(t, old, clone), "", repair.Imaged, repair.InLinux)
	require.Empty(t, why)
	assert.NotContains(t, w.Script, "wipefs")
	a, b := onFile(t, old, "old.img"), onFile(t, clone, "clone.img")
	before, untouched := sum(t, a), sum(t, b)
	answer, ok := onLoops(t, w.Script, b, a)
	require.True(t, ok, answer)
	assert.Equal(t, before, sum(t, a))
	assert.Equal(t, untouched, sum(t, b))
	_, why = repair.Release(besides(t, old, clone), "", repair.Imaged, repair.InWindows)
	assert.Contains(t, why, "live Linux")
}

// Where the drive is not the one, or is in use, nothing is written.
func TestTheOldDrivesGuardsStop(t *testing.T) {
	t.Parallel()
	reference.Need(t, "losetup", "blkid", "wipefs")
	old, clone := oldAndClone()
	m := besides(t, old, clone)
	w, _ := repair.Release(m, "", repair.FateWiped, repair.InLinux)
	b := onFile(t, clone, "clone.img")
	before := sum(t, b)
	answer, ok := onLoops(t, w.Script, b)
	assert.False(t, ok)
	assert.Contains(t, answer, "is not here")
	serial, _ := repair.Release(m, "7K31", repair.FateWiped, repair.InLinux)
	a := onFile(t, old, "old.img")
	kept := sum(t, a)
	answer, ok = onLoops(t, serial.Script, b, a)
	assert.False(t, ok, "a loop device has no serial number")
	assert.Contains(t, answer, "is not here")

	assert.Equal(t, kept, sum(t, a))
	assert.Equal(t, before, sum(t, b))
}

// Where something of the drive is mounted, as the running system's root would be, nothing
// is written. A file system that leaves the first sector alone lies beside the table here,
// so that it needs no device of its own.
func TestNothingInUseIsWritten(t *testing.T) {
	t.Parallel()
	reference.Need(t, "losetup", "blkid", "wipefs", "mount", "mkfs.ext4")
	old, clone := legacyDisk(0), legacyDisk(0)
	old.Sectors, clone.Sectors, clone.Signature = 1<<19, 1<<19, 0xBEEF
	m := besides(t, old, clone)
	path := onFile(t, old, "old.img")
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	reference.Run(t, "", "mkfs.ext4", "-q", "-F", path)
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(raw[:512], 0)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	loop, folder := reference.Loop(t, path), t.TempDir()
	reference.Run(t, "", "mount", "-o", "ro", loop, folder)
	t.Cleanup(func() { reference.Run(t, "", "umount", folder) })
	kept := sum(t, path)
	w, why := repair.Release(m, "", repair.FateWiped, repair.InLinux)
	require.Empty(t, why)
	run := func(script string) string {
		cmd := exec.Command("sh", "-c", strings.ReplaceAll(script, "lsblk -dnpo NAME", "echo "+loop))
		cmd.Dir = t.TempDir()
		cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin", "LC_ALL=C")
		out, err := cmd.CombinedOutput()
		assert.Error(t, err)
		return string(out)
	}
	assert.Contains(t, run(w.Script), "is in use")
	assert.Contains(t, run(strings.ReplaceAll(w.Script, `[ -z "$(lsblk`, `[ x != "$(lsblk`)), "busy", "the kernel refuses too")
	assert.Equal(t, kept, sum(t, path))
}

// What would not tell the old drive from the clone renders no command.
func TestNoCommandWhereNothingTellsTheDrivesApart(t *testing.T) {
	twin := windows(1)
	m := besides(t, twin, twin)
	for _, s := range []repair.System{repair.InLinux, repair.InWindows} {
		w, why := repair.Release(m, "", repair.FateWiped, s)
		assert.Empty(t, w.Commands)
		assert.Contains(t, why, "serial number")
		w, why = repair.Release(m, "S4 'x'; rm -rf /", repair.FateWiped, s)
		assert.Empty(t, why)
		assert.NotEmpty(t, w.Commands)
	}
	// A size that was read off a screen, or is not known, tells nothing.
	for name, change := range map[string]func(c *machine.Contents){
		"rounded":   func(c *machine.Contents) { c.Rounded, c.Layout.Sectors = true, c.Layout.Sectors+4096 },
		"not known": func(c *machine.Contents) { c.Layout.Sectors = disk.SectorsUnknown },
	} {
		unsure := m
		unsure.Drives = slices.Clone(m.Drives)
		c := *unsure.Drives[0].Contents
		change(&c)
		unsure.Drives[0].Contents = &c
		w, why := repair.Release(unsure, "", repair.FateWiped, repair.InLinux)
		assert.Empty(t, w.Commands, name)
		assert.Contains(t, why, "serial number", name)
	}
	m.Drives = m.Drives[:1]
	_, why := repair.Release(m, "7K31", repair.FateWiped, repair.InLinux)
	assert.Contains(t, why, "Take a capture")
}

func TestTheOldDriveIsReleasedInWindows(t *testing.T) {
	t.Parallel()
	old, clone := oldAndClone()
	m := besides(t, old, clone)
	before := []standIn{{Disk: placed(t, clone), Runs: true, Serial: "C2"}, {Disk: placed(t, old), Serial: "7K31", Offline: true}}
	script := func(serial string, f repair.Fate) string {
		w, why := repair.Release(m, serial, f, repair.InWindows)
		require.Empty(t, why)
		return w.Script
	}
	t.Run("a drive for data", func(t *testing.T) {
		answer, ok, after := runBatch(t, script("7K31", repair.FateData), before...)
		require.True(t, ok, answer)
		assert.Equal(t, before[0].Disk, after[0].Disk, "the clone is untouched")
		require.Len(t, after[1].Disk.Partitions, 1)
		assert.Equal(t, "data", strings.ToLower(after[1].Disk.Partitions[0].Volume.Label))
	})
	t.Run("wiped", func(t *testing.T) {
		answer, ok, after := runBatch(t, script("", repair.FateWiped), before...)
		require.True(t, ok, answer)
		assert.True(t, after[1].Zeroed)
		assert.Equal(t, before[0].Disk, after[0].Disk)
	})
	for name, c := range map[string]struct {
		change func(s []standIn)
		says   string
	}{
		"another serial number":      {func(s []standIn) { s[1].Serial = "9X" }, "another serial number"},
		"shown as large, and is not": {func(s []standIn) { s[1].Disk.Sectors += 8 }, "another size"},
		"Windows runs from it":       {func(s []standIn) { s[1].Runs = true }, "runs from this disk"},
		"another identifier":         {func(s []standIn) { s[1].Disk.GUID[0]++ }, "is not here"},
	} {
		t.Run(name, func(t *testing.T) {
			disks := slices.Clone(before)
			c.change(disks)
			answer, ok, after := runBatch(t, script("7K31", repair.FateData), disks...)
			assert.False(t, ok)
			assert.Contains(t, answer, c.says)
			for i := range after {
				assert.Equal(t, placed(t, disks[i].Disk), placed(t, after[i].Disk))
			}
		})
	}
}

func TestARecoveryPartitionLosesItsLetter(t *testing.T) {
	t.Parallel()
	d := windows(1)
	d.Partitions = slices.Clone(d.Partitions)
	d.Partitions[1].MiB = 512
	d.Partitions = append(d.Partitions, diskmaker.Partition{Type: disk.TypeBasicData, MiB: 100,
		Volume: diskmaker.Volume{Kind: "ntfs", Label: "Recovery"}})
	m := machineOf(t, firmware.UEFI, d.MustBuild())
	w, why := repair.HideRecovery(m, 2)
	require.Empty(t, why)
	answer, ok, after := runBatch(t, w.Script, standIn{Disk: placed(t, d), Runs: true,
		Letters: map[string]int{"E": 2, "C": 1}})
	require.True(t, ok, answer)
	assert.Equal(t, map[string]int{"C": 1}, after[0].Letters)
	assert.Contains(t, answer, "saved: 2", "both ends of the table")
	assert.NotEmpty(t, w.PutBack)
	assert.Equal(t, disk.TypeWinRE, after[0].Disk.Partitions[2].Type)
	// Its maker's "Configure UEFI/GPT-based hard drive partitions": required, and no letter.
	assert.Equal(t, uint64(1|1<<63), after[0].Disk.Partitions[2].Attributes)
	assert.Equal(t, placed(t, d).Partitions[:2], after[0].Disk.Partitions[:2])
}
