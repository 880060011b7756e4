package weaker_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/reference"
	"latchkey/internal/weaker"
	"latchkey/truth"
)

var planned = flag.Int("plans", 60, "of how many machines at random the plans are carried out")

// TestPlansOnLessEvidenceHold plans on a part of the evidence of machines that do not start. A
// plan that is told is carried out on the whole disk by its own commands: the machine, of which
// everything is known again, must start from the clone.
func TestPlansOnLessEvidenceHold(t *testing.T) {
	if testing.Short() {
		t.Skip("carries plans out")
	}
	reference.Need(t, "sfdisk", "dd")
	var told, held, refused atomic.Int64
	side(*planned, func(i int) {
		s := truth.Random(*seed*1_000_000 + uint64(i))
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			w := prepared(t, s)
			if i%2 == 1 {
				w = w.elsewhere()
			}
			full := startup.Simulate(w.machine).Verdict
			if full != startup.Stops && full != startup.StartsOriginal {
				return
			}
			r := rand.New(rand.NewPCG(*seed, uint64(i)))
			seen := map[string]bool{}
			for range 8 {
				m, lost := weakened(r, &w)
				plan := repair.Find(m, repair.Linux)
				key := fmt.Sprint(actions(plan))
				if len(plan.Steps) == 0 || plan.Verdict != startup.Starts || !truth.OnDiskAlone(plan) || seen[key] {
					continue
				}
				seen[key] = true
				told.Add(1)
				after, answer, err := carriedOut(t, &w, plan)
				if err != nil {
					refused.Add(1)
					t.Logf("%s: without %s: %s: %v %s", w.name, strings.Join(lost, " + "), key, err, answer)
					continue
				}
				trace := startup.Simulate(after)
				if assert.Equal(t, startup.Starts, trace.Verdict, "%s: without %s: %s: %s", w.name, strings.Join(lost, " + "), key, trace.Headline) {
					held.Add(1)
				}
			}
		})
	})
	t.Logf("%d plans were told, %d hold, %d were refused by their own commands", told.Load(), held.Load(), refused.Load())
	require.NotZero(t, held.Load())
}

func actions(p repair.Plan) (out []string) {
	for _, s := range p.Steps {
		out = append(out, s.Key)
	}
	return out
}

// carriedOut is the whole machine after a plan's commands were run on its clone.
func carriedOut(t *testing.T, w *whole, plan repair.Plan) (m machine.Machine, answer string, err error) {
	dir, clone := t.TempDir(), w.machine.Drive(machine.RoleClone).Name
	out, err := exec.Command("cp", "-r", "--sparse=always", filepath.Dir(w.files[clone])+"/.", dir).CombinedOutput()
	require.NoError(t, err, string(out))
	if answer, err = truth.CarryOut(filepath.Join(dir, clone+".img"), plan); err != nil {
		return m, answer, err
	}
	m, err = capture.Load(filepath.Join(dir, "machine.json"))
	require.NoError(t, err)
	m.Firmware.Behaviour = w.machine.Firmware.Behaviour
	return m, "", nil
}

// TestWhatWasNotLookedAtIsNotWrittenOver plans for clones of which parts are held: no step writes
// a table of which nobody looked at what stands there, copies the original over what nobody
// looked at, or formats a boot partition in which nothing is wrong.
func TestWhatWasNotLookedAtIsNotWrittenOver(t *testing.T) {
	tables := []string{"restore-primary", "rebuild-table", "correct-table", "unhide", "partition-type"}
	list := slices.DeleteFunc(truth.Scenarios(), func(s truth.Scenario) bool {
		return len(s.Drives) == 0 || slices.ContainsFunc(s.Drives, func(d truth.Drive) bool { return d.Make != nil })
	})
	for i := range uint64(*drawn) {
		list = append(list, truth.Random(*seed*1_000_000+i))
	}
	tries := *count / 2
	if testing.Short() {
		list, tries = some(list), 2
	}
	var steps atomic.Int64
	side(len(list), func(i int) {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			w := prepared(t, list[i])
			r := rand.New(rand.NewPCG(*seed, uint64(i)))
			for range tries {
				m, held, what := cloneInParts(t, r, &w)
				for _, s := range repair.Find(m, repair.Linux).Steps {
					steps.Add(1)
					said := fmt.Sprintf("%s: %s, without %s of the clone", w.name, s.Key, what)
					if slices.Contains(tables, s.Action) {
						l := &m.Drive(machine.RoleClone).Contents.Layout
						end := map[bool]int64{true: 512, false: 1024}[l.Style == disk.StyleMBR]
						assert.True(t, holds(held, 0, end), said)
					}
					if s.Action == "format-esp" || s.Action == "copy-again" {
						full := repair.Find(w.machine, repair.Linux)
						assert.Contains(t, actions(full), s.Key, said)
					}
				}
			}
		})
	})
	require.NotZero(t, steps.Load())
}

// cloneInParts is a machine of whose clone only parts are held.
func cloneInParts(t *testing.T, r *rand.Rand, w *whole) (m machine.Machine, held []weaker.Range, what string) {
	m = weaker.Copy(w.machine)
	d := m.Drive(machine.RoleClone)
	if d == nil || d.Contents == nil {
		return m, nil, ""
	}
	l := &d.Contents.Layout
	held, what = weaker.Part(r, l.Bytes())
	on, err := disk.New(&weaker.Holes{ReaderAt: w.disks[d.Name], Held: held}, l.Bytes(), l.SectorSize)
	require.NoError(t, err)
	var paths []string
	if e := w.machine.Firmware.Entries; e != nil {
		paths = e.Files()
	}
	d.Contents = machine.Examine(on, paths...)
	return m, held, what
}

func holds(held []weaker.Range, from, to int64) bool {
	return slices.ContainsFunc(held, func(x weaker.Range) bool { return from >= x.From && to <= x.To })
}
