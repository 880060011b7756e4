package judge_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/server/judge"
	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

func pointer[T any](v T) *T { return &v }

// desk is a store with one UEFI case of two drives.
func desk(t *testing.T, original, clone diskmaker.Disk) (*store.Store, *store.Case) {
	t.Helper()
	s := storetest.Open(t)
	c := &store.Case{
		Title: "Kiosk", DeviceOrder: []string{"clone"},
		Firmware: store.Firmware{Mode: pointer("uefi"), Arch: pointer("x64"), SecureBoot: pointer(false),
			Choices: map[string]bool{firmware.FallbackOnFixedDisks.Key: true}},
		Drives: []store.Drive{{Role: "original", Bus: pointer("sata"), Attached: pointer(false)},
			{Role: "clone", Bus: pointer("sata"), Attached: pointer(true)}},
	}
	require.NoError(t, s.Create(t.Context(), c, storetest.Nobody))
	for i, d := range []diskmaker.Disk{original, clone} {
		m := d.MustBuild()
		require.NoError(t, s.AddEvidence(t.Context(), storetest.Piece(t, c.ID, store.Roles[i], m, m.Size),
			storetest.Nobody, uint32(i)+1))
	}
	got, err := s.Get(t.Context(), c.ID)
	require.NoError(t, err)
	return s, got
}

func windows(files map[string][]byte) diskmaker.Disk {
	return diskmaker.Disk{Sectors: 1 << 20, Style: diskmaker.GPT, GUID: disk.TypeESP, Partitions: []diskmaker.Partition{
		{Type: disk.TypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32", Label: "SYSTEM", Files: files}},
		{Type: disk.TypeBasicData, Volume: diskmaker.Volume{Kind: "ntfs"}},
	}}
}

var loaders = map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()}

func TestReasonsNameBothDisks(t *testing.T) {
	s, c := desk(t, windows(loaders), windows(nil))
	k, err := judge.New(s).Case(t.Context(), c, judge.WhatIf{})
	require.NoError(t, err)
	assert.Equal(t, startup.Stops, k.Trace.Verdict)
	assert.Contains(t, k.Trace.Reason, "The original alone reaches its loader.")
	require.Len(t, k.Drives, 2)
	assert.Equal(t, machine.RoleOriginal, k.Drives[0].Role)
	assert.Equal(t, "SYSTEM", k.Drives[1].Disk.Partitions[0].Label)
	assert.Equal(t, "c93b", k.Drives[1].Disk.IDTail)
	assert.Len(t, k.Comparison.Pairs, 2)
}

func TestWhatIfChangesNothingThatIsStored(t *testing.T) {
	s, c := desk(t, windows(loaders), windows(loaders))
	j := judge.New(s)
	for ends, w := range map[[2]startup.Verdict]judge.WhatIf{ // up to the loader, and in the whole
		{startup.StartsOriginal, startup.Depends}: {Attached: map[string]bool{"original": true}, DeviceOrder: []string{"original", "clone"}},
		{startup.Stops, startup.Stops}:            {Mode: pointer("legacy")},
		{startup.Starts, startup.Depends}:         {},
	} {
		k, err := j.Case(t.Context(), c, w)
		require.NoError(t, err)
		assert.Equal(t, ends, [2]startup.Verdict{k.Trace.Reaches, k.Trace.Verdict})
	}
	k, err := j.Case(t.Context(), c, judge.WhatIf{Attached: map[string]bool{"clone": false}})
	require.NoError(t, err)
	assert.Equal(t, course.StageDrive, k.Trace.Stage)
	assert.Equal(t, course.Blocks, k.Drives[1].Pins[0].State)
}

func TestRecordKeepsTheVerdict(t *testing.T) {
	s, c := desk(t, windows(loaders), windows(nil))
	k, err := judge.New(s).Record(t.Context(), c)
	require.NoError(t, err)
	got, err := s.Get(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, string(k.Trace.Verdict), got.Verdict)
	assert.Equal(t, "loader", got.Stage)
	assert.Equal(t, k.Trace.Headline, got.Headline)
}

func TestBytesNameTheirFields(t *testing.T) {
	s, c := desk(t, windows(loaders), windows(nil))
	j := judge.New(s)
	e := c.Drives[1].Evidence
	v, err := j.Bytes(t.Context(), e, 2048*512, 512)
	require.NoError(t, err)
	require.True(t, v.Held)
	assert.Len(t, v.Hex, 1024)
	named := map[string]string{}
	for _, f := range v.Fields {
		assert.Equal(t, "FAT boot sector", f.Structure)
		named[f.Name] = f.Value
	}
	assert.Equal(t, "512", named["BPB_BytsPerSec"])
	assert.Equal(t, "2048", named["BPB_HiddSec"])
	v, err = j.Bytes(t.Context(), e, 0, 1<<40)
	require.NoError(t, err)
	assert.Len(t, v.Hex, 2*1024, "a view is bounded")
	v, err = j.Bytes(t.Context(), e, 1<<60, 16)
	require.NoError(t, err)
	assert.False(t, v.Held, "nothing lies beyond the end")
	_, err = j.Bytes(t.Context(), nil, 0, 16)
	assert.ErrorIs(t, err, judge.ErrNoEvidence)
}

// A database that fails while a disk is examined is an error, no damaged disk.
func TestAFailingDatabaseIsNoDamagedDisk(t *testing.T) {
	s, c := desk(t, windows(loaders), windows(loaders))
	require.NoError(t, s.Close())
	_, err := judge.New(s).Case(t.Context(), c, judge.WhatIf{})
	assert.ErrorContains(t, err, "the original's evidence")
}

// A plan does not vanish with the request that first looked at the disks, nor with the
// database: all has been read by then.
func TestAPlanOutlivesTheRequestThatReadTheDisks(t *testing.T) {
	hopeless := windows(nil)
	hopeless.Partitions = []diskmaker.Partition{{Type: disk.TypeLinuxData}}
	original := windows(loaders)
	original.GUID = disk.TypeBasicData
	original.Partitions[1].Volume.Files = diskmaker.WindowsFiles(diskmaker.Program{}.Bytes(), diskmaker.Registry{})
	s, c := desk(t, original, hopeless)
	for i := range c.Drives {
		c.Drives[i].Bus = pointer("sata")
	}
	j := judge.New(s)
	first, done := context.WithCancel(t.Context())
	_, err := j.Case(first, c, judge.WhatIf{})
	require.NoError(t, err)
	done()
	for range 3 {
		session, err := j.Plan(t.Context(), c, nil, repair.Toolboxes)
		require.NoError(t, err)
		require.NotEmpty(t, session.Plan.Steps, session.Plan.Reason)
		assert.Equal(t, "copy-again", session.Plan.Steps[0].Action)
	}
}
