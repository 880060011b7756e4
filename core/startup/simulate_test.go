package startup_test

import (
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

// The stages of a UEFI start with known firmware; UEFI Specification 2.10,
// sections 2.1.1, 3.5.1.1, 5.3.2 and 13.3.
func TestUEFIStartsAndStops(t *testing.T) {
	good := map[string][]byte{sample.FallbackPath: sample.X64()}
	wrongType := sample.GPTDisk(1, good)
	wrongType.Partitions[0].Type = disk.TypeBasicData
	noBoot := sample.GPTDisk(1, good)
	noBoot.Partitions = noBoot.Partitions[1:]
	notFAT := sample.GPTDisk(1, good)
	notFAT.Partitions[0].Volume = diskmaker.Volume{Kind: "ntfs"}
	mbrWithFAT := diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.MBR, Partitions: []diskmaker.Partition{
		{MBRType: disk.MBRTypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32", Files: good}}}}
	large := sample.GPTDisk(1, good)
	large.SectorSize, large.Sectors = 4096, 1<<18
	large.Partitions[0].MiB = 300 // FAT32 asks for 65,525 clusters
	damaged := sample.GPTDisk(1, good).MustBuild()
	spoil(t, damaged, 512+60)
	both := sample.GPTDisk(1, good).MustBuild()
	spoil(t, both, 512+60)
	spoil(t, both, both.Size-512+60)
	for name, c := range map[string]struct {
		image   *diskmaker.Image
		verdict startup.Verdict
		stage   course.Stage
	}{
		"fallback loader":              {sample.GPTDisk(1, good).MustBuild(), startup.Starts, ""},
		"fallback loader, 4096 bytes":  {large.MustBuild(), startup.Starts, ""},
		"MBR with a FAT partition":     {mbrWithFAT.MustBuild(), startup.Starts, ""},
		"a volume without a table":     {bareFAT(t, good), startup.Starts, ""},
		"boot partition of wrong type": {wrongType.MustBuild(), startup.Starts, ""},
		"damaged primary":              {damaged, startup.Starts, ""},
		"both tables damaged":          {both, startup.Stops, course.StageTable},
		"blank":                        {diskmaker.NewImage(1<<30, 512), startup.Stops, course.StageTable},
		"Windows on MBR":               {sample.MBRDisk("classic", 0).MustBuild(), startup.Stops, course.StageMode},
		"no boot partition":            {noBoot.MustBuild(), startup.Stops, course.StageBootPartition},
		"boot partition is NTFS":       {notFAT.MustBuild(), startup.Stops, course.StageBootPartition},
		"no loader": {sample.GPTDisk(1, map[string][]byte{`\EFI\Microsoft\Boot\bootmgfw.efi`: sample.X64()}).MustBuild(), startup.Stops,
			course.StageLoader},
		"wrong architecture": {
			withFallback(diskmaker.Program{Machine: 0xAA64}.Bytes()),
			startup.Stops, course.StageLoader},
		"loader cut short": {withFallback(diskmaker.Program{Size: 8192}.Bytes()[:4096]),
			startup.Stops, course.StageLoader},
		"loader is a text": {withFallback([]byte("not a program")), startup.Stops, course.StageLoader},
	} {
		t.Run(name, func(t *testing.T) {
			trace := startup.Simulate(sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone, c.image)))
			assert.Equal(t, c.verdict, trace.Verdict, trace.Headline)
			assert.Equal(t, c.stage, trace.Stage)
			assert.Equal(t, 1, trace.Worlds, "nothing is unknown")
			if c.verdict == startup.Starts {
				assert.Equal(t, sample.FallbackPath, trace.Loader)
			} else {
				assert.NotEmpty(t, trace.Symptom)
				assert.NotEmpty(t, trace.Findings)
			}
		})
	}
}

// withFallback is a disk whose fallback loader is a file.
func withFallback(program []byte) *diskmaker.Image {
	return sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: program}).MustBuild()
}

// bareFAT returns a disk that is one FAT volume as a whole.
func bareFAT(t *testing.T, files map[string][]byte) *diskmaker.Image {
	t.Helper()
	partitioned := sample.GPTDisk(1, files).MustBuild()
	bare := diskmaker.NewImage(64<<20, 512)
	raw := make([]byte, bare.Size)
	_, err := partitioned.ReadAt(raw, 2048*512)
	require.NoError(t, err)
	_, err = bare.WriteAt(raw, 0)
	require.NoError(t, err)
	return bare
}

func spoil(t *testing.T, m *diskmaker.Image, off int64) {
	t.Helper()
	_, err := m.WriteAt([]byte{0xA7, 0x5B}, off)
	require.NoError(t, err)
}

// Legacy starts; common practice, no source, but for the signature rule that
// open-source firmware follows.
func TestLegacyStartsAndStops(t *testing.T) {
	unsigned := sample.MBRDisk("classic", 0).MustBuild()
	spoil(t, unsigned, 510)
	noRecord := sample.MBRDisk("classic", 0).MustBuild()
	spoil(t, noRecord, 2048*512+510)
	moved := sample.MBRDisk("classic", 0)
	moved.Partitions[0].Hidden = 63
	other := sample.MBRDisk("", 0).MustBuild()
	_, err := other.WriteAt([]byte{0xE4, 0x60, 0xEB, 0xFC}, 0) // it reads a port that the model does not have
	require.NoError(t, err)
	halting := sample.MBRDisk("", 0).MustBuild()
	_, err = halting.WriteAt([]byte{0xFA, 0xF4, 0xEB, 0xFD}, 0)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		image   *diskmaker.Image
		verdict startup.Verdict
		stage   course.Stage
		loader  string
	}{
		"one active partition":     {sample.MBRDisk("classic", 0).MustBuild(), startup.Starts, "", startup.LoaderBootSector},
		"boot code that halts":     {halting, startup.Stops, course.StageBootPartition, ""},
		"unknown boot code":        {other, startup.Starts, "", startup.LoaderBootCode},
		"none active":              {sample.MBRDisk("classic").MustBuild(), startup.Stops, course.StageBootPartition, ""},
		"two active":               {sample.MBRDisk("classic", 0, 1).MustBuild(), startup.Stops, course.StageBootPartition, ""},
		"no boot code":             {sample.MBRDisk("", 0).MustBuild(), startup.Stops, course.StageTable, ""},
		"no signature in sector 0": {unsigned, startup.Stops, course.StageTable, ""},
		"no boot record":           {noRecord, startup.Stops, course.StageBootPartition, startup.LoaderBootSector},
		"moved, not corrected":     {moved.MustBuild(), startup.Stops, course.StageBootPartition, startup.LoaderBootSector},
		"GPT without boot code":    {sample.GPTDisk(1, nil).MustBuild(), startup.Stops, course.StageMode, ""},
		"blank":                    {diskmaker.NewImage(1<<30, 512), startup.Stops, course.StageTable, ""},
	} {
		t.Run(name, func(t *testing.T) {
			trace := startup.Simulate(sample.EDK2(firmware.Legacy, sample.Drive(t, machine.RoleClone, c.image)))
			assert.Equal(t, c.verdict, trace.Verdict, trace.Headline)
			assert.Equal(t, c.stage, trace.Stage)
			assert.Equal(t, c.loader, trace.Loader)
		})
	}
}

func TestLegacyPassesOverADiskWithoutSignature(t *testing.T) {
	m := sample.EDK2(firmware.Legacy, sample.Drive(t, machine.RoleOriginal, diskmaker.NewImage(1<<30, 512)),
		sample.Drive(t, machine.RoleClone, sample.MBRDisk("classic", 0).MustBuild()))
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	assert.Equal(t, "choice:triesNextDisk", trace.Missing[0].Fact.String())
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.TriesNextDisk, fact.Tell(true))
	trace = startup.Simulate(m)
	assert.Equal(t, startup.Starts, trace.Verdict)
	require.Len(t, trace.Attempts, 2)
	assert.Equal(t, "original", trace.Attempts[0].Drive)
	assert.False(t, trace.Attempts[0].Final)
}

// As SeaBIOS 1.16.2 was seen to do in QEMU: it starts the first disk or none,
// runs sector 0 for its signature alone, and does not come back from it.
func TestSeaBIOSTriesTheFirstDiskAlone(t *testing.T) {
	for name, first := range map[string]*diskmaker.Image{
		"no signature": diskmaker.NewImage(1<<30, 512), "none active": sample.MBRDisk("classic").MustBuild(),
		"no boot code": sample.MBRDisk("", 0).MustBuild(), "GPT": sample.GPTDisk(1, nil).MustBuild(), "two active": sample.MBRDisk("classic", 0, 1).MustBuild(),
	} {
		m := sample.EDK2(firmware.Legacy, sample.Drive(t, machine.RoleClone, first),
			sample.Drive(t, machine.RoleOriginal, sample.MBRDisk("classic", 0).MustBuild()))
		m.Firmware.Behaviour, _ = firmware.Named("seabios")
		trace := startup.Simulate(m)
		assert.Equal(t, startup.Stops, trace.Verdict, name)
		assert.Len(t, trace.Attempts, 1, name)
	}
}

func TestLegacyBootCodeDoesNotComeBack(t *testing.T) {
	m := sample.EDK2(firmware.Legacy, sample.Drive(t, machine.RoleClone, sample.MBRDisk("classic", 0, 1).MustBuild()),
		sample.Drive(t, machine.RoleOriginal, sample.MBRDisk("classic", 0).MustBuild()))
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Stops, trace.Verdict)
	assert.Equal(t, course.StageBootPartition, trace.Stage)
	assert.Len(t, trace.Attempts, 1)
}

func TestCompatibilitySupportStartsEitherStyle(t *testing.T) {
	for _, image := range []*diskmaker.Image{sample.MBRDisk("classic", 0).MustBuild(),
		sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: sample.X64()}).MustBuild()} {
		assert.Equal(t, startup.Starts, startup.Simulate(sample.EDK2(firmware.UEFICSM,
			sample.Drive(t, machine.RoleClone, image))).Verdict)
	}
}

func TestTheFirstDriveDecidesWhichDiskStarts(t *testing.T) {
	good := map[string][]byte{sample.FallbackPath: sample.X64()}
	original, clone := sample.Drive(t, machine.RoleOriginal, sample.GPTDisk(1, good).MustBuild()),
		sample.Drive(t, machine.RoleClone, sample.GPTDisk(2, good).MustBuild())
	m := sample.EDK2(firmware.UEFI, original, clone)
	trace := startup.Simulate(m)
	assert.Equal(t, startup.StartsOriginal, trace.Verdict)
	assert.Equal(t, "original", trace.Drive)
	pins := startup.Pins(m, "clone")
	assert.Equal(t, course.Passes, pins[1].State)
	assert.Equal(t, course.Wrong, pins[2].State)
	assert.Equal(t, course.Behind, pins[3].State)
	m.DeviceOrder = []string{"clone", "original"}
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict)
	m.DeviceOrder = nil
	trace = startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	require.Len(t, trace.Missing, 1)
	assert.Equal(t, "first", trace.Missing[0].Fact.String())
}

func TestACloneThatFailsLetsTheOriginalStart(t *testing.T) {
	m := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone, sample.GPTDisk(2, nil).MustBuild()),
		sample.Drive(t, machine.RoleOriginal,
			sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: sample.X64()}).MustBuild()))
	trace := startup.Simulate(m)
	assert.Equal(t, startup.StartsOriginal, trace.Verdict)
	assert.Contains(t, trace.Reason, "The clone was tried first and failed at the loader")
}

func TestADetachedCloneStopsAtTheDrive(t *testing.T) {
	clone := sample.Drive(t, machine.RoleClone,
		sample.GPTDisk(2, map[string][]byte{sample.FallbackPath: sample.X64()}).MustBuild())
	clone.Attached = fact.Tell(false)
	m := sample.EDK2(firmware.UEFI, clone)
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Stops, trace.Verdict)
	assert.Equal(t, course.StageDrive, trace.Stage)
	assert.Equal(t, course.Blocks, startup.Pins(m, "clone")[0].State)
}

func TestNVMeThatTheFirmwareCannotStartFrom(t *testing.T) {
	clone := sample.Drive(t, machine.RoleClone,
		sample.GPTDisk(2, map[string][]byte{sample.FallbackPath: sample.X64()}).MustBuild())
	clone.Bus = fact.Tell("nvme")
	m := sample.EDK2(firmware.UEFI, clone)
	m.DeviceOrder = nil // no list of the firmware's has shown it
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.StartsFromNVMe, fact.Unknown[bool]())
	assert.Equal(t, startup.Depends, startup.Simulate(m).Verdict)
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.StartsFromNVMe, fact.Tell(false))
	assert.Equal(t, course.StageDrive, startup.Simulate(m).Stage)
}

func TestSecureBootWantsASignature(t *testing.T) {
	m := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone,
		sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: sample.X64()}).MustBuild()))
	m.Firmware.SecureBoot = fact.Tell(true)
	assert.Equal(t, course.StageLoader, startup.Simulate(m).Stage)
	m.Firmware.SecureBoot = fact.Unknown[bool]()
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	assert.Equal(t, "secureBoot", trace.Missing[0].Fact.String())
	m.Drives[0] = sample.Drive(t, machine.RoleClone,
		sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: diskmaker.Program{Signed: true}.Bytes()}).MustBuild())
	m.Firmware.SecureBoot = fact.Tell(true)
	trace = startup.Simulate(m)
	assert.Equal(t, startup.Starts, trace.Verdict)
	assert.Equal(t, "risk", trace.Findings[0].Severity, "whether the firmware trusts it is not known")
}

func TestWithoutUntilTheLastStagesStayUnproven(t *testing.T) {
	m := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone,
		sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: sample.X64()}).MustBuild()))
	m.Until = ""
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	assert.Equal(t, startup.Starts, trace.Reaches)
	assert.Equal(t, "The clone reaches its loader; what follows is not proven.", trace.Headline)
	pins := startup.Pins(m, "clone")
	assert.Equal(t, course.Unproven, pins[6].State)
	assert.Equal(t, course.Unproven, pins[7].State)
}

func TestASystemThatIsCutOffStops(t *testing.T) {
	m := sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleClone,
		sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: sample.X64()}).MustBuild().Clone(1<<29)))
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict, "the firmware itself does not notice")
	m.Until = ""
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Stops, trace.Verdict)
	assert.Equal(t, course.StageSystem, trace.Stage)
}
