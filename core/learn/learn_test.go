package learn_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/learn"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// bench are machines in which firmware's choices decide, with nothing known of them.
func bench(t testing.TB) []machine.Machine {
	fallback := map[string][]byte{sample.FallbackPath: sample.X64()}
	disks := map[string]diskmaker.Disk{"sound": sample.GPTDisk(1, fallback)}
	untyped := sample.GPTDisk(1, fallback)
	untyped.Partitions[0].Type = disk.TypeBasicData
	disks["untyped"] = untyped
	spoil := func(name string, bytes map[int64][]byte) *diskmaker.Image {
		m := disks[name].MustBuild()
		for at, b := range bytes {
			_, err := m.WriteAt(b, at)
			require.NoError(t, err)
		}
		return m
	}
	images := []*diskmaker.Image{
		disks["sound"].MustBuild(), disks["untyped"].MustBuild(),
		spoil("sound", map[int64][]byte{512 + 24: {0xFF, 0xFF, 0xFF}}),    // the primary table is damaged
		spoil("sound", map[int64][]byte{510: {0, 0}}),                     // the protective record is unsigned
		spoil("sound", map[int64][]byte{446 + 4: {0}, 510: {0x55, 0xAA}}), // there is no protective record
		spoil("sound", map[int64][]byte{1<<20 + 510: {0, 0}}),             // the volume is unsigned
	}
	var out []machine.Machine
	add := func(mode firmware.Mode, drives ...machine.Drive) {
		m := sample.EDK2(mode, drives...)
		m.Firmware.Behaviour = firmware.Behaviour{}
		out = append(out, m)
	}
	for _, image := range images {
		for _, bus := range []string{"sata", "nvme", "usb"} {
			d := sample.Drive(t, machine.RoleClone, image)
			d.Bus = fact.Tell(bus)
			add(firmware.UEFI, d)
			both := sample.Drive(t, machine.RoleOriginal, sample.GPTDisk(2, fallback).MustBuild())
			add(firmware.UEFI, d, both)
		}
	}
	for _, code := range []string{"classic", ""} {
		clone := sample.Drive(t, machine.RoleClone, sample.MBRDisk(code).MustBuild())
		original := sample.Drive(t, machine.RoleOriginal, sample.MBRDisk("classic", 0).MustBuild())
		add(firmware.Legacy, clone, original)
		add(firmware.Legacy, clone)
	}
	return out
}

// asked answers the questions of a start by what the firmware really does, the first one
// first, until the verdict stands. It returns how many there were, and the answers.
func asked(m machine.Machine, really map[string]bool) (n int, told map[string]bool) {
	told = map[string]bool{}
	for n < 30 {
		t := startup.Simulate(m)
		if t.Verdict != startup.Depends {
			return n, told
		}
		next := ""
		for _, q := range t.Missing {
			if q.Fact.Of == course.OfChoice && next == "" {
				next = q.Fact.Key
			}
		}
		if next == "" {
			return n, told
		}
		n++
		told[next] = really[next]
		m.Firmware.Behaviour = m.Firmware.Behaviour.Tell(map[string]bool{next: really[next]})
	}
	return n, told
}

// From 200 cases on 20 models nothing learned is ever wrong, and fewer questions are asked.
func TestABenchLearnsNothingThatIsWrong(t *testing.T) {
	machines := bench(t)
	learnedInAll, without, with := 0, 0, 0
	for seed := range uint64(5) {
		r := rand.New(rand.NewPCG(seed, 14))
		really := make([]map[string]bool, 20)
		memory := make([]map[string][]learn.Observation, 20)
		for i := range really {
			really[i], memory[i] = map[string]bool{}, map[string][]learn.Observation{}
			for _, c := range firmware.Choices {
				really[i][c.Key] = r.IntN(2) == 0
			}
		}
		for number := range 200 {
			model := r.IntN(20)
			m := machines[r.IntN(len(machines))]
			known := map[string]bool{}
			for key, all := range memory[model] {
				if v, ok := learn.Agreed(all); ok {
					known[key] = v
					require.Equal(t, really[model][key], v, "%s of model %d", key, model)
				}
			}
			n, _ := asked(m, really[model])
			without += n
			remembered := m
			remembered.Firmware.Behaviour = m.Firmware.Behaviour.Tell(known)
			n, told := asked(remembered, really[model])
			with += n
			note := func(key string, v bool) {
				memory[model][key] = append(memory[model][key], learn.Observation{Case: uint64(number), Value: v})
			}
			for key, v := range told {
				note(key, v)
			}
			complete := m
			complete.Firmware.Behaviour = m.Firmware.Behaviour.Tell(really[model])
			seen, definite := map[startup.Verdict]learn.Seen{startup.Starts: learn.FromClone,
				startup.StartsOriginal: learn.FromOriginal,
				startup.Stops:          learn.Failed}[startup.Simulate(complete).Verdict]
			if !definite {
				continue
			}
			necessary, sound := learn.Necessary(m, seen)
			require.True(t, sound)
			for key, v := range necessary {
				require.Equal(t, really[model][key], v, "%s of model %d, %s", key, model, seen)
				note(key, v)
				learnedInAll++
			}
		}
	}
	t.Logf("1,000 cases: %d facts learned of starts, none wrong; %d questions without a memory, %d with it (%.0f %% fewer)", learnedInAll, without, with,
		100-100*float64(with)/float64(without))
	assert.Positive(t, learnedInAll)
	assert.Less(t, with*2, without, "the memory halves the questions")
}

func TestWhatIsLearned(t *testing.T) {
	m := bench(t)[0] // one sound disk on SATA, no entry: all hangs on the fallback
	for seen, want := range map[learn.Seen]map[string]bool{
		learn.FromClone: {"fallbackOnFixedDisks": true}, learn.Failed: {"fallbackOnFixedDisks": false}, "open": {},
	} {
		got, sound := learn.Necessary(m, seen)
		assert.True(t, sound)
		assert.Equal(t, want, got, seen)
	}
	got, sound := learn.Necessary(m, learn.FromOriginal)
	assert.False(t, sound, "there is no original")
	assert.Empty(t, got)
	_, known := learn.Agreed([]learn.Observation{{1, true}, {2, false}})
	assert.False(t, known, "cases that contradict each other make it unknown again")
}

func BenchmarkNecessary(b *testing.B) {
	m := bench(b)[1]
	for b.Loop() {
		learn.Necessary(m, learn.FromClone)
	}
}
