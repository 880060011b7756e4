package linux_test

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// lastWords is what the first attempt ends with.
func lastWords(t startup.Trace) string {
	steps := t.Attempts[0].Steps
	return steps[len(steps)-1].Text
}

// Linux is stricter with tables than firmware and GRUB are. The real kernel, behind the same tables:
// package truth, "table: ...".
func TestTablesThatTheKernelDoesNotTake(t *testing.T) {
	field := func(at int, value uint64) func(*diskmaker.Image) {
		return func(m *diskmaker.Image) {
			m.EditGPT(func(h, _ []byte) { binary.LittleEndian.PutUint64(h[at:], value) })
		}
	}
	sectors := sample.LinuxDisk(1, 1).MustBuild().Size / 512
	for name, c := range map[string]struct {
		spoil func(*diskmaker.Image)
		says  string // "" is a start
	}{
		"as it is":                             {func(*diskmaker.Image) {}, ""},
		"the last usable sector the last one":  {field(48, uint64(sectors)-1), ""},
		"the last usable sector one beyond":    {field(48, uint64(sectors)), "was written for a larger disk"},
		"the backup looked for beyond the end": {field(32, 1<<40), ""},
	} {
		m := sample.LinuxDisk(1, 1).MustBuild()
		c.spoil(m)
		trace := startup.Simulate(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, m)))
		if c.says == "" {
			assert.Equal(t, startup.Starts, trace.Verdict, "%s: %s", name, trace.Headline)
			continue
		}
		assert.Equal(t, startup.Stops, trace.Verdict, name)
		assert.Equal(t, course.StageConfiguration, trace.Stage, name)
		assert.Contains(t, lastWords(trace), c.says, name)
		assert.Equal(t, course.RootWait.ID, trace.SymptomID, name)
	}
}

// A damaged primary table is one for Linux where the firmware has written it anew before: that of the
// platform's open source does, and of another it is asked.
func TestADamagedPrimaryIsForTheFirmwareToMend(t *testing.T) {
	m := sample.LinuxDisk(1, 1).MustBuild()
	m.EditHeader(1, func(h, _ []byte) { h[56]++ })
	_, err := m.WriteAt([]byte{0xFF}, 512+16) // its checksum
	require.NoError(t, err)
	whole := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, m))
	assert.Equal(t, startup.Starts, startup.Simulate(whole).Verdict)

	whole.Firmware.Behaviour = whole.Firmware.Behaviour.With(firmware.RestoresGPT, fact.Unknown[bool]())
	trace := startup.Simulate(whole)
	require.Equal(t, startup.Depends, trace.Verdict)
	assert.Equal(t, firmware.RestoresGPT.Key, trace.Missing[0].ID)

	whole.Firmware.Behaviour = whole.Firmware.Behaviour.With(firmware.RestoresGPT, fact.Tell(false))
	trace = startup.Simulate(whole)
	assert.Equal(t, startup.Stops, trace.Verdict)
	assert.Contains(t, lastWords(trace), "does not go by the backup")
}

// A file system that is longer than its partition is not mounted: of the root, and of what the mount
// table waits for.
func TestAFileSystemLongerThanItsPartition(t *testing.T) {
	shorter := func(n int) func(h, e []byte) {
		return func(_, e []byte) {
			le := binary.LittleEndian
			le.PutUint64(e[128*n+40:], le.Uint64(e[128*n+32:])+2*2048)
		}
	}
	d := sample.LinuxDisk(1, 1)
	d.Partitions[1].MiB = 200
	home := d.Partitions[1]
	home.Volume = diskmaker.Volume{Kind: "ext4", UUID: [16]byte{9}}
	d.Partitions = append(d.Partitions, home)
	d = sample.With(d, 1, "etc/fstab", "UUID=01000000-0000-0000-0000-000000000000 / ext4 defaults 0 1\nUUID=09000000-0000-0000-0000-000000000000 /home ext4 defaults 0 1\n")
	start := func(n int) startup.Trace {
		m := d.MustBuild()
		if n > 0 {
			m.EditGPT(shorter(n))
		}
		return startup.Simulate(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, m)))
	}
	assert.Equal(t, startup.Starts, start(0).Verdict)
	root := start(1)
	assert.Equal(t, course.StageSystem, root.Stage)
	assert.Equal(t, course.RootRefused.ID, root.SymptomID)
	mount := start(2)
	assert.Equal(t, course.StageConfiguration, mount.Stage)
	assert.Equal(t, course.EmergencyMode.ID, mount.SymptomID)
	assert.Contains(t, mount.Headline, "reaches beyond its partition")
}

// With both drives attached, a root of the same name on the original is the one that is found.
func TestARootThatIsNotSeenIsFoundOnTheOther(t *testing.T) {
	m := sample.LinuxDisk(1, 1).MustBuild()
	m.EditGPT(func(h, _ []byte) { binary.LittleEndian.PutUint64(h[48:], 1<<40) })
	original := sample.Drive(t, machine.RoleOriginal, sample.LinuxDisk(1, 1).MustBuild())
	both := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, m), original)
	assert.NotEqual(t, startup.Starts, startup.Simulate(both).Verdict)
	assert.NotEqual(t, startup.Stops, startup.Simulate(both).Verdict)
}

// The same of an MBR: by what a record says of itself.
func TestRecordsByWhichTheKernelTakesNone(t *testing.T) {
	l := disk.Layout{Style: disk.StyleMBR, MBR: &disk.MBR{}}
	_, refused := l.RefusedByLinux()
	assert.False(t, refused)
	l.MBR.Entries[2].Status = 0x80
	_, refused = l.RefusedByLinux()
	assert.False(t, refused)
	l.MBR.Entries[2].Status = 0x5C
	p, _ := l.RefusedByLinux()
	assert.Equal(t, disk.CodeMBRStatus, p.Code)
	l.MBR.Entries[2] = disk.MBREntry{Type: disk.MBRTypeProtective, Start: 1 << 20}
	p, refused = l.RefusedByLinux()
	assert.True(t, refused)
	assert.Contains(t, p.Text, "type EE")
}
