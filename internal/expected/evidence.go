package expected

import (
	"fmt"
	"strings"
	"testing"

	"latchkey/core/compare"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/core/tables"
	"latchkey/demo"
	"latchkey/internal/reference"
	"latchkey/truth"
)

// atRandom is how many machines of the generator are looked at: damaged in one to three
// places, of the seeds that were started in real firmware.
const atRandom = 240

// Evidence asserts that of every disk the same is read, placed, referred to and concluded as
// is expected: a change anywhere in what is read of a disk is seen, by a sum where it is too
// much to be listed.
func Evidence(t *testing.T, machines []Prepared) {
	t.Helper()
	got := map[string]string{}
	for _, p := range machines {
		got[string(p.Firmware)+": "+p.Name] = evidence(p.Machine)
	}
	for _, c := range demo.Cases() {
		if c.Original.Disk != nil {
			got["demo: "+c.Name] = evidence(Demo(t, c))
		}
	}
	drawn := uint64(atRandom)
	if testing.Short() {
		drawn /= 4
	}
	for seed := range drawn {
		m, err := random(seed)
		if err != nil {
			reference.Lacks(t, "%v", err)
		}
		got[fmt.Sprintf("random %d", seed)] = evidence(m)
	}
	hold(t, "evidence.txt", got, !testing.Short())
}

// random is a machine of the generator as the check sees it.
func random(seed uint64) (m machine.Machine, err error) {
	defer func() {
		if r := recover(); r != nil { // a package with boot code is not there
			err = fmt.Errorf("%v", r)
		}
	}()
	p, err := one(truth.Random(seed))
	return p.Machine, err
}

// evidence says what is read of a machine's disks, and what follows of it.
func evidence(m machine.Machine) string {
	trace := startup.Simulate(m)
	lines := []string{
		fmt.Sprintf(
			"%s, trace %s, references %s",
			trace.Verdict,
			sum(written(trace)),
			sum(written(machine.References(m))),
		),
	}
	for i := range m.Drives {
		if d := &m.Drives[i]; d.Contents != nil {
			lines = append(lines, drive(d))
		}
	}
	if original, clone := m.Drive(machine.RoleOriginal), m.Drive(machine.RoleClone); original != nil && clone != nil {
		lines = append(
			lines,
			fmt.Sprintf("compared: %s", sum(written(compare.Compare(m, original, clone, startup.Pins(m, original.Name),
				startup.Pins(m, clone.Name))))),
		)
	}
	if trace.Verdict == startup.Stops {
		plan := repair.Find(m)
		keys := ""
		for _, s := range plan.Steps {
			keys += " " + s.Key
		}
		lines = append(lines, fmt.Sprintf("plan:%s, %s", keys, sum(written(plan))))
	}
	return strings.Join(lines, "\n\t")
}

func drive(d *machine.Drive) string {
	l := &d.Contents.Layout
	out := fmt.Sprintf("%s: %s, %d partitions, code %s", d.Name, l.Style, len(l.Partitions), d.Contents.Code)
	for _, p := range l.Problems {
		out += ", " + string(p.Code)
	}
	return fmt.Sprintf(
		"%s; read %s, places %s, tables %s",
		out,
		sum(written(d.Contents)),
		sum(written(d.Contents.Regions())),
		sum(written(tables.Of(*d))),
	)
}
