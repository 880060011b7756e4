package firmware_test

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/firmware"
)

func TestWhetherEntriesAreTold(t *testing.T) {
	one := map[uint16]firmware.Entry{1: {}}
	var none *firmware.Entries
	assert.False(t, none.Told())
	assert.True(t, (&firmware.Entries{}).Told(), "it is known that there are none")
	assert.False(t, (&firmware.Entries{Open: true}).Told())
	assert.True(t, (&firmware.Entries{Open: true, All: one}).Told())
	assert.True(t, (&firmware.Entries{Open: true, Order: []uint16{1}}).Told())
}

// What one listing tells is kept beside what another does, whichever of them is empty.
func TestAnEmptyListingChangesNothing(t *testing.T) {
	named := func() map[uint16]firmware.Entry {
		return map[uint16]firmware.Entry{1: {Number: 1, Description: "by its name", Named: true}}
	}
	empty := &firmware.Entries{All: map[uint16]firmware.Entry{}}
	empty.Fill(&firmware.Entries{All: named()}, 7)
	assert.Equal(t, "by its name", empty.All[1].Description)
	assert.Equal(t, uint64(7), empty.All[1].Source.Evidence)

	own := &firmware.Entries{All: named()}
	own.Fill(&firmware.Entries{All: map[uint16]firmware.Entry{}}, 7)
	assert.Len(t, own.All, 1)

	whole := &firmware.Entries{All: map[uint16]firmware.Entry{1: {Number: 1, Description: "own"}}}
	whole.Fill(&firmware.Entries{All: map[uint16]firmware.Entry{1: {Number: 1, Description: "the other's"}}}, 7)
	assert.Equal(t, "own", whole.All[1].Description, "both tell the path")
	whole.All[1] = firmware.Entry{Number: 1, Description: "own", Path: firmware.Path{Open: true}}
	whole.Fill(&firmware.Entries{All: map[uint16]firmware.Entry{1: {Number: 1, Description: "the other's"}}}, 7)
	assert.Equal(t, "the other's", whole.All[1].Description, "it alone tells the path")
}

// Whom the firmware trusts is told by one piece of evidence or by the other.
func TestKeysOfTwoPieces(t *testing.T) {
	keys := &firmware.Keys{Firmware: &firmware.Trusted{}}
	e := &firmware.Entries{All: map[uint16]firmware.Entry{}}
	e.Fill(&firmware.Entries{Keys: keys}, 7)
	assert.Same(t, keys, e.Keys)
	e.Fill(&firmware.Entries{}, 8)
	assert.Same(t, keys, e.Keys)
	owner := &firmware.Trusted{}
	e.Fill(&firmware.Entries{Keys: &firmware.Keys{Owner: owner}}, 9)
	assert.Same(t, keys.Firmware, e.Keys.Firmware)
	assert.Same(t, owner, e.Keys.Owner)
}

// A load option has eight bytes at least, and a path that ends; a partition's node is one of an MBR
// where neither its format nor its signature is a GPT's. UEFI Specification 2.10, section 3.1.3 and
// table 10.49.
func TestTheShortestLoadOptionAndAPartitionsNode(t *testing.T) {
	_, err := firmware.DecodeLoadOption(1, make([]byte, 7))
	require.ErrorContains(t, err, "has 7 bytes")
	_, err = firmware.DecodeLoadOption(1, []byte{1, 0, 0, 0, 0, 0, 0, 0})
	require.ErrorContains(t, err, "before its end node", "its fields are read")

	for _, c := range []struct {
		format, signature byte
		mbr               bool
	}{{1, 1, true}, {2, 2, false}, {1, 2, false}, {2, 1, false}} {
		node := make([]byte, 42)
		copy(node, []byte{4, 1, 42, 0, 3})
		binary.LittleEndian.PutUint64(node[8:], 2048)
		node[24], node[40], node[41] = 0x77, c.format, c.signature
		raw := append([]byte{1, 0, 0, 0, 46, 0, 0, 0}, append(node, 0x7F, 0xFF, 4, 0)...)
		e, err := firmware.DecodeLoadOption(1, raw)
		require.NoError(t, err)
		require.NotNil(t, e.Path.Partition)
		assert.Equal(t, c.mbr, e.Path.Partition.MBR, "%v", c)
	}
}
