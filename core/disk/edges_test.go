package disk_test

import (
	"encoding/binary"
	"hash/crc32"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// Bounds, one on each side, and the places that problems cite: what a changed comparison or
// a sum that became a difference would move.

// lastPartition gives the last partition another end, with correct checksums.
func lastPartition(t *testing.T, m *diskmaker.Image, last uint64) {
	t.Helper()
	array := make([]byte, 128*128)
	_, err := m.ReadAt(array, 1024)
	require.NoError(t, err)
	binary.LittleEndian.PutUint64(array[2*128+40:], last)
	sum := binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(array))
	sectors := m.Size / 512
	for _, at := range []struct{ header, array int64 }{{1, 2}, {sectors - 1, sectors - 33}} {
		write(t, m, at.array*512, array...)
		write(t, m, at.header*512+88, sum...)
		resum(t, m, at.header)
	}
}

func TestEndsOfPartitions(t *testing.T) {
	sectors := uint64(healthy(t).Size / 512)
	for last, want := range map[uint64]string{sectors: "beyond", sectors - 1: "outside", sectors - 34: "", sectors - 33: "outside"} {
		m := healthy(t)
		lastPartition(t, m, last)
		l := layout(t, m)
		require.Equal(t, disk.CopyGood, l.GPT.Primary.State)
		if want == "" {
			assert.Empty(t, codes(l), last)
			continue
		}
		assert.Contains(t, strings.Join(codes(l), " "), want, last)
	}
	m := healthy(t)
	before := layout(t, m).Partitions[2]
	lastPartition(t, m, before.Start)
	assert.EqualValues(t, 1, layout(t, m).Partitions[2].Length, "a partition of one sector")
	lastPartition(t, m, before.Start-1)
	assert.Zero(t, layout(t, m).Partitions[2].Length, "it ends before it begins")
}

func TestProblemsCiteTheirPlaces(t *testing.T) {
	m := healthy(t)
	end := m.Size - 512
	write(t, m, end, make([]byte, 512)...)
	p, found := firstOf(layout(t, m), disk.CodeGPTBackupAbsent)
	require.True(t, found)
	assert.Equal(t, []int64{end, 8}, []int64{p.Source.Offset, p.Source.Length})
	for at, structure := range map[int64]string{512: "GPT header (primary)", end: "GPT header (backup)"} {
		m := healthy(t)
		write(t, m, at+16, 1, 2, 3, 4)
		p, found := firstOf(layout(t, m), disk.CodeGPTHeaderCRC)
		require.True(t, found)
		assert.Equal(t, at+16, p.Source.Offset)
		assert.Equal(t, structure, p.Source.Structure)
	}
	// A header's size: 92 bytes at least, a sector at most.
	for size, bad := range map[uint32]bool{91: true, 92: false, 512: false, 513: true} {
		m := healthy(t)
		write(t, m, 512+12, binary.LittleEndian.AppendUint32(nil, size)...)
		_, found := firstOf(layout(t, m), disk.CodeGPTHeaderSize)
		assert.Equal(t, bad, found, size)
	}
}

func firstOf(l disk.Layout, code disk.ProblemCode) (disk.Problem, bool) { return l.Find(code) }

func TestHalfASignatureIsNone(t *testing.T) {
	for _, bytes := range [][2]byte{{0x55, 0}, {0, 0xAA}} {
		m := healthy(t)
		write(t, m, 510, bytes[0], bytes[1])
		assert.False(t, layout(t, m).MBR.Signature)
	}
}

// A GPT of which one copy is left, whichever, is one without a protective record too.
func TestEitherCopyMakesAGPT(t *testing.T) {
	for _, at := range []int64{512, healthy(t).Size - 512} {
		m := healthy(t)
		write(t, m, at, make([]byte, 512)...)
		write(t, m, 440, make([]byte, 72)...)
		assert.NotEmpty(t, layout(t, m).GPT.Primary.State+layout(t, m).GPT.Backup.State)
		assert.True(t, layout(t, m).GPT.Primary.Lost() != layout(t, m).GPT.Backup.Lost(), "one of the two is lost")
	}
	m := healthy(t)
	write(t, m, 512+16, 1, 2, 3, 4)
	l := layout(t, m)
	assert.True(t, l.GPT.Primary.Lost(), "damaged is lost")
	assert.False(t, l.GPT.Backup.Lost())
	// Both copies' headers and entries are regions, the damaged one's header among them.
	names := map[string]int{}
	for _, r := range l.Regions() {
		names[r.Structure]++
	}
	assert.Equal(t, 1, names["GPT header (primary)"])
	assert.Equal(t, 1, names["GPT header (backup)"])
}

func TestPlacesOfTheMBRsFields(t *testing.T) {
	want := map[string]int64{"record 1 StartingLBA": 454, "record 4 SizeInLBA": 506, "record 2 OSType": 466, "Signature": 510, "UniqueMBRDiskSignature": 440}
	for _, f := range disk.MBRFields() {
		if at, named := want[f.Name]; named {
			assert.Equal(t, at, f.Offset, f.Name)
			delete(want, f.Name)
		}
	}
	assert.Empty(t, want)
	assert.Equal(t, "0102030405060708… (9 bytes)", disk.Field{Form: disk.Raw, Length: 9}.Decode([]byte{1, 2, 3, 4, 5, 6, 7, 8, 9}))
	assert.Equal(t, "01 02 03 04 05 06 07 08", disk.Field{Form: disk.Raw, Length: 8}.Decode([]byte{1, 2, 3, 4, 5, 6, 7, 8}))
}

func TestCountsBelongToTheirPlace(t *testing.T) {
	d, err := disk.New(strings.NewReader(strings.Repeat("\x00", 512)), 512, 512)
	require.NoError(t, err, "a disk of one sector")
	_, err = disk.New(strings.NewReader(strings.Repeat("\x00", 511)), 511, 512)
	assert.Error(t, err)
	d.SetCount(disk.Count{Name: "clusters", Offset: 5, Value: 7})
	for _, c := range []struct {
		name   string
		offset int64
		found  bool
	}{{"clusters", 5, true}, {"clusters", 6, false}, {"blocks", 5, false}} {
		n, found := d.Counted(c.name, c.offset)
		assert.Equal(t, c.found, found)
		assert.Equal(t, found, n == 7)
	}
	_, err = d.ReadAt(make([]byte, 1), 512)
	assert.ErrorIs(t, err, io.EOF)
}

func TestSizesAtTheirBounds(t *testing.T) {
	assert.Equal(t, []string{"999 B", "1 kB"}, []string{disk.Label(999), disk.Label(1000)})
	assert.Equal(t, []string{"1023 B", "1 KiB"}, []string{disk.Binary(1023), disk.Binary(1024)})
	for _, bad := range []string{"AAAAAAAA-0000-4000-8000-00000000000", "AAAAAAAA-0000-4000-80000-00000000000", "AAAAAAAA0000-4000-8000-0000000000000", "AAAAAAAA-0000-4000-8000-0000-0000000"} {
		_, err := disk.ParseGUID(bad)
		assert.Error(t, err, bad)
	}
}

// Where a table ends: for 512 bytes the entries take 32 sectors, for 4,096 four.
func TestLastUsable(t *testing.T) {
	assert.EqualValues(t, 1000-34, disk.LastUsable(1000, 512))
	assert.EqualValues(t, 1000-6, disk.LastUsable(1000, 4096))
	assert.Zero(t, disk.LastUsable(34, 512), "no room for a table")
	assert.EqualValues(t, 1, disk.LastUsable(35, 512))
}

// Without the carry of 64 bits a sector far beyond the end may be one on the disk.
func TestEntriesWhereTheCarryIsLost(t *testing.T) {
	for high, want := range map[byte]disk.ProblemCode{0x16: disk.CodeGPTArrayWraps, 0: "",
		0x01: disk.CodeGPTArrayOutside} {
		m := healthy(t)
		at := int64(79)
		if high == 0x01 {
			at = 77 // the carry is not all of it
		}
		for _, header := range []int64{1, m.Size/512 - 1} {
			write(t, m, header*512+at, high)
			resum(t, m, header)
		}
		l := layout(t, m)
		_, found := l.Find(want)
		assert.Equal(t, want != "", found, "%X %v", high, codes(l))
		assert.Equal(t, want == "", l.GPT.Valid() != nil)
	}
}
