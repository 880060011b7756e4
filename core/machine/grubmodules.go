package machine

import (
	"errors"
	"path"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// grubModules is a folder of GRUB's modules for a platform.
type grubModules struct {
	there bool
	needs loader.ModuleDependencies
	err   error // why what they need is not known
}

// GRUB's modules that every start by it needs: what makes it more than its rescue prompt, and what
// loads a kernel. GNU GRUB 2.06, grub-core/kern/main.c, grub_load_normal_mode.
const (
	ModuleNormal = "normal"
	ModuleLinux  = "linux"
)

// modules looks at the modules of GRUB that lie in its folders, as far as a start needs them.
func (g *gathering) modules(in string) {
	for _, menu := range menus {
		dir := in + path.Dir(menu)
		_, err := g.files.Lookup(dir)
		for _, platform := range grubPlatforms {
			g.modulesIn(path.Join(dir, platform), err)
		}
	}
}

// modulesIn looks at a folder of modules; err is why it is known not to be there, or cannot be.
func (g *gathering) modulesIn(folder string, err error) {
	key := strings.ToLower(folder)
	if _, done := g.volume.modules[key]; done {
		return
	}
	m := grubModules{err: err}
	if err == nil {
		_, m.err = g.files.Lookup(folder)
	}
	if m.there = m.err == nil; m.there {
		m.needs, m.err = g.needs(folder)
		for _, want := range []string{ModuleNormal, ModuleLinux} {
			for _, name := range m.needs.Needed(want, nil) {
				g.payload(path.Join(folder, name+".mod"))
			}
		}
	}
	if g.volume.modules == nil {
		g.volume.modules = map[string]grubModules{}
	}
	g.volume.modules[key] = m
}

// lookForModules looks on every volume for the folders of modules that GRUB's cores on the disk name:
// where their root points is known only at the start.
func (c *Contents) lookForModules(d *disk.Disk, opened []volume.Files, left *budget) {
	for _, core := range c.cores() {
		folders := []string{core.Prefix}
		if core.Config != "" {
			folders = append(folders, loader.ParseGRUBConfig([]byte(core.Config)).Prefix)
		}
		for _, folder := range folders {
			folder = AfterBrackets(folder)
			for i := range c.Volumes {
				g := gathering{&c.Volumes[i], opened[i], left, d, c.baseOf(i)}
				if folder != "" && core.Platform != "" && g.volume.Readable {
					g.modulesIn(path.Join("/", folder, core.Platform), nil)
				}
			}
		}
	}
}

// cores are the cores of GRUB on the disk.
func (c *Contents) cores() (list []*loader.GRUBCore) {
	add := func(core *loader.GRUBCore) {
		if core != nil && len(list) < maxKernels {
			list = append(list, core)
		}
	}
	add(c.Core.Image)
	for i := range c.Volumes {
		for _, f := range c.Volumes[i].Loaders {
			add(f.Program.GRUB)
		}
	}
	return list
}

// needs reads which modules of a folder need which; none where there is no list.
func (g *gathering) needs(folder string) (loader.ModuleDependencies, error) {
	f, err := volume.ReadFile(g.files, folder+"/moddep.lst", loader.MaxText)
	switch {
	case errors.Is(err, volume.ErrNotFound):
		return nil, nil
	case err != nil:
		return nil, err
	}
	return loader.ParseModuleDependencies(f.Bytes), nil
}

// LacksModule is the first file by which a module of GRUB cannot be loaded from a folder, and what is
// wrong with it; "" for one that can. Built are those that are part of GRUB's core. It is not known
// where the folder, or a file of it, is not in evidence.
func (s Spot) LacksModule(folder, module string, built []string) (file, why string, known bool) {
	m, looked := s.Volume().modules[strings.ToLower(folder)]
	switch {
	case !looked || !m.there && !errors.Is(m.err, volume.ErrNotFound):
		return "", "", false
	case !m.there:
		return path.Join(folder, module+".mod"), "it is not there", true
	}
	known = m.err == nil
	for _, name := range m.needs.Needed(module, built) {
		file := path.Join(folder, name+".mod")
		there, told := s.Volume().Holds(file)
		p, _, err := s.Payload(file)
		switch {
		case told && !there:
			return file, "it is not there", true
		case !told || err != nil:
			known = false
		case p.Form != loader.PayloadProgram && p.Form != loader.PayloadCompressed: // grub-install --compress
			return file, "it does not begin as a module does", true
		}
	}
	return "", "", known
}
