package linux

import (
	"fmt"
	"path"
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
