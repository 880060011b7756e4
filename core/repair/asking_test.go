package repair_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/sample"
)

// openBehind is a Linux whose table is damaged, on another bus than its original, in a system that has
// nothing to make its initial RAM disk with: what follows a repair of the table is not known.
func openBehind(t *testing.T, answer string) machine.Machine {
	d := sample.WithoutTools(sample.LinuxDisk(1, 1), 1, "usr/sbin/update-initramfs")
	image := d.MustBuild()
	wipe(0, 34*512)(image)
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, image),
		machine.Drive{Name: "original", Role: machine.RoleOriginal, Bus: fact.Tell("sata"), Attached: fact.Tell(false)})
	m.Drives[0].Bus, m.Answers = fact.Tell("nvme"), map[string]string{}
	if answer != "" {
		m.Answers["driver:clone"] = answer
	}
	return m
}

// Where it hangs on what nobody has told whether a repair leads to a start, that is asked, and
// not said that there is none.
func TestAPlanAsksWhatItGoesBy(t *testing.T) {
	plan := repair.Find(openBehind(t, ""))
	assert.Empty(t, plan.Steps)
	require.NotNil(t, plan.Ask)
	assert.Equal(t, "driver:clone", plan.Ask.ID)
	assert.Contains(t, plan.Reason, plan.Ask.Text)
	assert.Equal(t, startup.Stops, plan.Before.Verdict)

	plan = repair.Find(openBehind(t, "yes"))
	assert.Equal(t, startup.Starts, plan.Verdict, plan.Reason)
	assert.NotEmpty(t, plan.Steps)
	assert.Nil(t, plan.Ask)

	plan = repair.Find(openBehind(t, "no"))
	assert.Empty(t, plan.Steps)
	assert.Nil(t, plan.Ask, "nothing that is not known would help")
}

// Where facts of the machine decide whether a repair leads to a start, they are asked one after the other, as long as
// they are needed; with those that lead to none there is no plan, and nothing is asked any more.
func TestAPlanThatGoesByFactsOfTheMachine(t *testing.T) {
	d := sample.WindowsDisk(1, 1)
	clear(d.Partitions[0].Volume.Files)
	entries := &firmware.Entries{All: map[uint16]firmware.Entry{}}
	drives := []machine.Drive{sample.Drive(t, machine.RoleClone, d.MustBuild())}
	m := machine.Machine{Drives: drives, Answers: map[string]string{},
		Firmware: firmware.Settings{Mode: fact.Tell(firmware.UEFI), SecureBoot: fact.Tell(false), Entries: entries}}
	asked := map[string]bool{}
	plan := repair.Find(m)
	for plan.Ask != nil {
		require.False(t, asked[plan.Ask.ID], "%s is asked again", plan.Ask.ID)
		asked[plan.Ask.ID] = true
		assert.Empty(t, plan.Steps)
		assert.NotContains(t, plan.Reason, "Copy again")
		m.Answers[plan.Ask.ID] = map[bool]string{true: "x64", false: "yes"}[plan.Ask.ID == "arch"]
		plan = repair.Find(m)
	}
	assert.True(t, asked["arch"])
	assert.Equal(t, startup.Starts, plan.Verdict, plan.Reason)
	require.NotEmpty(t, plan.Steps)
	assert.Equal(t, "windows-boot-files", plan.Steps[0].Action)

	m.Answers["arch"] = "arm64"
	plan = repair.Find(m)
	assert.Empty(t, plan.Steps)
	assert.Nil(t, plan.Ask)
}

// What a step that was done shows is what it answers, and nothing else.
func TestWhatAStepShows(t *testing.T) {
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, sample.LinuxDisk(1, 1).MustBuild()))
	m.Drives[0].Bus, m.Answers = fact.Tell("nvme"), map[string]string{"attached:clone": "yes"}
	assert.Equal(t, map[string]string{"driver:clone": "yes"}, repair.Shown(m, "ramdisk"))
	assert.Empty(t, repair.Shown(m, "no such step"))
	m.Answers["driver:clone"] = "yes"
	assert.Empty(t, repair.Shown(m, "ramdisk"))
}
