package machine

import (
	"maps"
	"regexp"
	"slices"

	"latchkey/core/loader"
)

// WithNames has configurations and a mount table that say the new names.
func (c *Contents) WithNames(n Names) *Contents {
	e := c.edited()
	for _, v := range e.configured(n) {
		for i := range v.Configs {
			v.Configs[i].rename(n.Menus, n.Types)
		}
	}
	table := e.Config(n.Root, ConfigFstab, fstabFile)
	if table == nil {
		return e
	}
	table.Mounts = slices.Clone(table.Mounts)
	for i := range table.Mounts {
		m := &table.Mounts[i]
		for _, r := range n.Mounts {
			if r.Point == m.Field && r.Old == m.Spec {
				m.Spec = r.New
				break
			}
		}
		same := func(l loader.Mount) bool { return l.Field == m.Field && l.Spec == m.Spec }
		m.NoFail = m.NoFail || slices.ContainsFunc(n.Lax, same)
		if slices.ContainsFunc(n.AnyType, same) {
			m.Type = anyType
		}
	}
	return e
}

// anyType has mount look for the type of a volume. mount(8), "-t".
const anyType = "auto"

// rename lets a menu or an entry say new names, and types of a root.
func (c *Config) rename(names []Rename, types []Renamed) {
	line := func(options string) string {
		for _, t := range types {
			options = t.In(options)
		}
		return renamedOptions(options, names)
	}
	spec := func(s *loader.Spec) *loader.Spec {
		for _, n := range names {
			if s != nil && s.Kind == n.Old.Kind && n.Old.Same(s.Value) {
				return &n.New
			}
		}
		return s
	}
	searches := func(list []loader.GRUBSearch) []loader.GRUBSearch {
		out := slices.Clone(list)
		for i := range out {
			if !out[i].Device && out[i].Spec.Kind == loader.ByFSUUID {
				out[i].Spec = *spec(&out[i].Spec)
			}
		}
		return out
	}
	if c.GRUB != nil {
		var entries func([]loader.GRUBEntry) []loader.GRUBEntry
		entries = func(list []loader.GRUBEntry) []loader.GRUBEntry {
			out := slices.Clone(list)
			for i := range out {
				x := &out[i]
				x.Root, x.Options = spec(x.Root), line(x.Options)
				x.Searches, x.Sub = searches(x.Searches), entries(x.Sub)
			}
			return out
		}
		g := *c.GRUB
		g.Top, g.Entries, g.Vars = searches(g.Top), entries(g.Entries), maps.Clone(g.Vars)
		for name, value := range g.Vars {
			g.Vars[name] = line(value)
		}
		c.GRUB = &g
	}
	if c.Entry != nil {
		x := *c.Entry
		x.Root, x.Options = spec(x.Root), line(x.Options)
		c.Entry = &x
	}
}

// renamedOptions is a kernel line with new names, replaced as the program does that a repair
// edits files with.
func renamedOptions(options string, names []Rename) string {
	for _, n := range names {
		for _, t := range n.Texts() {
			options = t.In(options)
		}
	}
	return options
}

// In puts the new text in the place of the old one, where that stands as a whole.
func (r Renamed) In(s string) string {
	old := regexp.QuoteMeta(r.Old)
	if identifier.MatchString(r.Old) {
		old = "(?i:" + old + ")"
	}
	whole := regexp.MustCompile(`(^|[^0-9A-Za-z_-])` + old + `($|[^0-9A-Za-z_-])`)
	for done := 0; ; {
		at := whole.FindStringSubmatchIndex(s[done:])
		if at == nil {
			return s
		}
		from, to := done+at[3], done+at[4]
		s, done = s[:from]+r.New+s[to:], from+len(r.New)
	}
}

// identifier is what is written in capitals and in small letters.
var identifier = regexp.MustCompile(`^[0-9A-Fa-f-]+$`)

// Renamed is a text that stands as a whole in a file, and what is put in its place.
type Renamed struct{ Old, New string }

// Texts are the ways in which files write a name.
func (n Rename) Texts() []Renamed {
	new := DeviceText(n.New)
	from := func(texts ...string) (list []Renamed) {
		for _, t := range texts {
			list = append(list, Renamed{t, new})
		}
		return list
	}
	switch v := n.Old.Value; n.Old.Kind {
	case loader.ByFSUUID:
		return []Renamed{{v, n.New.Value}}
	case loader.ByFSLabel:
		return from("LABEL="+v, "/dev/disk/by-label/"+v)
	case loader.ByPartUUID:
		return from("PARTUUID="+v, "/dev/disk/by-partuuid/"+v)
	case loader.ByPartLabel:
		return from("PARTLABEL="+v, "/dev/disk/by-partlabel/"+v)
	case loader.ByDevice:
		return from(v)
	case loader.ByOwnName:
		return from("/dev/disk/by-id/" + v)
	case loader.ByArray:
		return from("/dev/md/"+v, "/dev/md"+v)
	case loader.ByMapped:
		list := from("/dev/mapper/" + v)
		if group, name, ok := splitMapped(v); ok {
			list = append(list, from("/dev/"+group+"/"+name)...)
			if to, as, ok := splitMapped(n.New.Value); ok && n.New.Kind == loader.ByMapped {
				list = append(list, Renamed{"rd.lvm.lv=" + group + "/" + name, "rd.lvm.lv=" + to + "/" + as})
			}
		}
		return list
	}
	return nil
}

// DeviceText is a name as mount tables and kernel lines write it.
func DeviceText(s loader.Spec) string {
	switch s.Kind {
	case loader.ByFSUUID:
		return "UUID=" + s.Value
	case loader.ByMapped:
		return "/dev/mapper/" + s.Value
	}
	return s.Value
}
