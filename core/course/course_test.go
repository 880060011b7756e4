package course_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

func on(name string, role machine.Role, bus string) machine.Drive {
	d := machine.Drive{Name: name, Role: role, Attached: fact.Tell(true)}
	if bus != "" {
		d.Bus = fact.Tell(bus)
	}
	return d
}

// walk is a walk of a machine in the world in which the questions get these options.
func walk(m machine.Machine, assume ...string) *course.Walk {
	return &course.Walk{Machine: m, World: &course.World{Answers: m.Answers, Assume: assume}}
}

func names(drives []*machine.Drive) (list []string) {
	for _, d := range drives {
		list = append(list, d.Name)
	}
	return list
}

// The drives in the order in which the firmware goes through them.
func TestTheOrderOfDrives(t *testing.T) {
	m := machine.Machine{Drives: []machine.Drive{on("a", "original", "sata"), on("b", "clone", "sata"), on("c", "other", "sata")}}
	for _, first := range []string{"a", "b", "c"} {
		k := walk(m, first)
		got := names(k.Drives())
		assert.Equal(t, first, got[0])
		assert.Len(t, got, 3)
		require.Len(t, k.World.Asked, 1)
		assert.Equal(t, "first", k.World.Asked[0].Question.Fact.String())
	}
	assert.Equal(t, []string{"b", "a", "c"}, names(walk(m, "b").Drives()), "the others stay as they are")
	m.DeviceOrder = []string{"c", "gone", "a"}
	k := walk(m)
	assert.Equal(t, []string{"c", "a", "b"}, names(k.Drives()), "those that the list does not name come last")
	assert.Empty(t, k.World.Asked)
	m.Drives[2].Attached = fact.Tell(false)
	assert.Equal(t, []string{"a", "b"}, names(walk(m).Drives()))
	m.DeviceOrder, m.Drives[0].Attached = nil, fact.Tell(false)
	k = walk(m)
	assert.Equal(t, []string{"b"}, names(k.Drives()))
	assert.Empty(t, k.World.Asked, "one drive alone needs no order")
	m.Drives[0].Attached = fact.Unknown[bool]()
	k = walk(m, "no")
	assert.Equal(t, []string{"b"}, names(k.Drives()))
	assert.Equal(t, "attached:a", k.World.Asked[0].Question.Fact.String())
	assert.Same(t, &k.Machine.Drives[1], k.Drive("b"))
	assert.Nil(t, k.Drive("z"))
	assert.True(t, walk(machine.Machine{DeviceOrder: []string{"x", "b"}}).Listed(&m.Drives[1]))
	assert.False(t, walk(machine.Machine{DeviceOrder: []string{"x"}}).Listed(&m.Drives[1]))
}

// A question is asked once in a world; what was told is not asked; what is told and is no
// answer is.
func TestAskingInAWorld(t *testing.T) {
	q := course.Question{ID: "q", Options: []course.Option{{ID: "yes"}, {ID: "no"}, {ID: "both"}}}
	w := &course.World{}
	assert.Equal(t, "yes", w.Ask(q), "the first option where nothing is assumed")
	assert.Equal(t, "yes", w.Ask(q))
	assert.Len(t, w.Asked, 1)
	assert.Equal(t, "answer:q", w.Asked[0].Question.Fact.String())
	assert.Equal(t, [][]string{{"no"}, {"both"}}, w.Branches())
	w = &course.World{Assume: []string{"no"}}
	assert.Equal(t, "no", w.Ask(q))
	assert.Empty(t, w.Branches(), "another world has those")
	other := course.Question{ID: "p", Options: q.Options[:2], Fact: course.FactName{Of: course.OfMode}}
	assert.Equal(t, "yes", w.Ask(other))
	assert.Equal(t, "mode", w.Asked[1].Question.Fact.String())
	assert.Equal(t, [][]string{{"no", "no"}}, w.Branches())
	assert.Equal(t, "no", w.AnswerTo("q"))
	assert.Equal(t, "-", w.AnswerTo("never"))
	w = &course.World{Answers: map[string]string{"q": "both", "p": "perhaps"}}
	assert.Equal(t, "both", w.Ask(q))
	assert.Empty(t, w.Asked)
	assert.Equal(t, "yes", w.Ask(other), "no answer to this question")
	assert.Len(t, w.Asked, 1)
	assert.True(t, w.Yes(fact.Tell(true), q))
	assert.False(t, w.Yes(fact.Tell(false), q))
	assert.Len(t, w.Asked, 1)
}

func TestChoicesAreAskedByTheirRow(t *testing.T) {
	c := firmware.UsesBackupGPT
	d := on("b", "clone", "sata")
	k := walk(machine.Machine{}, "no")
	assert.False(t, k.Choice(c, course.StageTable, &d, "partition 2"))
	q := k.World.Asked[0].Question
	assert.Equal(t, c.Key, q.ID)
	assert.Equal(t, course.StageTable, q.Stage)
	assert.Equal(t, "b", q.Drive)
	assert.Equal(t, "choice:"+c.Key, q.Fact.String())
	assert.Equal(t, c.How, q.How)
	assert.Contains(t, q.Text, "is damaged (partition 2)?")
	k = walk(machine.Machine{})
	assert.True(t, k.Choice(c, course.StageTable, nil, ""))
	assert.Equal(t, c.Question, k.World.Asked[0].Question.Text)
	assert.Empty(t, k.World.Asked[0].Question.Drive)
	m := machine.Machine{Firmware: firmware.Settings{Behaviour: firmware.Behaviour{}.With(c, fact.Tell(false))}}
	k = walk(m)
	assert.False(t, k.Choice(c, course.StageTable, nil, ""))
	assert.Empty(t, k.World.Asked)
}

func TestNamesOfFacts(t *testing.T) {
	for name, says := range map[string]string{"mode": "", "arch": "", "secureBoot": "", "first": "", "bootOrder": "", "storageMode": "",
		"storageModeBefore": "", "attached:b": "", "bus:b": "", "entry:b": "", "shown:b": "", "choice:usesBackupGPT": "",
		"answer:loader:clone": "", "weather": "no fact", "": "no fact", "mode:x": "expected a key", "bus": "expected a key", "bus:": "expected a key",
		"choice:gone": "no choice"} {
		var f course.FactName
		err := f.UnmarshalText([]byte(name))
		if says != "" {
			assert.ErrorContains(t, err, says, name)
			continue
		}
		require.NoError(t, err, name)
		text, err := f.MarshalText()
		require.NoError(t, err)
		assert.Equal(t, name, string(text))
	}
}

func TestStagesInTheirOrder(t *testing.T) {
	require.Len(t, course.Stages, 8)
	for i, s := range course.Stages {
		assert.Equal(t, i, s.Index())
		assert.NotEmpty(t, s.Title())
		for j, other := range course.Stages {
			assert.Equal(t, i < j, s.Before(other))
		}
	}
	assert.Equal(t, 8, course.Stage("").Index())
	assert.Equal(t, course.StageDrive, (&course.Attempt{}).Last())
}

// What an attempt notes of its steps.
func TestStepsOfAnAttempt(t *testing.T) {
	var a course.Attempt
	a.Risk("early", "nothing to add it to")
	assert.Empty(t, a.Steps)
	a.Pass(course.StageDrive, "seen")
	a.Risk("late", "worth knowing")
	assert.Equal(t, course.Risk{Rule: "late", Text: "worth knowing"}, a.Steps[0].Risks[0])
	assert.False(t, a.Block("r", course.StageTable, "It is damaged."))
	assert.Equal(t, "It is damaged.", a.Steps[1].Brief())
	assert.False(t, a.BlockFor("r", course.StageTable, "It is damaged", "a check fails."))
	assert.Equal(t, "It is damaged: a check fails.", a.Steps[2].Text)
	assert.Equal(t, "It is damaged.", a.Steps[2].Brief())
	assert.False(t, a.BlockFor("r", course.StageTable, "It is damaged", ""))
	assert.Equal(t, "It is damaged.", a.Steps[3].Text)
	assert.Equal(t, course.StageTable, a.Last())
	assert.Equal(t, course.Unproven, a.Unproven("r", course.StageSystem, "x", "look").State)
	assert.Equal(t, course.Blocks, a.Stop("r", course.StageSystem, course.Unmountable, "x").State)
	assert.Equal(t, course.Unmountable, a.Shown())
	assert.Equal(t, course.Blocks, a.StopFor("r", course.StageSystem, course.RecoveryKey, "x", "y.").State)
	assert.Equal(t, course.RecoveryKey.ID, a.SymptomID)

	clone, original, other := on("b", "clone", "sata"), on("a", "original", "sata"), on("c", "clone", "sata")
	for to, state := range map[*machine.Drive]course.State{&clone: course.Passes, &original: course.Wrong,
		&other: course.Passes} {
		var a course.Attempt
		a.Takes(&clone, machine.Spot{Drive: to}, "It goes on.")
		assert.Equal(t, state, a.Steps[0].State, to.Name)
		assert.Equal(t, state == course.Wrong, a.Steps[0].Rule == "leads-to-the-other")
		assert.Equal(t, state == course.Wrong, a.Steps[0].Text != "It goes on.")
	}
	var self course.Attempt
	self.Takes(&original, machine.Spot{Drive: &original}, "It goes on.")
	assert.Equal(t, course.Passes, self.Steps[0].State, "a drive's own partition is no other disk")
}

// Which of the attached drives carries what a loader looks for.
func TestChoosingAmongDrives(t *testing.T) {
	m := machine.Machine{DeviceOrder: []string{"a", "b"}, Drives: []machine.Drive{on("a", "original", "sata"), on("b", "clone", "sata")}}
	carried := func(by ...string) func(*machine.Drive) ([]machine.Spot, bool) {
		return func(d *machine.Drive) ([]machine.Spot, bool) {
			for _, name := range by {
				if name == d.Name {
					return []machine.Spot{{Drive: d, Index: 3}, {Drive: d, Index: 4}}, true
				}
			}
			return nil, d.Name != "a" // of the original it is not known
		}
	}
	var a course.Attempt
	hits, known := walk(m).Choose(&a, "x", carried("b"))
	require.Len(t, hits, 1)
	assert.Equal(t, "b", hits[0].Drive.Name)
	assert.Equal(t, 3, hits[0].Index)
	assert.False(t, known, "the other one may carry it, too")
	hits, known = walk(m).Choose(&a, "x", carried("a"))
	assert.Len(t, hits, 1)
	assert.True(t, known)
	hits, known = walk(m).Choose(&a, "x", carried())
	assert.Empty(t, hits)
	assert.False(t, known)
	for _, picked := range []string{"a", "b"} {
		k := walk(m, picked)
		hits, known = k.Choose(&a, "x", carried("a", "b"))
		require.Len(t, hits, 1)
		assert.True(t, known)
		assert.Equal(t, picked, hits[0].Drive.Name)
		assert.Equal(t, "twin", k.World.Asked[0].Question.ID)
		assert.Len(t, k.World.Asked[0].Question.Options, 2)
	}
}

// When a system is asked for a driver: it reaches its disk in another way than when it
// last ran. start-rules, stage 8.
func TestWhenADriverIsAskedFor(t *testing.T) {
	for name, c := range map[string]struct {
		clone, original string
		now, before     string
		asks            string // "" for no question
	}{
		"the same bus":                      {"sata", "sata", "", "", ""},
		"another bus":                       {"nvme", "sata", "", "", "NVMe"},
		"from NVMe to SATA":                 {"sata", "nvme", "", "", "SATA"},
		"nothing known of the original":     {"sata", "", "", "", ""},
		"NVMe, nothing known":               {"nvme", "", "", "", "NVMe"},
		"a bus that is not known":           {"", "sata", "", "", "the bus it hangs on now"},
		"neither is known":                  {"", "", "", "", "the bus it hangs on now"},
		"another controller mode":           {"sata", "sata", "ahci", "raid", "AHCI, before RAID"},
		"the same controller mode":          {"sata", "sata", "raid", "raid", ""},
		"a controller mode alone":           {"sata", "sata", "ahci", "", ""},
		"a controller mode of before alone": {"sata", "sata", "", "raid", ""},
	} {
		t.Run(name, func(t *testing.T) {
			m := machine.Machine{Drives: []machine.Drive{on("b", "clone", c.clone), on("a", "original", c.original)}}
			if c.now != "" {
				m.Firmware.StorageMode = fact.Tell(c.now)
			}
			if c.before != "" {
				m.Firmware.StorageModeBefore = fact.Tell(c.before)
			}
			for _, answer := range []string{"yes", "no"} {
				k := walk(m, answer)
				var a course.Attempt
				a.Pass(course.StageConfiguration, "x")
				drives := k.Driver(&a, machine.Spot{Drive: &k.Machine.Drives[0]}, "windows", course.NoBootDriver)
				assert.Equal(t, c.asks == "" || answer == "yes", drives)
				if c.asks == "" {
					assert.Empty(t, k.World.Asked)
				} else {
					assert.Contains(t, k.World.Asked[0].Question.Text, c.asks)
				}
				if !drives {
					assert.Equal(t, course.Rule("no-driver"), a.Steps[1].Rule)
					assert.Equal(t, course.NoBootDriver.ID, a.SymptomID)
					assert.Contains(t, a.Steps[1].Text, "Windows on the clone")
				}
			}
		})
	}
	m := machine.Machine{Drives: []machine.Drive{on("a", "original", "nvme")}}
	k := walk(m)
	assert.True(t, k.Driver(&course.Attempt{}, machine.Spot{Drive: &k.Machine.Drives[0]}, "windows", course.NoBootDriver),
		"the original ran from where it hangs")
	assert.Empty(t, k.World.Asked)
}

// A system comes up with what is worth knowing of its volume, unless the end of the disk
// cuts it off.
func TestASystemComesUp(t *testing.T) {
	d := on("b", "clone", "sata")
	d.Contents = &machine.Contents{Layout: disk.Layout{SectorSize: 512, Sectors: 1000,
		Partitions: []disk.Partition{{Number: 1, Start: 10, Length: 990}}},
		Volumes: []machine.Volume{{Volume: volume.Volume{Kind: volume.KindNTFS}}}}
	rules := func(change func(v *machine.Volume)) (list []course.Rule) {
		change(&d.Contents.Volumes[0])
		var a course.Attempt
		end := walk(machine.Machine{}).ComesUp(&a, machine.Spot{Drive: &d}, "Windows")
		assert.Equal(t, course.Passes, end.State)
		require.Len(t, a.Steps, 1)
		assert.Equal(t, course.StageSystem, a.Steps[0].Stage)
		for _, r := range a.Steps[0].Risks {
			list = append(list, r.Rule)
		}
		return list
	}
	assert.Empty(t, rules(func(*machine.Volume) {}))
	assert.Empty(t, rules(func(v *machine.Volume) { v.Unclean, v.Hibernated = fact.Tell(false), fact.Tell(false) }))
	assert.Equal(t, []course.Rule{"unclean"}, rules(func(v *machine.Volume) { v.Unclean = fact.Tell(true) }))
	assert.Equal(t, []course.Rule{"unclean", "asleep"}, rules(func(v *machine.Volume) { v.Hibernated = fact.Tell(true) }))
	assert.Equal(t, []course.Rule{"unclean", "asleep", "ntfs-backup"}, rules(func(v *machine.Volume) {
		v.Problems = []disk.Problem{{Code: volume.CodeNTFSBackup, Text: "differs"}}
	}))
	assert.Len(t, walk(machine.Machine{}).VolumeFacts(machine.Spot{Drive: &d}), 1)

	var a course.Attempt
	assert.False(t, walk(machine.Machine{}).LostPart(&a, machine.Spot{Drive: &d}), "it ends with the disk")
	d.Contents.Layout.Partitions[0].Length++
	assert.True(t, walk(machine.Machine{}).LostPart(&a, machine.Spot{Drive: &d}))
	assert.Equal(t, course.Rule("system-cut-off"), a.Steps[0].Rule)
	assert.Equal(t, "1000", a.Steps[0].Facts[0].Value, "the last sector of the partition")
}

func TestWhatIsAskedOfTheFirmware(t *testing.T) {
	k := walk(machine.Machine{}, "legacy", "ia32")
	assert.Equal(t, firmware.Legacy, k.Mode())
	assert.Equal(t, firmware.IA32, k.Arch())
	k = walk(machine.Machine{Firmware: firmware.Settings{Mode: fact.Tell(firmware.UEFICSM),
		Arch: fact.Tell(firmware.ARM64)}})
	assert.Equal(t, firmware.UEFICSM, k.Mode())
	assert.Equal(t, firmware.ARM64, k.Arch())
	assert.Empty(t, k.World.Asked)
	d := on("b", "clone", "sata")
	k = walk(machine.Machine{}, "no")
	assert.False(t, k.Evidence(&d, course.StageLoader, "loader", "Is it sound?", "Look."))
	assert.Equal(t, "answer:loader:b", k.World.Asked[0].Question.Fact.String())
}
