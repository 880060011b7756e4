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
