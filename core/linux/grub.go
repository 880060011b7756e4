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
		return grubCore(k, a, at, g)
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
	return grubCore(k, a, machine.Spot{Drive: d, Index: -1}, core.Image)
}

// grubCore follows what is built into GRUB: commands that are run first, and the
// folder.
func grubCore(k *course.Walk, a *course.Attempt, at machine.Spot, g *loader.GRUBCore) course.Result {
	prefix := g.Prefix
	if g.Config != "" {
		early := loader.ParseGRUBConfig([]byte(g.Config))
		to, end := grubSearch(k, a, at, early.Top, grubPlaces{root: at}, nil)
		if end != nil {
			return *end
		}
		if early.Prefix != "" {
			prefix = early.Prefix
		}
		root := to.of(prefix)
		if machine.InsideBrackets(prefix) != "" {
			if root, end = grubPrefix(k, a, at, prefix); end != nil {
				return *end
			}
		}
		if to.lost != nil && root.Index < 0 {
			return a.Stop("search-finds-nothing", course.StageConfiguration, course.GRUBRescue, to.lost.text, to.lost.facts...)
		}
		to.root = root
		return grubFolder(k, a, at, to, machine.AfterBrackets(prefix))
	}
	root, end := grubPrefix(k, a, at, prefix)
	if end != nil {
		return *end
	}
	return grubFolder(k, a, at, grubPlaces{root: root}, machine.AfterBrackets(prefix))
}

// grubPrefix is the device that GRUB's folder is built in with; without one it is where
// GRUB was started from.
func grubPrefix(k *course.Walk, a *course.Attempt, at machine.Spot, prefix string) (machine.Spot, *course.Result) {
	inside := machine.InsideBrackets(prefix)
	if inside == "" {
		return at, nil
	}
	hit, ok, known := grubDisk(k, a, at.Drive, inside)
	if !known {
		end := a.Unproven("prefix-unknown", course.StageConfiguration,
			fmt.Sprintf("GRUB looks for its folder at %s: the evidence does not tell what is there.", prefix),
			course.HowCapture, at.Drive.CoreFact())
		return at, &end
	}
	if !ok {
		end := a.Stop("prefix-absent", course.StageConfiguration, course.GRUBRescue,
			fmt.Sprintf("GRUB looks for its folder at %s, which does not exist on %s.", prefix, at.Drive.Called()),
			at.Drive.CoreFact())
		return at, &end
	}
	return hit, nil
}

// grubDisk resolves a device in GRUB's words: a disk number, without a drive that which
// GRUB was started from, with one the drives in the firmware's order; or a logical volume,
// a RAID, an encrypted volume. The result is not known where the evidence does not tell.
func grubDisk(k *course.Walk, a *course.Attempt, from *machine.Drive, name string) (at machine.Spot, found,
	known bool) {
	spec, ok := loader.GRUBDevice(name)
	if !ok { // such as the memory disk of a GRUB that holds its own folder
		return machine.Spot{}, false, false
	}
	if spec.Kind != loader.ByGRUBDisk {
		return grubVolume(k, a, spec)
	}
	drive, number, ok := loader.GRUBPartition(spec.Value)
	if !ok {
		return machine.Spot{}, false, true
	}
	d := from
	if drives := k.Drives(); drive >= 0 {
		if drive >= len(drives) {
			return machine.Spot{}, false, true
		}
		d = drives[drive]
	}
	on, known := d.Numbered(number)
	if len(on) == 0 {
		return machine.Spot{}, false, known
	}
	return machine.Spot{Drive: d, Index: on[0]}, true, true
}

// grubVolume resolves a volume that lies in others. What is encrypted cannot be looked
// into.
func grubVolume(k *course.Walk, a *course.Attempt, s loader.Spec) (at machine.Spot, found, known bool) {
	hits, known := find(k, a, s)
	if len(hits) == 0 {
		return machine.Spot{}, false, known
	}
	return hits[0], true, s.Kind != loader.ByContainer
}

// grubPlaces is where GRUB's variables point.
type grubPlaces struct {
	root  machine.Spot
	named map[string]machine.Spot // other variables that a search set
	lost  *lostSearch
}

// of is the place that a path begins at: a variable's, else the root.
func (p grubPlaces) of(path string) machine.Spot {
	if inner, ok := strings.CutPrefix(path, "($"); ok {
		name, _, _ := strings.Cut(inner, ")")
		if at, ok := p.named[name]; ok {
			return at
		}
	}
	return p.root
}

// grubSearch follows searches: the last that finds something sets its variable. Hints
// are taken only where nothing is searched for.
func grubSearch(k *course.Walk, a *course.Attempt, from machine.Spot, searches []loader.GRUBSearch, to grubPlaces,
	where func(loader.GRUBSearch) machine.Fact) (grubPlaces, *course.Result) {
	searched, hintOpen := false, false
	var hint loader.Spec
	var lost *lostSearch
	for _, s := range searches {
		var facts []machine.Fact
		if where != nil {
			facts = append(facts, where(s))
		}
		switch {
		case s.Hint && !searched:
			hit, ok, known := grubDisk(k, a, from.Drive, deviceOf(s.Spec))
			if hintOpen = !known; hintOpen {
				hint = s.Spec
			}
			if ok {
				to.root = hit
			}
		case s.Hint || s.Spec.Kind == loader.ByFile:
		default:
			searched = true
			hits, known := find(k, a, s.Spec)
			switch {
			case len(hits) > 0:
				to = to.with(s.Var, hits[0])
				lost, hintOpen = nil, false
			case !known:
				end := a.Unproven("search-unknown", course.StageConfiguration,
					fmt.Sprintf("GRUB looks for the %s: the evidence does not tell where that is.",
						s.Spec), course.HowCapture, facts...)
				return to, &end
			default:
				lost = &lostSearch{fmt.Sprintf("GRUB looks for the %s, which no attached disk carries.", s.Spec), facts}
			}
		}
	}
	if hintOpen {
		end := a.Unproven("search-unknown", course.StageConfiguration,
			fmt.Sprintf("GRUB goes to the %s: the evidence does not tell what is there.", hint), course.HowCapture)
		return to, &end
	}
	if lost != nil {
		to.lost = lost
	}
	return to, nil
}

// deviceOf is a device as GRUB writes it.
func deviceOf(s loader.Spec) string {
	switch s.Kind {
	case loader.ByMapped:
		return "lvm/" + s.Value
	case loader.ByArray:
		return "mduuid/" + s.Value
	case loader.ByContainer:
		return "cryptouuid/" + s.Value
	}
	return s.Value
}

// with is the places with a variable set; no name is the root.
func (p grubPlaces) with(name string, at machine.Spot) grubPlaces {
	if name == "" {
		p.root = at
		return p
	}
	named := map[string]machine.Spot{name: at}
	for n, s := range p.named {
		if n != name {
			named[n] = s
		}
	}
	p.named = named
	return p
}

// grubFolder reads the configuration in GRUB's folder and follows it.
func grubFolder(k *course.Walk, a *course.Attempt, from machine.Spot, to grubPlaces, folder string) course.Result {
	name := path.Join("/", folder, "grub.cfg")
	for range maxConfigFiles {
		c, end := grubConfig(a, to, name)
		if end != nil {
			return *end
		}
		holder := to.root
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
		next := c.GRUB.ConfigFile
		if rest, ok := strings.CutPrefix(next, "$prefix"); ok {
			// The folder lies where it lay, whatever the root is now.
			next, to.root = path.Join("/", path.Dir(name), rest), holder
		}
		if end := elsewhere(k, a, from, &to, next); end != nil {
			return *end
		}
		name = path.Join("/", machine.AfterBrackets(next))
	}
	return a.Unproven("menu-circle", course.StageConfiguration,
		"GRUB's configurations lead on to each other without end.", course.HowTry)
}

// elsewhere sets the root to the device in front of a path.
func elsewhere(k *course.Walk, a *course.Attempt, from machine.Spot, to *grubPlaces, name string) *course.Result {
	inside := machine.InsideBrackets(name)
	if inside == "" {
		to.root = to.of(name)
		return nil
	}
	hit, ok, known := grubDisk(k, a, from.Drive, inside)
	switch {
	case !known:
		end := a.Unproven("search-unknown", course.StageConfiguration,
			fmt.Sprintf("GRUB goes to %s: the evidence does not tell what is there.", name), course.HowCapture)
		return &end
	case !ok:
		end := a.Stop("prefix-absent", course.StageConfiguration, course.GRUBPrompt,
			fmt.Sprintf("GRUB goes to %s, which does not exist.", name))
		return &end
	}
	to.root = hit
	return nil
}

// grubConfig is a configuration on the root that GRUB has.
func grubConfig(a *course.Attempt, to grubPlaces, name string) (*machine.Config, *course.Result) {
	root := to.root
	var end course.Result
	if root.Drive == nil || root.Index < 0 || root.Drive.Contents == nil {
		end = a.Unproven("grub-folder-unknown", course.StageConfiguration, "The partition of GRUB's folder is not known.",
			course.HowTry)
		return nil, &end
	}
	v := root.Volume()
	c := v.Config(machine.ConfigGRUB, name)
	switch {
	case v.Kind == volume.NotCaptured, c == nil && !v.Readable, c != nil && c.Missing(), c == nil &&
		!machine.LooksForMenu(name):
		end = a.Unproven("menu-missing-evidence", course.StageConfiguration,
			fmt.Sprintf("%s on %s (%s) is not in evidence.", name, root.Called(), v.Kind), course.HowCapture)
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
	to, end := grubSearch(k, a, from, entry.Searches, to, cite)
	if end != nil {
		return *end
	}
	cited := holder.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, entry.Line), entry.Title,
		c.Source(holder.Base(), "linux", entry.Offset, entry.Length))
	if entry.Linux == "" {
		return a.Unproven("entry-no-kernel", course.StageConfiguration,
			fmt.Sprintf("The default entry, %s, starts no Linux kernel: what it starts is not followed.",
				entry.Title), course.HowTry, cited)
	}
	if end := elsewhere(k, a, from, &to, entry.Linux); end != nil {
		return *end
	}
	line := kernelLine{linux: machine.AfterBrackets(entry.Linux), options: entry.Options, root: entry.Root,
		cited: cited,
		lost:  to.lost}
	for _, name := range entry.Initrds {
		line.initrds = append(line.initrds, machine.AfterBrackets(name))
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
