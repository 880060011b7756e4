package judge_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"latchkey/core/disk"
	"latchkey/server/judge"
)

func TestWhichDiskAFirstStartCameFrom(t *testing.T) {
	other := windows(loaders)
	other.GUID = disk.TypeBasicData
	other.Sectors = 1 << 21
	s, c := desk(t, windows(loaders), other)
	j := judge.New(s)
	id := disk.TypeBasicData.String()
	for name, want := range map[judge.Seen]string{
		{}:                                 "open",
		{ID: id}:                           "clone",
		{ID: "{" + id + "}"}:               "clone",
		{ID: disk.TypeESP.String()}:        "original",
		{ID: "12345678"}:                   "neither",
		{Capacity: "1 GiB"}:                "clone",
		{Capacity: "512 MiB"}:              "original",
		{Capacity: "931 GiB"}:              "neither",
		{ID: id, Capacity: "1073741824"}:   "clone",
		{ID: disk.TypeMSReserved.String()}: "neither",
	} {
		p, err := j.StartedFrom(t.Context(), c, name)
		require.NoError(t, err)
		assert.Equal(t, want, p.From, "%+v: %s", name, p.Why)
	}
	_, err := j.StartedFrom(t.Context(), c, judge.Seen{Capacity: "big"})
	var bad *judge.BadChange
	assert.ErrorAs(t, err, &bad)
}

// A raw copy carries the same identifier: with the original unplugged it proves
// the clone all the same, with both attached it proves nothing.
func TestARawCopysIdentifier(t *testing.T) {
	s, c := desk(t, windows(loaders), windows(loaders))
	j := judge.New(s)
	p, err := j.StartedFrom(t.Context(), c, judge.Seen{ID: disk.TypeESP.String()})
	require.NoError(t, err)
	assert.Equal(t, "clone", p.From)
	c.Drives[0].Attached = pointer(true)
	p, err = j.StartedFrom(t.Context(), c, judge.Seen{ID: disk.TypeESP.String(), Capacity: "512 MiB"})
	require.NoError(t, err)
	assert.Equal(t, "open", p.From)
}

func TestWhatIsRemarkedOfAnAnswer(t *testing.T) {
	j := judge.New(nil)
	assert.Empty(t, j.Remark("DiskPart marked the current partition as active."))
	assert.Contains(t, j.Remark("line one\r\nThe selected disk is not valid.\r\n"), "failure: The selected disk is not valid.")
	assert.Contains(t, j.Remark("label: gpt\ndevice: /dev/sdb\nunit: sectors\n\n/dev/sdb1 : start=2048, size=131072\n"), "Recognised as sfdisk")
	assert.Empty(t, j.Remark(""))
}

func TestOutputOfTheWrongDisk(t *testing.T) {
	other := windows(nil)
	other.GUID = disk.TypeBasicData
	s, c := desk(t, windows(loaders), other)
	j := judge.New(s)
	dump := func(id string) string {
		return "label: gpt\nlabel-id: " + id + "\ndevice: /dev/sdb\nunit: sectors\nfirst-lba: 34\nlast-lba: 1048542\nsector-size: 512\n\n/dev/sdb1 : start=2048, size=131072, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B\n"
	}
	why, err := j.OfAnotherDisk(t.Context(), c, dump(disk.TypeESP.String()))
	require.NoError(t, err)
	assert.Contains(t, why, "of the original and not of the clone")
	why, err = j.OfAnotherDisk(t.Context(), c, dump(disk.TypeBasicData.String()))
	require.NoError(t, err)
	assert.Empty(t, why)
	why, err = j.OfAnotherDisk(t.Context(), c, "DiskPart marked the current partition as active.")
	require.NoError(t, err)
	assert.Empty(t, why)
}

// What is not known of a disk proves nothing: less evidence says the same, or leaves it
// open.
func TestLessEvidenceProvesNoOtherStart(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		id := rapid.SampledFrom([]string{"", "aa", "bb"})
		size := rapid.SampledFrom([]int64{0, 100 << 30, 200 << 30})
		draw := func(name string) judge.Traits {
			return judge.Traits{ID: id.Draw(t, name), Size: size.Draw(t, name), Gone: rapid.Bool().Draw(t, name)}
		}
		clone, original := draw("clone"), draw("original")
		seenID, seenSize := id.Draw(t, "id"), size.Draw(t, "size")
		full := judge.JudgedFrom(clone, original, seenID, seenSize)
		if full == "original" && original.Gone {
			return // what was seen outranks that it was told to be unplugged
		}
		for _, weaken := range []func(){func() { clone.ID = "" }, func() { clone.Size = 0 }, func() { original.ID = "" },
			func() { original.Size = 0 }, func() { original.Gone = false },
			func() { seenID = "" }, func() { seenSize = 0 }} {
			if rapid.Bool().Draw(t, "weaken") {
				weaken()
			}
		}
		if less := judge.JudgedFrom(clone, original, seenID, seenSize); full != "open" && less != "open" && less != full {
			t.Fatalf("%s of all, %s of %+v %+v %q %d", full, less, clone, original, seenID, seenSize)
		}
	})
}
