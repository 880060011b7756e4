package judge_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/startup"
	"latchkey/core/symptom"
	"latchkey/internal/diskmaker"
	"latchkey/server/judge"
	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

// withEntries gives a case boot entries: one that leads to the clone's own
// program, and one to nothing.
func withEntries(t *testing.T, s *store.Store, c *store.Case, clone diskmaker.Disk) *store.Case {
	t.Helper()
	guid := clone.PartitionGUID(0)
	path := append(diskmaker.HardDriveNode(1, 2048, 64<<11, &guid, 0), diskmaker.FileNode(`\EFI\own\a.efi`)...)
	nobody := diskmaker.Disk{}.GUID
	stale := append(diskmaker.HardDriveNode(1, 2048, 64<<11, &nobody, 0), diskmaker.FileNode(`\x.efi`)...)
	vars := map[string][]byte{}
	for name, raw := range diskmaker.Variables([]diskmaker.Entry{{Number: 1, Description: "Gone", Path: stale},
		{Number: 2, Description: "Own", Path: path}}, []uint16{1, 2}, nil) {
		vars[name+"-"+diskmaker.BootVariableVendor.String()] = append([]byte{7, 0, 0, 0}, raw...)
	}
	m := clone.MustBuild()
	piece := storetest.Piece(t, c.ID, "clone", m, m.Size)
	piece.Variables = vars
	require.NoError(t, s.AddEvidence(t.Context(), piece, storetest.Nobody, c.Version))
	got, err := s.Get(t.Context(), c.ID)
	require.NoError(t, err)
	return got
}

func TestMovingABootEntry(t *testing.T) {
	clone := windows(map[string][]byte{`\EFI\own\a.efi`: diskmaker.Program{}.Bytes()})
	s, c := desk(t, windows(loaders), clone)
	c = withEntries(t, s, c, clone)
	j := judge.New(s)
	k, err := j.Case(t.Context(), c, judge.WhatIf{})
	require.NoError(t, err)
	require.Len(t, k.Entries, 2)
	assert.Equal(t, "Gone", k.Entries[0].Name)
	require.Len(t, k.Trace.Attempts, 2, "the stale entry first")
	assert.Equal(t, "Own", k.Trace.Attempts[1].Name)
	k, err = j.Case(t.Context(), c, judge.WhatIf{BootOrder: []string{"0002", "0001"}})
	require.NoError(t, err)
	assert.Len(t, k.Trace.Attempts, 1)
	_, err = j.Case(t.Context(), c, judge.WhatIf{BootOrder: []string{"2"}})
	assert.ErrorContains(t, err, `"2": expected four hexadecimal digits`)
	c.Firmware.BootOrder = []string{"0002"}
	k, err = j.Case(t.Context(), c, judge.WhatIf{})
	require.NoError(t, err)
	assert.Len(t, k.Trace.Attempts, 1, "an order that was changed since counts")
}

func TestTheStartWithOneDriveAndBoth(t *testing.T) {
	s, c := desk(t, windows(loaders), windows(nil))
	k, err := judge.New(s).Case(t.Context(), c, judge.WhatIf{})
	require.NoError(t, err)
	require.Len(t, k.Runs, 3)
	assert.Equal(t, startup.Stops, k.Runs[0].Verdict)
	assert.True(t, k.Runs[0].Stands)
	assert.Equal(t, startup.StartsOriginal, k.Runs[1].Verdict)
	assert.Equal(t, startup.StartsOriginal, k.Runs[2].Reaches)
	assert.Equal(t, startup.Depends, k.Runs[2].Verdict, "its program may lead to the clone")
	assert.Len(t, k.Runs[2].Attempts, 2, "the clone first, then the original")
}

func TestWhatTheScreenSaidIsHeldAgainstTheComputation(t *testing.T) {
	s, c := desk(t, windows(loaders), windows(nil))
	j := judge.New(s)
	k, err := j.Case(t.Context(), c, judge.WhatIf{})
	require.NoError(t, err)
	assert.Nil(t, k.Symptom)
	c.Said = "no bootable device"
	k, err = j.Case(t.Context(), c, judge.WhatIf{})
	require.NoError(t, err)
	assert.False(t, k.Symptom.Contradicts)
	assert.Equal(t, symptom.Computed, k.Symptom.Causes[0].Fit)
	assert.Equal(t, course.StageLoader, k.Symptom.Causes[0].Stage)
	c.Said = "INACCESSIBLE_BOOT_DEVICE"
	k, err = j.Case(t.Context(), c, judge.WhatIf{})
	require.NoError(t, err)
	assert.True(t, k.Symptom.Contradicts, "the system's own message while its loader is missing")
}

func TestTheBench(t *testing.T) {
	s, c := desk(t, windows(loaders), windows(nil))
	j := judge.New(s)
	b := judge.Bench{Mode: pointer("uefi"), Arch: pointer("x64"), SecureBoot: pointer(false), Behaviour: "edk2",
		Drives: []judge.BenchDrive{
			{Case: c.ID, Disk: "clone", As: "clone", Bus: "sata", On: true}, {Case: c.ID, Disk: "original", As: "original", Bus: "nvme", On: true}}}
	got, err := j.SwitchOn(t.Context(), b)
	require.NoError(t, err)
	assert.Equal(t, startup.StartsOriginal, got.Trace.Reaches)
	require.Len(t, got.Trace.Attempts, 2)
	assert.Equal(t, "a", got.Trace.Attempts[0].Drive)
	assert.Contains(t, got.Drives[0].Title, "Kiosk, clone")
	b.Drives[1].On = false
	got, err = j.SwitchOn(t.Context(), b)
	require.NoError(t, err)
	assert.Equal(t, startup.Stops, got.Trace.Verdict)
	b.Drives[0].Disk = "original"
	b.Behaviour = ""
	got, err = j.SwitchOn(t.Context(), b)
	require.NoError(t, err)
	assert.Equal(t, startup.Depends, got.Trace.Verdict)
	b.Answers = map[string]string{"fallbackOnFixedDisks": "yes"}
	got, err = j.SwitchOn(t.Context(), b)
	require.NoError(t, err)
	assert.NotEqual(t, startup.Depends, got.Trace.Reaches, "answered on the bench")

	for name, change := range map[string]func(*judge.Bench){
		"two clones":         func(b *judge.Bench) { b.Drives[1].As = "clone" },
		"no such disk":       func(b *judge.Bench) { b.Drives[0].Disk = "third" },
		"no such behaviour":  func(b *judge.Bench) { b.Behaviour = "other" },
		"order of no number": func(b *judge.Bench) { b.BootOrder = []string{"first"} },
	} {
		bad := b
		bad.Drives = append([]judge.BenchDrive{}, b.Drives...)
		change(&bad)
		_, err := j.SwitchOn(t.Context(), bad)
		var refused *judge.BadChange
		assert.ErrorAs(t, err, &refused, name)
	}
	b.Drives[0].Case = 999
	_, err = j.SwitchOn(t.Context(), b)
	assert.ErrorIs(t, err, store.ErrNotFound)
}
