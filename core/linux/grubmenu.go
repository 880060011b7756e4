package linux

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// The menu that GRUB shows, and the entry of it that is started.

// grubMenu follows the entry that is started when nobody chooses.
func grubMenu(k *course.Walk, a *course.Attempt, from, holder machine.Spot, to grubPlaces, c *machine.Config,
	cite func(loader.GRUBSearch) machine.Fact) course.Result {
	if c.GRUB.Boots != nil {
		return grubEntry(k, a, from, holder, to, c, c.GRUB.Boots, cite)
	}
	if c.GRUB.BLS != nil {
		return grubEntries(k, a, from, holder, to, c, cite)
	}
	entry, sure, err := c.GRUB.DefaultEntry()
	if err != nil {
		if c.GRUB.Cut {
			return a.Unproven("menu-unread", course.StageConfiguration, fmt.Sprintf("%s could not be followed to its end.",
				c.Path), course.HowTry)
		}
		return a.Stop("menu-empty", course.StageConfiguration, course.GRUBPrompt,
			fmt.Sprintf("%s has no entry to start.", c.Path))
	}
	if !sure && !c.GRUB.Alike() {
		return a.Unproven("default-unknown", course.StageConfiguration,
			fmt.Sprintf("Which entry of %s GRUB starts when nobody chooses is not in evidence.", c.Path), course.HowTry)
	}
	start := func(e *loader.GRUBEntry) course.Result { return grubEntry(k, a, from, holder, to, c, e, cite) }
	return orFallback(a, c, entry, start)
}

// chains goes on to another loader. GNU GRUB Manual 2.06, "chainloader".
func chains(k *course.Walk, a *course.Attempt, from machine.Spot, to grubPlaces, entry *loader.GRUBEntry,
	cited machine.Fact) course.Result {
	if end := elsewhere(k, a, from, &to, entry.Chain); end != nil {
		return *end
	}
	path := machine.AfterBrackets(entry.Chain)
	a.Pass(course.StageConfiguration, fmt.Sprintf("GRUB's default entry, %s, starts %s on %s.", entry.Title, path, to.root.Called()), cited)
	if path != course.BootSector {
		path = strings.ReplaceAll(path, "/", `\`)
	}
	return course.Result{State: course.Passes, Home: to.root, Chain: path}
}

// orFallback starts an entry, and behind one whose files are missing those that the menu names
// as its fallback, in turn. GNU GRUB Manual 2.06, "fallback".
func orFallback(a *course.Attempt, c *machine.Config, entry *loader.GRUBEntry,
	start func(*loader.GRUBEntry) course.Result) course.Result {
	before := *a
	before.Steps = slices.Clone(a.Steps)
	end := start(entry)
	for _, name := range c.GRUB.Fallback {
		lost := a.Steps[len(a.Steps)-1]
		if !slices.Contains([]course.Rule{"kernel-absent", "kernel-refused", "kernel-unsound", "prefix-absent", "root-set-nowhere"}, lost.Rule) {
			break
		}
		next, sure, err := c.GRUB.Named(name)
		if err != nil || !sure {
			return a.Unproven("fallback-unknown", course.StageConfiguration,
				fmt.Sprintf("Which entry of %s GRUB falls back to is not in evidence.", c.Path), course.HowTry)
		}
		*a, a.Steps = before, slices.Clone(before.Steps)
		if end = start(next); end.State != course.Blocks {
			a.Risk("default-falls-back",
				fmt.Sprintf("%s GRUB says so, waits a while and goes on with the entry that the menu names as its fallback, %s.",
					lost.Text, next.Title), lost.Facts...)
		}
	}
	return end
}

// grubEntry follows one entry of a menu.
func grubEntry(k *course.Walk, a *course.Attempt, from, holder machine.Spot, to grubPlaces, c *machine.Config,
	entry *loader.GRUBEntry, cite func(loader.GRUBSearch) machine.Fact) course.Result {
	to, end := grubSearch(k, a, from, entry.Searches, to, cite)
	if end != nil {
		return *end
	}
	cited := holder.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, entry.Line), entry.Title,
		c.Source(holder.Base(), "linux", entry.Offset, entry.Length))
	if entry.Linux == "" && entry.Chain != "" {
		return chains(k, a, from, to, entry, cited)
	}
	if entry.Linux == "" {
		return a.Unproven("entry-no-kernel", course.StageConfiguration,
			fmt.Sprintf("The default entry, %s, starts no Linux kernel: what it starts is not followed.",
				entry.Title), course.HowTry, cited)
	}
	if end := loadsLinux(a, to); end != nil {
		return *end
	}
	if end := elsewhere(k, a, from, &to, entry.Linux); end != nil {
		return *end
	}
	line := kernelLine{linux: machine.AfterBrackets(entry.Linux), options: entry.Options, root: entry.Root,
		cited: cited,
		lost:  to.lost}
	if end := takesFeatures(a, to.root, to.core); end != nil {
		return *end
	}
	line.bare = len(entry.Initrds) == 0
	for _, name := range entry.Initrds {
		line.initrds = append(line.initrds, machine.AfterBrackets(name))
	}
	if s := to.root.Volume().Subvolumes; s != nil && to.fromDefault {
		line.linux = s.Default + line.linux
		for i := range line.initrds {
			line.initrds[i] = s.Default + line.initrds[i]
		}
	}
	return kernel(k, a, holder.Drive, to.root, line)
}

// blsRoot is where GRUB looks for entries: where its variable boot points, else the root.
func (p grubPlaces) blsRoot() machine.Spot {
	if at, ok := p.named["boot"]; ok {
		return at
	}
	return p.root
}

// grubEntries follows GRUB's menu with entries of the Boot Loader Specification in it (blscfg), the newest
// first, under the names of their files.
func grubEntries(k *course.Walk, a *course.Attempt, from, holder machine.Spot, to grubPlaces, c *machine.Config,
	cite func(loader.GRUBSearch) machine.Fact) course.Result {
	at := to.blsRoot()
	menu := slices.DeleteFunc(entriesOn(at), func(c choice) bool { return !strings.HasSuffix(c.config.Path, ".conf") })
	slices.SortStableFunc(menu, func(x, y choice) int {
		return loader.ComparePackages(path.Base(y.file()), path.Base(x.file()))
	})
	own := slices.ContainsFunc(c.GRUB.Entries, func(e loader.GRUBEntry) bool { return e.Starts() })
	switch {
	case len(menu) == 0 && !at.Volume().Readable:
		return notInEvidence(a)
	case len(menu) == 0 && !own && !c.GRUB.Cut:
		text, facts := to.lost.or(noneListed(at))
		return a.Stop("entries-absent", course.StageConfiguration, course.NoEntries, text, facts...)
	}
	listed := make([]loader.GRUBEntry, len(menu))
	for i := range menu {
		menu[i] = menu[i].filled(c.GRUB)
		m := menu[i]
		listed[i] = loader.GRUBEntry{ID: strings.TrimSuffix(path.Base(m.file()), ".conf"),
			Title: m.entry().Title, Linux: m.entry().Linux, Root: m.root(), Maybe: c.GRUB.BLS.Maybe}
	}
	whole := *c
	whole.GRUB = c.GRUB.WithEntries(listed)
	entry, sure, err := whole.GRUB.DefaultEntry()
	if err != nil || !whole.GRUB.Alike() &&
		(!sure || slices.ContainsFunc(menu, choice.open) && entry.ID != c.GRUB.Default) {
		return a.Unproven("default-unknown", course.StageConfiguration,
			fmt.Sprintf("Which entry of %s, or of those beside it, GRUB starts when nobody chooses is not in evidence.", c.Path), course.HowCapture)
	}
	start := func(e *loader.GRUBEntry) course.Result {
		for i, m := range menu {
			if e == &whole.GRUB.Entries[c.GRUB.BLS.Behind+i] {
				return follow(k, a, at, m)
			}
		}
		return grubEntry(k, a, from, holder, to, c, e, cite)
	}
	return orFallback(a, &whole, entry, start)
}

// filled is the choice with the values of GRUB's variables in its line, so far as they are known.
func (c choice) filled(by *loader.GRUBConfig) choice {
	if c.config.Entry == nil {
		return c
	}
	config, e := *c.config, *c.config.Entry
	if options, known := by.Fill(e.Options); known {
		e.Options, e.Root = options, loader.RootOf(options)
	}
	config.Entry = &e
	c.config = &config
	return c
}
