package expected

import (
	"fmt"
	"testing"

	"latchkey/core/fact"
	"latchkey/core/fit"
	"latchkey/core/machine"
	"latchkey/demo"
)

// targets are the drives that originals are copied to, by a share of the original's capacity in per cent, by the bytes
// that are missing or more, and by the bytes of a logical and of a physical sector.
var targets = []struct {
	percent, more    int64
	sector, physical int
	bus              string
}{{100, 0, 512, 512, "sata"}, {100, -20 * 512, 512, 4096, "nvme"}, {60, 0, 512, 512, "nvme"},
	{170, 0, 512, 4096, "usb"}, {100, 0, 4096, 4096, "nvme"}}

// Copies asserts that what a copy of every original of the demo world, and of some machines of package truth, would
// be, is as expected: whether it fits, where its partitions lie, what each way of copying leads to, and what has to be
// ready.
func Copies(t *testing.T, machines []Prepared) {
	t.Helper()
	got := map[string]string{}
	for _, c := range append(demo.Cases(), demo.Before()...) {
		if c.Original.Disk != nil {
			got["demo: "+c.Name] = copies(Demo(t, c))
		}
	}
	for i, p := range machines {
		if c := p.Machine.Drives[len(p.Machine.Drives)-1].Contents; i%5 == 0 && c != nil {
			m := p.Machine
			original := machine.Drive{Name: "a", Role: machine.RoleOriginal, Bus: fact.Tell("sata"), Contents: c}
			original.Attached = fact.Tell(true)
			m.Drives = []machine.Drive{original, {Name: "b", Role: machine.RoleClone, Attached: fact.Tell(true)}}
			got[string(p.Firmware)+": "+p.Name] = copies(m)
		}
	}
	hold(t, "copies.txt", got, true)
}

func copies(m machine.Machine) (out string) {
	c := m.ContentsOf(machine.RoleOriginal)
	if c == nil {
		return "nothing is known of the original"
	}
	size, known := c.Size()
	parts := fit.Parts(c)
	out = fmt.Sprintf("%d parts %s, settings %s", len(parts), sum(written(parts)), sum(fit.Settings(m)...))
	for i, to := range targets {
		if !known {
			break
		}
		target := fit.Target{SectorSize: to.sector, Physical: to.physical}
		target.Bytes = (size*to.percent/100 + to.more) / 4096 * 4096
		a := fit.Judge(c, parts, target)
		out += fmt.Sprintf("\n\t%d: %s, short %d, %s", i, a.Fits, a.Short, sum(written(a)))
		var layout fit.Layout
		for _, s := range []fit.Strategy{fit.Keep, fit.Proportion, fit.Main} {
			layout = fit.Lay(parts, c.Layout.Style, target, s, nil)
			out += fmt.Sprintf(", %s %s", s, sum(written(layout), written(layout.Places(parts, target))))
		}
		planned := fit.Planned(m, to.bus, i%2 == 0, fact.Unknown[bool]())
		var list []fit.Prediction
		for _, w := range fit.WaysOf(c) {
			p := fit.Predict(planned, w, parts, layout, target)
			list = append(list, p)
			out += fmt.Sprintf("\n\t\t%s: %s, %d bytes, %s", w.Key, p.Verdict, p.Bytes,
				sum(append(p.After, p.Says, written(p.Pins))...))
			if p.Clone != nil {
				out += fmt.Sprintf(", %d otherwise", len(fit.Held(w, p.Clone, c)))
			}
		}
		end := fit.End{Link: "sata"}
		situation := fit.Situation{Machine: planned, Parts: parts, Answer: a, Target: target, From: end,
			To: fit.End{Link: to.bus}, BusLater: to.bus, Time: fit.Long(size, end, fit.End{Link: to.bus})}
		out += fmt.Sprintf("\n\t\tbest %d; ready: %s", fit.Best(list), sum(written(situation.List()), situation.Time.Words()))
	}
	return out
}
