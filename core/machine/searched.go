package machine

import (
	"path"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// maxSearchedFiles bounds the files that are looked for on every volume.
const maxSearchedFiles = 256

// fileRole is what a file is looked for as, the further to be looked into the higher.
type fileRole int

const (
	asSign    fileRole = iota // by which a volume is known, or that is passed control to
	asRAMDisk                 // that a kernel is given
	asKernel
)

// lookForSearched looks on every volume for the files by which GRUB searches for one, and for
// those that its menus load: where its root points is known only at the start.
func (c *Contents) lookForSearched(d *disk.Disk, opened []volume.Files, left *budget) {
	for name, role := range c.searchedFiles() {
		for i := range c.Volumes {
			g := gathering{&c.Volumes[i], opened[i], left, d, c.baseOf(i)}
			switch {
			case !g.volume.Readable:
			case role == asKernel:
				g.kernel(name)
			case role == asRAMDisk:
				g.payload(name)
			default:
				g.look(name)
			}
		}
	}
}

// baseOf is where a partition begins, in bytes from the start of the disk.
func (c *Contents) baseOf(i int) int64 {
	return disk.Span(c.Layout.Partitions[i].Start, c.Layout.SectorSize)
}

// searchedFiles are the files that GRUB searches for by its configurations on the disk and by
// what is built into it, and those that these load.
func (c *Contents) searchedFiles() map[string]fileRole {
	names := map[string]fileRole{}
	add := func(name string, role fileRole) {
		if name != "" && len(names) < maxSearchedFiles {
			name = path.Join("/", AfterBrackets(name))
			names[name] = max(names[name], role)
		}
	}
	take := func(searches []loader.GRUBSearch) {
		for _, s := range searches {
			if s.Spec.Kind == loader.ByFile {
				add(s.Spec.Value, asSign)
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
				add(e.Linux, asKernel)
				add(e.Chain, asSign)
				for _, file := range e.Initrds {
					add(file, asRAMDisk)
				}
			}
		}
	}
	core := func(g *loader.GRUBCore) {
		if g.Config != "" {
			config(loader.ParseGRUBConfig([]byte(g.Config)))
		}
	}
	for _, g := range c.cores() {
		core(g)
	}
	for i := range c.Volumes {
		for _, k := range c.Volumes[i].Configs {
			config(k.GRUB)
		}
	}
	return names
}
