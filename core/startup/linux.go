package startup

import (
	"fmt"
	"path"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// What a Linux loader shows when it cannot go on. GNU GRUB Manual, "GRUB only
// offers a rescue shell"; systemd's systemd.mount(5) for emergency mode.
const (
	screenRescue    = "error: no such device, or unknown filesystem; then grub rescue>."
	screenPrompt    = "GRUB's prompt, grub>, and no menu."
	screenNoKernel  = "error: file not found; you need to load the kernel first."
	screenNoRoot    = "waiting for the root device, then a prompt of the initial RAM disk, (initramfs) or dracut."
	screenEmergency = "a minute's wait, then: You are in emergency mode."
)

// maxConfigFiles bounds the configurations that lead on to each other.
const maxConfigFiles = 4

func isMissing(v *Volume) bool { return disk.IsNotCaptured(v.FilesErr) }

// shim starts GRUB from its own folder; a rebuilding shim goes to the
// distribution's folder instead. The shim project's documentation.
func (k *walk) shim(a *Attempt, at spot, f loader.Found) ending {
	v := at.volume()
	dir := f.Path[:strings.LastIndexByte(f.Path, '\\')+1]
	if there, _ := v.holds(dir + shimRebuild); there && strings.EqualFold(dir, `\EFI\BOOT\`) {
		for _, x := range v.Loaders {
			if x.Name == loader.Shim {
				dir = x.Path[:strings.LastIndexByte(x.Path, '\\')+1]
			}
		}
	}
	next := dir + shimNext
	if g, ok := v.find(next); ok {
		if g.Err != nil && !g.Missing() {
			return a.stop(StageConfiguration, "a message of the shim that it failed to open or load "+next+".", fmt.Sprintf("%s, which the shim starts, is no sound program: %v.", next, g.Err))
		}
		return k.grubProgram(a, at, g)
	}
	if there, known := v.holds(next); known && !there {
		return a.stop(StageConfiguration, "a message of the shim that it failed to open "+next+".", next+", which the shim starts, is not there.")
	}
	return a.unproven(StageConfiguration, "What the shim starts is not in evidence.", howCapture)
}

// grubProgram follows GRUB as an EFI program: its folder is built in, and lies on
// the partition it was started from unless it names another.
func (k *walk) grubProgram(a *Attempt, at spot, f loader.Found) ending {
	prefix := strings.ReplaceAll(f.Path[:max(0, strings.LastIndexByte(f.Path, '\\'))], `\`, "/")
	if g := f.Program.GRUB; g != nil {
		return k.grubCore(a, at, g)
	}
	return k.grubFolder(a, at, at, prefix, nil)
}

// grubFromCode follows GRUB from sector 0.
func (k *walk) grubFromCode(a *Attempt, d *Drive) ending {
	core := d.Contents.Core
	if core.Image == nil {
		if disk.IsNotCaptured(core.Err) || !core.Known {
			return a.unproven(StageConfiguration, "GRUB's core image is not in evidence.", howCapture)
		}
		text := "GRUB's core image cannot be read, so that its folder is not known."
		if core.Err != nil {
			text = fmt.Sprintf("GRUB's core image cannot be read (%v), so that its folder is not known.", core.Err)
		}
		return a.unproven(StageConfiguration, text, howTry)
	}
	return k.grubCore(a, spot{d, -1}, core.Image)
}

// grubCore follows what is built into GRUB: commands that are run first, and the
// folder.
func (k *walk) grubCore(a *Attempt, at spot, g *loader.GRUBCore) ending {
	prefix := g.Prefix
	if g.Config != "" {
		early := loader.ParseGRUBConfig([]byte(g.Config))
		root, lost, end := k.grubSearch(a, at, early.Top, at, nil)
		if end != nil {
			return *end
		}
		if early.Prefix != "" {
			prefix = early.Prefix
		}
		if lost != nil && root.index < 0 {
			return a.stop(StageConfiguration, screenRescue, lost.text, lost.facts...)
		}
		return k.grubFolder(a, at, root, afterBrackets(prefix), lost)
	}
	root := at
	if inside := insideBrackets(prefix); inside != "" {
		hit, ok := k.grubDisk(at.drive, inside)
		if !ok {
			return a.stop(StageConfiguration, screenRescue, fmt.Sprintf("GRUB looks for its folder at %s, which does not exist on %s.", prefix, at.drive.called()), at.drive.coreFact())
		}
		root = hit
	}
	return k.grubFolder(a, at, root, afterBrackets(prefix), nil)
}

func (d *Drive) coreFact() Fact {
	return d.cite("GRUB's prefix", prefixOf(d), fact.Source{Origin: fact.Bytes, Structure: "GRUB core image", Field: "prefix", Offset: int64(d.Contents.Core.Sector) * 512, Length: 512})
}

func prefixOf(d *Drive) string {
	if d.Contents.Core.Image != nil {
		return d.Contents.Core.Image.Prefix
	}
	return "built in"
}

func insideBrackets(s string) string {
	if inner, ok := strings.CutPrefix(s, "("); ok {
		inner, _, _ = strings.Cut(inner, ")")
		if !strings.HasPrefix(inner, "$") {
			return inner
		}
	}
	return ""
}

func afterBrackets(s string) string {
	if _, rest, ok := strings.Cut(s, ")"); ok {
		return rest
	}
	return s
}

// grubDisk resolves a disk number: without a drive it is the one that GRUB was
// started from; with one, the drives in the firmware's order.
func (k *walk) grubDisk(from *Drive, name string) (spot, bool) {
	drive, number, ok := loader.GRUBPartition(name)
	if !ok {
		return spot{}, false
	}
	d := from
	if drives := k.drives(); drive >= 0 {
		if drive >= len(drives) {
			return spot{}, false
		}
		d = drives[drive]
	}
	return d.at(number)
}

// lostSearch is a search of GRUB's that found nothing. GRUB says so and goes on
// with the root that it had, as real machines show (package truth).
type lostSearch struct {
	text  string
	facts []Fact
}

// or is why the start stops when something is missing: the search that found
// nothing, where there was one.
func (l *lostSearch) or(text string, facts ...Fact) (string, []Fact) {
	if l == nil {
		return text, facts
	}
	return l.text, append(l.facts, facts...)
}

// grubSearch follows searches: the last that finds something sets the root. Hints
// are taken only where nothing is searched for.
func (k *walk) grubSearch(a *Attempt, from spot, searches []loader.GRUBSearch, root spot, where func(loader.GRUBSearch) Fact) (found spot, lost *lostSearch, end *ending) {
	searched := false
	for _, s := range searches {
		var facts []Fact
		if where != nil {
			facts = append(facts, where(s))
		}
		switch {
		case s.Hint && !searched:
			if hit, ok := k.grubDisk(from.drive, s.Spec.Value); ok {
				root = hit
			}
		case s.Hint || s.Spec.Kind == loader.ByFile:
		default:
			searched = true
			hits, known := k.choose(a, s.Spec.String(), func(d *Drive) ([]int, bool) { return d.resolve(s.Spec) })
			switch {
			case len(hits) > 0:
				root, lost = hits[0], nil
			case !known:
				end := a.unproven(StageConfiguration, fmt.Sprintf("GRUB looks for the %s: the evidence does not tell where that is.", s.Spec), howCapture, facts...)
				return root, nil, &end
			default:
				lost = &lostSearch{fmt.Sprintf("GRUB looks for the %s, which no attached disk carries.", s.Spec), facts}
			}
		}
	}
	return root, lost, nil
}

// grubFolder reads the configuration in GRUB's folder and follows it.
func (k *walk) grubFolder(a *Attempt, from, root spot, folder string, lost *lostSearch) ending {
	name := path.Join("/", folder, "grub.cfg")
	prefix := folder
	for range maxConfigFiles {
		if root.drive == nil || root.index < 0 || root.drive.Contents == nil {
			return a.unproven(StageConfiguration, "The partition of GRUB's folder is not known.", howTry)
		}
		v := root.volume()
		c := v.config(ConfigGRUB, name)
		switch {
		case v.Kind == volume.NotCaptured, c == nil && v.Files == nil, c != nil && c.Missing():
			return a.unproven(StageConfiguration, fmt.Sprintf("%s on partition %d of %s (%s) is not in evidence.", name, root.partition().Number, root.drive.called(), v.Kind), howCapture)
		case c == nil:
			text, facts := lost.or(fmt.Sprintf("%s is not on partition %d of %s.", name, root.partition().Number, root.drive.called()))
			screen := screenPrompt
			if lost != nil {
				screen = screenRescue
			}
			return a.stop(StageConfiguration, screen, text, facts...)
		case c.Err != nil:
			return a.unproven(StageConfiguration, fmt.Sprintf("%s cannot be read: %v.", name, c.Err), howTry)
		}
		holder := root
		cite := func(s loader.GRUBSearch) Fact {
			return holder.drive.cite(fmt.Sprintf("%s, line %d", c.Path, s.Line), s.Spec.String(), c.source(holder.base(), "search", s.Offset, s.Length))
		}
		next, missed, end := k.grubSearch(a, from, c.GRUB.Top, root, cite)
		if end != nil {
			return *end
		}
		if missed != nil {
			lost = missed
		}
		if c.GRUB.ConfigFile == "" || len(c.GRUB.Entries) > 0 {
			return k.grubMenu(a, from, holder, next, c, cite, lost)
		}
		if c.GRUB.Prefix != "" {
			prefix = afterBrackets(c.GRUB.Prefix)
		}
		root, name = next, path.Join("/", afterBrackets(strings.Replace(c.GRUB.ConfigFile, "$prefix", prefix, 1)))
	}
	return a.unproven(StageConfiguration, "GRUB's configurations lead on to each other without end.", howTry)
}

// grubMenu follows the entry that is started when nobody chooses.
func (k *walk) grubMenu(a *Attempt, from, holder, root spot, c *Config, cite func(loader.GRUBSearch) Fact, lost *lostSearch) ending {
	entry, err := c.GRUB.DefaultEntry()
	if err != nil {
		if c.GRUB.BLS {
			return k.bootLoaderEntries(a, root)
		}
		return a.stop(StageConfiguration, screenPrompt, fmt.Sprintf("%s has no entry to start.", c.Path))
	}
	root, missed, end := k.grubSearch(a, from, entry.Searches, root, cite)
	if end != nil {
		return *end
	}
	if missed != nil {
		lost = missed
	}
	cited := holder.drive.cite(fmt.Sprintf("%s, line %d", c.Path, entry.Line), entry.Title, c.source(holder.base(), "linux", entry.Offset, entry.Length))
	if entry.Linux == "" {
		return a.unproven(StageConfiguration, fmt.Sprintf("The default entry, %s, starts no Linux kernel: what it starts is not followed.", entry.Title), howTry, cited)
	}
	return k.kernel(a, holder.drive, root, kernelLine{entry.Linux, []string{entry.Initrd}, entry.Root, cited, lost})
}

// kernelLine is what a loader gives to the kernel.
type kernelLine struct {
	linux   string
	initrds []string
	root    *loader.Spec
	cited   Fact
	lost    *lostSearch // a search that found nothing before
}

// bootLoaderEntries follows the entries of the Boot Loader Specification on the
// loader's own partition: the first by name, backwards, as newer versions sort
// last.
func (k *walk) bootLoaderEntries(a *Attempt, at spot) ending {
	v := at.volume()
	var newest *Config
	for i := range v.Configs {
		if c := &v.Configs[i]; c.Kind == ConfigEntry {
			newest = c
		}
	}
	switch {
	case newest == nil && v.Files == nil, newest != nil && newest.Missing():
		return a.unproven(StageConfiguration, "The boot loader's entries are not in evidence.", howCapture)
	case newest == nil:
		return a.stop(StageConfiguration, "a menu without a system, or the firmware's setup.", fmt.Sprintf("There is no entry in /loader/entries on partition %d of %s.", at.partition().Number, at.drive.called()))
	case newest.Err != nil:
		return a.unproven(StageConfiguration, fmt.Sprintf("%s cannot be read: %v.", newest.Path, newest.Err), howTry)
	}
	e := newest.Entry
	cited := at.drive.cite(fmt.Sprintf("%s, line %d", newest.Path, e.Line), e.Title, newest.source(at.base(), "options", e.Offset, e.Length))
	return k.kernel(a, at.drive, at, kernelLine{e.Linux, e.Initrds, e.Root, cited, nil})
}

// kernel checks that kernel and initial RAM disk are where they are looked for,
// and resolves the root file system.
func (k *walk) kernel(a *Attempt, from *Drive, at spot, line kernelLine) ending {
	v := at.volume()
	for _, file := range append([]string{line.linux}, line.initrds...) {
		there, known := v.holds(file)
		switch {
		case file == "" || there:
		case known:
			text, facts := line.lost.or(fmt.Sprintf("%s is not on partition %d of %s.", file, at.partition().Number, at.drive.called()), line.cited)
			return a.stop(StageConfiguration, screenNoKernel, text, facts...)
		default:
			return a.unproven(StageConfiguration, fmt.Sprintf("%s on partition %d is not in evidence.", file, at.partition().Number), howCapture, line.cited)
		}
	}
	if line.root == nil {
		return a.unproven(StageConfiguration, "The kernel line names no root file system: the initial RAM disk finds it by itself.", howTry, line.cited)
	}
	hits, known := k.choose(a, line.root.String(), func(d *Drive) ([]int, bool) { return d.resolve(*line.root) })
	switch {
	case len(hits) == 0 && !known:
		return a.unproven(StageConfiguration, fmt.Sprintf("The kernel looks for its root by %s: the evidence does not tell where that is.", line.root), howCapture, line.cited)
	case len(hits) == 0:
		return a.stop(StageConfiguration, screenNoRoot, fmt.Sprintf("The kernel looks for its root by %s, which no attached disk carries.", line.root), line.cited)
	}
	home := hits[0]
	half, end := k.mounts(a, home)
	if end != nil {
		return *end
	}
	a.takes(from, home, fmt.Sprintf("The loader starts %s with its root on partition %d of %s.", line.linux, home.partition().Number, home.drive.called()), line.cited)
	if line.lost != nil {
		a.risk(line.lost.text+" It says so, and goes on with the partition that it had.", line.lost.facts...)
	}
	if half != nil {
		a.risk("The system mounts parts of the other disk: it runs half from the old one.", half...)
	}
	if line.root.Kind == loader.ByDevice {
		a.risk("The root is named by the kernel's device name, which changes with the port and the other drives.", line.cited)
	}
	if k.m.Until == UntilConfiguration {
		return ending{Passes, home}
	}
	return k.linuxSystem(a, home)
}

// mounts checks what the system's mount table waits for; half are the mounts that
// lie on another disk than the system. What the evidence does not tell of it is
// left to the next stage.
func (k *walk) mounts(a *Attempt, home spot) (half []Fact, end *ending) {
	c := home.volume().config(ConfigFstab, "/etc/fstab")
	if c == nil || c.Err != nil || home.drive.Contents.Lost(home.partition()) {
		return nil, nil
	}
	for _, m := range c.Mounts {
		if !m.Essential() || m.Spec.Kind == loader.ByPath {
			continue
		}
		cited := home.drive.cite(fmt.Sprintf("%s, line %d", c.Path, m.Line), m.Spec.String()+" on "+m.Point, c.source(home.base(), m.Point, m.Offset, m.Length))
		hits, known := k.choose(a, m.Spec.String(), func(d *Drive) ([]int, bool) { return d.resolve(m.Spec) })
		switch {
		case len(hits) == 0 && !known:
			stop := a.unproven(StageConfiguration, fmt.Sprintf("The system mounts %s by %s: the evidence does not tell where that is.", m.Point, m.Spec), howCapture, cited)
			stop.home = home
			return nil, &stop
		case len(hits) == 0:
			stop := a.stop(StageConfiguration, screenEmergency, fmt.Sprintf("The system waits for %s, by %s, which no attached disk carries.", m.Point, m.Spec), cited)
			return nil, &stop
		case hits[0].drive != home.drive:
			half = append(half, cited)
		}
	}
	return half, nil
}

// linuxSystem judges stage 8 for Linux.
func (k *walk) linuxSystem(a *Attempt, home spot) ending {
	v, p := home.volume(), home.partition()
	if k.lostPart(a, home) {
		return ending{Blocks, home}
	}
	c := v.config(ConfigFstab, "/etc/fstab")
	if c == nil && v.Files == nil || c != nil && c.Err != nil {
		end := a.unproven(StageSystem, fmt.Sprintf("The mount table on partition %d (%s) is not in evidence.", p.Number, v.Kind), howCapture)
		end.home = home
		return end
	}
	if !k.driver(a, home, "the initial RAM disk", screenNoRoot) {
		return ending{Blocks, home}
	}
	return k.comesUp(a, home, "Linux")
}
