package startup_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

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

func TestADriveThatTheBootListDoesNotShow(t *testing.T) {
	d := sample.Drive(t, machine.RoleClone, sample.WindowsDisk(1, 1).MustBuild())
	d.Shown = fact.Tell(false)
	trace := startup.Simulate(sample.Whole(firmware.UEFI, d))
	assert.Equal(t, startup.Stops, trace.Verdict)
	assert.Equal(t, course.StageDrive, trace.Stage)
	d.Bus, d.Shown = fact.Tell("nvme"), fact.Tell(true)
	m := sample.Whole(firmware.UEFI, d)
	m.Firmware.Behaviour, m.DeviceOrder = m.Firmware.Behaviour.With(firmware.StartsFromNVMe, fact.Unknown[bool]()), nil
	m.Answers = map[string]string{"driver:clone": "yes"}
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict, "what the boot list shows needs no question")
}

func TestAnUnknownLoaderIsNotFollowed(t *testing.T) {
	for name, c := range map[string]struct {
		disk    diskmaker.Disk
		mode    firmware.Mode
		verdict startup.Verdict
		stage   course.Stage
		says    string // in the symptom or the reason
	}{
		"an unknown loader": {sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: sample.X64()}), firmware.UEFI, startup.Depends, "", "none of the loaders"},
	} {
		t.Run(name, func(t *testing.T) {
			trace := startup.Simulate(sample.Whole(c.mode, sample.Drive(t, machine.RoleClone, c.disk.MustBuild())))
			assert.Equal(t, c.verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			assert.Equal(t, c.stage, trace.Stage)
			assert.Contains(t, sample.Words(trace), c.says)
		})
	}
}
