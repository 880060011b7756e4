package repair_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/sample"
)

// laidOut is a Linux whose root is laid out as one is, without some folders.
func laidOut(without ...string) map[string][]byte {
	files := map[string][]byte{"sbin/init": []byte("#!/bin/sh\n"), "usr/lib/systemd/systemd": []byte("#!/bin/sh\n")}
	for _, folder := range []string{"dev", "proc", "sys", "run", "home", "var"} {
		files[folder+"/kept"] = []byte("x")
	}
	for _, folder := range without {
		delete(files, folder+"/kept")
	}
	return files
}

// Folders that a copy of files left out are made, by a step of its own or by one that runs the system's programs.
func TestFoldersThatWereLeftOutAreMade(t *testing.T) {
	plan := func(change map[string][]byte, driver string) (p repair.Plan, lines string) {
		m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, versioned(1, change).MustBuild()))
		if driver != "" {
			m.Answers = map[string]string{"driver:clone": driver}
		}
		p = repair.Find(m, repair.Linux)
		for _, s := range p.Steps {
			for _, c := range s.Commands {
				lines += c.Text + "\n"
			}
		}
		return p, lines
	}
	p, lines := plan(laidOut("proc", "run"), "")
	assert.Equal(t, startup.Starts, p.Verdict, p.Reason)
	assert.Equal(t, "make-folders", p.Steps[0].Action)
	assert.Len(t, p.Steps, 1)
	assert.Contains(t, lines, "mkdir -m 0755 /mnt/clone/proc\nmkdir -m 0755 /mnt/clone/run\n")

	change := laidOut("dev")
	change[ramDiskName] = []byte{}
	p, lines = plan(change, "")
	assert.Equal(t, startup.Starts, p.Verdict, p.Reason)
	assert.Equal(t, "initial-ram-disk", p.Steps[0].Action, "its commands make the folders that they want")
	assert.Len(t, p.Steps, 1)
	assert.Contains(t, lines, "|| mkdir /mnt/clone/$f ||")
}

// An image that is not there is one that the start may do without.
func TestAnImageThatIsNotThere(t *testing.T) {
	change := laidOut()
	change["etc/fstab"] = []byte("UUID=01000000-0000-0000-0000-000000000000 / ext4 defaults 0 1\n/gone.img /srv ext4 loop 0 0\n")
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, versioned(1, change).MustBuild()))
	p := repair.Find(m, repair.Linux)
	assert.Equal(t, startup.Starts, p.Verdict, p.Reason)
	assert.Equal(t, "linux-names", p.Steps[0].Action)
}

// The root's line of the mount table alone is stale: the clone's own name takes its place.
func TestTheRootsLineIsRenamed(t *testing.T) {
	change := laidOut()
	change["etc/fstab"] = []byte("UUID=dead0000-0000-0000-0000-000000000000 / ext4 defaults 0 1\n")
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, versioned(1, change).MustBuild()))
	assert.Contains(t, startup.Simulate(m).Headline, "nothing can be written")
	p := repair.Find(m, repair.Linux)
	assert.Equal(t, startup.Starts, p.Verdict, p.Reason)
	assert.Equal(t, "linux-names", p.Steps[0].Action)
}
