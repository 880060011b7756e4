package repair_test

import (
	"encoding/binary"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
	"latchkey/truth"
)

// spoil is something that happened to a disk.
type spoil func(m *diskmaker.Image)

func bytesAt(m *diskmaker.Image, off int64, n int) []byte {
	b := make([]byte, n)
	if _, err := m.ReadAt(b, off); err != nil {
		panic(err)
	}
	return b
}

// put writes bytes; a place below 0 is counted from the end.
func put(off int64, b ...byte) spoil {
	return func(m *diskmaker.Image) {
		at := off
		if at < 0 {
			at += m.Size
		}
		if _, err := m.WriteAt(b, at); err != nil {
			panic(err)
		}
	}
}

func wipe(off int64, n int) spoil { return put(off, make([]byte, n)...) }

func flipped(off int64) spoil {
	return func(m *diskmaker.Image) {
		at := off
		if at < 0 {
			at += m.Size
		}
		put(at, ^bytesAt(m, at, 1)[0])(m)
	}
}

func together(all ...spoil) spoil {
	return func(m *diskmaker.Image) {
		for _, s := range all {
			s(m)
		}
	}
}

// entries changes headers and entries of both copies of a GPT, whose checksums are right.
func entries(change func(h, e []byte)) spoil {
	return func(m *diskmaker.Image) { m.EditGPT(change) }
}

// entry moves the first and the last sector of an entry, counted from 0.
func entry(n int, first, last int64) spoil {
	return entries(func(_, e []byte) {
		le, at := binary.LittleEndian, 128*n
		le.PutUint64(e[at+32:], uint64(int64(le.Uint64(e[at+32:]))+first))
		le.PutUint64(e[at+40:], uint64(int64(le.Uint64(e[at+40:]))+last))
	})
}

const inBoot = 2048 * 512 // where the first partition of the samples begins

// fatTable wipes one of the two tables of a FAT32 volume.
func fatTable(n int64) spoil {
	return func(m *diskmaker.Image) {
		b := bytesAt(m, inBoot, 64)
		length := int64(binary.LittleEndian.Uint32(b[36:]))
		wipe(inBoot+(int64(binary.LittleEndian.Uint16(b[14:]))+n*length)*512, int(length*512))(m)
	}
}

// damaged is what happens to the disk of a system, and the first step that mends it.
type damaged struct {
	name, action string
	spoil
}

var ofGPT = []damaged{
	{"both checksums of headers", "rebuild-table", together(flipped(512+16), flipped(-512+16))},
	{"a byte of both arrays", "rebuild-table", together(flipped(1024+60), flipped(-33*512+60))},
	{"a damaged primary and no backup", "rebuild-table", together(flipped(512+16), wipe(-33*512, 33*512))},
	{"no primary and no sector 0", "restore-primary", wipe(0, 34*512)},
	{"nothing of both", "rebuild-table", together(wipe(0, 34*512), wipe(-33*512, 33*512))},
	{"a protective record of type 0", "protective-mbr", put(450, 0)},
	{"a protective record of type 7", "correct-table", put(450, 7)},
	{"a protective record that begins at 0", "protective-mbr", put(454, 0, 0, 0, 0)},
	{"no sector 0", "protective-mbr", wipe(0, 512)},
	{"a hidden boot partition", "unhide", entries(func(_, e []byte) { e[48] |= 2 })},
	{"no boot sector", "copy-boot-sector", wipe(inBoot, 512)},
	{"a boot sector without sense", "copy-boot-sector", put(inBoot+11, 0, 3)},
	{"a boot sector without FATs", "copy-boot-sector", put(inBoot+16, 0)},
	{"no first FAT", "copy-fat", fatTable(0)},
	{"a boot partition one sector on", "correct-table", entry(0, 1, 0)},
	{"a boot partition one sector before", "correct-table", entry(0, -1, 0)},
	{"a boot partition over the next", "correct-table", entry(0, 0, 4096)},
	{"a boot partition beyond the end", "correct-table", entry(0, 0, 1<<40)},
	{"no boot partition's entry", "correct-table", entries(func(_, e []byte) { clear(e[:128]) })},
	{"no boot partition's type", "correct-table", entries(func(_, e []byte) { clear(e[:16]) })},
	{"a main partition one sector on", "correct-table", entry(1, 1, 0)},
	{"a main partition beyond the end", "correct-table", entry(1, 0, 1<<30)},
	{"no main partition's entry", "correct-table", entries(func(_, e []byte) { clear(e[128:256]) })},
	{"an entry that lies over another", "correct-table", entries(func(_, e []byte) {
		copy(e[256:384], e[:128])
		e[256+16]++
		binary.LittleEndian.PutUint64(e[256+32:], 4096)
	})},
	{"usable sectors that begin too late", "correct-table", entries(func(h, _ []byte) { h[41] = 16 })},
}

// ofKernel is what firmware and GRUB go by, and Linux does not.
var ofKernel = []damaged{
	{"a table written for a larger disk", "correct-table", entries(largerDisk)},
	{"a root longer than its entry", "correct-table", entries(func(_, e []byte) {
		binary.LittleEndian.PutUint64(e[128+40:], binary.LittleEndian.Uint64(e[128+40:])-1)
	})},
	{"a hidden boot partition in a table written for a larger disk", "correct-table", entries(func(h, e []byte) {
		largerDisk(h, nil)
		e[48] |= 2
	})},
}

// largerDisk has a table say that sectors behind the end of the disk are usable.
func largerDisk(h, _ []byte) { binary.LittleEndian.PutUint64(h[48:], 1<<30) }

var ofMBR = []damaged{
	{"no active mark", "set-active", put(446, 0)},
	{"the mark on the other", "set-active", together(put(446, 0), put(462, 0x80))},
	{"two marks", "set-active", put(462, 0x80)},
	{"a mark of 01", "set-active", put(446, 1)},
	{"a status of FF", "correct-table", put(462, 0xFF)},
	{"no signature", "rebuild-table", put(510, 0, 0)},
	{"no code", "boot-code", wipe(0, 440)},
	{"code that goes round", "boot-code", put(0, []byte(strings.Repeat("\xEB\xFE", 220))...)},
	{"no table", "rebuild-table", wipe(446, 64)},
	{"no sector 0", "rebuild-table", wipe(0, 512)},
	{"no boot sector", "copy-boot-sector", wipe(inBoot, 512)},
	{"no signature of the boot sector", "copy-boot-sector", put(inBoot+510, 0, 0)},
	{"a boot sector that goes round", "copy-boot-sector", put(inBoot, []byte(strings.Repeat("\xEB\xFE", 255))...)},
	{"a boot sector of another place", "hidden-sectors", put(inBoot+28, 63, 0, 0, 0)},
	{"the first one sector on", "correct-table", put(454, 1)},
	{"the second one sector on", "correct-table", put(470, 1)},
	{"the second beyond the end", "correct-table", put(474, 0, 0, 0, 0x70)},
	{"the second without an entry", "correct-table", wipe(462, 16)},
}

type ofSystem struct {
	name    string
	mode    firmware.Mode
	disk    diskmaker.Disk
	damages []damaged
}

var systems = []ofSystem{
	{"Windows, UEFI", firmware.UEFI, sample.WindowsDisk(1, 1), ofGPT},
	{"Linux, UEFI", firmware.UEFI, sample.LinuxDisk(1, 1), slices.Concat(ofGPT, ofKernel)},
	{"Windows, legacy", firmware.Legacy, sample.LegacyWindowsDisk(true), ofMBR},
	chained[0], chained[1],
}

// machine is a system's machine with a damaged disk, and its original unplugged
// beside it or not.
func (s ofSystem) machine(t *testing.T, image *diskmaker.Image, original bool) machine.Machine {
	m := sample.Whole(s.mode, sample.Drive(t, machine.RoleClone, image))
	if original {
		o := sample.Drive(t, machine.RoleOriginal, s.disk.MustBuild())
		o.Attached = fact.Tell(false)
		m.Drives = append(m.Drives, o)
	}
	return m
}

// holds carries a plan out on the image where its commands go by the disk alone, and says
// whether they do: then the disk must start.
func (s ofSystem) holds(t *testing.T, image *diskmaker.Image, plan repair.Plan, original bool) bool {
	if !truth.OnDiskAlone(plan) {
		return false
	}
	after := s.machine(t, image, original)
	after.Drives[0].Contents = carriedOut(t, image, plan)
	trace := startup.Simulate(after)
	assert.Equal(t, startup.Starts, trace.Verdict, "%v: %s", actionsOf(plan), trace.Headline)
	return true
}

// Each damage is mended from what the disk holds, by the first step that a technician would
// take, and the disk that the commands leave starts.
func TestDamageByItsClass(t *testing.T) {
	t.Parallel()
	for _, s := range systems {
		for i, d := range s.damages {
			for _, original := range []bool{false, true} {
				if testing.Short() && (i%3 > 0 || original != (i%2 == 0)) {
					continue
				}
				t.Run(s.name+": "+d.name, func(t *testing.T) {
					image := s.disk.MustBuild()
					d.spoil(image)
					m := s.machine(t, image, original)
					require.Equal(t, startup.Stops, startup.Simulate(m).Verdict)
					plan := repair.Find(m, repair.Linux)
					if len(plan.Steps) > 0 {
						s.holds(t, image, plan, original)
					} else { // one whose second step is another toolbox's
						plan = repair.Find(m)
					}
					require.NotEmpty(t, plan.Steps, plan.Reason)
					assert.Equal(t, d.action, plan.Steps[0].Action, "%v", actionsOf(plan))
				})
			}
		}
	}
}

// Two damages at once: what is planned holds on the disk that its commands leave.
func TestTwoDamagesAtOnce(t *testing.T) {
	t.Parallel()
	planned, carried := 0, 0
	rounds := 60
	if testing.Short() {
		rounds = 12
	}
	for seed := range uint64(rounds) {
		r := rand.New(rand.NewPCG(seed, 29))
		s, original := systems[seed%uint64(len(systems))], r.IntN(2) == 0
		image := s.disk.MustBuild()
		names := map[string]bool{}
		for range 2 {
			d := s.damages[r.IntN(len(s.damages))]
			names[d.name] = true
			d.spoil(image)
		}
		m := s.machine(t, image, original)
		plan := repair.Find(m, repair.Linux)
		if len(plan.Steps) == 0 || plan.Verdict != startup.Starts {
			continue
		}
		planned++
		t.Run(s.name+": "+strings.Join(slices.Sorted(maps.Keys(names)), ", "), func(t *testing.T) {
			if s.holds(t, image, plan, original) {
				carried++
			}
		})
	}
	t.Logf("%d of %d have a plan, %d of them were carried out", planned, rounds, carried)
	assert.Greater(t, carried, rounds/3)
}

// A partition that was deleted leaves its file system behind: it is not brought back where
// the start does not want it, and nothing is corrected on a disk that starts.
func TestADeletedPartitionStaysDeleted(t *testing.T) {
	t.Parallel()
	d := sample.WindowsDisk(1, 1)
	d.Partitions[1].MiB = 400
	d.Partitions = append(d.Partitions, diskmaker.Partition{Type: disk.TypeLinuxData,
		Volume: diskmaker.Volume{Kind: "ext4", UUID: [16]byte{9}}})
	image := d.MustBuild()
	entries(func(_, e []byte) { clear(e[256:384]) })(image)
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, image))
	require.Len(t, m.Drives[0].Contents.Found, 3)
	assert.Empty(t, repair.Find(m).Steps)
	entries(func(_, e []byte) { e[48] |= 2 })(image)
	plan := repair.Find(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, image)))
	assert.Equal(t, []string{"unhide"}, actionsOf(plan))
	entry(0, 1, 0)(image)
	plan = repair.Find(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, image)))
	require.NotEmpty(t, plan.Steps)
	assert.Equal(t, "correct its file systems", plan.Steps[0].Key, "%v", plan.Alternatives)
}

// The guard of a drive asks for no table, and for nothing else, only where the system's tools see none: a file
// system that was left over beside a damaged table is no reason.
func TestTheGuardOfADamagedTable(t *testing.T) {
	t.Parallel()
	d := sample.WindowsDisk(1, 1)
	d.Partitions[1].MiB = 400
	d.Partitions = append(d.Partitions, diskmaker.Partition{Type: disk.TypeLinuxData,
		Volume: diskmaker.Volume{Kind: "ext4", UUID: [16]byte{9}}})
	for name, c := range map[string]struct {
		spoil spoil
		empty bool
	}{
		"a primary that is damaged": {flipped(512 + 16), false},
		"no sector 0 and no copies": {together(wipe(0, 34*512), wipe(-33*512, 33*512)), true},
	} {
		image := d.MustBuild()
		entries(func(_, e []byte) { clear(e[256:384]) })(image)
		c.spoil(image)
		m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, image))
		require.NotEmpty(t, m.Drives[0].Contents.Found, name)
		steps := repair.TableSteps(m.Drives[0])
		require.NotEmpty(t, steps, name)
		assert.Equal(t, c.empty, strings.Contains(steps[0].Commands[0].Text, "&& [ -z "), "%s: %s", name, steps[0].Commands[0].Text)
	}
}
