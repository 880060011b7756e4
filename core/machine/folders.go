package machine

import (
	"maps"
	"slices"
	"strings"

	"latchkey/core/volume"
)

// MountedByKernel are the folders of a root on which the kernel's own file systems are mounted before the
// first program is started; usualFolders are others that every root has, which hold none of its programs.
// Filesystem Hierarchy Standard 3.0, sections 3.2, 3.15 and 6.1.
var (
	MountedByKernel = []string{"/dev", "/proc", "/sys", "/run"}
	usualFolders    = []string{"/home", "/media", "/mnt", "/opt", "/root", "/srv", "/tmp", "/var"}
)

// folders looks at which of them the root in a folder has, by its directory alone.
func (g *gathering) folders(in string) {
	files, err := g.files.ReadDir(in)
	for _, name := range slices.Concat(MountedByKernel, usualFolders) {
		is := func(f volume.File) bool { return "/"+f.Name == name }
		there := err
		if err == nil && !slices.ContainsFunc(files, is) {
			there = volume.ErrNotFound
		}
		g.volume.looked[strings.ToLower(in+name)] = there
	}
}

// IsRoot reports whether a folder of the volume is known to be laid out as the root of a Linux is: what it
// lacks then is lacking.
func (v *Volume) IsRoot(in string) bool {
	found := 0
	for _, name := range usualFolders {
		if there, _ := v.Holds(in + name); there {
			found++
		}
	}
	return found > 1
}

// LacksFolders lists the folders of a Linux' root, on which the kernel's own file systems are mounted, that are
// known not to be there.
func (c *Contents) LacksFolders(root Address) (lacks []string) {
	if root.Index < 0 {
		return nil
	}
	v := c.At(root)
	if !v.IsRoot(root.Folder) {
		return nil
	}
	for _, name := range MountedByKernel {
		if there, known := v.Holds(root.Folder + name); known && !there {
			lacks = append(lacks, name)
		}
	}
	return lacks
}

// WithFolders has folders made in the root of a Linux.
func (c *Contents) WithFolders(root Address, names []string) *Contents {
	e := c.edited()
	v := e.At(root)
	v.looked = maps.Clone(v.looked)
	for _, name := range names {
		v.looked[strings.ToLower(root.Folder+name)] = nil
	}
	return e
}

// lacks reports whether a file is known not to be on the root.
func (r *renaming) lacks(file string) bool {
	there, known := r.c.At(r.names.Root).Holds(r.names.Root.Folder + file)
	return known && !there
}
