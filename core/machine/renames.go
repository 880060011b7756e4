package machine

import (
	"maps"
	"regexp"
	"slices"
	"strings"

	"latchkey/core/loader"
	"latchkey/core/volume"
)

// Rename is a name that configuration or mount table of a Linux use, that nothing on its
// disk carries, and what it is to be called.
type Rename struct {
	Old   loader.Spec
	To    Address // what is meant
	New   loader.Spec
	Point string // where a line of the mount table mounts it, as it is written; "" for a menu's
}

// Names are what a repair lets configuration and mount table of the system at Root say.
type Names struct {
	Root      Address
	NoRoot    bool    // the root is not in evidence: only what GRUB looks for is renamed
	Within    *Within // the root lies in what is encrypted at Root; nil for others
	Home      Address // of /boot; the root where that is not known
	Folder    string  // of /boot, within Home
	HomeKnown bool
	Boot      int            // the EFI system partition; -1 for none
	Mounts    []Rename       // of the mount table, by its mount points
	Menus     []Rename       // of menus, entries and kernel lines
	Lax       []loader.Mount // mounts that the start is to go on without
	AnyType   []loader.Mount // mounts of another type than the volume's, which is to be looked for
	Types     []Renamed      // of kernel lines: the root's type or subvolume that is another one
}

// Empty reports whether there is nothing to be renamed.
func (n *Names) Empty() bool { return len(n.Mounts)+len(n.Lax)+len(n.AnyType) == 0 && !n.EditsMenus() }

// EditsMenus reports whether menus and entries are edited.
func (n *Names) EditsMenus() bool { return len(n.Menus)+len(n.Types) > 0 }

// NamesAbsent reports whether something is renamed that nothing on the disk carries.
func (n *Names) NamesAbsent() bool { return len(n.Mounts)+len(n.Menus)+len(n.Lax) > 0 }

// renaming finds what names are meant to be.
type renaming struct {
	drive       *Drive
	c, original *Contents
	names       Names
}

// LinuxNames are the names that the system at root uses and nothing on the disk carries, with
// what they are to be called: by the mount point that they stand at; by what GRUB and the
// kernel look for with them; by what they mean on the original, nil where that is not in
// evidence. Boot is the EFI system partition, -1 for none.
func (d *Drive) LinuxNames(boot int, root Address, original *Contents) Names {
	c := d.Contents
	r := &renaming{drive: d, c: c, original: original, names: Names{Root: root, Boot: boot}}
	if r.names.Home, r.names.Folder, r.names.HomeKnown = c.BootHome(root); !r.names.HomeKnown {
		r.names.Home = root
	}
	r.mounts()
	for _, v := range c.configured(r.names) {
		for i := range v.Configs {
			r.menu(&v.Configs[i])
		}
	}
	return r.names
}

// BootNames are the names by which GRUB looks for the /boot at home, of a system whose root is
// not in evidence.
func (d *Drive) BootNames(boot int, home Address) Names {
	r := &renaming{drive: d, c: d.Contents}
	r.names = Names{Root: home, Home: home, HomeKnown: true, NoRoot: true, Boot: boot}
	for _, v := range d.Contents.configured(r.names) {
		for i := range v.Configs {
			r.menu(&v.Configs[i])
		}
	}
	return r.names
}

// configured lists the volumes whose configurations a repair edits: the root, its /boot and
// the boot partition.
func (c *Contents) configured(n Names) []*Volume {
	list := []*Volume{c.At(n.Root)}
	if home := c.At(n.Home); !slices.Contains(list, home) {
		list = append(list, home)
	}
	if n.Boot >= 0 && !slices.Contains(list, &c.Volumes[n.Boot]) {
		list = append(list, &c.Volumes[n.Boot])
	}
	return list
}

// absent reports whether the disk is known to carry nothing of a name, as one sees it who looks
// for it.
func (r *renaming) absent(s loader.Spec) bool { return absentOn(r.drive, s) }

func absentOn(d *Drive, s loader.Spec) bool {
	if s.Kind == loader.ByOther || s.Kind == loader.ByPath {
		return false
	}
	hits, known := d.Resolve(s)
	return known && len(hits) == 0
}

// mounts goes through the mount table.
func (r *renaming) mounts() {
	for _, m := range r.c.table(r.names.Root) {
		if m.Comment != "" {
			continue
		}
		if file, is := m.Image(); is && m.OfNoDevice() && r.lacks(file) {
			r.names.Lax = append(r.names.Lax, m)
			continue
		}
		if !r.absent(m.Spec) {
			r.refused(m)
			continue
		}
		if r.opens(m.Spec) {
			continue
		}
		if to, ok := r.meant(m); ok {
			if name, ok := r.called(m.Spec, to); ok {
				r.names.Mounts = append(r.names.Mounts, Rename{m.Spec, to, name, m.Field})
				continue
			}
		}
		ofBoot := m.Point == "/boot" || isBootPoint(m.Point) && r.names.Boot >= 0
		if m.Essential() && !ofBoot && !m.OfTheSystem() {
			r.names.Lax = append(r.names.Lax, m)
		}
	}
}

// opens reports whether the start opens a name from an encrypted volume that is there, or may. crypttab(5).
func (r *renaming) opens(s loader.Spec) bool {
	c := r.c.Config(r.names.Root, ConfigCrypttab, crypttabFile)
	if c == nil || s.Kind != loader.ByMapped {
		return false
	}
	from := func(o loader.Opened) bool { return o.Name == s.Value && !r.absent(o.Spec) }
	return c.Err != nil || slices.ContainsFunc(c.Opened, from)
}

// refused goes by what a volume is that a line of the mount table has mounted as something else.
func (r *renaming) refused(m loader.Mount) {
	hits, known := r.drive.Resolve(m.Spec)
	if !known || len(hits) != 1 || !m.Essential() || m.Point == "/" {
		return
	}
	v := &hits[0].Volume().Volume
	switch anyhow := volume.Refused(v, "", "") != ""; {
	case !anyhow && volume.Refused(v, m.Type, "") != "":
		r.names.AnyType = append(r.names.AnyType, m)
	case (anyhow || volume.Refused(v, m.Type, m.Options) != "") && !m.OfTheSystem():
		r.names.Lax = append(r.names.Lax, m)
	}
}

// isBootPoint reports whether the boot partition is mounted at a point, as the families have
// it. Common practice.
func isBootPoint(point string) bool { return point == "/boot/efi" || point == "/efi" }

// meant is what a line of the mount table is to mount.
func (r *renaming) meant(m loader.Mount) (Address, bool) {
	switch {
	case m.Point == "/":
		return r.names.Root, true
	case m.Point == "/boot" && r.names.HomeKnown:
		return r.names.Home, true
	case isBootPoint(m.Point):
		return Address{Index: r.names.Boot}, r.names.Boot >= 0
	case m.Point == UsrPoint:
		if to, ok := r.elsewhere(m.Spec); ok {
			return to, true
		}
		return r.c.usr(r.names.Root)
	case m.Type == "swap":
		if to, ok := r.elsewhere(m.Spec); ok {
			return to, true
		}
		return r.c.swap()
	}
	return r.elsewhere(m.Spec)
}

// elsewhere is what a name means: the logical volume of its name in the only group, and what
// carries the name on the original lies in the partition of the same number.
func (r *renaming) elsewhere(s loader.Spec) (to Address, ok bool) {
	if s.Kind == loader.ByMapped {
		if to, ok := r.logical(s.Value); ok {
			return to, true
		}
	}
	if s.Kind == loader.ByOwnName {
		return r.c.ofNumber(s.Value, r.original)
	}
	if r.original == nil || s.Kind == loader.ByDevice {
		return Address{}, false
	}
	hits := r.original.byName(s)
	if len(hits) != 1 {
		return Address{}, false
	}
	was := r.original.Layout.Partitions[hits[0].Index]
	for i, p := range r.c.Layout.Partitions {
		at := Address{Index: i, Inside: hits[0].Inside}
		if p.Number != was.Number || at.Inside > len(r.c.Volumes[i].Inner) {
			continue
		}
		if r.c.At(at).Kind == r.original.At(hits[0]).Kind {
			return at, true
		}
	}
	return Address{}, false
}

// logical is the logical volume that has the name which the device mapper's name ends in,
// where only one has.
func (r *renaming) logical(mapped string) (to Address, ok bool) {
	_, name, two := splitMapped(mapped)
	for i := range r.c.Volumes {
		for j, n := range r.c.Volumes[i].Inner {
			if !two || n.Name != name {
				continue
			}
			if ok {
				return Address{}, false
			}
			to, ok = Address{Index: i, Inside: j + 1}, true
		}
	}
	return to, ok
}

// splitMapped takes apart what MappedName joins.
func splitMapped(mapped string) (group, name string, ok bool) {
	const hyphen = "\x00"
	group, name, ok = strings.Cut(strings.ReplaceAll(mapped, "--", hyphen), "-")
	single := func(s string) string { return strings.ReplaceAll(s, hyphen, "-") }
	return single(group), single(name), ok
}

// LVMSpec reads what rd.lvm.lv= names, GROUP/VOLUME. dracut.cmdline(7).
func LVMSpec(value string) (loader.Spec, bool) {
	group, name, ok := strings.Cut(value, "/")
	return loader.Spec{Kind: loader.ByMapped, Value: volume.MappedName(group, name)}, ok
}

// called is the new name for an old one: a UUID stays one, so that it can stand wherever the
// old one stood.
func (r *renaming) called(old loader.Spec, to Address) (loader.Spec, bool) {
	if old.Kind == loader.ByFSUUID {
		serial := r.c.At(to).Serial
		return loader.Spec{Kind: loader.ByFSUUID, Value: serial}, serial != ""
	}
	return r.c.NameOf(to)
}

// menu goes through a menu or an entry.
func (r *renaming) menu(c *Config) {
	seen := r.drive.Unopened()
	if c.GRUB != nil && (c.GRUB.Unlocks || c.GRUB.Cut) {
		seen = r.drive
	}
	search := func(list []loader.GRUBSearch) {
		for _, s := range list {
			if !s.Device && s.Spec.Kind == loader.ByFSUUID && r.names.HomeKnown && absentOn(seen, s.Spec) {
				r.rename(s.Spec, r.names.Home)
			}
		}
	}
	if c.Entry != nil && !r.names.NoRoot {
		r.line(c.Entry.Root, c.Entry.Options)
	}
	if c.GRUB != nil {
		var entries func([]loader.GRUBEntry)
		entries = func(list []loader.GRUBEntry) {
			for _, e := range list {
				if !r.names.NoRoot {
					r.line(e.Root, e.Options)
				}
				search(e.Searches)
				entries(e.Sub)
			}
		}
		entries(c.GRUB.Entries)
		search(c.GRUB.Top)
		for _, name := range slices.Sorted(maps.Keys(c.GRUB.Vars)) {
			if options := c.GRUB.Vars[name]; !r.names.NoRoot && strings.Contains(options, "=") {
				r.line(loader.RootOf(options), options)
			}
		}
	}
}

// line goes through what a kernel is given.
func (r *renaming) line(root *loader.Spec, options string) {
	if root != nil {
		r.add(*root, r.names.Root)
		r.rootType(options)
		r.rootFlags(options)
	}
	for _, value := range loader.KernelOptions(options, "rd.lvm.lv") {
		if spec, ok := LVMSpec(value); ok {
			if to, ok := r.logical(spec.Value); ok {
				r.add(spec, to)
			}
		}
	}
	for _, value := range loader.KernelOptions(options, "resume") {
		spec := loader.ParseSpec(value)
		if to, ok := r.elsewhere(spec); ok {
			r.add(spec, to)
		} else if to, ok := r.c.swap(); ok {
			r.add(spec, to)
		}
	}
}

// Plain reports whether a program finds a name in a file as it is: names with other signs are
// written in several ways.
func Plain(s loader.Spec) bool { return plainName.MatchString(s.Value) }

var plainName = regexp.MustCompile(`^[A-Za-z0-9_.+:/-]+$`)

// add has a name of a menu renamed, unless the disk carries it.
func (r *renaming) add(old loader.Spec, to Address) {
	if r.absent(old) {
		r.rename(old, to)
	}
}

// rename has a name of a menu renamed. What the mount table calls by the name is what it means.
func (r *renaming) rename(old loader.Spec, to Address) {
	named := func(n Rename) bool { return n.Old.Kind == old.Kind && n.Old.Same(old.Value) }
	if !Plain(old) || slices.ContainsFunc(r.names.Menus, named) {
		return
	}
	if i := slices.IndexFunc(r.names.Mounts, named); i >= 0 {
		r.names.Menus = append(r.names.Menus, r.names.Mounts[i])
		return
	}
	if name, ok := r.called(old, to); ok {
		r.names.Menus = append(r.names.Menus, Rename{Old: old, To: to, New: name})
	}
}
