package linux

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// choice is an entry of a menu that is put together of files: one of the Boot Loader
// Specification, or a unified kernel.
type choice struct {
	id      string // the file's name without its path
	at      machine.Spot
	config  *machine.Config // nil for a unified kernel
	program *loader.Found
}

func (c choice) entry() loader.Entry {
	if c.config != nil && c.config.Entry != nil {
		return *c.config.Entry
	}
	return loader.Entry{}
}

// extendedBoot is the type of the extended boot loader partition. UAPI Group's
// Discoverable Partitions Specification, XBOOTLDR.
var extendedBoot = disk.MustGUID("BC13C2FF-59E6-4262-A352-B275FD6F7172")

// BootLoaderEntries follows systemd-boot: the entries and unified kernels on its own
// partition and on the extended boot loader partition of the same disk; the one that
// loader.conf names, else the first of the menu. systemd-boot(7), loader.conf(5).
func BootLoaderEntries(k *course.Walk, a *course.Attempt, at machine.Spot) course.Result {
	places := []machine.Spot{at}
	for i, p := range at.Drive.Contents.Layout.Partitions {
		if p.TypeGUID == extendedBoot && i != at.Index {
			places = append(places, machine.Spot{Drive: at.Drive, Index: i})
		}
	}
	var menu []choice
	for _, s := range places {
		menu = append(menu, choicesOn(s, true)...)
	}
	pattern := ""
	if c := at.Volume().Config(machine.ConfigMenu, "/loader/loader.conf"); c != nil {
		if c.Err != nil {
			return a.Unproven("entries-missing-evidence", course.StageConfiguration,
				fmt.Sprintf("%s is not in evidence.", c.Path), course.HowCapture)
		}
		pattern = c.Menu.Default
	}
	sortMenu(menu)
	for i, c := range menu {
		if ok, err := path.Match(strings.ToLower(pattern), strings.ToLower(c.id)); pattern != "" &&
			(ok && err == nil || strings.EqualFold(pattern+".conf", c.id)) {
			menu = append([]choice{c}, slices.Delete(menu, i, i+1)...)
			break
		}
	}
	return choose(k, a, at, menu, places)
}

// grubEntries follows GRUB's menu of such entries (blscfg): the one that the menu's
// default names, else the newest.
func grubEntries(k *course.Walk, a *course.Attempt, at machine.Spot, name string, known bool) course.Result {
	menu := choicesOn(at, false)
	slices.SortStableFunc(menu, func(x, y choice) int { return loader.CompareVersions(y.id, x.id) })
	if !known && !sameRoot(menu) {
		return a.Unproven("default-unknown", course.StageConfiguration,
			"Which entry GRUB starts when nobody chooses is not in evidence.", course.HowCapture)
	}
	for i, c := range menu {
		if strings.TrimSuffix(c.id, ".conf") == name || c.entry().Title == name && name != "" {
			menu = append([]choice{c}, slices.Delete(menu, i, i+1)...)
			break
		}
	}
	return choose(k, a, at, menu, []machine.Spot{at})
}

// sameRoot reports whether all entries name the same root.
func sameRoot(menu []choice) bool {
	for _, c := range menu {
		x, y := c.entry().Root, menu[0].entry().Root
		if x == nil || y == nil || *x != *y {
			return false
		}
	}
	return true
}

// choicesOn lists the entries on a volume, and its unified kernels.
func choicesOn(at machine.Spot, unified bool) (menu []choice) {
	v := at.Volume()
	for i := range v.Configs {
		if c := &v.Configs[i]; c.Kind == machine.ConfigEntry {
			menu = append(menu, choice{id: path.Base(c.Path), at: at, config: c})
		}
	}
	for i := range v.Loaders {
		f := &v.Loaders[i]
		if unified && strings.HasPrefix(strings.ToLower(f.Path), `\efi\linux\`) {
			menu = append(menu, choice{id: f.Path[strings.LastIndexByte(f.Path, '\\')+1:], at: at, program: f})
		}
	}
	return menu
}

// sortMenu orders entries as the specification says: those with a sort key first, by it,
// the machine and the version downwards; the others by name downwards. The Boot Loader
// Specification, "Sorting".
func sortMenu(menu []choice) {
	slices.SortStableFunc(menu, func(x, y choice) int {
		e, f := x.entry(), y.entry()
		switch {
		case (e.SortKey == "") != (f.SortKey == ""):
			if e.SortKey != "" {
				return -1
			}
			return 1
		case e.SortKey != "":
			if c := strings.Compare(e.SortKey, f.SortKey); c != 0 {
				return c
			}
			if c := strings.Compare(e.MachineID, f.MachineID); c != 0 {
				return c
			}
			if c := loader.CompareVersions(f.Version, e.Version); c != 0 {
				return c
			}
		}
		return loader.CompareVersions(y.id, x.id)
	})
}

// choose follows the first entry of a menu.
func choose(k *course.Walk, a *course.Attempt, at machine.Spot, menu []choice, places []machine.Spot) course.Result {
	if len(menu) == 0 {
		for _, s := range places {
			if !s.Volume().Readable {
				return a.Unproven("entries-missing-evidence", course.StageConfiguration,
					"The boot loader's entries are not in evidence.", course.HowCapture)
			}
		}
		for i := range at.Volume().Loaders {
			if f := &at.Volume().Loaders[i]; f.Is() == loader.WindowsManager {
				return a.Unproven("entries-of-its-own", course.StageConfiguration,
					fmt.Sprintf("The boot loader has no entry, and makes one by itself for %s: what that starts is not followed.", f.Path), course.HowTry)
			}
		}
		return a.Stop("entries-absent", course.StageConfiguration, course.NoEntries,
			fmt.Sprintf("There is no entry in /loader/entries on partition %d of %s.", at.Partition().Number, at.Drive.Called()))
	}
	first := menu[0]
	if first.program != nil {
		return UnifiedKernel(k, a, first.at, *first.program, false)
	}
	c := first.config
	switch {
	case c.Missing():
		return a.Unproven("entries-missing-evidence", course.StageConfiguration,
			"The boot loader's entries are not in evidence.", course.HowCapture)
	case c.Err != nil:
		return a.Unproven("entry-unread", course.StageConfiguration, fmt.Sprintf("%s cannot be read: %v.", c.Path, c.Err),
			course.HowTry)
	}
	e := c.Entry
	cited := first.at.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, e.Line), e.Title,
		c.Source(first.at.Base(), "options", e.Offset, e.Length))
	if f, ok := first.at.Volume().Loader(strings.ReplaceAll(e.Linux, "/", `\`)); ok && f.Program.Unified != nil {
		return UnifiedKernel(k, a, first.at, f, false)
	}
	return kernel(k, a, at.Drive, first.at, kernelLine{linux: e.Linux, initrds: e.Initrds, options: e.Options,
		root: e.Root, cited: cited, bare: len(e.Initrds) == 0 && len(loader.KernelOptions(e.Options, "initrd")) == 0})
}
