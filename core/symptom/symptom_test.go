package symptom_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/startup"
	"latchkey/core/symptom"
)

func first(t *testing.T, typed string) symptom.Match {
	t.Helper()
	found := symptom.Find(typed)
	require.NotEmpty(t, found, typed)
	return found[0]
}

func TestEveryMessageIsFoundByItsOwnWords(t *testing.T) {
	seen := map[string]bool{}
	for _, m := range symptom.Messages {
		assert.False(t, seen[string(m.ID)], m.ID)
		seen[string(m.ID)] = true
		assert.NotEmpty(t, m.Causes, m.ID)
		assert.NotEmpty(t, m.Source, m.ID)
		for _, c := range m.Causes {
			assert.Contains(t, course.Stages, c.Stage, m.ID)
			assert.NotEmpty(t, c.Look, m.ID)
		}
		found := symptom.Find(m.Shown)
		require.NotEmpty(t, found, m.ID)
		ids := []string{}
		for _, f := range found {
			if f.Score > 0.99 {
				ids = append(ids, string(f.ID))
			}
		}
		assert.Contains(t, ids, string(m.ID))
	}
}

// How people type what they read: without the prefix of a code, in small letters,
// in part, with words around it.
func TestWhatPeopleType(t *testing.T) {
	for typed, id := range map[string]string{
		"c000000e":                          "c000000e",
		"0xC000000E":                        "c000000e",
		"error 0xc0000225 on blue screen":   "c000000e",
		"7b":                                "0x7b",
		"STOP 0x0000007B":                   "0x7b",
		"inaccessible":                      "0x7b",
		"bootmgr missing":                   "bootmgr-missing",
		"it says BOOTMGR is missing":        "bootmgr-missing",
		"grub rescue":                       "grub-rescue",
		"dropped to initramfs":              "root-wait",
		"emergency mode":                    "emergency-mode",
		"question mark folder":              "mac-question",
		"boot device not found":             "no-device",
		"blinking cursor":                   "cursor",
		"missing operating system":          "missing-os",
		"invalid partition table":           "invalid-table",
		"recovery key":                      "recovery-key",
		"kernel panic unable to mount root": "kernel-panic-root",
	} {
		assert.EqualValues(t, id, first(t, typed).ID, typed)
	}
	assert.Empty(t, symptom.Find("bicycle tyre"))
	assert.Len(t, symptom.Find("  "), len(symptom.Messages), "nothing typed lists everything")
}

func pins(stage course.Stage, state course.State, text string) []startup.Pin {
	var all []startup.Pin
	for _, s := range course.Stages {
		p := startup.Pin{Stage: s, State: course.Passes, Text: "It passes."}
		if s == stage {
			p.State, p.Text = state, text
		}
		all = append(all, p)
	}
	return all
}

func TestMessagesAgainstTheComputation(t *testing.T) {
	stops := []startup.Ending{{Verdict: startup.Stops, Stage: course.StageBootPartition, Text: "The clone has no EFI system partition."}}
	j := symptom.Judge("no bootable device", firmware.UEFI, stops, pins(course.StageBootPartition, course.Blocks, "none"))
	assert.False(t, j.Contradicts)
	assert.Equal(t, symptom.Computed, j.Causes[0].Fit)
	assert.Equal(t, course.StageBootPartition, j.Causes[0].Stage)
	assert.Contains(t, j.Causes[0].Because, "no EFI system partition")

	for _, c := range j.Causes {
		if c.Mode == firmware.Legacy {
			assert.Equal(t, symptom.Against, c.Fit, "what only legacy mode knows is no cause under UEFI")
		}
	}
	assert.True(t, symptom.Judge("BOOTMGR is missing", firmware.UEFI, stops, nil).Contradicts, "a message of legacy mode under UEFI")

	open := []startup.Ending{{Verdict: startup.Depends, Stage: course.StageConfiguration}}
	j = symptom.Judge("0xc000000e", firmware.UEFI, open, pins(course.StageConfiguration, course.Unproven, "not in evidence"))
	assert.False(t, j.Contradicts)
	assert.Equal(t, symptom.Open, j.Causes[0].Fit)

	starts := []startup.Ending{{Verdict: startup.Starts}}
	j = symptom.Judge("BOOTMGR is missing", "", starts, pins("", course.Passes, ""))
	assert.True(t, j.Contradicts)
	assert.Contains(t, j.Verdict, "starts the clone")

	original := []startup.Ending{{Verdict: startup.StartsOriginal}}
	assert.False(t, symptom.Judge("it came up from the old drive", "", original, nil).Contradicts)
	assert.True(t, symptom.Judge("it came up from the old drive", "", starts, pins("", course.Passes, "")).Contradicts)

	assert.Contains(t, symptom.Judge("bicycle tyre", "", starts, nil).Verdict, "None")
	assert.Empty(t, symptom.Judge(" ", "", starts, nil).Verdict)
}

func FuzzFind(f *testing.F) {
	f.Add("0xc000000e required device")
	f.Add("\xff\xfe")
	f.Fuzz(func(t *testing.T, typed string) {
		for _, m := range symptom.Find(typed) {
			assert.LessOrEqual(t, m.Score, 1.000001)
		}
	})
}

func BenchmarkFind(b *testing.B) {
	for b.Loop() {
		symptom.Find("0xc000000e a required device isn't connected")
	}
}

// What a start can show is a message that is known, and can mean the stage that it
// stopped at.
func TestEveryComputedSymptomIsAKnownMessage(t *testing.T) {
	known := map[course.SymptomID]bool{}
	for _, m := range symptom.Messages {
		known[m.ID] = true
	}
	require.Greater(t, len(course.Symptoms), 25)
	for _, s := range course.Symptoms {
		assert.True(t, known[s.ID], s.ID)
		assert.NotEmpty(t, s.Text)
	}
}

// What is found and in which order, for words that are typed: rare words weigh more, a
// third of what was typed is enough, and a message's own wording goes before others.
func TestFindingAndItsOrder(t *testing.T) {
	ids := func(typed string) (list []string) {
		for _, m := range symptom.Find(typed) {
			list = append(list, string(m.ID))
		}
		return list
	}
	found := symptom.Find("bootmgr is missing")
	for i := 1; i < len(found); i++ {
		assert.GreaterOrEqual(t, found[i-1].Score, found[i].Score)
	}
	assert.InDelta(t, 1, found[0].Score, 1e-9)
	assert.Equal(t, []string{"bootmgr-missing"}, ids("bootmgr")[:1])
	assert.Empty(t, ids("bicycle tyre pump bootmgr harbour light ferry quay"), "less than a third of what was typed")
	// "system" is a word of many messages, "bootmgr" of one: it decides.
	both := symptom.Find("bootmgr system")
	assert.EqualValues(t, "bootmgr-missing", both[0].ID, "a rare word weighs more than a common one")
	assert.Greater(t, both[0].Score, 0.5)
	assert.Less(t, both[0].Score, 1.0)
	// Words may be cut from four letters on.
	assert.Contains(t, ids("inacc"), "0x7b")
	assert.Contains(t, ids("inac"), "0x7b")
	assert.NotContains(t, ids("ina"), "0x7b")
	// Both have all the words; the message whose principal wording has them goes first.
	all := ids("missing operating system")
	assert.Equal(t, "missing-os", all[0])
	for _, m := range symptom.Messages {
		if first := symptom.Find(m.Shown)[0]; first.ID != m.ID {
			assert.InDelta(t, 1, first.Score, 1e-9, "%s is found by the words of %s", first.ID, m.ID)
		}
	}
	assert.Equal(t, "grub-rescue", ids("grub rescue>")[0])
	assert.Equal(t, "grub-prompt", ids("grub>")[0])
}

// A judgement takes the best message, and others only where they are recognised too;
// three at most.
func TestWhichMessagesAJudgementTakes(t *testing.T) {
	of := func(said string) (ids []string, scores []float64) {
		j := symptom.Judge(said, "", nil, nil)
		for _, m := range j.Messages {
			ids, scores = append(ids, string(m.ID)), append(scores, m.Score)
		}
		return ids, scores
	}
	ids, _ := of("bootmgr zeppelin")
	assert.Len(t, ids, 1, "the best one though it is doubtful, and no other doubtful one")
	for _, said := range []string{"missing", "boot", "error", "system", "disk"} {
		ids, scores := of(said)
		assert.LessOrEqual(t, len(ids), 3, said)
		for i := 1; i < len(scores); i++ {
			assert.GreaterOrEqual(t, scores[i], 0.6, said)
		}
	}
	ids, _ = of("missing")
	assert.Len(t, ids, 3)
	empty := symptom.Judge("   ", "", nil, nil)
	assert.Empty(t, empty.Messages)
	assert.Empty(t, empty.Verdict)
	nothing := symptom.Judge("zeppelin", "", nil, nil)
	assert.Equal(t, "None of the known messages has these words.", nothing.Verdict)
}

// The causes that the evidence agrees with come first, those it rules out last; the
// sentence begins them in small letters, but not an abbreviation.
func TestTheOrderOfCauses(t *testing.T) {
	endings := []startup.Ending{{Verdict: startup.Stops, Stage: course.StageTable, Text: "The table is damaged."}}
	j := symptom.Judge("No bootable device", firmware.UEFI, endings, pins(course.StageOrder, course.Unproven, "Not told."))
	require.NotEmpty(t, j.Causes)
	rank := map[symptom.Fit]int{symptom.Computed: 0, symptom.Open: 1, symptom.Against: 2}
	for i := 1; i < len(j.Causes); i++ {
		assert.LessOrEqual(t, rank[j.Causes[i-1].Fit], rank[j.Causes[i].Fit])
	}
	assert.Equal(t, symptom.Computed, j.Causes[0].Fit)
	assert.Equal(t, course.StageTable, j.Causes[0].Stage)
	assert.Equal(t, "The table is damaged.", j.Causes[0].Because)
	assert.Contains(t, j.Verdict, "agrees with what the screen said: the partition table")
	legacy := j.Causes[len(j.Causes)-1]
	assert.Equal(t, symptom.Against, legacy.Fit)
	j = symptom.Judge("BOOTMGR is missing", firmware.Legacy,
		[]startup.Ending{{Verdict: startup.Stops, Stage: course.StageLoader, Text: "x"}}, nil)
	assert.Contains(t, j.Verdict, `said: \bootmgr`, "a path stays as it is")
}
