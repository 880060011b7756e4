package volume_test

import (
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/volume"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// What a search finds is where the partitions were, by the figures of the tools that made
// the file systems; what lies within another is passed over.
func TestVolumesAreFoundWithoutATable(t *testing.T) {
	declared := diskmaker.Disk{Sectors: 1 << 22, Style: diskmaker.GPT, Partitions: []diskmaker.Partition{
		{Type: disk.TypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32"}},
		{Type: disk.TypeMSReserved, MiB: 16},
		{Type: disk.TypeBasicData, MiB: 300, Volume: diskmaker.Volume{Kind: "ntfs"}},
		{Type: disk.TypeLinuxData, MiB: 500, Volume: diskmaker.Volume{Kind: "ext4", UUID: [16]byte{1}}},
		{Type: disk.TypeLinuxData, MiB: 600, Volume: diskmaker.Volume{Kind: "lvm", Group: "vg",
			Logical: []diskmaker.Logical{{Name: "a", MiB: 64, Volume: diskmaker.Volume{Kind: "ext4", UUID: [16]byte{2}}}}}},
	}}
	m := declared.MustBuild()
	was := must(t, m)
	_, err := m.WriteAt(make([]byte, 34*512), 0)
	require.NoError(t, err)
	d, err := disk.New(m, m.Size, 512)
	require.NoError(t, err)
	hits, upTo, lacks := volume.Search(d)
	assert.Equal(t, d.Sectors(), upTo)
	assert.False(t, lacks)
	var want []volume.Hit
	for _, p := range was.Partitions {
		if p.TypeGUID != disk.TypeMSReserved {
			want = append(want, volume.Hit{Start: p.Start, Length: p.Length})
		}
	}
	assert.Equal(t, want, hits)
}

func must(t *testing.T, m *diskmaker.Image) disk.Layout {
	t.Helper()
	d, err := disk.New(m, m.Size, 512)
	require.NoError(t, err)
	return disk.ReadLayout(d)
}

// Kinds that tell their length at another place than the boot sector.
func TestTheLengthThatAVolumeTells(t *testing.T) {
	for tool, args := range map[string][]string{"mkfs.xfs": {"-q"}, "mkfs.btrfs": {"-q"}, "mkswap": nil} {
		path := reference.Image(t, 320<<20)
		reference.Run(t, "", tool, append(args, path)...)
		v := examine(t, path, 512, 2048)
		require.NotEqual(t, volume.Unknown, v.Kind)
		d := openShifted(t, path, 2048)
		hits, _, _ := volume.Search(d)
		require.Len(t, hits, 1, tool)
		assert.Equal(t, uint64(2048), hits[0].Start, tool)
		assert.Equal(t, uint64(320<<20/512), hits[0].Length, tool)
	}
}

// endless is a disk of which every byte is the same, and which counts what is read of it.
type endless struct{ read *int64 }

func (e endless) ReadAt(b []byte, _ int64) (int, error) {
	*e.read += int64(len(b))
	clear(b)
	return len(b), nil
}

func TestASearchIsBounded(t *testing.T) {
	var read int64
	d, err := disk.New(endless{&read}, 1<<40, 512)
	require.NoError(t, err)
	hits, upTo, _ := volume.Search(d)
	assert.Empty(t, hits)
	assert.Less(t, upTo, d.Sectors())
	assert.Less(t, read, int64(64<<20), "of a disk of 1 TiB")
}

// A thorough search goes on to the end, or until it is told not to; the disk's next
// examination takes what it found from there.
func TestAThoroughSearch(t *testing.T) {
	path := reference.Image(t, 64<<20)
	reference.Run(t, "", "mke2fs", "-q", "-t", "ext4", path)
	r := far{volume: reference.NeedFile(t, path), at: 40 << 30}
	d, err := disk.New(r, 48<<30, 512)
	require.NoError(t, err)
	hits, upTo, _ := volume.Search(d)
	assert.Empty(t, hits)
	require.Less(t, upTo, uint64(40<<30/512))
	ended := volume.SearchThoroughly(d, upTo, d.Sectors(), func(now volume.Searching) bool { return now.Places < 100 })
	assert.Equal(t, 100, ended.Places)
	hits, last, _ := volume.Search(d)
	assert.Empty(t, hits)
	assert.Equal(t, ended.UpTo, last)
	assert.Equal(t, upTo+100*2048, last)
	got := volume.SearchThoroughly(d, last, d.Sectors(), func(volume.Searching) bool { return true })
	assert.Equal(t, volume.Searching{UpTo: d.Sectors(), Places: got.Places, Found: 1}, got)
	places, bytes := volume.Left(d, last, d.Sectors())
	assert.Less(t, int64(got.Places), places, "the volume is passed over")
	assert.Greater(t, bytes, 4096*places)
	hits, last, lacks := volume.Search(d)
	assert.Equal(t, []volume.Hit{{Start: 40 << 30 / 512, Length: 64 << 20 / 512}}, hits)
	assert.Equal(t, d.Sectors(), last)
	assert.False(t, lacks)
}

// far is a volume far behind the beginning of a disk of zeros.
type far struct {
	volume []byte
	at     int64
}

func (f far) ReadAt(b []byte, off int64) (int, error) {
	clear(b)
	if from := off - f.at; from > -int64(len(b)) && from < int64(len(f.volume)) {
		copy(b[max(0, -from):], f.volume[max(0, from):])
	}
	return len(b), nil
}

func FuzzSearch(f *testing.F) {
	f.Add([]byte("\xEB\x52\x90NTFS    "), uint16(63))
	f.Add([]byte("XFSB\x00\x00\x10\x00"), uint16(2048))
	f.Fuzz(func(t *testing.T, raw []byte, at uint16) {
		image := make([]byte, 4<<20)
		copy(image[int(at)*512%len(image):], raw)
		d, err := disk.New(bytes.NewReader(image), int64(len(image)), 512)
		require.NoError(t, err)
		hits, _, _ := volume.Search(d)
		last := uint64(0)
		for _, h := range hits {
			if h.Start < last || h.Length > d.Sectors()-h.Start {
				t.Fatalf("a volume at %d, %d sectors long, behind one that ends at %d", h.Start, h.Length, last)
			}
			last = h.Start + h.Length
		}
	})
}

// openShifted is an image that begins at a sector of a disk.
func openShifted(t *testing.T, path string, start uint64) *disk.Disk {
	t.Helper()
	raw := reference.NeedFile(t, path)
	base := int64(start) * 512
	d, err := disk.New(io.NewSectionReader(bytes.NewReader(append(make([]byte, base), raw...)), 0,
		base+int64(len(raw))), base+int64(len(raw)), 512)
	require.NoError(t, err)
	return d
}
