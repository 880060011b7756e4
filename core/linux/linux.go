// Package linux follows a start behind the boot loader of a Linux: shim, GRUB's
// menu, Boot Loader Specification entries, the kernel, its root and its initial
// RAM disk. start-rules, stages 7 and 8.
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

// Shim starts GRUB from its own folder; a rebuilding shim goes to the
// distribution's folder instead. The shim project's documentation.
func Shim(k *course.Walk, a *course.Attempt, at machine.Spot, f loader.Found) course.Result {
	v := at.Volume()
	dir := f.Path[:strings.LastIndexByte(f.Path, '\\')+1]
	if there, _ := v.Holds(dir + machine.ShimRebuild); there && strings.EqualFold(dir, `\EFI\BOOT\`) {
		for _, x := range v.Loaders {
			if x.Name == loader.Shim {
				dir = x.Path[:strings.LastIndexByte(x.Path, '\\')+1]
			}
		}
	}
	next := dir + machine.ShimNext
	if g, ok := v.Loader(next); ok {
		if g.Err != nil && !g.Missing() {
			return a.StopFor("shim-next-unsound", course.StageConfiguration, course.FromShim("a message of the shim that it failed to open or load "+next+"."), next+", which the shim starts, is no sound program", g.Err.Error()+".")
		}
		return GrubProgram(k, a, at, g)
	}
	if there, known := v.Holds(next); known && !there {
		return a.Stop("shim-next-absent", course.StageConfiguration, course.FromShim("a message of the shim that it failed to open "+next+"."), next+", which the shim starts, is not there.")
	}
	return a.Unproven("shim-next-missing-evidence", course.StageConfiguration, "What the shim starts is not in evidence.", course.HowCapture)
}

// GrubProgram follows GRUB as an EFI program: its folder is built in, and lies on
// the partition it was started from unless it names another.
func GrubProgram(k *course.Walk, a *course.Attempt, at machine.Spot, f loader.Found) course.Result {
	prefix := strings.ReplaceAll(f.Path[:max(0, strings.LastIndexByte(f.Path, '\\'))], `\`, "/")
	if g := f.Program.GRUB; g != nil {
		return grubCore(k, a, at, g)
	}
	return grubFolder(k, a, at, at, prefix, nil)
}

// GrubFromCode follows GRUB from sector 0.
func GrubFromCode(k *course.Walk, a *course.Attempt, d *machine.Drive) course.Result {
	core := d.Contents.Core
	if core.Image == nil {
		if disk.IsNotCaptured(core.Err) || !core.Known {
			return a.Unproven("core-image-missing-evidence", course.StageConfiguration, "GRUB's core image is not in evidence.", course.HowCapture)
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
		root, lost, end := grubSearch(k, a, at, early.Top, at, nil)
		if end != nil {
			return *end
		}
		if early.Prefix != "" {
			prefix = early.Prefix
		}
		if lost != nil && root.Index < 0 {
			return a.Stop("search-finds-nothing", course.StageConfiguration, course.GRUBRescue, lost.text, lost.facts...)
		}
		return grubFolder(k, a, at, root, machine.AfterBrackets(prefix), lost)
	}
	root := at
	if inside := machine.InsideBrackets(prefix); inside != "" {
		hit, ok, known := grubDisk(k, at.Drive, inside)
		if !known {
			return a.Unproven("prefix-unknown", course.StageConfiguration,
				fmt.Sprintf("GRUB looks for its folder at %s: the evidence does not tell what is there.", prefix), course.HowCapture, at.Drive.CoreFact())
		}
		if !ok {
			return a.Stop("prefix-absent", course.StageConfiguration, course.GRUBRescue,
				fmt.Sprintf("GRUB looks for its folder at %s, which does not exist on %s.", prefix, at.Drive.Called()), at.Drive.CoreFact())
		}
		root = hit
	}
	return grubFolder(k, a, at, root, machine.AfterBrackets(prefix), nil)
}

// grubDisk resolves a disk number: without a drive it is the one that GRUB was
// started from; with one, the drives in the firmware's order. The result is not known
// where the evidence does not tell of the drive's partitions.
func grubDisk(k *course.Walk, from *machine.Drive, name string) (at machine.Spot, found, known bool) {
	drive, number, ok := loader.GRUBPartition(name)
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

// lostSearch is a search of GRUB's that found nothing. GRUB says so and goes on
// with the root that it had, as real machines show (package truth).
type lostSearch struct {
	text  string
	facts []machine.Fact
}

// or is why the start stops when something is missing: the search that found
// nothing, where there was one.
func (l *lostSearch) or(text string, facts ...machine.Fact) (string, []machine.Fact) {
	if l == nil {
		return text, facts
	}
	return l.text, append(l.facts, facts...)
}

// grubSearch follows searches: the last that finds something sets the root. Hints
// are taken only where nothing is searched for.
func grubSearch(k *course.Walk, a *course.Attempt, from machine.Spot, searches []loader.GRUBSearch, root machine.Spot,
	where func(loader.GRUBSearch) machine.Fact) (found machine.Spot, lost *lostSearch, end *course.Result) {
	searched, hintOpen := false, false
	var hint loader.Spec
	for _, s := range searches {
		var facts []machine.Fact
		if where != nil {
			facts = append(facts, where(s))
		}
		switch {
		case s.Hint && !searched:
			hit, ok, known := grubDisk(k, from.Drive, s.Spec.Value)
			if hintOpen = !known; hintOpen {
				hint = s.Spec
			}
			if ok {
				root = hit
			}
		case s.Hint || s.Spec.Kind == loader.ByFile:
		default:
			searched = true
			hits, known := k.Choose(a, s.Spec.String(),
				func(d *machine.Drive) ([]int, bool) { return d.Resolve(s.Spec) })
			switch {
			case len(hits) > 0:
				root, lost, hintOpen = hits[0], nil, false
			case !known:
				end := a.Unproven("search-unknown", course.StageConfiguration, fmt.Sprintf("GRUB looks for the %s: the evidence does not tell where that is.", s.Spec), course.HowCapture, facts...)
				return root, nil, &end
			default:
				lost = &lostSearch{fmt.Sprintf("GRUB looks for the %s, which no attached disk carries.", s.Spec), facts}
			}
		}
	}
	if hintOpen {
		end := a.Unproven("search-unknown", course.StageConfiguration, fmt.Sprintf("GRUB goes to the %s: the evidence does not tell what is there.", hint), course.HowCapture)
		return root, nil, &end
	}
	return root, lost, nil
}

// grubFolder reads the configuration in GRUB's folder and follows it.
func grubFolder(k *course.Walk, a *course.Attempt, from, root machine.Spot, folder string,
	lost *lostSearch) course.Result {
	name := path.Join("/", folder, "grub.cfg")
	prefix := folder
	for range maxConfigFiles {
		if root.Drive == nil || root.Index < 0 || root.Drive.Contents == nil {
			return a.Unproven("grub-folder-unknown", course.StageConfiguration, "The partition of GRUB's folder is not known.", course.HowTry)
		}
		v := root.Volume()
		c := v.Config(machine.ConfigGRUB, name)
		switch {
		case v.Kind == volume.NotCaptured, c == nil && !v.Readable, c != nil && c.Missing():
			return a.Unproven("menu-missing-evidence", course.StageConfiguration, fmt.Sprintf("%s on partition %d of %s (%s) is not in evidence.", name, root.Partition().Number,
				root.Drive.Called(), v.Kind), course.HowCapture)
		case c == nil:
			text, facts := lost.or(fmt.Sprintf("%s is not on partition %d of %s.", name, root.Partition().Number, root.Drive.Called()))
			shows := course.GRUBPrompt
			if lost != nil {
				shows = course.GRUBRescue
			}
			return a.Stop("menu-absent", course.StageConfiguration, shows, text, facts...)
		case c.Err != nil:
			return a.Unproven("menu-unread", course.StageConfiguration, fmt.Sprintf("%s cannot be read: %v.", name, c.Err), course.HowTry)
		}
		holder := root
		cite := func(s loader.GRUBSearch) machine.Fact {
			return holder.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, s.Line), s.Spec.String(),
				c.Source(holder.Base(), "search", s.Offset, s.Length))
		}
		next, missed, end := grubSearch(k, a, from, c.GRUB.Top, root, cite)
		if end != nil {
			return *end
		}
		if missed != nil {
			lost = missed
		}
		if c.GRUB.ConfigFile == "" || len(c.GRUB.Entries) > 0 {
			return grubMenu(k, a, from, holder, next, c, cite, lost)
		}
		if c.GRUB.Prefix != "" {
			prefix = machine.AfterBrackets(c.GRUB.Prefix)
		}
		root, name = next, path.Join("/", machine.AfterBrackets(strings.Replace(c.GRUB.ConfigFile, "$prefix", prefix, 1)))
	}
	return a.Unproven("menu-circle", course.StageConfiguration, "GRUB's configurations lead on to each other without end.", course.HowTry)
}

// grubMenu follows the entry that is started when nobody chooses.
func grubMenu(k *course.Walk, a *course.Attempt, from, holder, root machine.Spot, c *machine.Config,
	cite func(loader.GRUBSearch) machine.Fact, lost *lostSearch) course.Result {
	entry, err := c.GRUB.DefaultEntry()
	if err != nil {
		if c.GRUB.BLS {
			return BootLoaderEntries(k, a, root)
		}
		return a.Stop("menu-empty", course.StageConfiguration, course.GRUBPrompt, fmt.Sprintf("%s has no entry to start.", c.Path))
	}
	root, missed, end := grubSearch(k, a, from, entry.Searches, root, cite)
	if end != nil {
		return *end
	}
	if missed != nil {
		lost = missed
	}
	cited := holder.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, entry.Line), entry.Title,
		c.Source(holder.Base(), "linux", entry.Offset, entry.Length))
	if entry.Linux == "" {
		return a.Unproven("entry-no-kernel", course.StageConfiguration, fmt.Sprintf("The default entry, %s, starts no Linux kernel: what it starts is not followed.", entry.Title), course.HowTry, cited)
	}
	return kernel(k, a, holder.Drive, root, kernelLine{entry.Linux, []string{entry.Initrd}, entry.Root, cited, lost})
}

// kernelLine is what a loader gives to the kernel.
type kernelLine struct {
	linux   string
	initrds []string
	root    *loader.Spec
	cited   machine.Fact
	lost    *lostSearch // a search that found nothing before
}

// BootLoaderEntries follows the entries of the Boot Loader Specification on the
// loader's own partition: the first by name, backwards, as newer versions sort
// last.
func BootLoaderEntries(k *course.Walk, a *course.Attempt, at machine.Spot) course.Result {
	v := at.Volume()
	var newest *machine.Config
	for i := range v.Configs {
		if c := &v.Configs[i]; c.Kind == machine.ConfigEntry {
			newest = c
		}
	}
	switch {
	case newest == nil && !v.Readable, newest != nil && newest.Missing():
		return a.Unproven("entries-missing-evidence", course.StageConfiguration, "The boot loader's entries are not in evidence.", course.HowCapture)
	case newest == nil:
		return a.Stop("entries-absent", course.StageConfiguration, course.NoEntries,
			fmt.Sprintf("There is no entry in /loader/entries on partition %d of %s.", at.Partition().Number, at.Drive.Called()))
	case newest.Err != nil:
		return a.Unproven("entry-unread", course.StageConfiguration, fmt.Sprintf("%s cannot be read: %v.", newest.Path, newest.Err), course.HowTry)
	}
	e := newest.Entry
	cited := at.Drive.Cite(fmt.Sprintf("%s, line %d", newest.Path, e.Line), e.Title,
		newest.Source(at.Base(), "options", e.Offset, e.Length))
	return kernel(k, a, at.Drive, at, kernelLine{e.Linux, e.Initrds, e.Root, cited, nil})
}

// kernel checks that kernel and initial RAM disk are where they are looked for,
// and resolves the root file system.
func kernel(k *course.Walk, a *course.Attempt, from *machine.Drive, at machine.Spot, line kernelLine) course.Result {
	v := at.Volume()
	for _, file := range append([]string{line.linux}, line.initrds...) {
		there, known := v.Holds(file)
		switch {
		case file == "" || there:
		case known:
			text, facts := line.lost.or(fmt.Sprintf("%s is not on partition %d of %s.", file, at.Partition().Number, at.Drive.Called()), line.cited)
			return a.Stop("kernel-absent", course.StageConfiguration, course.GRUBNoKernel, text, facts...)
		default:
			return a.Unproven("kernel-missing-evidence", course.StageConfiguration, fmt.Sprintf("%s on partition %d is not in evidence.", file, at.Partition().Number),
				course.HowCapture, line.cited)
		}
	}
	if line.root == nil {
		return a.Unproven("no-root-named", course.StageConfiguration, "The kernel line names no root file system: the initial RAM disk finds it by itself.", course.HowTry, line.cited)
	}
	hits, known := k.Choose(a, line.root.String(),
		func(d *machine.Drive) ([]int, bool) { return d.Resolve(*line.root) })
	switch {
	case len(hits) == 0 && !known:
		return a.Unproven("root-unknown", course.StageConfiguration, fmt.Sprintf("The kernel looks for its root by %s: the evidence does not tell where that is.", line.root), course.HowCapture, line.cited)
	case len(hits) == 0:
		return a.Stop("root-absent", course.StageConfiguration, course.RootWait, fmt.Sprintf("The kernel looks for its root by %s, which no attached disk carries.", line.root), line.cited)
	}
	home := hits[0]
	half, end := mounts(k, a, home)
	if end != nil {
		return *end
	}
	a.Takes(from, home, fmt.Sprintf("The loader starts %s with its root on partition %d of %s.", line.linux, home.Partition().Number, home.Drive.Called()), line.cited)
	if line.lost != nil {
		a.Risk("search-lost", line.lost.text+" It says so, and goes on with the partition that it had.", line.lost.facts...)
	}
	if half != nil {
		a.Risk("half-from-the-other", "The system mounts parts of the other disk: it runs half from the old one.", half...)
	}
	if line.root.Kind == loader.ByDevice {
		a.Risk("root-by-device-name", "The root is named by the kernel's device name, which changes with the port and the other drives.", line.cited)
	}
	if k.Machine.Until == machine.UntilConfiguration {
		return course.Result{State: course.Passes, Home: home}
	}
	return linuxSystem(k, a, home)
}

// mounts checks what the system's mount table waits for; half are the mounts that
// lie on another disk than the system. What the evidence does not tell of it is
// left to the next stage.
func mounts(k *course.Walk, a *course.Attempt, home machine.Spot) (half []machine.Fact, end *course.Result) {
	c := home.Volume().Config(machine.ConfigFstab, "/etc/fstab")
	if c == nil || c.Err != nil || home.Drive.Contents.Lost(home.Partition()) {
		return nil, nil
	}
	for _, m := range c.Mounts {
		if !m.Essential() || m.Spec.Kind == loader.ByPath {
			continue
		}
		cited := home.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, m.Line), m.Spec.String()+" on "+m.Point,
			c.Source(home.Base(), m.Point, m.Offset, m.Length))
		hits, known := k.Choose(a, m.Spec.String(), func(d *machine.Drive) ([]int, bool) { return d.Resolve(m.Spec) })
		switch {
		case len(hits) == 0 && !known:
			stop := a.Unproven("mount-unknown", course.StageConfiguration, fmt.Sprintf("The system mounts %s by %s: the evidence does not tell where that is.", m.Point, m.Spec),
				course.HowCapture, cited)
			stop.Home = home
			return nil, &stop
		case len(hits) == 0:
			stop := a.Stop("mount-absent", course.StageConfiguration, course.EmergencyMode, fmt.Sprintf("The system waits for %s, by %s, which no attached disk carries.", m.Point, m.Spec), cited)
			return nil, &stop
		case hits[0].Drive != home.Drive:
			half = append(half, cited)
		}
	}
	return half, nil
}

// linuxSystem judges stage 8 for Linux.
func linuxSystem(k *course.Walk, a *course.Attempt, home machine.Spot) course.Result {
	v, p := home.Volume(), home.Partition()
	if k.LostPart(a, home) {
		return course.Result{State: course.Blocks, Home: home}
	}
	c := v.Config(machine.ConfigFstab, "/etc/fstab")
	if c == nil && !v.Readable || c != nil && c.Err != nil {
		end := a.Unproven("mount-table-missing-evidence", course.StageSystem, fmt.Sprintf("The mount table on partition %d (%s) is not in evidence.", p.Number, v.Kind), course.HowCapture)
		end.Home = home
		return end
	}
	if !k.Driver(a, home, "the initial RAM disk", course.RootWait) {
		return course.Result{State: course.Blocks, Home: home}
	}
	return k.ComesUp(a, home, "Linux")
}
