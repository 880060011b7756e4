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
	"latchkey/core/volume"
)

// maxConfigFiles bounds the configurations that lead on to each other.
const maxConfigFiles = 4

// GrubProgram follows GRUB as an EFI program: its folder is built in, and lies on
// the partition it was started from unless it names another.
func GrubProgram(k *course.Walk, a *course.Attempt, at machine.Spot, f loader.Found) course.Result {
	switch g := f.Program.GRUB; {
	case g != nil:
		return grubCore(k, a, at, g, path.Dir(strings.ReplaceAll(f.Path, `\`, "/")))
	case f.Missing():
		return a.Unproven("core-image-missing-evidence", course.StageConfiguration,
			"Where GRUB reads its configuration is built into "+f.Path+", whose bytes are not in evidence.", course.HowCapture)
	}
	return a.Unproven("core-image-unread", course.StageConfiguration,
		"What is built into "+f.Path+" cannot be read, so that GRUB's folder is not known.", course.HowTry)
}

// GrubFromCode follows GRUB from sector 0.
func GrubFromCode(k *course.Walk, a *course.Attempt, d *machine.Drive) course.Result {
	core := d.Contents.Core
	if core.Image == nil {
		if disk.IsNotCaptured(core.Err) || !core.Known {
			return a.Unproven("core-image-missing-evidence", course.StageConfiguration,
				"GRUB's core image is not in evidence.", course.HowCapture)
		}
		text := "GRUB's core image cannot be read, so that its folder is not known."
		if core.Err != nil {
			text = fmt.Sprintf("GRUB's core image cannot be read (%v), so that its folder is not known.", core.Err)
		}
		return a.Unproven("core-image-unread", course.StageConfiguration, text, course.HowTry)
	}
	return grubCore(k, a, machine.Spot{Drive: d, Index: -1}, core.Image, "")
}

// grubCore follows what is built into GRUB: its folder, and commands that are run before the
// configuration there is read. Beside are the files of its own folder, "" where it is no file.
// GNU GRUB Manual 2.06, "Embedded configuration".
func grubCore(k *course.Walk, a *course.Attempt, at machine.Spot, g *loader.GRUBCore, beside string) course.Result {
	to, next := rooted(k, a, at, g.Prefix), "$prefix/grub.cfg"
	to.core = g
	to.home = grubHome{to.grubRoot, g.Prefix}
	if g.Config != "" {
		early := loader.ParseGRUBConfig([]byte(g.Config))
		to.follows(early)
		var end *course.Result
		if to, end = grubSearch(k, a, at, early.Top, to, nil); end != nil {
			return *end
		}
		to = to.homed(k, a, at, early.Prefix)
		if early.ConfigFile != "" && !to.lacks(k, *a, at, early.ConfigFile) {
			next = early.ConfigFile
		}
		if strings.Contains(g.Config, "(memdisk)") {
			var known bool
			if next, known = to.fromMemory(at, beside); !known {
				return a.Unproven("memory-disk-unread", course.StageConfiguration,
					fmt.Sprintf("GRUB goes by a script in its memory disk, which leads it to no configuration that is in evidence: neither in %s nor beside it is a grub.cfg.",
						g.Prefix), course.HowTry)
			}
		}
	}
	return grubFolder(k, a, at, to, next)
}

// lacks reports whether a configuration is known not to be there: one that is built in goes on
// with GRUB's own then.
func (p grubPlaces) lacks(k *course.Walk, a course.Attempt, from machine.Spot, next string) bool {
	holder, name, end := p.leads(k, &a, from, next)
	if end == nil {
		_, end = grubConfig(&a, p, holder, name)
	}
	return end != nil && end.State == course.Blocks
}

// fromMemory is where the script in the memory disk of the families' signed GRUB leads: to the
// configuration in its folder, without that folder to the one of /boot/grub, else to the one
// beside the program. Seen in Debian's own.
func (p grubPlaces) fromMemory(at machine.Spot, beside string) (next string, known bool) {
	holds := func(where machine.Spot, folder string) bool {
		return where.Drive != nil && where.Index >= 0 &&
			where.Volume().Config(machine.ConfigGRUB, path.Join("/", folder, "grub.cfg")) != nil
	}
	const common = "/boot/grub"
	own := machine.AfterBrackets(p.home.folder)
	folder, told := strings.EqualFold(own, beside), true
	if !folder && at.Index >= 0 {
		folder, told = at.Volume().Holds(own)
	}
	switch home := p.home.root; {
	case holds(home, own), home.Index >= 0 && !home.Volume().Readable:
		return "$prefix/grub.cfg", true
	case beside == "" || !told:
		return "", false
	case folder && !holds(at, beside):
		return "$prefix/grub.cfg", true // which is not there
	case !folder && holds(at, common):
		return fmt.Sprintf("(,%d)%s/grub.cfg", at.Partition().Number, common), true
	case holds(at, beside):
		return fmt.Sprintf("(,%d)%s/grub.cfg", at.Partition().Number, beside), true
	}
	return "", false
}

// grubFolder reads a configuration, in GRUB's folder or elsewhere, and follows it.
func grubFolder(k *course.Walk, a *course.Attempt, from machine.Spot, to grubPlaces, next string) course.Result {
	for n := range maxConfigFiles {
		holder, name, end := to.leads(k, a, from, next)
		if end == nil && n == 0 {
			if end = readsFolder(a, holder, to.core); end == nil {
				end = loadsNormal(a, to)
			}
		}
		if end != nil {
			return *end
		}
		c, end := grubConfig(a, to, holder, name)
		if end != nil {
			return *end
		}
		to.follows(c.GRUB)
		cite := func(s loader.GRUBSearch) machine.Fact {
			return holder.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, s.Line), s.Spec.String(),
				c.Source(holder.Base(), "search", s.Offset, s.Length))
		}
		if to, end = grubSearch(k, a, from, c.GRUB.Top, to, cite); end != nil {
			return *end
		}
		if c.GRUB.ConfigFile == "" || len(c.GRUB.Entries) > 0 {
			return grubMenu(k, a, from, holder, to, c, cite)
		}
		to = to.homed(k, a, from, c.GRUB.Prefix)
		next = c.GRUB.ConfigFile
	}
	return a.Unproven("menu-circle", course.StageConfiguration,
		"GRUB's configurations lead on to each other without end.", course.HowTry)
}

// leads is where a configuration lies that GRUB goes on with, and its path there. The root stays
// where it is.
func (p grubPlaces) leads(k *course.Walk, a *course.Attempt, from machine.Spot, next string) (holder machine.Spot,
	name string, end *course.Result) {
	rest, home := strings.CutPrefix(next, "$prefix")
	if !home {
		end = elsewhere(k, a, from, &p, next)
		return p.root, path.Join("/", machine.AfterBrackets(next)), end
	}
	p.grubRoot = p.home.grubRoot
	name = path.Join("/", machine.AfterBrackets(p.home.folder), rest)
	if p.lost != nil && p.root.Index < 0 {
		stop := a.Stop("search-finds-nothing", course.StageConfiguration, course.GRUBRescue, p.lost.text, p.lost.facts...)
		return p.root, name, &stop
	}
	return p.root, name, p.foldered(a, from, p.home.folder)
}

// elsewhere sets the root to the device in front of a path.
func elsewhere(k *course.Walk, a *course.Attempt, from machine.Spot, to *grubPlaces, name string) *course.Result {
	var end course.Result
	inside := machine.InsideBrackets(name)
	switch {
	case strings.HasPrefix(name, "()"):
		end = a.Unproven("search-unknown", course.StageConfiguration,
			fmt.Sprintf("GRUB goes to %s by a variable, and what sets it is not in evidence.", machine.AfterBrackets(name)), course.HowTry)
		return &end
	case inside != "":
		to.grubRoot = to.set(k, a, from, deviceSpec(inside)).grubRoot
	case to.fromVariable(name):
		to.grubRoot = grubRoot{root: to.of(name)}
	}
	switch {
	case to.open != nil:
		end = a.Unproven("search-unknown", course.StageConfiguration,
			fmt.Sprintf("GRUB goes to the %s: the evidence does not tell what is there.", to.open), course.HowCapture)
	case to.nowhere != nil && inside != "":
		end = a.Stop("prefix-absent", course.StageConfiguration, course.GRUBPrompt,
			fmt.Sprintf("GRUB goes to %s, which does not exist.", name))
	case to.nowhere != nil:
		end = a.Stop("root-set-nowhere", course.StageConfiguration, course.GRUBNoKernel,
			fmt.Sprintf("GRUB's root is set to the %s, which does not exist: %s is not found.", *to.nowhere, name))
	default:
		return nil
	}
	return &end
}

// grubConfig is a configuration on a volume.
func grubConfig(a *course.Attempt, to grubPlaces, root machine.Spot, name string) (*machine.Config, *course.Result) {
	var end course.Result
	if root.Drive == nil || root.Index < 0 || root.Drive.Contents == nil {
		end = a.Unproven("grub-folder-unknown", course.StageConfiguration, "The partition of GRUB's folder is not known.",
			course.HowTry)
		return nil, &end
	}
	v := root.Volume()
	if to.fromDefault && v.Subvolumes != nil {
		name = v.Subvolumes.Default + name
	}
	c := v.Config(machine.ConfigGRUB, name)
	switch {
	case c == nil && v.Subvolumes != nil && v.Subvolumes.Default != "/" && !to.fromDefault:
		end = a.Unproven(
			"menu-missing-evidence",
			course.StageConfiguration,
			fmt.Sprintf(
				"%s is not at the top of %s, and may be meant from its default subvolume, %s.",
				name,
				root.Called(),
				v.Subvolumes.Default,
			),
			course.HowTry,
		)
	case c == nil && (v.Kind == volume.Empty || v.Kind == volume.Unknown):
		end = a.Unproven("menu-unread", course.StageConfiguration,
			fmt.Sprintf("%s is looked for on %s, where no file system is recognised.", name, root.Called()), course.HowTry)
	case v.Kind == volume.NotCaptured, c == nil && !v.Readable, c != nil && c.Missing(), c == nil &&
		!v.LooksForMenu(name):
		text, how := unread(v, name, fmt.Sprintf("%s on %s (%s)", name, root.Called(), v.Kind))
		end = a.Unproven("menu-missing-evidence", course.StageConfiguration, text, how)
	case c == nil:
		text, facts := to.lost.or(fmt.Sprintf("%s is not on %s.", name, root.Called()))
		shows := course.GRUBPrompt
		if to.lost != nil {
			shows = course.GRUBRescue
		}
		end = a.Stop("menu-absent", course.StageConfiguration, shows, text, facts...)
	case c.Err != nil:
		end = a.Unproven("menu-unread", course.StageConfiguration, fmt.Sprintf("%s cannot be read: %v.", name, c.Err),
			course.HowTry)
	default:
		return c, nil
	}
	return nil, &end
}

// grubMenu follows the entry that is started when nobody chooses.
func grubMenu(k *course.Walk, a *course.Attempt, from, holder machine.Spot, to grubPlaces, c *machine.Config,
	cite func(loader.GRUBSearch) machine.Fact) course.Result {
	if c.GRUB.Boots != nil {
		return grubEntry(k, a, from, holder, to, c, c.GRUB.Boots, cite)
	}
	entry, sure, err := c.GRUB.DefaultEntry()
	if err != nil {
		switch {
		case c.GRUB.BLS:
			name, known := c.GRUB.DefaultName()
			return grubEntries(k, a, to.blsRoot(), name, known)
		case c.GRUB.Cut:
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
