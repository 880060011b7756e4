package linux

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// preferred are the patterns of the entries that are started before the first of the menu, and whether what the
// firmware keeps of them is known. They go by small letters, as the names do, except for the one that was started
// last. systemd-boot(7), "EFI Variables"; the letters as seen in version 252.
func preferred(k *course.Walk, settings *loader.LoaderSettings) (patterns []string, known bool) {
	kept := &firmware.LoaderMenu{}
	if e := k.Machine.Firmware.Entries; e != nil && e.Menu != nil {
		kept, known = e.Menu, true
	}
	for _, pattern := range []string{kept.Once, kept.Default, settings.Default} {
		pattern = strings.ToLower(pattern)
		if pattern == savedEntry {
			pattern = kept.Last
		}
		if pattern != "" {
			patterns = append(patterns, pattern)
		}
	}
	return patterns, known
}

// extendedBoot is the type of the extended boot loader partition. UAPI Group's
// Discoverable Partitions Specification, XBOOTLDR.
var extendedBoot = disk.MustGUID("BC13C2FF-59E6-4262-A352-B275FD6F7172")

// savedEntry is the default of settings that leave the choice to a variable of the firmware.
// loader.conf(5), "default".
const savedEntry = "@saved"

// BootLoaderEntries follows systemd-boot: the entries and unified kernels on its own
// partition and on the extended boot loader partition of the same disk; the one that
// loader.conf names, else the first of the menu, else what it finds by itself.
// systemd-boot(7), loader.conf(5).
func BootLoaderEntries(k *course.Walk, a *course.Attempt, at machine.Spot, self loader.Found) course.Result {
	places := []machine.Spot{at}
	for i, p := range at.Drive.Contents.Layout.Partitions {
		if p.TypeGUID == extendedBoot && i != at.Index {
			places = append(places, machine.Spot{Drive: at.Drive, Index: i})
		}
	}
	settings := &loader.LoaderSettings{}
	if c := at.Volume().Config(machine.ConfigMenu, "/loader/loader.conf"); c != nil {
		if c.Err != nil {
			return a.Unproven("entries-missing-evidence", course.StageConfiguration,
				fmt.Sprintf("%s is not in evidence.", c.Path), course.HowCapture)
		}
		settings = c.Menu
	}
	menu, out := ownMenu(places, self)
	if !settings.NoneByItself {
		menu = append(menu, byItself(at, self)...)
	}
	patterns, known := preferred(k, settings)
	if !known && len(menu) > 1 && !sameRoot(menu) {
		return a.Unproven("default-unknown", course.StageConfiguration,
			"Which entry was chosen in the boot loader's menu, or started last, is kept in the firmware's variables, which are not in evidence.",
			"In a running Linux: bootctl status names the default entry. Or take evidence there: it holds the variables.")
	}
	c, open := chosen(menu, patterns)
	other, openToo := chosen(withCounts(menu), patterns)
	switch {
	case (open || openToo) && !sameRoot(menu):
		return notInEvidence(a)
	case c != nil && other != nil && c.file() != other.file() && !sameRoot(menu):
		return a.Unproven("default-unknown", course.StageConfiguration,
			"Which entry is started hangs on whether this version of the boot loader takes the count of tries for a part of an entry's name.",
			course.HowTry)
	case c != nil:
		c.gone = course.StubNoFile
		return follow(k, a, at, *c)
	}
	for _, s := range places {
		if !s.Volume().Readable || s.Volume().LoaderErr != nil {
			return notInEvidence(a)
		}
	}
	if len(menu) > 0 {
		return follow(k, a, at, menu[0])
	}
	return noEntries(a, at, out)
}

// chosen is the choice of a menu that is started when nobody chooses: the first that a pattern
// means, else the first that the boot loader has not made by itself; nil for none. It is open
// where one that the evidence lacks might stand before it.
func chosen(menu []choice, patterns []string) (c *choice, open bool) {
	for _, pattern := range patterns {
		if i := slices.IndexFunc(menu, func(c choice) bool { return c.is(pattern) }); i >= 0 {
			return &menu[i], slices.ContainsFunc(menu[:i], choice.open)
		}
	}
	open = slices.ContainsFunc(menu, choice.open)
	if i := slices.IndexFunc(menu, func(c choice) bool { return !c.byItself }); i >= 0 {
		return &menu[i], open
	}
	return nil, open
}

func notInEvidence(a *course.Attempt) course.Result {
	return a.Unproven("entries-missing-evidence", course.StageConfiguration,
		"The boot loader's entries are not in evidence.", course.HowCapture)
}

// noEntries is the end of a boot loader that has nothing to start; out is what it leaves out.
func noEntries(a *course.Attempt, at machine.Spot, out []choice) course.Result {
	if len(out) > 0 {
		c := out[0]
		text := fmt.Sprintf("The boot loader leaves %s out of its menu: %s", c.config.Path, whyOut(c))
		return a.Stop("entries-absent", course.StageConfiguration, course.NoEntries, text, c.cite())
	}
	return a.Stop("entries-absent", course.StageConfiguration, course.NoEntries, noneListed(at))
}

func noneListed(at machine.Spot) string {
	return fmt.Sprintf("There is no entry in /loader/entries on partition %d of %s.", at.Partition().Number, at.Drive.Called())
}

func whyOut(c choice) string {
	e := c.entry()
	switch there, known := c.at.Volume().Holds(c.leads()); {
	case e.Linux == "":
		return "it names no kernel."
	case known && !there:
		return fmt.Sprintf("%s is not on %s.", e.Linux, c.at.Called())
	}
	return fmt.Sprintf("it is for machines of type %s.", e.Arch)
}

// cite is where a choice stands.
func (c choice) cite() machine.Fact {
	e := c.entry()
	return c.at.Drive.Cite(fmt.Sprintf("%s, line %d", c.config.Path, e.Line), e.Title,
		c.config.Source(c.at.Base(), "options", e.Offset, e.Length))
}

// sameRoot reports whether all entries are known, and name the same root.
func sameRoot(menu []choice) bool {
	for _, c := range menu {
		x, y := c.root(), menu[0].root()
		if x == nil || y == nil || *x != *y {
			return false
		}
	}
	return true
}

// follow goes on with one choice of a menu.
func follow(k *course.Walk, a *course.Attempt, at machine.Spot, c choice) course.Result {
	switch {
	case c.byItself:
		a.Pass(course.StageConfiguration, fmt.Sprintf("The boot loader has no entry, and starts %s on %s by itself.", c.program.Path, c.at.Called()))
		return course.Result{State: course.Passes, Home: c.at, Chain: c.program.Path}
	case c.open() && c.config != nil && !c.config.Missing():
		return a.Unproven("entry-unread", course.StageConfiguration,
			fmt.Sprintf("%s cannot be read: %v.", c.config.Path, c.config.Err), course.HowTry)
	case c.open():
		return notInEvidence(a)
	case c.program != nil:
		return unified(k, a, c.at, *c.program)
	}
	e := c.entry()
	program := strings.ReplaceAll(e.Path(), "/", `\`)
	if f, ok := c.at.Volume().Loader(program); ok && f.Program.Unified != nil {
		return unified(k, a, c.at, f)
	}
	if e.Program {
		a.Pass(course.StageConfiguration, fmt.Sprintf("%s starts %s on %s.", c.config.Path, program, c.at.Called()), c.cite())
		return course.Result{State: course.Passes, Home: c.at, Chain: program}
	}
	line := kernelLine{linux: e.Linux, initrds: e.Initrds, options: e.Options, root: e.Root, cited: c.cite(),
		gone: c.gone, bare: len(e.Initrds) == 0 && len(loader.KernelOptions(e.Options, "initrd")) == 0}
	return kernel(k, a, at.Drive, c.at, line)
}

// unified goes on with a kernel that the boot loader has the firmware start.
func unified(k *course.Walk, a *course.Attempt, at machine.Spot, f loader.Found) course.Result {
	if why := k.Chained(a, at, f); why != "" {
		return a.Stop("kernel-refused", course.StageConfiguration, course.SecureViolation, "The boot loader's kernel is refused: "+why)
	}
	return UnifiedKernel(k, a, at, f, false)
}
