package judge

import (
	"fmt"
	"slices"
	"strconv"

	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

// Run is the start with certain drives attached.
type Run struct {
	Name     string           `json:"name" enum:"clone alone,original alone,both attached"`
	Stands   bool             `json:"stands" doc:"The machine stands so now"`
	Verdict  startup.Verdict  `json:"verdict" enum:"starts,starts-original,stops,depends"`
	Reaches  startup.Verdict  `json:"reaches" enum:"starts,starts-original,stops,depends"`
	Stage    course.Stage     `json:"stage,omitempty"`
	Symptom  string           `json:"symptom,omitempty"`
	Headline string           `json:"headline"`
	Attempts []course.Attempt `json:"attempts"`
}

// runs computes the start with the clone alone, the original alone, and both.
func runs(m machine.Machine) []Run {
	out := []Run{}
	for _, r := range []struct {
		name     string
		attached []machine.Role
	}{
		{"clone alone", []machine.Role{machine.RoleClone}},
		{"original alone", []machine.Role{machine.RoleOriginal}},
		{"both attached", []machine.Role{machine.RoleOriginal, machine.RoleClone}},
	} {
		changed, stands := m, true
		changed.Drives = slices.Clone(m.Drives)
		for i := range changed.Drives {
			d := &changed.Drives[i]
			attached := slices.Contains(r.attached, d.Role)
			now, known := d.Attached.Get()
			stands = stands && known && now == attached
			d.Attached = fact.Known(attached, fact.Source{Origin: fact.Computed})
		}
		t := startup.Simulate(changed)
		out = append(out, Run{r.name, stands, t.Verdict, t.Reaches, t.Stage, t.Symptom, t.Headline, t.Attempts})
	}
	return out
}

// BootEntry is a boot entry as the screens list it.
type BootEntry struct {
	Number  string `json:"number" doc:"Four hexadecimal digits"`
	Named   bool   `json:"named" doc:"The listing tells its name alone: the number is none of the firmware's"`
	Name    string `json:"name"`
	Path    string `json:"path" doc:"Its device path as text"`
	Active  bool   `json:"active"`
	Next    bool   `json:"next" doc:"BootNext names it: it is tried first, once"`
	Ordered bool   `json:"ordered" doc:"It stands in the boot order"`
}

// bootEntries lists the entries, those of the order first.
func bootEntries(e *firmware.Entries) []BootEntry {
	out := []BootEntry{}
	if e == nil {
		return out
	}
	add := func(n uint16, ordered bool) {
		if entry, ok := e.All[n]; ok {
			next := e.Next != nil && *e.Next == n
			out = append(out, BootEntry{entry.ID(), entry.Named, entry.Description, entry.Text, entry.Active, next,
				ordered})
		}
	}
	for _, n := range e.Order {
		add(n, true)
	}
	var rest []uint16
	for n := range e.All {
		if !slices.Contains(e.Order, n) {
			rest = append(rest, n)
		}
	}
	slices.Sort(rest)
	for _, n := range rest {
		add(n, false)
	}
	return out
}

// BootOrder reads the numbers of a boot order; nil for none. An error names the
// number and what was expected.
func BootOrder(numbers []string) ([]uint16, error) {
	var order []uint16
	for _, s := range numbers {
		n, err := strconv.ParseUint(s, 16, 16)
		if err != nil || len(s) != 4 || slices.Contains(order, uint16(n)) {
			return nil, fmt.Errorf("%q: expected four hexadecimal digits, each entry once", s)
		}
		order = append(order, uint16(n))
	}
	return order, nil
}

// reorder puts the entries into another order, on a copy.
func reorder(f *firmware.Settings, order []uint16) {
	if order == nil || f.Entries == nil {
		return
	}
	changed := *f.Entries
	changed.Order = order
	f.Entries = &changed
}
