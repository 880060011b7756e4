package weaker_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/listing"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/reference"
	"latchkey/internal/weaker"
	"latchkey/truth"
)

// Machines drawn at random on which less of the first disk once gave another definite answer:
// code that looks like the standard one and reads something else than the active partition, and
// standard code that has read the table and is on its way to that.
func TestMachinesThatLessEvidenceAnsweredOtherwise(t *testing.T) {
	for seed, held := range map[uint64][]weaker.Range{
		710501: {{From: 0, To: 4096}},
		720045: {{From: 0, To: 131072}, {From: 2228224, To: 192 << 20}},
		720269: {{From: 0, To: 16 << 20}},
		720850: {{From: 0, To: 512}},
	} {
		w := prepared(t, truth.Random(seed))
		full := answer(w.machine)
		require.NotEqual(t, string(startup.Depends), full, w.name)
		size := w.machine.Drives[0].Contents.Layout.Bytes()
		on, err := disk.New(&weaker.Holes{ReaderAt: w.disks[w.machine.Drives[0].Name], Held: held}, size, 512)
		require.NoError(t, err)
		m := weaker.Copy(w.machine)
		m.Drives[0].Contents = machine.Examine(on)
		assert.Contains(t, []string{full, string(startup.Depends)}, answer(m), w.name)
	}
}

// An entry by a path alone is looked for on drives that can be taken out first: where it is not
// known which those are, the answer is open.
func TestAnEntryByAPathAloneGoesByTheBuses(t *testing.T) {
	for _, s := range truth.Scenarios() {
		if s.Name != "entry by a path alone, a fixed drive and one on USB" {
			continue
		}
		w := prepared(t, s)
		require.Equal(t, "starts from b", answer(w.machine))
		m := weaker.Copy(w.machine)
		for i := range m.Drives {
			m.Drives[i].Bus = fact.Of[string]{}
		}
		assert.Equal(t, string(startup.Depends), answer(m))
		return
	}
	t.Fatal("the machine is not there")
}

// A partition that a listing tells to reach beyond the disk is the system that is cut off only
// where all partitions are known: an MBR with a protective entry is none to the firmware.
func TestAListedPartitionBeyondTheEnd(t *testing.T) {
	w := prepared(t, truth.Random(30010027))
	w.machine.Until = machine.UntilSystem
	w.machine.Drive(machine.RoleClone).Attached = fact.Tell(false) // what the original leads to may else be that
	full := answer(w.machine)
	require.Equal(t, "starts-original from a", full)
	text := reference.Run(t, "", "sfdisk", "--list", w.files["a"])
	for _, end := range []int{len(text), strings.Index(text, "img2")} {
		l, err := listing.Read("", []byte(text[:end]), "")
		require.NoError(t, err)
		m := weaker.Copy(w.machine)
		m.Drive(machine.RoleOriginal).Contents = l.Disks[0].Contents()
		assert.Contains(t, []string{full, string(startup.Depends)}, answer(m))
	}
}
