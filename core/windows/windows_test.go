package windows_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// Stages 7 and 8, as start-rules tells them. The paths and identifiers are those
// of the makers' documentation; the messages are common practice, no source.

func TestWhatTheBootManagerLoads(t *testing.T) {
	damaged := sample.WindowsDisk(1, 1)
	damaged.Partitions[0].Volume.Files[sample.StorePath] = append([]byte{},
		damaged.Partitions[0].Volume.Files[sample.StorePath]...)
	damaged.Partitions[0].Volume.Files[sample.StorePath][100] ^= 1
	encrypted := sample.WindowsDisk(1, 1)
	encrypted.Partitions[1].Volume = diskmaker.Volume{Kind: "raw", Raw: []byte("\xEB\x58\x90-FVE-FS-")}
	notNTFS := sample.WindowsDisk(1, 1)
	notNTFS.Partitions[1].Volume = diskmaker.Volume{Kind: "fat32"}
	for name, c := range map[string]struct {
		disk    diskmaker.Disk
		mode    firmware.Mode
		verdict startup.Verdict
		stage   course.Stage
		says    string // in the symptom or the reason
	}{
		"Windows": {sample.WindowsDisk(1, 1), firmware.UEFI, startup.Starts, "", "Windows comes up"},
		"no store": {sample.With(sample.WindowsDisk(1, 1), 0, sample.StorePath, ""), firmware.UEFI, startup.Stops,
			course.StageConfiguration, "0xc000000f"},
		"a damaged store":                 {damaged, firmware.UEFI, startup.Stops, course.StageConfiguration, "0xc000014c"},
		"a store that names another disk": {sample.WindowsDisk(1, 0x41), firmware.UEFI, startup.Stops, course.StageConfiguration, "0xc000000e"},
		"no system loader": {sample.With(sample.WindowsDisk(1, 1), 1, `\Windows\System32\winload.efi`, ""), firmware.UEFI, startup.Stops,
			course.StageSystem, "winload.efi is not"},
		"no NTFS":                         {notNTFS, firmware.UEFI, startup.Stops, course.StageSystem, "FAT32"},
		"an encrypted system":             {encrypted, firmware.UEFI, startup.Depends, "", "recovery key"},
		"legacy Windows":                  {sample.LegacyWindowsDisk(true), firmware.Legacy, startup.Starts, "", "Windows comes up"},
		"legacy, with the loader of UEFI": {sample.LegacyWindowsDisk(false), firmware.Legacy, startup.Stops, course.StageConfiguration, "winload.efi"},
	} {
		t.Run(name, func(t *testing.T) {
			trace := startup.Simulate(sample.Whole(c.mode, sample.Drive(t, machine.RoleClone, c.disk.MustBuild())))
			assert.Equal(t, c.verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			assert.Equal(t, c.stage, trace.Stage)
			all := trace.Symptom + trace.Reason + trace.Headline
			for _, q := range trace.Missing {
				all += q.Text
			}
			assert.Contains(t, all, c.says)
		})
	}
}

func TestASystemOnTheOtherDisk(t *testing.T) {
	original, clone := sample.WindowsDisk(1, 1), sample.WindowsDisk(0x41, 1)
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, clone.MustBuild()),
		sample.Drive(t, machine.RoleOriginal, original.MustBuild()))
	trace := startup.Simulate(m)
	assert.Equal(t, startup.StartsOriginal, trace.Verdict)
	assert.Contains(t, trace.Reason, "That is the original")
	refs := machine.References(m)
	require.Len(t, refs, 6)
	assert.Equal(t, "other", refs[0].Means)
	assert.Equal(t, []int{2}, refs[0].On[1].Partitions)
	assert.Equal(t, "this", refs[5].Means)
	assert.EqualValues(t, 88, refs[0].Source.Length)
	for _, p := range startup.Pins(m, "clone") {
		if p.Stage == course.StageConfiguration {
			assert.Equal(t, course.Wrong, p.State)
		}
	}

	m.Drives[1].Attached = fact.Tell(false)
	trace = startup.Simulate(m)
	assert.Equal(t, startup.Stops, trace.Verdict)
	assert.Equal(t, course.StageConfiguration, trace.Stage)
}

func TestTwinsAreAQuestion(t *testing.T) {
	image := sample.WindowsDisk(1, 1).MustBuild()
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, image),
		sample.Drive(t, machine.RoleOriginal, image))
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	require.Len(t, trace.Missing, 1)
	assert.Equal(t, "answer:twin", trace.Missing[0].Fact.String())
	m.Answers = map[string]string{"twin": "clone"}
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict)
	m.Answers = map[string]string{"twin": "original"}
	assert.Equal(t, startup.StartsOriginal, startup.Simulate(m).Verdict)
	m.Answers = map[string]string{"twin": "neither"} // no answer to this question
	assert.Equal(t, startup.Depends, startup.Simulate(m).Verdict)
}

func TestANewBusAsksForADriver(t *testing.T) {
	clone, original := sample.Drive(t, machine.RoleClone, sample.WindowsDisk(1, 1).MustBuild()),
		sample.Drive(t, machine.RoleOriginal, nil)
	clone.Bus, original.Attached = fact.Tell("nvme"), fact.Tell(false)
	m := sample.Whole(firmware.UEFI, clone, original)
	trace := startup.Simulate(m)
	require.Len(t, trace.Missing, 1)
	assert.Contains(t, trace.Missing[0].Text, "driver for NVMe")
	m.Answers = map[string]string{"driver:clone": "no"}
	trace = startup.Simulate(m)
	assert.Equal(t, course.StageSystem, trace.Stage)
	assert.Contains(t, trace.Symptom, "0x7B")
}

func TestASleepingSystemIsARisk(t *testing.T) {
	d := sample.WindowsDisk(1, 1)
	d.Partitions[1].Volume.Files[`\hiberfil.sys`] = append([]byte("hibr"), make([]byte, 9000)...)
	d.Partitions[1].Volume.Unclean = true
	trace := startup.Simulate(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild())))
	assert.Equal(t, startup.Starts, trace.Verdict)
	texts := ""
	for _, f := range trace.Findings {
		texts += f.Severity + ": " + f.Text + "\n"
	}
	assert.Contains(t, texts, "risk: The system is asleep")
	assert.Contains(t, texts, "risk: The file system was not closed cleanly")
}

func TestAChangedControllerModeAsksForADriver(t *testing.T) {
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, sample.WindowsDisk(1, 1).MustBuild()))
	m.Firmware.StorageMode, m.Firmware.StorageModeBefore = fact.Tell("ahci"), fact.Tell("ahci")
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict)
	m.Firmware.StorageModeBefore = fact.Tell("raid")
	trace := startup.Simulate(m)
	require.Len(t, trace.Missing, 1)
	assert.Contains(t, trace.Missing[0].Text, "AHCI, before RAID")
}
