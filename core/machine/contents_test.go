package machine_test

import (
	"io"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/internal/diskmaker"
)

// Contents can hold nothing that reads: planning and simulating are functions of
// what was read, whatever has become of the disk.
func TestContentsHoldNoReader(t *testing.T) {
	readers := []reflect.Type{reflect.TypeFor[io.ReaderAt](), reflect.TypeFor[io.Reader]()}
	seen := map[reflect.Type]bool{}
	var visit func(path string, x reflect.Type)
	visit = func(path string, x reflect.Type) {
		if seen[x] {
			return
		}
		seen[x] = true
		for _, r := range readers {
			assert.False(t, x.Implements(r), "%s is a reader", path)
		}
		switch x.Kind() {
		case reflect.Func, reflect.Chan:
			assert.Fail(t, "no data", path)
		case reflect.Interface:
			assert.Equal(t, reflect.TypeFor[error](), x, path)
		case reflect.Pointer, reflect.Slice, reflect.Array, reflect.Map:
			visit(path, x.Elem())
		case reflect.Struct:
			for i := range x.NumField() {
				visit(path+"."+x.Field(i).Name, x.Field(i).Type)
			}
		}
	}
	visit("Contents", reflect.TypeFor[machine.Contents]())
	assert.Greater(t, len(seen), 40)
}

// behind is a disk with room behind it, as a sector copy leaves it on a larger
// drive.
type behind struct {
	*diskmaker.Image
}

func (b behind) ReadAt(p []byte, off int64) (int, error) {
	clear(p)
	if off >= b.Size {
		return len(p), nil
	}
	if _, err := b.Image.ReadAt(p[:min(int64(len(p)), b.Size-off)], off); err != nil {
		return 0, err
	}
	return len(p), nil
}

// A copy onto a larger drive is what reading such a drive gives, whatever was
// damaged before.
func TestACopyOntoALargerDriveIsAsThatDriveReads(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 11))
	for round := range 120 {
		d := twoPartitions()
		if round%3 == 0 {
			d = diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.MBR, Signature: 7, BootCode: "classic",
				Partitions: []diskmaker.Partition{
					{MBRType: 7, MiB: 100, Active: true, Volume: diskmaker.Volume{Kind: "ntfs"}},
					{MBRType: 0x83, Volume: diskmaker.Volume{Kind: "ext4"}}}}
		}
		m := d.MustBuild()
		for range round % 4 { // in sector 0, the header, the first entries, or the backup
			at := []int64{r.Int64N(512), 512 + r.Int64N(92), 1024 + r.Int64N(256), m.Size - 512 + r.Int64N(92),
				m.Size - 16896 + r.Int64N(256)}[r.IntN(5)]
			_, err := m.WriteAt([]byte{byte(r.Uint32())}, at)
			require.NoError(t, err)
		}
		was, err := disk.New(m, m.Size, m.SectorSize)
		require.NoError(t, err)
		size := m.Size + []int64{0, 512, 1 << 20, 7 << 30}[r.IntN(4)]
		is, err := disk.New(behind{m}, size, m.SectorSize)
		require.NoError(t, err)

		want := machine.Examine(is)
		got := machine.Examine(was).CopiedWhole(want)
		require.Equal(t, want.Layout.Problems, got.Layout.Problems, "round %d", round)
		require.Equal(t, want.Layout.Partitions, got.Layout.Partitions)
		require.Equal(t, want.Layout.GPT, got.Layout.GPT)
		require.Equal(t, want.Layout.MBR, got.Layout.MBR)
		require.Equal(t, want.Code, got.Code)
		for i := range want.Volumes {
			assert.Equal(t, want.Volumes[i].Kind, got.Volumes[i].Kind, "round %d, volume %d", round, i)
			assert.Equal(t, want.Volumes[i].Serial, got.Volumes[i].Serial)
		}
	}
}

func TestACopyOfWhatWasToldIsNotKnown(t *testing.T) {
	d := told("text")
	onto := examine(t, twoPartitions())
	copied := d.Contents().CopiedWhole(onto)
	assert.Equal(t, disk.StyleUnknown, copied.Layout.Style)
	assert.Empty(t, copied.Volumes)
	smaller := examine(t, twoPartitions())
	smaller.Layout.Sectors--
	assert.Equal(t, disk.StyleUnknown, onto.CopiedWhole(smaller).Layout.Style, "there is no room")
}

// The spare boot sector is read with the disk, and the volume that it makes.
func TestASpareBootSectorIsRead(t *testing.T) {
	m := twoPartitions().MustBuild()
	read := func() *machine.Contents {
		d, err := disk.New(m, m.Size, m.SectorSize)
		require.NoError(t, err)
		return machine.Examine(d)
	}
	whole := read()
	for i, p := range whole.Layout.Partitions {
		_, err := m.WriteAt([]byte(strings.Repeat("\x00", 512)), int64(p.Start)*512)
		require.NoError(t, err)
		c := read()
		require.Len(t, c.Volumes[i].Spares, 1, "partition %d", p.Number)
		assert.NotEqual(t, whole.Volumes[i].Kind, c.Volumes[i].Kind)
		mended := c.WithSectorCopied(i, c.Volumes[i].Spares[0])
		assert.Equal(t, whole.Volumes[i].Kind, mended.Volumes[i].Kind)
		assert.Equal(t, whole.Volumes[i].Serial, mended.Volumes[i].Serial)
		assert.Len(t, c.Volumes[i].Spares, 1, "the receiver stays as it is")
	}
}
