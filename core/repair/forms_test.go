package repair_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
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
)

// everyStep hands over each step of every plan for the broken machines, with its
// forms for all toolboxes.
func everyStep(t *testing.T, each func(name string, s repair.PlanStep, forms []repair.Form)) {
	t.Helper()
	machines := map[string]machine.Machine{}
	for name, c := range broken() {
		machines[name] = machineOf(t, c.mode, c.image)
	}
	for name, d := range map[string]diskmaker.Disk{
		"Windows without the driver": sample.WindowsDisk(8, 8),
		"Linux without the driver":   sample.LinuxDisk(8, 8),
	} {
		m := machineOf(t, firmware.UEFI, d.MustBuild())
		m.Until, m.Answers = "", map[string]string{"driver:b": "no"}
		m.Drives = append(m.Drives, machine.Drive{Name: "a", Role: machine.RoleOriginal, Bus: fact.Tell("ide"),
			Attached: fact.Tell(false)})
		machines[name] = m
	}
	for name, m := range machines {
		p := repair.Find(m)
		for _, plan := range append([]repair.Plan{p}, p.Alternatives...) {
			for _, s := range append(plan.Steps, plan.Afterwards...) {
				each(name+", "+s.Action, s, append([]repair.Form{s.Form}, s.Also...))
			}
		}
	}
}

func TestEveryCommandIsExplained(t *testing.T) {
	everyStep(t, func(name string, s repair.PlanStep, forms []repair.Form) {
		assert.NotEmpty(t, s.Save, name)
		for _, f := range forms {
			for _, c := range append(f.Commands, f.PutBack...) {
				assert.NotEmpty(t, c.Good, "%s, %s: %s", name, f.Toolbox, c.Text)
				assert.NotEmpty(t, c.Bad, "%s, %s: %s", name, f.Toolbox, c.Text)
			}
		}
	})
}

// Whatever is overwritten is saved before, and can be put back, by each toolbox.
func TestSectorsAreSavedBeforeTheyAreOverwritten(t *testing.T) {
	everyStep(t, func(name string, s repair.PlanStep, forms []repair.Form) {
		for _, f := range forms {
			if len(s.Saves) == 0 || f.Shell == "" {
				continue
			}
			require.Greater(t, len(f.Commands), len(s.Saves), name)
			assert.NotEmpty(t, f.PutBack, name)
			save := map[repair.Shell]string{repair.POSIX: `dd if="$clone"`, repair.Batch: "latchkey-capture"}[f.Shell]
			lines := f.Commands[1:]
			if f.Shell == repair.POSIX {
				assert.Contains(t, lines[0].Text, "SERIAL", name)
				lines = lines[1:]
			}
			for i := range s.Saves {
				assert.True(t, strings.HasPrefix(lines[i].Text, save), "%s, %s: %s", name, f.Toolbox, lines[i].Text)
			}
		}
	})
}

// No line names a disk by a number alone: the lines that write come after a guard
// that stops.
func TestEveryFormBeginsWithAGuard(t *testing.T) {
	actions := map[string]bool{}
	defer func() {
		for _, a := range []string{"safe-start", "initial-ram-disk", "windows-boot-files", "create-esp"} {
			assert.True(t, actions[a], "%s is not among what was looked at", a)
		}
	}()
	everyStep(t, func(name string, s repair.PlanStep, forms []repair.Form) {
		for _, f := range forms {
			actions[s.Action] = true
			if f.Shell != "" && s.Disk != "" {
				assert.Contains(t, f.Commands[0].Text, "stop.", "%s, %s", name, f.Toolbox)
				assert.Contains(t, f.Commands[0].Text, "exit", "%s, %s", name, f.Toolbox)
			}
		}
	})
}

// After a repair of sectors alone the commands that put them back leave the disk as
// it was, byte by byte.
func TestPuttingBack(t *testing.T) {
	if testing.Short() {
		t.Skip("takes ten seconds")
	}
	t.Parallel()
	reference.Need(t, "losetup", "sfdisk", "blkid", "lsblk", "blockdev")
	codeless := leftBehind()["no boot code"]
	for name, c := range map[string]struct {
		mode  firmware.Mode
		image *diskmaker.Image
	}{
		"protective": {firmware.UEFI, spoiled(windows(7), 446, make([]byte, 66)...)},
		"active":     {firmware.Legacy, legacyDisk().MustBuild()},
		"hidden":     {firmware.Legacy, spoiled(legacyDisk(0), 1<<20+28, 1, 2, 3, 0)},
		"boot code":  {firmware.Legacy, codeless.MustBuild()},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := repair.Find(machineOf(t, c.mode, c.image), repair.Linux)
			require.Len(t, p.Steps, 1, p.Reason)
			path, untouched := filepath.Join(reference.Folder(t), "clone.img"), filepath.Join(reference.Folder(t), "untouched.img")
			require.NoError(t, c.image.WriteFile(path))
			require.NoError(t, c.image.WriteFile(untouched))
			text := "set -e\n"
			for _, command := range p.Steps[0].Commands {
				text += command.Text + "\n"
			}
			text += `if cmp -s "$clone" ` + untouched + "; then echo 'The repair changed nothing.'; exit 1; fi\n"
			for _, command := range p.Steps[0].PutBack {
				text += command.Text + "\n"
			}
			runOnLoop(t, path, text+`cmp "$clone" `+untouched)
		})
	}
}

// Sectors are put back onto the drive that they were saved of, told by its serial
// number, or where it has none by its identifier, and onto no other of its capacity.
func TestSectorsArePutBackOntoNoOtherDrive(t *testing.T) {
	reference.Need(t, "dash")
	m := machineOf(t, firmware.Legacy, legacyDisk().MustBuild())
	p := repair.Find(m, repair.Linux)
	require.NotEmpty(t, p.Steps, p.Reason)
	id, known := m.Drives[0].Contents.Layout.DiskID().Get()
	require.True(t, known)
	id = strings.ToLower(id)
	for name, c := range map[string]struct {
		kept, serial, id string
		found            bool
	}{
		"the same serial number":             {"S1", "S1", id, true},
		"the same, with another table":       {"S1", "S1", "12345678", true},
		"another serial number":              {"S1", "S2", id, false},
		"a serial number where there was no": {"", "S2", id, false},
		"none, and the same identifier":      {"", "", id, true},
		"none, and no table":                 {"", "", "", true},
		"none, and another identifier":       {"", "", "12345678", false},
	} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "before-"+p.Steps[0].Action+".serial"), []byte(c.kept+"\n"), 0o600))
		standIn := func(tool, text string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, tool), []byte("#!/bin/sh\n"+text), 0o700))
		}
		standIn("lsblk", `case $* in *SERIAL*) echo "`+c.serial+`";; *) echo /dev/x;; esac`)
		standIn("blockdev", fmt.Sprintf("echo %d", m.Drives[0].Contents.Layout.Bytes()))
		standIn("blkid", "echo "+c.id)
		cmd := exec.Command("dash", "-c", p.Steps[0].PutBack[0].Text)
		cmd.Dir, cmd.Env = dir, []string{"PATH=" + dir + ":/usr/bin:/bin"}
		out, err := cmd.CombinedOutput()
		assert.Equal(t, c.found, err == nil, "%s: %s", name, out)
		assert.Equal(t, c.found, strings.Contains(string(out), "Clone: /dev/x"), "%s: %s", name, out)
	}
}

// A boot sector that was overwritten is written anew from the copy that the file
// system keeps, and the bytes agree.
func TestABootSectorFromItsCopy(t *testing.T) {
	reference.Need(t, "losetup", "blkid", "lsblk", "blockdev", "dd")
	zeros := make([]byte, 512)
	for name, c := range map[string]struct {
		mode  firmware.Mode
		image *diskmaker.Image
	}{
		"NTFS":  {firmware.Legacy, spoiled(legacyDisk(0), 1<<20, zeros...)},
		"FAT32": {firmware.UEFI, spoiled(windows(1), 1<<20, zeros...)},
	} {
		t.Run(name, func(t *testing.T) {
			m := machineOf(t, c.mode, c.image)
			p := repair.Find(m, repair.Linux)
			require.Equal(t, []string{"copy-boot-sector"}, actionsOf(p), p.Reason)
			path := filepath.Join(reference.Folder(t), "clone.img")
			require.NoError(t, c.image.WriteFile(path))
			runOnLoop(t, path, script(p, repair.Linux))
			trace := startup.Simulate(fromFile(t, c.mode, path))
			assert.Equal(t, startup.Starts, trace.Verdict, trace.Headline)
		})
	}
}

// twoDisks is a machine with both disks attached, the original found first.
func twoDisks(t *testing.T, original, copied *diskmaker.Image) machine.Machine {
	t.Helper()
	m := machineOf(t, firmware.UEFI, copied)
	on, err := disk.New(original, original.Size, 512)
	require.NoError(t, err)
	m.Drives = append(m.Drives, machine.Drive{Name: "a", Role: machine.RoleOriginal, Bus: fact.Tell("sata"),
		Attached: fact.Tell(true), Contents: machine.Examine(on)})
	m.DeviceOrder = []string{"a", "b"}
	return m
}

// An entry that leads to the clone already is moved to the front, the least that
// can be done.
func TestAnEntryOfTheCloneIsMovedToTheFront(t *testing.T) {
	clone := windows(2)
	clone.Partitions[0].GUID = disk.MustGUID("AAAAAAAA-0000-4000-8000-000000000001")
	m := twoDisks(t, windows(1).MustBuild(), clone.MustBuild())
	entries := &firmware.Entries{All: map[uint16]firmware.Entry{}, Order: []uint16{0, 3}}
	for number, d := range map[uint16]machine.Drive{0: m.Drives[1], 3: m.Drives[0]} {
		p := d.Contents.Layout.Partitions[0]
		entries.All[number] = firmware.Entry{Number: number, Description: "Tern's kiosk", Active: true,
			Path: firmware.Path{Partition: &firmware.PartitionNode{Number: 1, Start: p.Start, Size: p.Length,
				GUID: p.GUID}, File: `\EFI\BOOT\BOOTX64.EFI`}}
	}
	m.Firmware.Entries = entries
	require.Equal(t, startup.StartsOriginal, startup.Simulate(m).Verdict)
	p := repair.Find(m)
	require.Equal(t, []string{"entry-first"}, actionsOf(p), p.Reason)
	require.NotEmpty(t, p.Steps[0].Also)
	linux := p.Steps[0].Also[0]
	assert.Equal(t, repair.Linux, linux.Toolbox)
	assert.Contains(t, linux.Commands[0].Text, `Boot0003`)
	assert.Contains(t, linux.Commands[0].Text, "aaaaaaaa-0000-4000-8000-000000000001", "a name can be that of another entry")
	assert.Contains(t, linux.Commands[1].Text, "--bootorder 0003,0000")
	assert.Contains(t, p.Steps[0].Undo, "0000,0003")
	assert.Equal(t, []uint16{0, 3}, entries.Order, "the machine that was planned for is left as it is")
}

// The old drive's own system can do what a recovery environment does, when it
// starts and the disks can be told apart.
func TestTheOldDrivePutBack(t *testing.T) {
	empty := windows(2)
	empty.Partitions[0].Volume.Files = nil
	empty.Partitions[0].GUID = disk.MustGUID("AAAAAAAA-0000-4000-8000-000000000001")
	m := twoDisks(t, windows(1).MustBuild(), empty.MustBuild())
	m.Drives[1].Attached = fact.Tell(false)
	p := repair.Find(m, repair.OldDrive)
	require.Equal(t, []string{"windows-boot-files"}, actionsOf(p), p.Reason)
	s := p.Steps[0]
	assert.True(t, s.Commands[0].ByHand, "first the drive is put back")
	assert.True(t, s.Commands[len(s.Commands)-1].ByHand, "last the drives are as before")
	assert.Equal(t, repair.Batch, s.Shell)
	assert.Contains(t, script(p, repair.OldDrive), "BY HAND: Power off.")

	same := windows(1) // the identifier of the original
	same.Partitions[0].Volume.Files = nil
	p = repair.Find(twoDisks(t, windows(1).MustBuild(), same.MustBuild()), repair.OldDrive)
	assert.Equal(t, []string{"copy-again"}, actionsOf(p), "Windows takes one of two disks with one identifier offline")
	assert.Empty(t, p.Steps[0].Also, "nothing tells the two disks apart for a command")
}
