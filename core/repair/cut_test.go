package repair_test

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
	"latchkey/truth"
)

// cut is a step whose writing ended in the middle: the disk before it, and the sectors that it
// writes, with what they hold afterwards.
type cut struct {
	before  *diskmaker.Image
	sectors []int64 // their byte offsets
	after   map[int64][]byte
}

// cutOf carries a step out on a copy of an image, and finds what it wrote.
func cutOf(t *testing.T, image *diskmaker.Image, step repair.PlanStep) cut {
	t.Helper()
	c := cut{before: image, after: map[int64][]byte{}}
	path := filepath.Join(reference.Folder(t), "after")
	require.NoError(t, image.WriteFile(path))
	answer, err := truth.CarryOut(path, repair.Plan{Steps: []repair.PlanStep{step}})
	require.NoError(t, err, answer)
	f := opened(t, path)
	const data, hole = 3, 4 // of lseek(2): SEEK_DATA, SEEK_HOLE
	for at := int64(0); ; {
		from, err := f.Seek(at, data)
		if err != nil {
			return c // behind it all is a hole
		}
		to, err := f.Seek(from, hole)
		require.NoError(t, err)
		for at = from / 512 * 512; at < to; at += 512 {
			was, is := make([]byte, 512), make([]byte, 512)
			_, err := image.ReadAt(was, at)
			require.NoError(t, err)
			_, err = f.ReadAt(is, at)
			require.NoError(t, err)
			if !bytes.Equal(was, is) {
				c.sectors, c.after[at] = append(c.sectors, at), is
			}
		}
	}
}

func opened(t *testing.T, path string) *os.File {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

// at is the disk with some of the sectors written: a drive writes them in any order.
func (c cut) at(t *testing.T, done []int64) string {
	t.Helper()
	image := c.before.Clone(c.before.Size)
	for _, at := range done {
		_, err := image.WriteAt(c.after[at], at)
		require.NoError(t, err)
	}
	path := filepath.Join(reference.Folder(t), "cut")
	require.NoError(t, image.WriteFile(path))
	return path
}

// The power is cut in the middle of a step, at places by chance. What the step overwrites is
// among what it saves, so that putting it back gives the disk of before to the byte; and where
// nobody puts it back, what is planned on the disk as it was left leads to a start.
func TestAStepThatIsCut(t *testing.T) {
	t.Parallel()
	cuts, planned := 0, 0
	for _, s := range systems {
		for i, d := range s.damages {
			if testing.Short() && i > 0 {
				continue
			}
			t.Run(s.name+": "+d.name, func(t *testing.T) {
				image := s.disk.MustBuild()
				d.spoil(image)
				plan := repair.Find(s.machine(t, image, false), repair.Linux)
				if len(plan.Steps) == 0 || !truth.OnDiskAlone(repair.Plan{Steps: plan.Steps[:1]}) {
					return
				}
				step := plan.Steps[0]
				c := cutOf(t, image, step)
				require.NotEmpty(t, c.sectors, "the step writes nothing")
				for _, at := range c.sectors {
					assert.True(t, saves(step, uint64(at/512)), "sector %d is overwritten and not saved", at/512)
				}
				r := rand.New(rand.NewPCG(uint64(i), 17))
				for range 5 {
					cuts++
					order := r.Perm(len(c.sectors))
					var done []int64
					for _, j := range order[:r.IntN(len(order))] {
						done = append(done, c.sectors[j])
					}
					if path := c.at(t, done); s.goesOn(t, path) {
						planned++
					}
				}
			})
		}
	}
	t.Logf("%d cuts, from %d of them the plan goes on to a start", cuts, planned)
	assert.Equal(t, cuts, planned)
}

func saves(step repair.PlanStep, sector uint64) bool {
	for _, s := range step.Saves {
		if s.First <= sector && sector < s.First+s.Count {
			return true
		}
	}
	return false
}

// goesOn plans on a disk that was left in the middle, carries that out and looks whether it
// starts.
func (s ofSystem) goesOn(t *testing.T, path string) bool {
	t.Helper()
	read := func() machine.Machine {
		info, err := os.Stat(path)
		require.NoError(t, err)
		on, err := disk.New(opened(t, path), info.Size(), 512)
		require.NoError(t, err)
		m := s.machine(t, diskmaker.NewImage(1<<20, 512), false)
		m.Drives[0].Contents = machine.Examine(on)
		return m
	}
	m := read()
	plan := repair.Find(m, repair.Linux)
	if len(plan.Steps) == 0 {
		before := startup.Simulate(m)
		return assert.Equal(t, startup.Starts, before.Verdict, "%s; %s", before.Headline, plan.Reason)
	}
	if !truth.OnDiskAlone(plan) {
		return plan.Verdict == startup.Starts
	}
	_, err := truth.CarryOut(path, plan)
	require.NoError(t, err)
	return assert.Equal(t, startup.Starts, startup.Simulate(read()).Verdict, "%v", actionsOf(plan))
}
