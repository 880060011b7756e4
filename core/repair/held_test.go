package repair_test

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// dummies are boot sectors as the tools that make file systems leave them.
func dummies(t *testing.T) [][]byte {
	var out [][]byte
	for _, tool := range [][]string{{"mkfs.fat", "-F", "32"}, {"mkfs.fat", "-F", "16"}, {"mkntfs", "-F", "-Q", "-q", "-H", "255", "-S", "63", "-p", "2048"}} {
		path := reference.Image(t, 100<<20)
		reference.Run(t, "", tool[0], append(tool[1:], path)...)
		f, err := os.Open(path)
		require.NoError(t, err)
		sector := make([]byte, 512)
		_, err = f.ReadAt(sector, 0)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		out = append(out, sector)
	}
	return out
}

// written carries a plan's steps out on the bytes; ok is false for one that changes more
// than sectors whose content the step itself tells.
func written(t *testing.T, image *diskmaker.Image, c *machine.Contents, steps []repair.PlanStep) (ok bool) {
	put := func(b []byte, off int64) {
		_, err := image.WriteAt(b, off)
		require.NoError(t, err)
	}
	for _, s := range steps {
		var number int
		if n, _ := fmt.Sscanf(s.Key, "active %d", &number); n == 1 {
			for _, e := range c.Layout.MBR.Entries {
				put([]byte{map[bool]byte{true: 0x80}[e.Number == number]}, 446+16*int64(e.Number-1))
			}
			continue
		}
		if n, _ := fmt.Sscanf(s.Key, "hidden %d", &number); n == 1 {
			p := partitionOf(c, number)
			put(binary.LittleEndian.AppendUint32(nil, uint32(p.Start)), disk.Span(p.Start, 512)+28)
			continue
		}
		if n, _ := fmt.Sscanf(s.Key, "boot-sector %d", &number); n == 1 {
			i := slices.IndexFunc(c.Layout.Partitions, func(p disk.Partition) bool { return p.Number == number })
			if len(c.Volumes[i].Spares) != 1 {
				return false
			}
			sector := make([]byte, 512)
			_, err := image.ReadAt(sector, disk.Span(c.Volumes[i].Spares[0].Sector, 512))
			require.NoError(t, err)
			put(sector, disk.Span(c.Layout.Partitions[i].Start, 512))
			continue
		}
		if s.Action != "boot-code" {
			return false
		}
		put(loader.StandardCode[:440], 0)
		put([]byte{0x55, 0xAA}, 510)
	}
	return true
}

func partitionOf(c *machine.Contents, number int) disk.Partition {
	for _, p := range c.Layout.Partitions {
		if p.Number == number {
			return p
		}
	}
	return disk.Partition{}
}

// A plan is told only if its end holds: for legacy disks of all sorts, the disk is written
// as the steps say, read again, and must start as it was told.
func TestPlansHoldOnTheDiskThatIsWritten(t *testing.T) {
	t.Parallel()
	sectors := dummies(t)
	told, tried := 0, 0
	machines := uint64(400)
	if testing.Short() {
		machines = 130
	}
	for seed := range machines {
		r := rand.New(rand.NewPCG(seed, 11))
		one := func(n int) bool { return r.IntN(n) == 0 }
		d := legacyDisk([][]int{{}, {0}, {1}, {0, 1}}[r.IntN(4)]...)
		if one(3) {
			d.BootCode = ""
		}
		image := d.MustBuild()
		layout := machineOf(t, firmware.Legacy, image).Drives[0].Contents.Layout
		for _, p := range layout.Partitions {
			at, end := disk.Span(p.Start, 512), disk.Span(p.End()-1, 512)
			sector := make([]byte, 512)
			switch r.IntN(5) {
			case 0, 1:
				sector = slices.Clone(sectors[r.IntN(len(sectors))])
				binary.LittleEndian.PutUint32(sector[28:], uint32(p.Start))
			case 2: // nothing, and perhaps a dummy as the spare
				if one(2) {
					_, err := image.WriteAt(sectors[2], end)
					require.NoError(t, err)
				}
			case 3: // code that is none
				for i := range sector[:510] {
					sector[i] = byte(r.IntN(256))
				}
				sector[510], sector[511] = 0x55, 0xAA
			default:
				continue
			}
			_, err := image.WriteAt(sector, at)
			require.NoError(t, err)
		}
		m := machineOf(t, firmware.Legacy, image)
		p := repair.Find(m)
		if p.Verdict != startup.Starts || len(p.Steps) == 0 {
			continue
		}
		tried++
		if !written(t, image, m.Drives[0].Contents, p.Steps) {
			continue
		}
		told++
		after := startup.Simulate(machineOf(t, firmware.Legacy, image))
		assert.Equal(t, startup.Starts, after.Verdict, "machine %d: %v: %s", seed, actionsOf(p), after.Headline)
	}
	t.Logf("%d plans were told, %d of them written", tried, told)
	assert.Greater(t, told, int(machines)/10)
}

// What reaches a loader that the rules do not know may start as it is: nothing is written on
// that, and the plan says how to see.
func TestNothingIsWrittenOnWhatIsNotCovered(t *testing.T) {
	t.Parallel()
	m := machineOf(t, firmware.UEFI, windows(8).MustBuild())
	m.Until = ""
	require.Equal(t, startup.Depends, startup.Simulate(m).Verdict)
	plan := repair.Find(m)
	assert.Empty(t, plan.Steps)
	require.NotNil(t, plan.Ask)
	assert.Empty(t, plan.Ask.Options)
	assert.Contains(t, plan.Ask.How, "Start the machine once with the clone alone")
}
