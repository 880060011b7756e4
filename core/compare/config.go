package compare

import (
	"fmt"
	"strings"

	"latchkey/core/course"
	"latchkey/core/machine"
)

// configRows compares where the names in each disk's boot configuration lead: the
// same name may exist on its own disk, on the other one, or on none.
func configRows(m machine.Machine, a, b side) []Row {
	if a.Contents == nil && b.Contents == nil {
		return nil
	}
	var order []string
	found := map[string]map[string]machine.Reference{}
	for _, r := range machine.References(m) {
		if r.Drive == "" || !leadsOn(r.Holder) {
			continue
		}
		if found[r.Holder] == nil {
			found[r.Holder] = map[string]machine.Reference{}
			order = append(order, r.Holder)
		}
		if _, twice := found[r.Holder][r.Drive]; !twice {
			found[r.Holder][r.Drive] = r
		}
	}
	var rows []Row
	for _, holder := range order {
		on := found[holder]
		own, has := on[b.Name]
		r := row(GroupIdentity, holder, words(on, a.Name), words(on, b.Name), Fine, "",
			refFacts("original", on, a.Name), refFacts("clone", on, b.Name))
		switch {
		case !has || own.Means == "this" || own.Means == "both" || own.Means == "unknown":
		case b.blocked(course.StageConfiguration) || b.blocked(course.StageSystem):
			r.Matter, r.Meaning = Decides, "blocks: the clone's configuration still names "+lost(own)
		default:
			r.Matter, r.Meaning = Matters, "the clone's configuration still names "+lost(own)
		}
		rows = append(rows, r)
	}
	return rows
}

// leadsOn keeps the names that a start follows.
func leadsOn(holder string) bool {
	for _, end := range []string{", osdevice", ", search", ", root=", ", /"} {
		if strings.HasSuffix(holder, end) {
			return true
		}
	}
	return strings.HasSuffix(holder, "prefix")
}

func words(on map[string]machine.Reference, drive string) string {
	r, ok := on[drive]
	if !ok {
		return "none"
	}
	for _, x := range r.On {
		if x.Drive == drive && len(x.Partitions) > 0 {
			return fmt.Sprintf("its partition %d", x.Partitions[0])
		}
	}
	switch r.Means {
	case "other":
		return "the other disk"
	case "unknown":
		return "not known"
	}
	return "no disk here"
}

func lost(r machine.Reference) string {
	if r.Means == "other" {
		return "the other disk: its identifiers were made anew by the copy"
	}
	return "what exists on neither disk"
}

func refFacts(role string, on map[string]machine.Reference, drive string) machine.Fact {
	r, ok := on[drive]
	if !ok {
		return machine.Fact{Label: role, Value: "none"}
	}
	return machine.Fact{Label: role + ": " + r.Kind, Value: r.Value, Source: r.Source}
}
