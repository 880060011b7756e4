package windows_test

import (
	"errors"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/core/volume"
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
	holding := func(d diskmaker.Disk, partition int, file string, raw []byte) diskmaker.Disk {
		d.Partitions[partition].Volume.Files[file] = raw
		return d
	}
	const winload = `\Windows\System32\winload.efi`
	for name, c := range map[string]struct {
		disk    diskmaker.Disk
		mode    firmware.Mode
		verdict startup.Verdict
		stage   course.Stage
		says    string // in the symptom or the reason
	}{
		"an empty system loader": {holding(sample.WindowsDisk(1, 1), 1, winload, nil), firmware.UEFI, startup.Stops,
			course.StageSystem, "0xc000007b"},
		"a system loader of zeros": {holding(sample.WindowsDisk(1, 1), 1, winload, make([]byte, 70_000)), firmware.UEFI, startup.Stops,
			course.StageSystem, "is no program"},
		"a system loader that is a text": {holding(sample.WindowsDisk(1, 1), 1, winload, []byte("a text")), firmware.UEFI, startup.Stops,
			course.StageSystem, "is no program"},
		"an empty legacy boot manager": {holding(sample.LegacyWindowsDisk(true), 0, `\bootmgr`, nil), firmware.Legacy, startup.Stops,
			course.StageConfiguration, "by its name alone"},
		"Windows":                       {sample.WindowsDisk(1, 1), firmware.UEFI, startup.Starts, "", "Windows comes up"},
		"a dynamic disk":                {dynamic(sample.WindowsDisk(1, 1)), firmware.UEFI, startup.Depends, "", "database of its own"},
		"a dynamic disk in legacy mode": {dynamic(sample.LegacyWindowsDisk(true)), firmware.Legacy, startup.Depends, "", "database of its own"},
		"no store": {sample.With(sample.WindowsDisk(1, 1), 0, sample.StorePath, ""), firmware.UEFI, startup.Stops,
			course.StageConfiguration, "0xc000000f"},
		"a damaged store":                 {damaged, firmware.UEFI, startup.Stops, course.StageConfiguration, "0xc000014c"},
		"a store that names another disk": {sample.WindowsDisk(1, 0x41), firmware.UEFI, startup.Stops, course.StageConfiguration, "0xc000000e"},
		"no system loader": {sample.With(sample.WindowsDisk(1, 1), 1, `\Windows\System32\winload.efi`, ""), firmware.UEFI, startup.Stops,
			course.StageSystem, "winload.efi is not"},
		"no kernel": {sample.With(sample.WindowsDisk(1, 1), 1, machine.WindowsKernel, ""), firmware.UEFI, startup.Stops,
			course.StageSystem, "the kernel is missing or contains errors"},
		"an empty kernel": {holding(sample.WindowsDisk(1, 1), 1, machine.WindowsKernel, nil), firmware.UEFI, startup.Stops,
			course.StageSystem, "ntoskrnl.exe on partition 2 is no program"},
		"no kernel, legacy": {sample.With(sample.LegacyWindowsDisk(true), 1, machine.WindowsKernel, ""), firmware.Legacy, startup.Stops,
			course.StageSystem, "ntoskrnl.exe is not on partition 2"},
		"no registry": {sample.With(sample.WindowsDisk(1, 1), 1, machine.SystemHive, ""), firmware.UEFI, startup.Stops,
			course.StageSystem, "the system registry file is missing or contains errors"},
		"a registry of zeros": {holding(sample.WindowsDisk(1, 1), 1, machine.SystemHive, make([]byte, 8192)), firmware.UEFI, startup.Depends,
			"", "may put it right by its logs"},
		"a registry without a control set": {holding(sample.WindowsDisk(1, 1), 1, machine.SystemHive, (&diskmaker.Key{}).Bytes()), firmware.UEFI,
			startup.Depends, "", "the control set in use"},
		"no NTFS":                          {notNTFS, firmware.UEFI, startup.Stops, course.StageSystem, "FAT32"},
		"an encrypted system":              {encrypted, firmware.UEFI, startup.Depends, "", "recovery key"},
		"legacy Windows":                   {sample.LegacyWindowsDisk(true), firmware.Legacy, startup.Starts, "", "Windows comes up"},
		"legacy, without its boot manager": {sample.With(sample.LegacyWindowsDisk(true), 0, `\bootmgr`, ""), firmware.Legacy, startup.Stops, course.StageLoader, "BOOTMGR is missing"},
		"legacy, with the loader of UEFI":  {sample.LegacyWindowsDisk(false), firmware.Legacy, startup.Stops, course.StageConfiguration, "winload.efi"},
	} {
		t.Run(name, func(t *testing.T) {
			trace := startup.Simulate(sample.Whole(c.mode, sample.Drive(t, machine.RoleClone, c.disk.MustBuild())))
			assert.Equal(t, c.verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			assert.Equal(t, c.stage, trace.Stage)
			assert.Contains(t, sample.Words(trace), c.says)
		})
	}
}

// dynamic is a disk whose system lies in a partition of a dynamic disk.
func dynamic(d diskmaker.Disk) diskmaker.Disk {
	d.Partitions = slices.Clone(d.Partitions)
	p := &d.Partitions[1]
	if p.MBRType = 0x42; d.Style == diskmaker.GPT {
		p.MBRType, p.Type = 0, disk.MustGUID("AF9B60A0-1431-4F62-BC68-3311714A69AD")
	}
	return d
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

// place is a change of what is known of the clone, with the rule that comes upon it and
// how the start then ends.
type place struct {
	legacy  bool
	change  func(d *machine.Drive)
	rule    course.Rule // "" for none
	verdict startup.Verdict
	stage   course.Stage
}

func store(d *machine.Drive) *machine.Config { return &d.Contents.Volumes[0].Configs[0] }

// system is the entry that the store starts.
func system(d *machine.Drive) *loader.Object {
	o, _ := store(d).Store.Default()
	for i := range store(d).Store.Objects {
		if store(d).Store.Objects[i].ID == o.ID {
			return &store(d).Store.Objects[i]
		}
	}
	return nil
}

// element returns an element of the entry that the store starts.
func element(d *machine.Drive, kind uint32) *loader.Element {
	for i := range system(d).Elements {
		if e := &system(d).Elements[i]; e.Type == kind {
			return e
		}
	}
	return nil
}

func device(d *machine.Drive, kind uint32, on loader.BCDDevice) { element(d, kind).Device = &on }

// Every way from the boot manager to its system, and where each ends.
func TestEveryEndOfAWindowsStart(t *testing.T) {
	notThere := disk.MustGUID("0BAD0BAD-0000-4000-8000-000000000000")
	for name, c := range map[string]place{
		"as it should be": {false, func(*machine.Drive) {}, "", startup.Starts, ""},
		"a store that was not written out": {false, func(d *machine.Drive) { store(d).Store.Dirty = true },
			"store-unwritten", startup.Starts, ""},
		"a store that is not in evidence": {false, func(d *machine.Drive) { store(d).Err = &disk.NotCaptured{} },
			"store-missing-evidence", startup.Depends, ""},
		"files that cannot be read": {false, func(d *machine.Drive) {
			d.Contents.Volumes[0].Configs, d.Contents.Volumes[0].Readable = nil, false
		}, "store-missing-evidence", startup.Depends, ""},
		"a store without a default": {false, func(d *machine.Drive) { store(d).Store.Objects = nil },
			"store-names-none", startup.Stops, course.StageConfiguration},
		"an entry of another kind": {false, func(d *machine.Drive) { system(d).Type = 0x10100002 },
			"store-no-windows", startup.Depends, ""},
		"a loader in capital letters": {false, func(d *machine.Drive) {
			element(d, loader.ElementPath).Text = `\WINDOWS\SYSTEM32\WINLOAD.EFI`
		}, "", startup.Starts, ""},
		"no device": {false, func(d *machine.Drive) { element(d, loader.ElementOSDevice).Device = nil },
			"store-no-device", startup.Stops, course.StageConfiguration},
		"the partition that it started from": {false, func(d *machine.Drive) {
			device(d, loader.ElementOSDevice, loader.BCDDevice{Kind: loader.DeviceBoot})
		}, "system-not-ntfs", startup.Stops, course.StageSystem},
		"a device that is gone": {false, func(d *machine.Drive) {
			device(d, loader.ElementDevice, loader.BCDDevice{Kind: loader.DeviceGone})
		}, "store-device-gone", startup.Stops, course.StageConfiguration},
		"a letter that nobody gave": {false, func(d *machine.Drive) {
			device(d, loader.ElementOSDevice, loader.BCDDevice{Kind: loader.DeviceNamed, Name: "C"})
		}, "store-device-unknown", startup.Depends, ""},
		"a letter": {false, func(d *machine.Drive) {
			d.Contents.Volumes[1].Letter = "C"
			device(d, loader.ElementDevice, loader.BCDDevice{Kind: loader.DeviceNamed, Name: "C"})
			device(d, loader.ElementOSDevice, loader.BCDDevice{Kind: loader.DeviceNamed, Name: "C"})
		}, "", startup.Starts, ""},
		"a partition that is not there": {false, func(d *machine.Drive) {
			device(d, loader.ElementOSDevice, loader.BCDDevice{Kind: loader.DevicePartition, Partition: notThere})
		}, "store-device-absent", startup.Stops, course.StageConfiguration},
		"a file": {false, func(d *machine.Drive) {
			device(d, loader.ElementOSDevice, loader.BCDDevice{Kind: loader.DeviceRAMDisk})
		}, "store-device-elsewhere", startup.Depends, ""},
		"a system that is not in evidence": {false, func(d *machine.Drive) { d.Contents.Volumes[1].Kind = volume.NotCaptured },
			"system-missing-evidence", startup.Depends, ""},
		"a system whose files are not in evidence": {false, func(d *machine.Drive) {
			d.Contents.Volumes[1].Readable, d.Contents.Volumes[1].FilesErr = false, &disk.NotCaptured{}
		}, "system-missing-evidence", startup.Depends, ""},
		"a system that cannot be read": {false, func(d *machine.Drive) {
			d.Contents.Volumes[1].Readable, d.Contents.Volumes[1].FilesErr = false, errors.New("damaged")
		}, "system-unread", startup.Stops, course.StageSystem},
		"a loader that was not looked for": {false, func(d *machine.Drive) {
			element(d, loader.ElementPath).Text = `\Windows\elsewhere.efi`
		}, "system-loader-missing-evidence", startup.Depends, ""},
		"an entry without a path": {false, func(d *machine.Drive) {
			system(d).Elements = slices.DeleteFunc(system(d).Elements,
				func(e loader.Element) bool { return e.Type == loader.ElementPath })
		}, "", startup.Starts, ""},
		"an end that is cut off": {false, func(d *machine.Drive) { d.Contents.Layout.Partitions[1].Length += 1 << 22 },
			"system-cut-off", startup.Stops, course.StageSystem},

		"legacy": {true, func(*machine.Drive) {}, "", startup.Starts, ""},
		"the manager before the store": {true, func(d *machine.Drive) { d.Contents.Volumes[0].LegacyManager = "ntldr" },
			"loader-before-store", startup.Depends, ""},
		"an active partition without files": {true, func(d *machine.Drive) {
			d.Contents.Volumes[0].LegacyManager, d.Contents.Volumes[0].Readable = "", false
		}, "active-files-missing-evidence", startup.Depends, ""},
		"a boot sector of nobody's": {true, func(d *machine.Drive) { d.Contents.Volumes[0].LegacyManager = "" },
			"boot-sector-unknown", startup.Depends, ""},
		"a store that was told": {true, func(d *machine.Drive) {
			d.Contents.Volumes[0].LegacyManager, d.Contents.Volumes[0].Told = "", true
		}, "boot-sector-missing-evidence", startup.Starts, ""},
	} {
		t.Run(name, func(t *testing.T) {
			mode, declared := firmware.UEFI, sample.WindowsDisk(1, 1)
			if c.legacy {
				mode, declared = firmware.Legacy, sample.LegacyWindowsDisk(true)
			}
			d := sample.Drive(t, machine.RoleClone, declared.MustBuild())
			c.change(&d)
			m := sample.Whole(mode, d)
			if c.legacy {
				m.Drives[0].Contents.Volumes[0].SystemCode = false // what its code does is not in question
				m.Drives[0].Contents.Run, m.Answers = nil, map[string]string{"boot-sector:clone": "yes"}
			}
			trace := startup.Simulate(m)
			assert.Equal(t, c.verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			assert.Equal(t, c.stage, trace.Stage)
			var rules []course.Rule
			for _, f := range trace.Findings {
				rules = append(rules, f.Rule)
			}
			if c.rule != "" {
				assert.Contains(t, rules, c.rule)
			} else {
				assert.Empty(t, slices.DeleteFunc(rules, func(r course.Rule) bool { return r == "ntfs-backup" }))
			}
			m.Until = machine.UntilConfiguration
			if c.stage == course.StageSystem {
				assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict, "up to its configuration")
			}
		})
	}
}

// A legacy boot manager that is empty does not start; one that a repair put in its place does.
func TestALegacyManagerIsRepaired(t *testing.T) {
	disk := sample.LegacyWindowsDisk(true)
	disk.Partitions[0].Volume.Files[`\bootmgr`] = nil
	c := sample.Examine(t, disk.MustBuild())
	m := sample.Whole(firmware.Legacy, sample.Drive(t, machine.RoleClone, nil))
	m.Drives[0].Contents = c
	assert.Equal(t, startup.Stops, startup.Simulate(m).Verdict)
	m.Drives[0].Contents = c.WithWindowsFiles(0, 1, firmware.Legacy, firmware.X64)
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict, startup.Simulate(m).Reason)
}
