package linux

import (
	"cmp"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// choice is an entry of a menu that is put together of files: one of the Boot Loader
// Specification, a unified kernel, or one that the boot loader makes by itself.
type choice struct {
	id        string // the file's name without its path and its count of tries
	counted   string // with that count
	at        machine.Spot
	config    *machine.Config // nil for a unified kernel
	program   *loader.Found
	byItself  bool
	sortKey   string
	machineID string
	version   string
	left      int // tries, -1 where they are not counted
	done      int
	gone      course.Symptom // what shows when an initial RAM disk is not there; GRUB's words by default
}

func (c choice) entry() loader.Entry {
	if c.config != nil && c.config.Entry != nil {
		return *c.config.Entry
	}
	return loader.Entry{}
}

// is reports whether a pattern means the choice. systemd-boot(7).
func (c choice) is(pattern string) bool {
	ok, err := path.Match(pattern, c.id)
	return ok && err == nil
}

// root is what the choice names as its root; nil where it names none.
func (c choice) root() *loader.Spec {
	if c.program != nil && c.program.Program.Unified != nil {
		return loader.RootOf(c.program.Program.Unified.Options)
	}
	return c.entry().Root
}

// file is where the choice lies.
func (c choice) file() string {
	if c.program != nil {
		return c.program.Path
	}
	return c.config.Path
}

// open reports whether the evidence lacks what the choice says.
func (c choice) open() bool {
	return c.config != nil && c.config.Err != nil || c.program != nil && c.program.Missing()
}

// leads is where the file is that the choice starts, as the firmware's file system names it.
func (c choice) leads() string {
	if c.program != nil {
		return c.program.Path
	}
	return c.entry().Path()
}

// tries are what a name says of how often an entry is still to be tried. The UAPI Group's Boot
// Loader Specification, "Boot counting".
var tries = regexp.MustCompile(`^(.+)\+([0-9]+)(?:-([0-9]+))?(\.[^.]+)$`)

// named gives a choice its name, in small letters, and what is counted there.
func (c choice) named(file string) choice {
	file = strings.ToLower(file)
	c.id, c.counted, c.left = file, file, -1
	if m := tries.FindStringSubmatch(file); m != nil {
		c.id = m[1] + m[4]
		c.left, _ = strconv.Atoi(m[2])
		c.done, _ = strconv.Atoi(m[3])
	}
	return c
}

// entriesOn lists the entries on a volume.
func entriesOn(at machine.Spot) (menu []choice) {
	v := at.Volume()
	for i := range v.Configs {
		if c := &v.Configs[i]; c.Kind == machine.ConfigEntry {
			x := choice{at: at, config: c}
			e := x.entry()
			x.sortKey, x.machineID, x.version = e.SortKey, e.MachineID, e.Version
			menu = append(menu, x.named(path.Base(c.Path)))
		}
	}
	return menu
}

// unifiedOn lists the unified kernels on a volume that say which system they are.
func unifiedOn(at machine.Spot) (menu []choice) {
	v := at.Volume()
	for i := range v.Loaders {
		f := &v.Loaders[i]
		name, below := strings.CutPrefix(strings.ToLower(f.Path), `\efi\linux\`)
		u := f.Program.Unified
		if !below || strings.HasPrefix(name, "auto-") || !f.Missing() && (u == nil || !u.Listed || f.Err != nil) {
			continue
		}
		x := choice{at: at, program: f}
		if u != nil {
			x.sortKey, x.version = u.SortKey, u.Version
		}
		menu = append(menu, x.named(f.Path[strings.LastIndexByte(f.Path, '\\')+1:]))
	}
	return menu
}

// ownMenu is systemd-boot's menu, in its order, with what it leaves out: entries of another
// machine type, and those whose file is not there. systemd-boot(7); systemd's boot.c.
func ownMenu(places []machine.Spot, self loader.Found) (menu, out []choice) {
	for _, at := range places {
		for _, c := range append(entriesOn(at), unifiedOn(at)...) {
			e := c.entry()
			there, known := at.Volume().Holds(c.leads())
			switch {
			case c.config != nil && strings.HasPrefix(c.id, "auto-"),
				e.Program && strings.EqualFold(strings.ReplaceAll(c.leads(), "/", `\`), self.Path):
			case c.config == nil || c.open():
				menu = append(menu, c)
			case e.Linux == "" || known && !there || !ofType(e.Arch, self.Program.Arch):
				out = append(out, c)
			default:
				menu = append(menu, c)
			}
		}
	}
	slices.SortStableFunc(menu, inMenu)
	return menu, out
}

// ofType reports whether an entry's machine type is that of the boot loader.
func ofType(said string, arch firmware.Arch) bool {
	return said == "" || arch == "" || strings.EqualFold(said+".efi", loader.Suffix(arch))
}

// inMenu orders choices: without a try left behind all, with a sort key before those without,
// by it, the machine and the version downwards, and by name downwards. The UAPI Group's Boot
// Loader Specification, "Sorting".
func inMenu(x, y choice) int {
	spent := func(c choice) int {
		if c.left == 0 {
			return 1
		}
		return 0
	}
	keyless := func(c choice) int { return 1 - min(1, len(c.sortKey)) }
	order := cmp.Or(spent(x)-spent(y), keyless(x)-keyless(y))
	if order == 0 && x.sortKey != "" {
		order = cmp.Or(strings.Compare(x.sortKey, y.sortKey), strings.Compare(x.machineID, y.machineID),
			loader.CompareVersions(y.version, x.version))
	}
	if order = cmp.Or(order, loader.CompareVersions(y.id, x.id)); order == 0 && min(x.left, y.left) >= 0 {
		order = cmp.Or(y.left-x.left, x.done-y.done)
	}
	return order
}

// withCounts is the menu of a boot loader that takes the count of tries for a part of an entry's
// name, as that of systemd 252 does.
func withCounts(menu []choice) []choice {
	menu = slices.Clone(menu)
	for i := range menu {
		if !menu[i].byItself {
			menu[i].id = menu[i].counted
		}
	}
	n := slices.IndexFunc(menu, func(c choice) bool { return c.byItself })
	if n < 0 {
		n = len(menu)
	}
	slices.SortStableFunc(menu[:n], inMenu)
	return menu
}

// byItself lists what systemd-boot adds to its menu, in its order: the loaders of other systems
// that it knows by their place on its own volume.
func byItself(at machine.Spot, self loader.Found) (menu []choice) {
	for _, known := range []struct{ id, path string }{{"auto-windows", loader.WindowsPath},
		{"auto-efi-shell", `\shell` + loader.Suffix(self.Program.Arch)},
		{"auto-efi-default", loader.FallbackPath(self.Program.Arch)}} {
		f, ok := at.Volume().Loader(known.path)
		if ok && !strings.EqualFold(f.Path, self.Path) && f.Program.Is != loader.SystemdBoot {
			menu = append(menu, choice{id: known.id, at: at, program: &f, byItself: true})
		}
	}
	return menu
}
