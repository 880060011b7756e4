package capture_test

import (
	"bytes"
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// scattered is a disk whose table is lost, with a volume at the beginning and one far behind.
func scattered(t *testing.T) *diskmaker.Image {
	t.Helper()
	m := diskmaker.Disk{Sectors: 64 << 30 / 512, Style: diskmaker.GPT, Partitions: []diskmaker.Partition{
		{Type: disk.TypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32"}},
		{Type: disk.TypeLinuxData, MiB: 50 << 10, Volume: diskmaker.Volume{}},
		{Type: disk.TypeLinuxData, MiB: 64, Volume: diskmaker.Volume{Kind: "ext4", UUID: [16]byte{1}}},
	}}.MustBuild()
	for _, at := range []int64{0, m.Size - 34*512} {
		_, err := m.WriteAt(make([]byte, 34*512), at)
		require.NoError(t, err)
	}
	return m
}

func takenOf(t *testing.T, m *diskmaker.Image, how capture.Taking) (capture.Taken, *machine.Contents) {
	t.Helper()
	d := &capture.Device{ReaderAt: m, Size: m.Size, LogicalSectorSize: 512}
	how.Source, how.Now = "sda", time.Now()
	taken, err := capture.Take(t.Context(), d, how)
	require.NoError(t, err)
	var file bytes.Buffer
	require.NoError(t, capture.WriteCapture(&file, taken.Manifest, d, nil))
	c, err := capture.ReadCapture(bytes.NewReader(file.Bytes()), int64(file.Len()))
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	on, err := disk.New(c.Sectors, c.Capacity, 512)
	require.NoError(t, err)
	on.SetCounts(c.Counts)
	return taken, machine.Examine(on)
}

// A capture carries what a search found, and not what it looked at in vain.
func TestACaptureOfADiskWithoutATable(t *testing.T) {
	m := scattered(t)
	taken, c := takenOf(t, m, capture.Taking{})
	require.Len(t, c.Found, 1)
	assert.False(t, c.FoundLacks)
	assert.EqualValues(t, 2048, c.Found[0].Partition.Start)
	assert.True(t, c.SearchEnded())
	var kept int64
	for _, x := range taken.Extents {
		kept += x.Length
	}
	assert.Less(t, kept, int64(4<<20))
	s := taken.Search
	assert.Equal(t, 1, s.Found)
	assert.Equal(t, m.Size, s.UpTo+s.Left)
	assert.InDelta(t, s.Left>>20*4096, s.Reads, float64(s.Reads)/20)
	assert.Positive(t, s.Takes)
}

func TestAThoroughSearchIsKeptInTheCapture(t *testing.T) {
	m := scattered(t)
	var last capture.Progress
	taken, c := takenOf(t, m, capture.Taking{Thorough: t.Context(), Report: func(p capture.Progress) {
		if p.Of > 0 {
			last = p
		}
	}})
	require.Len(t, c.Found, 2)
	assert.EqualValues(t, 2048+(64+50<<10)*2048, c.Found[1].Partition.Start)
	assert.False(t, c.SearchEnded())
	assert.Equal(t, []int64{m.Size, 2}, []int64{taken.Search.UpTo, int64(taken.Search.Found)})
	assert.Zero(t, taken.Search.Left)
	assert.Equal(t, m.Size, last.Of)
	assert.Equal(t, 2, last.Found)

	// Ended on the way, what was found until then is kept.
	search, end := context.WithCancel(t.Context())
	defer end()
	taken, c = takenOf(t, m, capture.Taking{Thorough: search, Report: func(p capture.Progress) {
		if p.Searched > 20<<30 {
			end()
		}
	}})
	require.Len(t, c.Found, 1)
	assert.True(t, c.SearchEnded())
	assert.InDelta(t, 20<<30, taken.Search.UpTo, 4<<20)
	assert.Positive(t, taken.Search.Left)
}

// A volume that a table lost, in the room that it leaves free, is found by a thorough search.
func TestAThoroughSearchOfFreeRoom(t *testing.T) {
	m := diskmaker.Disk{Sectors: 8 << 30 / 512, Style: diskmaker.GPT, Partitions: []diskmaker.Partition{
		{Type: disk.TypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32"}},
		{Type: disk.TypeLinuxData, MiB: 4 << 10, Volume: diskmaker.Volume{}},
		{Type: disk.TypeLinuxData, MiB: 64, Volume: diskmaker.Volume{Kind: "ext4", UUID: [16]byte{1}}},
	}}
	built := m.MustBuild()
	d, err := disk.New(built, built.Size, 512)
	require.NoError(t, err)
	lost := disk.ReadLayout(d).Partitions[2]
	m.Partitions = m.Partitions[:1]
	fewer := m.MustBuild()
	for _, at := range []int64{0, built.Size - 34*512} {
		table := make([]byte, 34*512)
		_, err = fewer.ReadAt(table, at)
		require.NoError(t, err)
		_, err = built.WriteAt(table, at)
		require.NoError(t, err)
	}
	_, c := takenOf(t, built, capture.Taking{})
	assert.Empty(t, c.Found)
	_, c = takenOf(t, built, capture.Taking{Thorough: t.Context()})
	starts := []uint64{}
	for _, f := range c.Found {
		starts = append(starts, f.Partition.Start)
	}
	assert.Contains(t, starts, lost.Start)
}

// A capture carries which drivers are in an initial RAM disk, and not the bytes that tell of them.
func TestACaptureOfAnInitialRAMDisk(t *testing.T) {
	ram := diskmaker.RAMDiskOf([2]string{"filler", strings.Repeat("x", 8<<20)}, [2]string{"lib/modules/6.1/nvme.ko", "x"})
	m := sample.With(sample.LinuxDisk(1, 1), 1, "boot/initrd.img", string(ram)).MustBuild()
	taken, c := takenOf(t, m, capture.Taking{})
	var kept int64
	for _, x := range taken.Extents {
		kept += x.Length
	}
	assert.Less(t, kept, int64(2<<20))
	drive := machine.Drive{Name: "clone", Contents: c}
	read := 0
	for _, s := range drive.Spots() {
		if p, _, err := s.Payload("/boot/initrd.img"); err == nil {
			read++
			assert.Equal(t, loader.DriverNVMe|loader.DriversWhole|loader.DriversRead, p.Drivers)
		}
	}
	assert.Equal(t, 1, read)
}
