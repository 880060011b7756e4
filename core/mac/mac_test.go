package mac_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// A Mac's firmware reads what others do not. start-rules, section 7; common
// practice, no source.
func TestAMacReadsItsOwnVolumes(t *testing.T) {
	raw := make([]byte, 4096)
	copy(raw[32:], "NXSB")
	d := sample.GPTDisk(1, nil)
	d.Partitions[1].Type = disk.MustGUID("7C3457EF-0000-11AA-AA11-00306543ECAC")
	d.Partitions[1].Volume = diskmaker.Volume{Kind: "raw", Raw: raw}
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild()))
	assert.Equal(t, startup.Stops, startup.Simulate(m).Verdict, "edk2 has no driver for it")
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.ReadsMacVolumes, fact.Unknown[bool]())
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.ReadsMacVolumes, fact.Tell(true))
	m.Answers = map[string]string{"mac-offered:clone": "no"}
	trace = startup.Simulate(m)
	assert.Equal(t, course.StageLoader, trace.Stage)
	assert.Contains(t, trace.Symptom, "question mark")
	m.Answers = map[string]string{"mac-offered:clone": "yes", "mac-installed:clone": "no"}
	trace = startup.Simulate(m)
	assert.Equal(t, course.StageSystem, trace.Stage)
	assert.Contains(t, trace.Symptom, "a circle with a line through it")
	m.Answers["mac-installed:clone"] = "yes"
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict)
}
