package machine

import (
	"errors"
	"path"
	"slices"
	"sort"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// maxEntries bounds the entries of one folder that are read, and the kernels that are
// listed of one.
const maxEntries = 64

// sleepSigns are the first four bytes of a live sleep file. Common practice, from
// memory: "hibr" while the system sleeps, "wake" after it was woken.
var sleepSigns = []string{"hibr", "HIBR", "RSTR", "rstr"}

// gathering reads the configuration on a volume.
type gathering struct {
	volume *Volume
	files  volume.Files
	left   *budget
	disk   *disk.Disk
	base   int64 // the partition's byte offset on the disk
}

// gather reads what bears on a start.
func (g *gathering) gather() {
	g.volume.looked = map[string]error{}
	for _, name := range []string{"ntldr", "bootmgr"} {
		if f, err := g.files.Lookup(name); err == nil && !f.Dir {
			g.volume.LegacyManager = name
			g.payload(name)
		} else {
			g.volume.looked[name] = err
		}
	}
	g.syslinux()
	g.besideKernels()
	switch g.volume.Kind {
	case volume.KindNTFS:
		g.gatherWindows()
	case volume.KindExt, volume.KindXFS:
		g.gatherLinux("")
	case volume.KindBtrfs:
		for _, folder := range g.volume.Subvolumes.Views() {
			g.gatherLinux(folder)
		}
	default:
		g.store(loader.StoreUEFI)
		g.store(loader.StoreLegacy)
		g.gatherESP()
	}
}

// gatherWindows looks at what decides a start of Windows on its own volume.
func (g *gathering) gatherWindows() {
	g.store(loader.StoreLegacy)
	for _, name := range []string{winloadEFI, winloadEXE, WindowsKernel} {
		g.payload(name)
	}
	for _, c := range g.volume.Configs {
		for _, name := range c.loaderPaths() {
			g.payload(name)
		}
	}
	g.systemHive()
	f, err := g.files.Lookup(sleepFile)
	switch {
	case errors.Is(err, volume.ErrNotFound):
		g.volume.Hibernated = fact.Known(false, fact.Source{Origin: fact.Bytes, Structure: "directory", Field: sleepFile,
			Offset: g.base})
	case err == nil:
		at := fact.Source{Origin: fact.Bytes, Structure: f.Record, Field: sleepFile, Offset: g.base + f.Offset,
			Length: f.Length}
		sign := make([]byte, 4)
		s, err := g.files.Open(f)
		if err == nil {
			_, err = s.ReadAt(sign, 0)
		}
		if place := int64(-1); err == nil {
			if place = s.Place(0); place >= 0 {
				at = fact.Source{Origin: fact.Bytes, Structure: sleepFile, Field: "signature", Offset: g.base + place, Length: 4}
			}
			g.volume.Hibernated = fact.Known(contains(sleepSigns, string(sign)), at)
		}
	}
}

// systemHive reads what decides a start from the registry.
func (g *gathering) systemHive() {
	f, err := g.find(SystemHive)
	if err != nil {
		return
	}
	s, err := g.files.Open(f)
	if err == nil {
		g.volume.System, err = loader.ReadSystemHive(s)
	}
	if g.volume.SystemErr = err; err == nil {
		g.volume.System.Placed(s.Place)
	}
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// look remembers whether a file is on the volume.
func (g *gathering) look(name string) {
	if _, done := g.volume.looked[strings.ToLower(name)]; !done {
		_, _ = g.find(name)
	}
}

// find looks for a file, and remembers whether it is there.
func (g *gathering) find(name string) (volume.File, error) {
	f, err := g.files.Lookup(name)
	if err == nil && f.Dir {
		err = volume.ErrNotFound
	}
	g.volume.looked[strings.ToLower(name)] = err
	return f, err
}

// gatherLinux reads what a Linux keeps on the volume, in a folder that stands for its root:
// a subvolume, or "" where there are none.
func (g *gathering) gatherLinux(in string) {
	for _, name := range menus {
		g.grub(in + name)
	}
	g.entries(in + "/boot/loader")
	g.entries(in + "/loader")
	for _, dir := range []string{"", "/boot"} {
		g.kernels(in + dir)
	}
	g.modules(in)
	own := *g
	own.files = volume.Within(g.files, in)
	own.gatherSystem(in)
}

// gatherSystem reads what a Linux in a folder that stands for its root goes by itself.
func (g *gathering) gatherSystem(in string) {
	g.read(ConfigFstab, in+fstabFile, func(c *Config) {
		c.Mounts = loader.ParseFstab(c.File.Bytes)
		for i, m := range c.Mounts {
			if file, is := m.Image(); is && i < maxEntries {
				g.lookAny(in + file)
			}
		}
	})
	g.read(ConfigCrypttab, in+crypttabFile, func(c *Config) { c.Opened = loader.ParseCrypttab(c.File.Bytes) })
	g.read(ConfigName, in+releaseFile, func(c *Config) { c.Name = loader.ParseRelease(c.File.Bytes) })
	for _, name := range slices.Concat(SystemSigns, usrSigns, []string{"/etc"}) {
		g.lookAny(in + name)
	}
	g.folders(in)
	for _, name := range FirstPrograms {
		g.payload(in + name)
		if p, read := g.volume.payloads[strings.ToLower(in+name)]; read && p.Interpreter != "" {
			g.look(in + p.Interpreter)
		}
	}
	g.tools(in)
	g.kernelModules(in)
}

// fstabFile and crypttabFile are a Linux' tables of mounts and of encrypted volumes. fstab(5), crypttab(5).
const fstabFile, crypttabFile = "/etc/fstab", "/etc/crypttab"

// menus are where GRUB's folder lies by the families' choice.
var menus = []string{"/boot/grub/grub.cfg", "/grub/grub.cfg", "/boot/grub2/grub.cfg", "/grub2/grub.cfg"}

// LooksForMenu reports whether a menu of this name is looked for on every volume: one that
// is not found is then not there.
func (v *Volume) LooksForMenu(name string) bool {
	folder := strings.ToLower(path.Dir(path.Dir(name)))
	if v.Subvolumes != nil {
		for _, in := range v.Subvolumes.Views() {
			if rest, ok := strings.CutPrefix(name, in); ok && contains(menus, rest) {
				return true
			}
		}
		return false
	}
	return contains(menus, strings.ToLower(name)) || folder == "/efi" && path.Base(name) == "grub.cfg"
}

// gatherESP reads what Linux' loaders keep on a FAT volume.
func (g *gathering) gatherESP() {
	for _, name := range menus {
		g.grub(name)
	}
	folders, _ := g.files.ReadDir("EFI")
	g.shimLists(folders)
	sort.Slice(folders, func(i, j int) bool { return folders[i].Name < folders[j].Name })
	for i, f := range folders {
		if f.Dir && i < maxEntries {
			g.grub("/EFI/" + f.Name + "/grub.cfg")
			for _, suffix := range loader.Suffixes {
				g.look(`\EFI\` + f.Name + `\grub` + suffix)
				g.look(`\EFI\` + f.Name + `\fb` + suffix)
			}
		}
	}
	g.entries("/loader")
	g.kernels("")
	g.modules("")
}

// shimLists reads the lists of the shim's fallback, in the order in which the folders stand
// in their directory: the fallback goes by it.
func (g *gathering) shimLists(folders []volume.File) {
	for i, f := range folders {
		if !f.Dir || i >= maxEntries || strings.EqualFold(f.Name, "BOOT") || strings.HasPrefix(f.Name, ".") {
			continue
		}
		var names []string
		for _, suffix := range loader.Suffixes {
			names = append(names, loader.ShimListName(suffix))
		}
		for _, name := range append(names, loader.ShimListOfAny) {
			g.shimList("/EFI/" + f.Name + "/" + name)
		}
	}
}

func (g *gathering) shimList(name string) {
	g.read(ConfigShim, name, func(c *Config) {
		c.Loaders = loader.ParseShimList(c.File.Bytes)
		for _, name := range c.Loaders {
			g.look(strings.ReplaceAll(path.Dir(c.Path), "/", `\`) + `\` + name)
		}
	})
}

// besideKernels looks at what lies in the folders of kernels that the firmware itself starts,
// and at the top: the initial RAM disks that their boot entries name.
func (g *gathering) besideKernels() {
	folders := map[string]bool{}
	for _, f := range g.volume.Loaders {
		if f.Program.Is == loader.LinuxKernel {
			folders["/"], folders[path.Dir(strings.ReplaceAll(f.Path, `\`, "/"))] = true, true
		}
	}
	for folder := range folders {
		files, err := g.files.ReadDir(strings.Trim(folder, "/"))
		if err != nil || len(files) > 4*maxEntries {
			continue
		}
		g.volume.looked[listedWhole(folder)] = nil
		for _, f := range files {
			switch name := path.Join(folder, f.Name); {
			case f.Dir:
			case likeRAMDisk(f.Name), folder != "/" && len(files) <= maxBeside:
				g.payload(name)
			default:
				g.volume.looked[strings.ToLower(name)] = nil
			}
		}
	}
}

func (g *gathering) kernels(dir string) {
	files, _ := g.files.ReadDir(dir)
	seen := 0
	for _, f := range files {
		name := path.Join("/", dir, f.Name)
		if !f.Dir && (strings.HasPrefix(f.Name, "vmlinuz") || strings.HasPrefix(f.Name, "initrd") ||
			strings.HasPrefix(f.Name, "initramfs")) {
			g.payload(name)
			if strings.HasPrefix(f.Name, "vmlinuz") {
				g.volume.Kernels = append(g.volume.Kernels, name)
			}
			if seen++; seen == 4*maxEntries {
				break
			}
		}
	}
	sort.Strings(g.volume.Kernels)
}

// read takes a file in when it is there, or when the evidence cannot tell.
func (g *gathering) read(kind ConfigKind, name string, decode func(*Config)) {
	limit := int64(loader.MaxText)
	if kind == ConfigStore {
		limit = loader.MaxStore
	}
	if g.left.kept <= 0 {
		g.volume.Configs = append(g.volume.Configs, Config{Kind: kind, Path: name, Err: &disk.Spent{}})
		return
	}
	f, err := volume.ReadFile(g.files, name, limit)
	if errors.Is(err, volume.ErrNotFound) {
		return
	}
	if err == nil {
		g.left.kept -= int64(len(f.Bytes))
	}
	c := Config{Kind: kind, Path: name, File: f, Err: err}
	if err == nil {
		decode(&c)
	}
	g.volume.Configs = append(g.volume.Configs, c)
}

func (g *gathering) store(name string) {
	g.read(ConfigStore, name, func(c *Config) { c.Store, c.Err = loader.ReadStore(c.File.Bytes) })
}

func (g *gathering) grub(name string) {
	g.read(ConfigGRUB, name, func(c *Config) {
		c.GRUB = loader.RunGRUBConfig(c.File.Bytes, path.Dir(name), g.beside)
		g.lookAtEntries(c.GRUB.Entries)
	})
}

// lookAtEntries looks for the files that menu entries load.
func (g *gathering) lookAtEntries(list []loader.GRUBEntry) {
	for _, e := range list {
		g.named(e.Linux, g.kernel)
		for _, file := range e.Initrds {
			g.named(file, g.payload)
		}
		for _, program := range loader.KernelOptions(e.Options, "init") { // where the root holds the menu
			g.named(program, g.lookAny)
		}
		g.lookAtEntries(e.Sub)
	}
}

// named looks for a file that a menu names: where it stands, and in the subvolume that is meant where
// none is named.
func (g *gathering) named(file string, look func(name string)) {
	if file = AfterBrackets(file); file == "" {
		return
	}
	look(file)
	if s := g.volume.Subvolumes; s != nil && s.Default != "/" {
		look(s.Default + file)
	}
}

// beside reads a file that a menu's script asks for.
func (g *gathering) beside(name string) (raw []byte, there, known bool) {
	if g.left.kept <= 0 {
		return nil, false, false
	}
	f, err := volume.ReadFile(g.files, name, loader.MaxText)
	if err != nil {
		// On a Btrfs it may be meant from the default subvolume.
		s := g.volume.Subvolumes
		return nil, false, errors.Is(err, volume.ErrNotFound) && (s == nil || s.Default == "/")
	}
	g.left.kept -= int64(len(f.Bytes))
	return f.Bytes, true, true
}

// releaseFile is where a Linux says what it is. os-release(5).
const releaseFile = "/etc/os-release"

// Release is what the Linux at a place says of itself; nil where that is not known.
func (c *Contents) Release(root Address) *loader.Release {
	if r := c.Config(root, ConfigName, releaseFile); r != nil && r.Err == nil {
		return r.Name
	}
	return nil
}

// SystemSigns are the files of which the root of a Linux has some: the first program, in
// the order in which the kernel looks for it, and the folders in which systems of other
// layouts keep theirs. The kernel's init/main.c; the Filesystem Hierarchy Standard 3.0.
var SystemSigns = append(slices.Clone(FirstPrograms), Systemd, "/usr", "/nix", "/ostree", "/gnu")

// Systemd is where systemd lies, by its own build.
const Systemd = "/usr/lib/systemd/systemd"

// FirstPrograms are what the kernel starts, the first that it can. The kernel's init/main.c.
var FirstPrograms = []string{"/sbin/init", "/etc/init", "/bin/init", "/bin/sh"}

// lookAny is look for a file or a folder.
func (g *gathering) lookAny(name string) {
	_, err := g.files.Lookup(name)
	g.volume.looked[strings.ToLower(name)] = err
}
