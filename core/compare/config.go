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
		rows = append(rows, configRow(a, b, holder, found[holder]))
	}
	return rows
}

// configRow compares where a name of the holder leads on each side.
func configRow(a, b side, holder string, on map[string]machine.Reference) Row {
	own, has := on[b.Name]
	vb := words(b, holder, on)
	meaning := map[presence]string{flawed: "the clone's configuration cannot be read", absent: "not on the clone"}[vb.is]
	if has && vb.is != present {
		meaning = "the clone's configuration still names " + lost(own)
	}
	r := row(GroupIdentity, holder, words(a, holder, on), vb, Matters, meaning)
	if r.Matter != Agrees && vb.is == present {
		r.Matter, r.Meaning = Fine, "the clone's names its own"
	}
	wrong := vb.is == flawed || has && vb.is == absent
	if wrong {
		r.Matter, r.Meaning = Matters, meaning
	}
	r.decides(wrong && (b.blocked(course.StageConfiguration) || b.blocked(course.StageSystem)), "blocks: "+meaning)
	return r
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

// words says where the holder's name leads on the side.
func words(s side, holder string, on map[string]machine.Reference) value {
	r, ok := on[s.Name]
	if !ok {
		return holds(s, holder)
	}
	for _, x := range r.On {
		if x.Drive == s.Name && len(x.Partitions) > 0 {
			return s.value(present, fmt.Sprintf("its partition %d", x.Partitions[0]), r.Source)
		}
	}
	switch r.Means {
	case "other":
		return s.value(absent, "the other disk", r.Source)
	case "unknown":
		return s.value(unknown, "not known", r.Source)
	}
	return s.value(absent, "no disk here", r.Source)
}

// holds says why a side has no such name: its file cannot be read, is not there, or
// is not in the evidence.
func holds(s side, holder string) value {
	if s.Contents == nil {
		return s.none(false)
	}
	for i := range s.Contents.Volumes {
		for _, c := range s.Contents.Volumes[i].Configs {
			if strings.HasPrefix(holder, c.Path+",") && c.Err != nil && !c.Missing() {
				return s.value(flawed, "cannot be read", c.From)
			}
		}
	}
	return s.none(filesKnown(s))
}

func lost(r machine.Reference) string {
	if r.Means == "other" {
		return "the other disk: its identifiers were made anew by the copy"
	}
	return "what exists on neither disk"
}
