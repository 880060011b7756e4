package machine

import (
	"path"

	"latchkey/core/loader"
	"latchkey/core/volume"
)

// maxSearchedFiles bounds the files that are looked for on every volume.
const maxSearchedFiles = 256

// lookForSearched looks on every volume for the files by which GRUB searches for one, and for
// those that its menus load: where its root points is known only at the start.
func (c *Contents) lookForSearched(opened []volume.Files, left *int64) {
	for name, kernel := range c.searchedFiles() {
		for i := range c.Volumes {
			g := gathering{&c.Volumes[i], opened[i], left}
			switch {
			case !g.volume.Readable:
			case kernel:
				g.kernel(name)
			default:
				g.look(name)
			}
		}
	}
}

// searchedFiles are the files that GRUB searches for by its configurations on the disk and by
// what is built into it, and those that these load; true for kernels.
func (c *Contents) searchedFiles() map[string]bool {
	names := map[string]bool{}
	add := func(name string, kernel bool) {
		if name != "" && len(names) < maxSearchedFiles {
			name = path.Join("/", AfterBrackets(name))
			names[name] = names[name] || kernel
		}
	}
	take := func(searches []loader.GRUBSearch) {
		for _, s := range searches {
			if s.Spec.Kind == loader.ByFile {
				add(s.Spec.Value, false)
			}
		}
	}
	config := func(g *loader.GRUBConfig) {
		if g == nil {
			return
		}
		take(g.Top)
		for _, top := range g.Entries {
			for _, e := range append([]loader.GRUBEntry{top}, top.Sub...) {
				take(e.Searches)
				add(e.Linux, true)
				for _, file := range append([]string{e.Chain}, e.Initrds...) {
					add(file, false)
				}
			}
		}
	}
	core := func(g *loader.GRUBCore) {
		if g != nil && g.Config != "" {
			config(loader.ParseGRUBConfig([]byte(g.Config)))
		}
	}
	core(c.Core.Image)
	for i := range c.Volumes {
		v := &c.Volumes[i]
		for _, f := range v.Loaders {
			core(f.Program.GRUB)
		}
		for _, k := range v.Configs {
			config(k.GRUB)
		}
	}
	return names
}
