package mac_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/mac"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/core/volume"
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

// macDrive is a clone with what a Mac has on it.
func macDrive(t *testing.T, raw []byte) machine.Drive {
	d := sample.GPTDisk(1, nil)
	d.Partitions[1].Type = disk.MustGUID("7C3457EF-0000-11AA-AA11-00306543ECAC")
	d.Partitions[1].Volume = diskmaker.Volume{Kind: "raw", Raw: raw}
	return sample.Drive(t, machine.RoleClone, d.MustBuild())
}

func macWith(d machine.Drive, answers map[string]string) machine.Machine {
	m := sample.Whole(firmware.UEFI, d)
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.ReadsMacVolumes, fact.Tell(true))
	m.Answers = answers
	return m
}

// What the container and the volume's header tell is not asked: no Preboot volume, no volume
// of a system, no blessed folder; a seal says that the system came along whole.
func TestWhatAMacsVolumeTells(t *testing.T) {
	t.Parallel()
	system, sealed := diskmaker.AppleVolume{Name: "Home", Role: 1}, diskmaker.AppleVolume{Name: "Home", Role: 1, Sealed: true}
	preboot, data := diskmaker.AppleVolume{Name: "Preboot", Role: 0x10}, diskmaker.AppleVolume{Name: "Data", Role: 0x40}
	older := diskmaker.AppleVolume{Name: "Home"}
	hfs := func(blessed byte) []byte {
		raw := make([]byte, 4096)
		copy(raw[1024:], "H+")
		raw[1024+83] = blessed
		return raw
	}
	apfs := func(list ...diskmaker.AppleVolume) []byte { return diskmaker.Container(1000, list...) }
	spoilt := apfs(data)
	spoilt[5*4096] ^= 1
	for name, c := range map[string]struct {
		raw     []byte
		verdict startup.Verdict
		asked   string // when it is known to be offered
	}{
		"no Preboot volume":     {apfs(sealed, data), startup.Stops, ""},
		"no volume of a system": {apfs(preboot, data), startup.Stops, ""},
		"nothing in it":         {apfs(), startup.Stops, ""},
		"a volume that is open": {spoilt, startup.Depends, "mac-installed:clone"},
		"a sealed system":       {apfs(sealed, data, preboot), startup.Starts, ""},
		"a system without seal": {apfs(system, data, preboot), startup.Depends, "mac-installed:clone"},
		"one of two without":    {apfs(sealed, system, preboot), startup.Depends, "mac-installed:clone"},
		"an older one":          {apfs(older, preboot), startup.Depends, "mac-installed:clone"},
		"HFS+ that is blessed":  {hfs(5), startup.Starts, ""},
		"HFS+ that is not":      {hfs(0), startup.Stops, ""},
	} {
		trace := startup.Simulate(macWith(macDrive(t, c.raw), map[string]string{"mac-offered:clone": "yes"}))
		assert.Equal(t, c.verdict, trace.Verdict, "%s: %s", name, trace.Headline)
		if c.verdict == startup.Stops {
			assert.Equal(t, course.SymptomID("mac-question"), trace.SymptomID, name)
		}
		if c.asked != "" && assert.NotEmpty(t, trace.Missing, name) {
			assert.Equal(t, c.asked, trace.Missing[0].ID, name)
		}
		if c.verdict != startup.Stops {
			assert.Equal(t, startup.Depends, startup.Simulate(macWith(macDrive(t, c.raw), nil)).Verdict,
				"%s: whether it is offered is asked", name)
		}
	}
}

// A Mac with a security chip starts from no drive that is not built in, until it is set to;
// one with an arm64 processor has no such setting.
func TestADriveThatIsNotBuiltIn(t *testing.T) {
	t.Parallel()
	d := macDrive(t, diskmaker.Container(1000, diskmaker.AppleVolume{Name: "Home", Role: 1, Sealed: true},
		diskmaker.AppleVolume{Name: "Preboot", Role: 0x10}))
	d.Bus = fact.Tell("usb")
	m := macWith(d, map[string]string{"mac-offered:clone": "yes"})
	trace := startup.Simulate(m)
	require.NotEmpty(t, trace.Missing)
	assert.Equal(t, "mac-external:clone", trace.Missing[0].ID)
	m.Answers["mac-external:clone"] = "no"
	trace = startup.Simulate(m)
	assert.Equal(t, startup.Stops, trace.Verdict)
	assert.Contains(t, trace.Symptom, "external startup disk")
	m.Answers["mac-external:clone"] = "yes"
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict)
	m.Answers["mac-external:clone"] = "no"
	m.Drives[0].Bus = fact.Unknown[string]()
	trace = startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict, "nobody told where it hangs")
	require.NotEmpty(t, trace.Missing)
	assert.Equal(t, "usb:clone", trace.Missing[0].ID)
	m.Answers["usb:clone"] = "no"
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict, "it is built in")
	delete(m.Answers, "mac-external:clone")
	delete(m.Answers, "usb:clone")
	m.Drives[0].Bus = fact.Tell("usb")
	m.Firmware.Arch = fact.Tell(firmware.ARM64)
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict)
}

// What is held at power-on. The maker's support pages.
func TestWhatIsHeld(t *testing.T) {
	t.Parallel()
	var m machine.Machine
	for arch, words := range map[firmware.Arch][2]string{firmware.X64: {"Option", "Command and R"}, firmware.ARM64: {"power button", "power button"}} {
		m.Firmware.Arch = fact.Tell(arch)
		assert.Contains(t, mac.KindOf(m).Choose, words[0])
		assert.Contains(t, mac.KindOf(m).Recover, words[1])
	}
	m.Firmware.Arch = fact.Unknown[firmware.Arch]()
	assert.Contains(t, mac.KindOf(m).Choose, "Option")
	assert.Contains(t, mac.KindOf(m).Choose, "power button")
}

// The volume that a Mac's system lies on is the largest that it can lie on, by its contents or, where those are
// not in evidence, by its partition's type; one that a system can be started from comes before a larger one.
func TestTheVolumeOfAMacsSystem(t *testing.T) {
	t.Parallel()
	apple := func(volumes ...diskmaker.AppleVolume) []byte { return diskmaker.Container(1000, volumes...) }
	whole := apple(diskmaker.AppleVolume{Name: "Home", Role: 1}, diskmaker.AppleVolume{Name: "Preboot", Role: 0x10})
	data := apple(diskmaker.AppleVolume{Name: "Data", Role: 0x40})
	hfs := make([]byte, 4096)
	copy(hfs[1024:], "H+")
	hfs[1024+83] = 5
	part := func(kind disk.GUID, mib uint64, raw []byte) diskmaker.Partition {
		return diskmaker.Partition{Type: kind, MiB: mib, Volume: diskmaker.Volume{Kind: "raw", Raw: raw}}
	}
	for name, c := range map[string]struct {
		parts []diskmaker.Partition
		blind int // a partition of which nothing is in evidence; -1 for none
		want  int // -1 for none
	}{
		"the largest": {[]diskmaker.Partition{part(disk.TypeAPFS, 10, whole), part(disk.TypeAPFS, 20, whole)},
			-1, 1},
		"the first of equal ones":          {[]diskmaker.Partition{part(disk.TypeAPFS, 10, whole), part(disk.TypeAPFS, 10, whole)}, -1, 0},
		"one that can start, not larger":   {[]diskmaker.Partition{part(disk.TypeAPFS, 10, whole), part(disk.TypeAPFS, 20, data)}, -1, 0},
		"the largest of what cannot":       {[]diskmaker.Partition{part(disk.TypeAPFS, 10, data), part(disk.TypeAPFS, 20, data)}, -1, 1},
		"an older one":                     {[]diskmaker.Partition{part(disk.TypeHFS, 10, hfs)}, -1, 0},
		"one that is not in evidence":      {[]diskmaker.Partition{part(disk.TypeAPFS, 10, whole)}, 0, 0},
		"an older one, not in evidence":    {[]diskmaker.Partition{part(disk.TypeHFS, 10, hfs)}, 0, 0},
		"another one, not in evidence":     {[]diskmaker.Partition{part(disk.TypeLinuxData, 10, whole)}, 0, -1},
		"another's contents":               {[]diskmaker.Partition{part(disk.TypeAPFS, 10, []byte("nothing"))}, -1, -1},
		"by its contents, of another type": {[]diskmaker.Partition{part(disk.TypeLinuxData, 10, whole)}, -1, 0},
	} {
		d := sample.Drive(t, machine.RoleClone, diskmaker.Disk{Sectors: 1 << 17, Style: diskmaker.GPT,
			GUID: disk.MustGUID("0AC00000-0000-4000-8000-000000000010"), Partitions: c.parts}.MustBuild())
		if c.blind >= 0 {
			d.Contents.Volumes[c.blind] = machine.Volume{Volume: volume.Volume{Kind: volume.NotCaptured}}
		}
		i, found := mac.VolumeOf(&d)
		assert.Equal(t, c.want >= 0, found, name)
		if found {
			assert.Equal(t, c.want, i, name)
		}
	}
	_, found := mac.VolumeOf(&machine.Drive{})
	assert.False(t, found, "nothing is in evidence")
}

// Where a system cannot be started from a volume, the bytes that say so are shown: the list of volumes in the
// container's superblock, the blessed folder in the header. Apple File System Reference, nx_fs_oid; Technical
// Note TN1150, finderInfo.
func TestWhereAMacsVolumeTells(t *testing.T) {
	t.Parallel()
	hfs := make([]byte, 4096)
	copy(hfs[1024:], "H+")
	for _, c := range []struct {
		raw   []byte
		value string
		at    int64 // from the volume's start
		long  int64
	}{
		{diskmaker.Container(1000, diskmaker.AppleVolume{Name: "Data", Role: 0x40},
			diskmaker.AppleVolume{Name: "VM", Role: 8}), "Data, VM", 184, 8},
		{diskmaker.Container(1000), "no volume", 184, 8},
		{hfs, "0", 1024 + 80, 4},
	} {
		d := macDrive(t, c.raw)
		trace := startup.Simulate(macWith(d, nil))
		var shown []machine.Fact
		for _, f := range trace.Findings {
			if f.Rule == "mac-not-blessed" {
				shown = f.Facts
			}
		}
		require.NotEmpty(t, shown)
		start := int64(d.Contents.Layout.Partitions[1].Start) * 512
		assert.Equal(t, c.value, shown[0].Value)
		assert.Equal(t, start+c.at, shown[0].Source.Offset)
		assert.Equal(t, c.long, shown[0].Source.Length)
		told := d.Contents.Layout.Partitions[1].Source.Offset
		d.Contents.Volumes[1].Told = true
		trace = startup.Simulate(macWith(d, nil))
		for _, f := range trace.Findings {
			if f.Rule == "mac-not-blessed" && c.at == 184 {
				assert.Equal(t, told, f.Facts[0].Source.Offset, "what was told stands where it was told")
			}
		}
	}
}
