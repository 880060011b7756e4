package startup_test

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

func TestUnknownModeDependsOnlyWhenItMatters(t *testing.T) {
	good := sample.Drive(t, machine.RoleClone,
		sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: sample.X64()}).MustBuild())
	m := sample.EDK2(firmware.UEFI, good)
	m.Firmware.Mode = fact.Unknown[firmware.Mode]()
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	assert.Equal(t, "mode", trace.Missing[0].Fact.String())
	blank := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone, diskmaker.NewImage(1<<30, 512)))
	blank.Firmware.Mode = fact.Unknown[firmware.Mode]()
	trace = startup.Simulate(blank)
	assert.Equal(t, startup.Stops, trace.Verdict, "a blank disk starts in no mode")
	assert.Empty(t, trace.Missing)
}

func TestEvidenceThatEndsTooEarly(t *testing.T) {
	m := sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: sample.X64()}).MustBuild()
	for _, c := range []struct {
		held  int64
		stage course.Stage
	}{{512, course.StageTable}, {1 << 20, course.StageBootPartition}, {2048*512 + 512, course.StageLoader}} {
		sparse, err := capture.NewSparse(m, []capture.Extent{{Offset: 0, Length: c.held}})
		require.NoError(t, err)
		d, err := disk.New(sparse, m.Size, 512)
		require.NoError(t, err)
		clone := sample.Drive(t, machine.RoleClone, nil)
		clone.Contents = machine.Examine(d)
		trace := startup.Simulate(sample.EDK2(firmware.UEFI, clone))
		assert.Equal(t, startup.Depends, trace.Verdict, "%d bytes", c.held)
		require.NotEmpty(t, trace.Missing)
		assert.Equal(t, c.stage, trace.Missing[0].Stage, "%d bytes", c.held)
	}
}

func TestNothingKnownOfTheCloneDepends(t *testing.T) {
	trace := startup.Simulate(sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone, nil)))
	assert.Equal(t, startup.Depends, trace.Verdict)
	assert.Contains(t, trace.Missing[0].Text, "Nothing of its partition table is in evidence")
}

func TestVendorLoaderWithoutKnownEntries(t *testing.T) {
	m := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone,
		sample.GPTDisk(1, map[string][]byte{`\EFI\debian\shimx64.efi`: sample.X64(), `\EFI\debian\grubx64.efi`: sample.X64()}).MustBuild()))
	m.Firmware.Entries = nil
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	assert.Contains(t, trace.Missing[0].Text, `\EFI\debian\shimx64.efi`, "the shim, not the GRUB that it starts")
	m.Drives[0].HasEntry = fact.Tell(true)
	trace = startup.Simulate(m)
	assert.Equal(t, startup.Starts, trace.Verdict)
	assert.Equal(t, `\EFI\debian\shimx64.efi`, trace.Loader)
	m.Drives[0].HasEntry = fact.Tell(false)
	assert.Equal(t, course.StageLoader, startup.Simulate(m).Stage)
}

func entryFor(d diskmaker.Disk, partition byte, path string, active bool) firmware.Entry {
	g := d.GUID
	g[15] += partition
	return firmware.Entry{Number: 3, Active: active, Description: "system",
		Path: firmware.Path{File: path, Partition: &firmware.PartitionNode{
			Number: uint32(partition), Start: 2048, Size: 64 * 2048, GUID: g}}}
}

// Entries; UEFI Specification 2.10, sections 3.1.1 and 10.3.5.1.
func TestBootEntries(t *testing.T) {
	path := `\EFI\debian\shimx64.efi`
	decl := sample.GPTDisk(1, map[string][]byte{path: sample.X64()})
	stale := entryFor(sample.GPTDisk(9, nil), 1, path, true)
	for name, c := range map[string]struct {
		entry   firmware.Entry
		verdict startup.Verdict
		stage   course.Stage
	}{
		"matching": {entryFor(decl, 1, path, true), startup.Starts, ""},
		"inactive": {entryFor(decl, 1, path, false), startup.Stops, course.StageLoader},
		"stale":    {stale, startup.Stops, course.StageLoader},
		"no file":  {entryFor(decl, 1, `\EFI\gone.efi`, true), startup.Stops, course.StageLoader},
	} {
		t.Run(name, func(t *testing.T) {
			m := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone, decl.MustBuild()))
			m.Firmware.Entries = &firmware.Entries{Order: []uint16{3}, All: map[uint16]firmware.Entry{3: c.entry}}
			trace := startup.Simulate(m)
			assert.Equal(t, c.verdict, trace.Verdict)
			assert.Equal(t, c.stage, trace.Stage)
			if c.verdict == startup.Starts {
				assert.Equal(t, "0003", trace.Entry)
			}
		})
	}
	m := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone, decl.MustBuild()))
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.FallbackOnFixedDisks, fact.Tell(false))
	m.Firmware.Entries = &firmware.Entries{Order: []uint16{3}, All: map[uint16]firmware.Entry{3: stale}}
	assert.Equal(t, course.StageOrder, startup.Simulate(m).Stage, "no entry and no fallback")
	next := uint16(3)
	m.Firmware.Entries = &firmware.Entries{Next: &next,
		All: map[uint16]firmware.Entry{3: entryFor(decl, 1, path, false)}}
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict, "BootNext is tried although it is not in the order")
}

func TestAnEntryThatFitsBothDisksMeansTheFirstFound(t *testing.T) {
	path := `\EFI\debian\shimx64.efi`
	decl := sample.GPTDisk(1, map[string][]byte{path: sample.X64()})
	m := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleOriginal, decl.MustBuild()),
		sample.Drive(t, machine.RoleClone, decl.MustBuild()))
	m.Firmware.Entries = &firmware.Entries{Order: []uint16{3},
		All: map[uint16]firmware.Entry{3: entryFor(decl, 1, path, true)}}
	assert.Equal(t, startup.StartsOriginal, startup.Simulate(m).Verdict)
	m.DeviceOrder = nil
	assert.Equal(t, startup.Depends, startup.Simulate(m).Verdict)
}

// What edk2 does, package truth has seen; another firmware may not.
func TestWhatAnEntryMustSayOfItsPartition(t *testing.T) {
	path := `\EFI\debian\shimx64.efi`
	decl := sample.GPTDisk(1, map[string][]byte{path: sample.X64()})
	e := entryFor(decl, 1, path, true)
	e.Path.Partition.Start = 4096
	m := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone, decl.MustBuild()))
	m.Firmware.Entries = &firmware.Entries{Order: []uint16{3}, All: map[uint16]firmware.Entry{3: e}}
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict)
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.EntryMatchesMoved, fact.Unknown[bool]())
	assert.Equal(t, startup.Depends, startup.Simulate(m).Verdict, "another start")

	m = sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone, decl.MustBuild()))
	e = entryFor(decl, 1, path, true)
	e.Path.Partition.Number = 2
	m.Firmware.Entries = &firmware.Entries{Order: []uint16{3}, All: map[uint16]firmware.Entry{3: e}}
	assert.Equal(t, startup.Stops, startup.Simulate(m).Verdict)
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.EntryMatchesByGUIDAlone, fact.Unknown[bool]())
	assert.Equal(t, startup.Depends, startup.Simulate(m).Verdict, "another number")
}

// Everything unknown at once: the simulation ends within its bound and does not
// guess.
func TestEverythingUnknown(t *testing.T) {
	var drives []machine.Drive
	for i := range 3 {
		d := sample.Drive(t, machine.RoleClone,
			sample.GPTDisk(byte(i), map[string][]byte{sample.FallbackPath: sample.X64(), `\EFI\debian\shimx64.efi`: sample.X64()}).MustBuild())
		d.Name, d.Attached, d.Bus = fmt.Sprint(i), fact.Unknown[bool](), fact.Tell("nvme")
		drives = append(drives, d)
	}
	drives[1].Role, drives[2].Role = machine.RoleOriginal, machine.RoleOther
	trace := startup.Simulate(machine.Machine{Drives: drives})
	assert.Equal(t, startup.Depends, trace.Verdict)
	assert.NotEmpty(t, trace.Missing)
	assert.LessOrEqual(t, trace.Worlds, 2048)
}

// A drive that is neither clone nor original is not told to be the original.
func TestAThirdDriveStarts(t *testing.T) {
	program := map[string][]byte{sample.FallbackPath: sample.X64()}
	third := sample.Drive(t, machine.RoleOther, sample.GPTDisk(2, program).MustBuild())
	third.Name = "the data drive"
	clone := sample.Drive(t, machine.RoleClone, sample.GPTDisk(1, program).MustBuild())
	m := sample.EDK2(firmware.UEFI, third, clone)
	m.DeviceOrder = []string{third.Name, clone.Name}
	trace := startup.Simulate(m)
	assert.Equal(t, startup.StartsOriginal, trace.Verdict)
	assert.Equal(t, machine.RoleOther, trace.Started())
	assert.Contains(t, trace.Headline, "Starts another drive, the data drive:")
	assert.NotContains(t, trace.Headline+trace.Reason, "original")
	m.DeviceOrder = nil
	m.Firmware.Behaviour = firmware.Behaviour{}
	assert.NotContains(t, startup.Simulate(m).Reason, "original")
}

func TestTheSimulationIsPure(t *testing.T) {
	m := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone,
		sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: sample.X64()}).MustBuild()))
	m.Firmware.Behaviour = firmware.Behaviour{}
	first := startup.Simulate(m)
	for range 5 {
		assert.Equal(t, first, startup.Simulate(m))
	}
}

// An entry of which the program is told and not the drive is asked for; once it is known
// where it leads, its program is looked for there.
func TestAnEntryToldByItsNameAndItsProgram(t *testing.T) {
	vendor := `\EFI\vendor\start.efi`
	image := sample.GPTDisk(1, map[string][]byte{vendor: sample.X64()}).MustBuild()
	clone := sample.Drive(t, machine.RoleClone, image)
	d, err := disk.New(image, image.Size, 512)
	require.NoError(t, err)
	clone.Contents = machine.Examine(d, vendor)
	for path, verdict := range map[string]startup.Verdict{vendor: startup.Starts, `\EFI\vendor\other.efi`: startup.Stops} {
		m := sample.EDK2(firmware.UEFI, clone)
		m.Firmware.Entries = &firmware.Entries{Order: []uint16{0xE001}, All: map[uint16]firmware.Entry{0xE001: {
			Number: 0xE001, Named: true, Description: "the vendor", Active: true,
			Path: firmware.Path{Open: true, FileTold: true, File: path}}}}
		trace := startup.Simulate(m)
		if path == vendor {
			require.Equal(t, startup.Depends, trace.Verdict, trace.Headline)
			assert.Equal(t, "Where does entry “the vendor” lead?", trace.Missing[0].Text)
			m.Answers = map[string]string{"entry-leads-E001": clone.Name}
			trace = startup.Simulate(m)
		}
		assert.Equal(t, verdict, trace.Verdict, trace.Headline)
	}
}

// What edk2 reads by a lost carry (package truth, a machine at random) is open for firmware as such.
func TestEntriesByALostCarryAreOpen(t *testing.T) {
	m := sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: sample.X64()}).MustBuild()
	for _, at := range []int64{512, m.Size - 512} {
		h := make([]byte, 92)
		_, err := m.ReadAt(h, at)
		require.NoError(t, err)
		h[79] = 0x80
		clear(h[16:20])
		binary.LittleEndian.PutUint32(h[16:], crc32.ChecksumIEEE(h))
		_, err = m.WriteAt(h, at)
		require.NoError(t, err)
	}
	trace := startup.Simulate(sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone, m)))
	assert.Equal(t, startup.Depends, trace.Verdict)
	require.NotEmpty(t, trace.Missing)
	assert.Contains(t, trace.Missing[0].Text, "find the entries")
	trace = startup.Simulate(sample.EDK2(firmware.Legacy, sample.Drive(t, machine.RoleClone, m)))
	assert.Equal(t, startup.Stops, trace.Verdict)
}

// An entry to a whole NVMe drive leads to the one on its controller. Where that is not told it is
// asked for, of a single drive too: it may hang on another connector than it did.
func TestTheControllerOfAnNVMeDriveTellsWhichAnEntryMeans(t *testing.T) {
	drive := func(role machine.Role, id byte, controller string) machine.Drive {
		d := sample.Drive(t, role, sample.GPTDisk(id, map[string][]byte{sample.FallbackPath: sample.X64()}).MustBuild())
		d.Bus = fact.Tell("nvme")
		if controller != "" {
			d.Controller = fact.Tell(controller)
		}
		return d
	}
	const first, second = "Pci(0x1C,0x0)/Pci(0x0,0x0)", "Pci(0x1C,0x4)/Pci(0x0,0x0)"
	e := firmware.Entry{Number: 3, Active: true, Path: firmware.Path{Bus: "nvme", Controller: second}}
	for name, c := range map[string]struct {
		clone, original string
		leads           string // "" is asked
	}{
		"both told":            {second, first, "clone"},
		"the other way round":  {first, second, "original"},
		"one of them told":     {"", second, "original"},
		"the other one told":   {"", first, ""},
		"none told":            {"", "", ""},
		"on other controllers": {first, first, "-"},
	} {
		t.Run(name, func(t *testing.T) {
			m := sample.Whole(firmware.UEFI, drive(machine.RoleClone, 1, c.clone),
				drive(machine.RoleOriginal, 2, c.original))
			m.Until = machine.UntilLoader
			m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.FallbackOnFixedDisks, fact.Tell(false))
			m.Firmware.Entries = &firmware.Entries{Order: []uint16{3}, All: map[uint16]firmware.Entry{3: e}}
			trace := startup.Simulate(m)
			asked := slices.ContainsFunc(trace.Missing, func(q course.Question) bool {
				return q.ID == "entry-device-0003"
			})
			assert.Equal(t, c.leads == "", asked, "%v", trace.Missing)
			require.NotEmpty(t, trace.Attempts)
			switch c.leads {
			case "-":
				assert.Empty(t, trace.Attempts[0].Drive)
			case "clone", "original":
				assert.Equal(t, c.leads, trace.Attempts[0].Drive)
			}
		})
	}
	alone := sample.Whole(firmware.UEFI, drive(machine.RoleClone, 1, ""))
	alone.Until = machine.UntilLoader
	alone.Firmware.Entries = &firmware.Entries{Order: []uint16{3}, All: map[uint16]firmware.Entry{3: e}}
	alone.Firmware.Behaviour = alone.Firmware.Behaviour.With(firmware.FallbackOnFixedDisks, fact.Tell(false))
	trace := startup.Simulate(alone)
	assert.Equal(t, startup.Depends, trace.Verdict, trace.Headline)
	assert.Equal(t, "entry-device-0003", trace.Missing[0].ID)
}
