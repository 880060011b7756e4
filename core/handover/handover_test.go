package handover_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/handover"
	"latchkey/core/machine"
	"latchkey/internal/diskmaker"
)

var noon = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC) // a Thursday

func starts(of ...handover.Start) []handover.Start {
	for i := range of {
		of[i].ID = uint64(i + 1)
		if of[i].From == "" {
			of[i].From = "clone"
		}
		if of[i].Kind == "" {
			of[i].Kind = handover.Cold
		}
	}
	return of
}

func days(n int) time.Time { return noon.AddDate(0, 0, n) }

func TestWhatIsStillWanted(t *testing.T) {
	rule := handover.Rule{Starts: 5, Days: 3}
	for _, c := range []struct {
		starts []handover.Start
		good   int
		wants  string
		phase  handover.Phase
	}{
		{nil, 0, "Still wanted: five cold starts, on three more days at least.", handover.NotStarted},
		{starts(handover.Start{At: noon}), 1, "Still wanted: four cold starts, on two more days at least.", handover.Watched},
		{starts(handover.Start{At: days(-1)}, handover.Start{At: noon.Add(-time.Hour)}, handover.Start{At: noon}), 3,
			"Still wanted: two cold starts, one of them tomorrow or later.", handover.Watched},
		{starts(handover.Start{At: days(-1)}, handover.Start{At: noon.Add(-time.Hour), Kind: handover.Warm}), 1,
			"Still wanted: four cold starts, on two more days at least.", handover.Watched},
		{starts(handover.Start{At: days(-2)}, handover.Start{At: days(-1)}, handover.Start{At: days(-1)},
			handover.Start{At: noon}), 4,
			"Still wanted: one cold start.", handover.Watched},
		{starts(handover.Start{At: days(-2)}, handover.Start{At: days(-1)}, handover.Start{At: days(-1)},
			handover.Start{At: noon}, handover.Start{At: noon}), 5, "", handover.Ready},
		{starts(handover.Start{At: days(-2)}, handover.Start{At: days(-1), From: "original"}, handover.Start{At: noon}), 1,
			"Still wanted: four cold starts, on two more days at least.", handover.Watched},
		{starts(handover.Start{At: noon}, handover.Start{At: noon}, handover.Start{At: noon},
			handover.Start{At: noon}, handover.Start{At: noon}), 5,
			"Still wanted: two cold starts, each on a day of its own, from tomorrow.", handover.Watched},
	} {
		s := rule.Stand(c.starts, nil, handover.Old{}, noon, time.UTC)
		assert.Equal(t, c.good, rule.Counted(c.starts, time.UTC).Good)
		assert.Equal(t, c.wants, s.Still)
		assert.Equal(t, c.phase, s.Phase, s.Headline)
	}
}

func TestHeadlines(t *testing.T) {
	rule := handover.Rule{Starts: 3, Days: 1, Looked: true}
	until := noon.AddDate(0, 0, 5)
	open := []handover.Look{{State: handover.Wrong, Wants: "the recovery environment switched on"}}
	three := starts(handover.Start{At: noon}, handover.Start{At: noon}, handover.Start{At: noon})
	stand := func(s []handover.Start, l []handover.Look, o handover.Old) handover.Standing {
		return rule.Stand(s, l, o, noon, time.UTC)
	}
	s := stand(three[:2], open, handover.Old{KeepUntil: &until})
	assert.Equal(t, "Two good starts of three. The old drive stays as the way back until Tuesday.", s.Headline)
	assert.Equal(t, "Still wanted: one cold start, and the recovery environment switched on.", s.Still)
	s = stand(three, nil, handover.Old{KeepUntil: &until})
	assert.Equal(t, handover.Watched, s.Phase, "it is the way back until then")
	s = stand(three, nil, handover.Old{})
	assert.Equal(t, "Three good starts. The old drive may be released.", s.Headline)
	s = stand(append(three, handover.Start{ID: 9, At: noon.Add(time.Hour), From: "failed"}), nil, handover.Old{})
	assert.Equal(t, "The last start failed: counting begins anew.", s.Headline)
	s = stand(three, nil, handover.Old{Released: &noon, Fate: "wiped"})
	assert.Equal(t, "Released on 26 Nov 2026: the old drive was wiped.", s.Headline)
}

// Whatever is seen: one more good start never lessens the count, a start that was not from
// the clone never raises it, and a rule that is met wants nothing.
func TestCountingHolds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rule := handover.Rule{Starts: rapid.IntRange(1, 8).Draw(t, "starts"), Days: rapid.IntRange(1, 5).Draw(t, "days")}
		var all []handover.Start
		for i := range rapid.IntRange(0, 12).Draw(t, "n") {
			all = append(all, handover.Start{ID: uint64(i + 1),
				At:   noon.Add(time.Duration(rapid.IntRange(-200, 0).Draw(t, "hours")) * time.Hour),
				Kind: rapid.SampledFrom([]handover.Kind{handover.Cold, handover.Warm, "unknown"}).Draw(t, "kind"),
				From: rapid.SampledFrom([]string{"clone", "clone", "clone", "open", "original", "failed"}).Draw(t, "from")})
		}
		c := rule.Counted(all, time.UTC)
		require.Equal(t, c.Good >= rule.Starts && c.Days >= rule.Days, len(rule.Wanted(c, all, noon, time.UTC)) == 0)
		require.LessOrEqual(t, c.Days, c.Good)
		more := rule.Counted(append(all[:len(all):len(all)], handover.Start{ID: 99, At: noon, Kind: handover.Cold,
			From: "clone"}), time.UTC)
		require.GreaterOrEqual(t, more.Good, c.Good)
		less := rule.Counted(append(all[:len(all):len(all)],
			handover.Start{ID: 99, At: noon.Add(time.Hour), Kind: handover.Cold, From: "failed"}), time.UTC)
		require.Zero(t, less.Good)
	})
}

func contents(t *testing.T, d diskmaker.Disk) *machine.Contents {
	m := d.MustBuild()
	on, err := disk.New(m, m.Size, 512)
	require.NoError(t, err)
	return machine.Examine(on)
}

func windowsDisk() diskmaker.Disk {
	return diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.GPT, GUID: disk.TypeESP, Partitions: []diskmaker.Partition{
		{Type: disk.TypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32"}},
		{Type: disk.TypeBasicData, MiB: 500,
			Volume: diskmaker.Volume{Kind: "ntfs", Files: map[string][]byte{`\Windows\System32\winload.efi`: diskmaker.Program{}.Bytes()}}},
		{Type: disk.TypeWinRE, MiB: 100, Volume: diskmaker.Volume{Kind: "ntfs", Label: "Recovery"}}}}
}

func windows(t *testing.T) machine.Machine {
	return machine.Machine{Drives: []machine.Drive{{Name: "clone", Role: machine.RoleClone, Attached: fact.Tell(true),
		Contents: contents(t, windowsDisk())}}}
}

// told is a disk as an answer tells it: each partition with its start in MiB and letter.
func told(parts ...struct {
	at     int64
	letter string
}) handover.Told {
	d := machine.Described{}
	for i, p := range parts {
		d.Partitions = append(d.Partitions, machine.DescribedPartition{Number: i + 1, Start: p.at << 20,
			Letter: p.letter, Unlettered: p.letter == ""})
	}
	return handover.Told{Disks: []machine.Described{d}}
}

type at = struct {
	at     int64
	letter string
}

// What a system's answer does not show is never taken for wrong, and never for right.
func TestLooksAreJudgedByAnswers(t *testing.T) {
	m := windows(t)
	state := func(told handover.Told, key string) handover.State {
		s := handover.Situation{Machine: m, Told: told}
		for _, l := range s.Looks() {
			if l.Key == key {
				return l.State
			}
		}
		return "not asked"
	}
	whole := told(at{1, ""}, at{65, "C"}, at{565, ""})
	nagging := told(at{1, ""}, at{65, "C"}, at{565, "E"})
	cut := told(at{1, ""}, at{65, "C"})
	unlettered := told(at{1, ""}, at{65, ""}, at{565, ""})
	for i := range unlettered.Disks[0].Partitions {
		unlettered.Disks[0].Partitions[i].Unlettered = false
	}
	other := told(at{3, ""}, at{900, "C"})
	twice := handover.Told{Disks: append(whole.Disks, nagging.Disks...)}
	for _, c := range []struct {
		name                      string
		told                      handover.Told
		letters, parts, recLetter handover.State
	}{
		{"nothing", handover.Told{}, "open", "open", "open"},
		{"as it must be", whole, "right", "right", "right"},
		{"a recovery partition with a letter", nagging, "right", "right", "wrong"},
		{"cut off", cut, "right", "open", "open"},
		{"letters are not told", unlettered, "open", "right", "open"},
		{"another disk", other, "open", "open", "open"},
		{"both disks in one answer", twice, "open", "open", "open"},
		{"the system has another letter", told(at{1, ""}, at{65, "D"}, at{565, ""}), "wrong", "right", "right"},
	} {
		assert.Equal(t, c.letters, state(c.told, "letters"), c.name)
		assert.Equal(t, c.parts, state(c.told, "partitions"), c.name)
		assert.Equal(t, c.recLetter, state(c.told, "recovery-letter-3"), c.name)
	}
	no := false
	off := handover.Situation{Machine: m, Told: handover.Told{Recovery: &no}}
	for _, l := range off.Looks() {
		if l.Key == "recovery" {
			assert.Equal(t, handover.Wrong, l.State)
			assert.Equal(t, "reagentc /enable", l.Remedy)
		}
	}
	off.Seen = map[string]bool{"recovery": true, "programs": true}
	for _, l := range off.Looks() {
		switch l.Key {
		case "recovery":
			assert.Equal(t, handover.Aside, l.State, "a person leaves it so")
		case "programs":
			assert.Equal(t, handover.Right, l.State)
		}
	}
}

// How the standing is put into words, at the bounds of its numbers.
func TestWordsAtTheirBounds(t *testing.T) {
	one := starts(handover.Start{At: noon})
	for starts, of := range map[int]string{12: "twelve", 13: "13"} {
		s := handover.Rule{Starts: starts, Days: 1}.Stand(one, nil, handover.Old{}, noon, time.UTC)
		assert.Contains(t, s.Headline, "One good start of "+of+".")
	}
	warm := starts(handover.Start{At: noon, Kind: handover.Warm})
	assert.Contains(t, handover.Rule{Starts: 2, Days: 1}.Stand(warm, nil, handover.Old{}, noon, time.UTC).Headline, "No good starts of two.")
	for after, says := range map[time.Duration]string{6*24*time.Hour - 1: "until Wednesday", 6 * 24 * time.Hour: "until 2 December"} {
		until := noon.Add(after)
		s := handover.Rule{Starts: 2, Days: 1}.Stand(one, nil, handover.Old{KeepUntil: &until}, noon, time.UTC)
		assert.Contains(t, s.Headline, says)
	}
	// One that failed before good ones is history.
	begun := starts(handover.Start{At: days(-1), From: "failed"}, handover.Start{At: noon})
	s := handover.Rule{Starts: 3, Days: 1}.Stand(begun, nil, handover.Old{}, noon, time.UTC)
	assert.Contains(t, s.Headline, "One good start of three.")
	// What is wrong comes first; of more than three the rest is counted.
	var looks []handover.Look
	for _, wants := range []string{"a", "b", "c", "d", "e"} {
		looks = append(looks, handover.Look{State: handover.Open, Wants: wants + "."})
	}
	looks[2].State = handover.Wrong
	rule := handover.Rule{Starts: 1, Days: 1, Looked: true}
	assert.Equal(t, "Still wanted: c, a, and three more to look at.", rule.Stand(one, looks, handover.Old{}, noon, time.UTC).Still)
	assert.Equal(t, "Still wanted: c, a, and b.", rule.Stand(one, looks[:3], handover.Old{}, noon, time.UTC).Still)
}

// The letters that the original had are what programs name; a recovery partition is one by its type or
// its name.
func TestLettersAsBefore(t *testing.T) {
	m := windows(t)
	original := contents(t, windowsDisk())
	original.Volumes[1].Letter, original.Volumes[2].Letter = "C", "E"
	m.Drives = append(m.Drives, machine.Drive{Name: "original", Role: machine.RoleOriginal,
		Attached: fact.Tell(false), Contents: original})
	whole := told(at{1, ""}, at{65, "C"}, at{565, ""})
	letters := func(now handover.Told, isWhole bool) handover.Look {
		if len(now.Disks) > 0 {
			now.Disks[0].Whole = isWhole
		}
		l, asked := lookOf(handover.Situation{Machine: m, Told: now}, "letters")
		assert.True(t, asked)
		return l
	}
	l := letters(handover.Told{}, false)
	assert.Equal(t, handover.Open, l.State)
	assert.Equal(t, "Drive letters as before: C:, E:", l.Text)
	assert.Equal(t, handover.Open, letters(whole, false).State, "the answer may be cut off")
	l = letters(whole, true)
	assert.Equal(t, handover.Wrong, l.State)
	assert.Contains(t, l.Text, "othing has the letter E:")
	assert.Equal(t, handover.Right, letters(told(at{1, ""}, at{65, "C"}, at{565, "E"}), true).State)
	m.Drives = m.Drives[:1]
	assert.Equal(t, "Drive letters as before", letters(handover.Told{}, false).Text, "the original is not in evidence")

	m.Drives[0].Contents.Layout.Partitions[2].Type.Role = ""
	_, asked := lookOf(handover.Situation{Machine: m}, "recovery-letter-3")
	assert.True(t, asked, "its label says so")
	m.Drives[0].Contents.Volumes[2].Label = "Data"
	_, asked = lookOf(handover.Situation{Machine: m}, "recovery-letter-3")
	assert.False(t, asked)
	l, asked = lookOf(handover.Situation{Machine: m}, "recovery-letter-2")
	assert.False(t, asked, "a system's own: %v", l)
}

// What is asked of a Windows for what it has, and what is found wrong of it.
func TestWhatAWindowsHasIsAsked(t *testing.T) {
	yes, no := true, false
	m := windows(t)
	for key, c := range map[string]struct {
		told func(is *bool) handover.Told
		off  string // what is said where it is not so
	}{
		"recovery":   {func(is *bool) handover.Told { return handover.Told{Recovery: is} }, "The recovery environment is off"},
		"activation": {func(is *bool) handover.Told { return handover.Told{Licensed: is} }, "Windows is not activated"},
	} {
		l, asked := lookOf(handover.Situation{Machine: m, Told: c.told(&no)}, key)
		assert.True(t, asked, key)
		assert.Equal(t, c.off, l.Text)
		l, _ = lookOf(handover.Situation{Machine: m, Told: c.told(&yes)}, key)
		assert.Equal(t, handover.Right, l.State)
		assert.NotEqual(t, c.off, l.Text)
	}
	_, asked := lookOf(handover.Situation{Machine: m}, "protection")
	assert.False(t, asked, "nothing is encrypted")
	_, asked = lookOf(handover.Situation{Machine: m, Told: handover.Told{Protected: &yes}}, "protection")
	assert.True(t, asked)
	plain := windowsDisk()
	plain.Partitions = plain.Partitions[:2]
	m.Drives[0].Contents = contents(t, plain)
	_, asked = lookOf(handover.Situation{Machine: m}, "recovery")
	assert.False(t, asked, "there is none")
	_, asked = lookOf(handover.Situation{Machine: m, Told: handover.Told{Recovery: &no}}, "recovery")
	assert.True(t, asked, "the system told of one")
}
