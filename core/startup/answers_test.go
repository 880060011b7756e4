package startup_test

import (
	"maps"
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
	"latchkey/core/volume"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// end is how a start ends, as far as an answer must not add to it.
type end struct {
	verdict startup.Verdict
	stage   course.Stage
	drive   string
}

func endsOf(m machine.Machine) (ends []end) {
	for _, e := range startup.Endings(m) {
		ends = append(ends, end{e.Verdict, e.Stage, e.Drive})
	}
	return ends
}

// narrows answers what a start check asks, each question in each way, and holds that an answer leads
// to no end that was not among those before it. It returns the ends that all answers lead to, by what
// was answered last.
func narrows(t *testing.T, m machine.Machine, depth int) map[string][]end {
	t.Helper()
	reached := map[string][]end{}
	before := endsOf(m)
	require.NotEmpty(t, before)
	trace := startup.Simulate(m)
	for _, q := range trace.Missing {
		for _, o := range q.Options {
			answered := m
			answered.Answers = maps.Clone(m.Answers)
			if answered.Answers == nil {
				answered.Answers = map[string]string{}
			}
			if _, already := answered.Answers[q.ID]; already {
				continue
			}
			answered.Answers[q.ID] = o.ID
			after := endsOf(answered)
			for _, e := range after {
				if !slices.ContainsFunc(before, func(b end) bool { return b == e || b.verdict == startup.Depends }) {
					assert.Fail(t, "an answer leads elsewhere", "%s: %s: %+v, none of %+v", q.ID, o.ID, e, before)
				}
			}
			add := func(what string, ends []end) {
				for _, e := range ends {
					if !slices.Contains(reached[what], e) {
						reached[what] = append(reached[what], e)
					}
				}
			}
			add(q.ID+" "+o.ID, after)
			if depth > 1 {
				for what, ends := range narrows(t, answered, depth-1) {
					add(what, ends)
				}
			}
		}
	}
	return reached
}

// asked is what is asked by an identifier.
func asked(t *testing.T, trace startup.Trace, id string) course.Question {
	t.Helper()
	i := slices.IndexFunc(trace.Missing, func(q course.Question) bool { return q.ID == id })
	require.GreaterOrEqual(t, i, 0, "%+v", trace.Missing)
	return trace.Missing[i]
}

func twoSystems(t *testing.T) (m machine.Machine, original, clone firmware.Entry) {
	t.Helper()
	path := `\EFI\debian\shimx64.efi`
	files := map[string][]byte{path: sample.X64()}
	first, second := sample.GPTDisk(1, files), sample.GPTDisk(5, files)
	m = sample.EDK2(firmware.UEFI, sample.Drive(t, machine.RoleOriginal, first.MustBuild()),
		sample.Drive(t, machine.RoleClone, second.MustBuild()))
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.FallbackOnFixedDisks, fact.Tell(false))
	original, clone = entryFor(first, 1, path, true), entryFor(second, 1, path, true)
	original.Number, clone.Number = 1, 2
	return m, original, clone
}

// Entries of which the order is not told, as where a listing breaks off before it: which is tried at
// each place is asked. UEFI Specification 2.10, section 3.1.1.
func TestTheOrderOfEntriesIsAsked(t *testing.T) {
	m, original, clone := twoSystems(t)
	off := clone
	off.Number, off.Active = 3, false
	entries := firmware.Entries{OrderOpen: true, All: map[uint16]firmware.Entry{1: original, 2: clone, 3: off}}
	m.Firmware.Entries = &entries
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	q := asked(t, trace, "entry-place-1")
	require.Len(t, q.Options, 3, "what is not active is never tried; none of them may stand in the order")
	reached := narrows(t, m, 3)
	assert.Equal(t, []end{{startup.StartsOriginal, "", m.Drives[0].Name}}, reached["entry-place-1 0001"])
	assert.Equal(t, []end{{startup.Starts, "", m.Drives[1].Name}}, reached["entry-place-1 0002"])
	m.Answers = map[string]string{"entry:original": "no", "entry:clone": "no"}
	none := narrows(t, m, 3)["entry-place-1 "+q.Options[2].ID]
	require.Len(t, none, 1)
	assert.Equal(t, startup.Stops, none[0].verdict)

	next := uint16(2)
	entries.Next = &next
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict, "BootNext is tried before the order")
	entries.Next = nil

	gone := original
	gone.Path.File = `\EFI\gone.efi`
	entries.All[1] = gone
	m.Answers["entry-place-1"] = "0001"
	reached = narrows(t, m, 3)
	assert.Equal(t, []end{{startup.Starts, "", m.Drives[1].Name}}, reached["entry-place-2 0002"], "the next one is tried")
	m.Answers = nil

	entries.Open = true // further entries may be there that are not listed
	assert.Len(t, asked(t, startup.Simulate(m), "entry-place-1").Options, 4)
	narrows(t, m, 3)
}

// A boot entry for the next start alone, where it is not told whether there is one.
func TestTheNextStartIsAsked(t *testing.T) {
	m, original, clone := twoSystems(t)
	m.Firmware.Entries = &firmware.Entries{NextOpen: true, Order: []uint16{2, 1},
		All: map[uint16]firmware.Entry{1: original, 2: clone}}
	reached := narrows(t, m, 2)
	assert.Equal(t, []end{{startup.Starts, "", m.Drives[1].Name}}, reached["boot-next no"])
	assert.NotEqual(t, reached["boot-next no"], reached["boot-next yes"], "it may be any")
}

// What a listing of a disk with an MBR does not tell is asked, and each answer leads where it is to.
func TestTheActivePartitionIsAsked(t *testing.T) {
	d := machine.Described{Whole: true, SectorSize: 512, Source: fact.Source{Origin: fact.Text}, Size: 1 << 30,
		Style: disk.StyleMBR,
		Partitions: []machine.DescribedPartition{
			{Number: 1, Start: 1 << 20, Length: 64 << 20, MBRType: 7, Kind: volume.KindNTFS},
			{Number: 2, Start: 65 << 20, Length: 64 << 20, MBRType: 7, Kind: volume.KindNTFS}}}
	described := func() machine.Machine {
		clone := machine.Drive{Name: "clone", Role: machine.RoleClone, Bus: fact.Tell("sata"), Attached: fact.Tell(true),
			Contents: d.Contents()}
		m := sample.EDK2(firmware.Legacy, clone)
		m.Answers = map[string]string{"boot-code:clone": "yes", "boot-sector:clone": "yes"}
		return m
	}
	m := described()
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	asked(t, trace, "active:clone")
	reached := narrows(t, m, 2)
	assert.Contains(t, reached["active:clone none"], end{startup.Stops, course.StageBootPartition, "clone"})
	assert.Contains(t, reached["active:clone several"], end{startup.Stops, course.StageBootPartition, "clone"})
	assert.NotEmpty(t, reached["active:clone 1"])
	assert.NotEmpty(t, reached["active:clone unlisted"])

	d.Partitions[0].Active = fact.Tell(true) // whether another one is active, too, is not told
	m = described()
	reached = narrows(t, m, 3)
	require.NotEmpty(t, reached)

	d.Partitions[1].Active = fact.Tell(true)
	m = described()
	trace = startup.Simulate(m)
	assert.Equal(t, startup.Stops, trace.Verdict, "two are marked")
	assert.Equal(t, course.StageBootPartition, trace.Stage)
}

// Of a disk of which any of its first parts is not in evidence every answer leads to an end that was
// told before it, in both modes.
func TestAnswersOnPartsOfADisk(t *testing.T) {
	withFallback := sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: sample.X64()})
	for _, image := range []*diskmaker.Image{withFallback.MustBuild(), sample.MBRDisk("classic", 0).MustBuild(),
		sample.MBRDisk("classic").MustBuild()} {
		for _, extents := range [][]capture.Extent{{{Offset: 512, Length: 8 << 20}}, {{Offset: 0, Length: 512}},
			{{Offset: 0, Length: 34 * 512}}, {{Offset: 0, Length: 2048*512 + 512}}, {{Offset: 1024, Length: 1 << 20}}} {
			sparse, err := capture.NewSparse(image, extents)
			require.NoError(t, err)
			d, err := disk.New(sparse, image.Size, 512)
			require.NoError(t, err)
			clone := sample.Drive(t, machine.RoleClone, nil)
			clone.Contents = machine.Examine(d)
			for _, mode := range []firmware.Mode{firmware.UEFI, firmware.Legacy} {
				narrows(t, sample.EDK2(mode, clone), 2)
			}
		}
	}
}
