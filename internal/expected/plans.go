package expected

import (
	"fmt"
	"hash/crc32"
	"strings"
	"testing"

	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/demo"
)

// Plans asserts that the plans of the machines that do not start, and of the demo world's,
// are the expected ones: their steps, what these save and are done with, and, by a sum,
// every line of their commands.
func Plans(t *testing.T, machines []Prepared) {
	t.Helper()
	got := map[string]string{}
	for _, p := range machines {
		if startup.Simulate(p.Machine).Verdict != startup.Starts {
			got[string(p.Firmware)+": "+p.Name] = plan(repair.Find(p.Machine))
		}
	}
	for _, c := range demo.Cases() {
		if c.Original.Disk != nil {
			got["demo: "+c.Name] = plan(repair.Find(Demo(t, c)))
		}
	}
	hold(t, "plans.txt", got, true)
}

// plan says what a plan is.
func plan(p repair.Plan) string {
	out := fmt.Sprintf("%s, %d states, reason %s", p.Verdict, p.States, sum(p.Reason))
	if p.Ask != nil {
		out += "\n\tasks: " + p.Ask.ID
	}
	for _, s := range p.Steps {
		out += "\n\t" + step(s)
	}
	for _, other := range p.Alternatives {
		out += "\n\tor:"
		for _, s := range other.Steps {
			out += " " + s.Key + " by " + string(s.Toolbox) + ";"
		}
	}
	for _, s := range p.Afterwards {
		out += "\n\tafterwards: " + step(s)
	}
	return out
}

func step(s repair.PlanStep) string {
	out := fmt.Sprintf("%s on %q, risk %s, %d min, %s", s.Key, s.Disk, s.Risk, s.Minutes, form(s.Form))
	for _, also := range s.Also {
		out += ", " + form(also)
	}
	for _, saved := range s.Saves {
		out += fmt.Sprintf(", saves %d+%d", saved.First, saved.Count)
	}
	return out + ", words " + sum(s.Title, s.Why, s.Save, s.Undo)
}

func form(f repair.Form) string {
	var lines []string
	for _, c := range append(append([]repair.Command{}, f.Commands...), f.PutBack...) {
		lines = append(lines, c.Text, c.Typed, c.Good, c.Bad, fmt.Sprint(c.ByHand))
	}
	return fmt.Sprintf("%s %s", f.Toolbox, sum(lines...))
}

// sum stands for texts that are too long to be read in a list.
func sum(texts ...string) string {
	return fmt.Sprintf("%08x", crc32.ChecksumIEEE([]byte(strings.Join(texts, "\x00"))))
}
