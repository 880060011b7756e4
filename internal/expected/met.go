package expected

import (
	"fmt"
	"testing"

	"latchkey/core/compare"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/core/tables"
	"latchkey/internal/field"
)

// Met asserts that the machines as technicians meet them end, refer and are repaired as is expected. Their volumes are
// made by the systems' own tools, which lay them out anew each time: where on a disk something lies is not held.
func Met(t *testing.T) {
	t.Helper()
	got := map[string]string{}
	for group, machines := range field.Groups {
		for _, met := range machines(t) {
			got[group+": "+met.Name] = asMet(met.At(t))
		}
	}
	hold(t, "met.txt", got, true)
}

func asMet(m machine.Machine) string {
	trace := startup.Simulate(m)
	out := Outcome(trace)
	refs := machine.References(m)
	for i := range refs {
		refs[i].Source = fact.Source{}
	}
	out += "\n\treferences " + sum(written(refs)) + ", says " + sum(trace.Headline, trace.Reason)
	for i := range m.Drives {
		if d := &m.Drives[i]; d.Contents != nil {
			out += fmt.Sprintf("\n\t%s: %s, %d partitions, tables %s", d.Name, d.Contents.Layout.Style,
				len(d.Contents.Layout.Partitions), sum(written(tables.Of(*d))))
			d.Contents.Regions() // of every structure that tells of a file
		}
	}
	if original, clone := m.Drive(machine.RoleOriginal), m.Drive(machine.RoleClone); original != nil && clone != nil {
		compared := compare.Compare(m, original, clone, startup.Pins(m, original.Name), startup.Pins(m, clone.Name))
		for i := range compared.Rows { // where a file lies on a Btrfs is another place each time
			for j := range compared.Rows[i].Facts {
				compared.Rows[i].Facts[j].Source = fact.Source{}
			}
		}
		out += "\n\tcompared " + sum(written(compared))
	}
	if trace.Verdict != startup.Starts {
		out += "\n\t" + plan(repair.Find(m))
	}
	return out
}
