package machine

import (
	"cmp"
	"maps"
	"path"
	"slices"
	"strings"

	"latchkey/core/loader"
	"latchkey/core/volume"
)

// Subvolumes are those of a Btrfs: the folders of which one stands for the root of a
// system. btrfs-subvolume(8).
type Subvolumes struct {
	// Paths are those that are known by their paths from the top, "/" being the top itself,
	// with their numbers; Whole is set when they are all.
	Paths map[string]uint64
	Whole bool
	// Default is the one that is mounted where none is named; "" where that is not known.
	Default string
}

func subvolumesOf(x *volume.Btrfs) *Subvolumes {
	s := &Subvolumes{}
	s.Paths, s.Whole = x.Subvolumes()
	if id, err := x.Default(); err == nil {
		for p, n := range s.Paths {
			if n == id {
				s.Default = p
			}
		}
	}
	return s
}

// maxViews bounds the subvolumes whose files are read.
const maxViews = 6

// Views lists the folders in which a system is looked for: the default subvolume, the top,
// and the subvolumes nearest to it. A snapshot lies deeper than what it was made of.
func (s *Subvolumes) Views() []string {
	if s == nil {
		return nil
	}
	var list []string
	add := func(p string) {
		if p = strings.TrimSuffix(p, "/"); !slices.Contains(list, p) && len(list) < maxViews {
			list = append(list, p)
		}
	}
	if s.Default != "" {
		add(s.Default)
	}
	add("/")
	for _, p := range slices.SortedFunc(maps.Keys(s.Paths), func(a, b string) int {
		return cmp.Or(cmp.Compare(strings.Count(a, "/"), strings.Count(b, "/")), cmp.Compare(a, b))
	}) {
		add(p)
	}
	return list
}

// Mounted is the folder of the subvolume that is mounted with options: there reports whether
// it exists, known whether that is known. mount(8); btrfs(5), "subvol", "subvolid".
func (s *Subvolumes) Mounted(options string) (folder string, there, known bool) {
	for o := range strings.SplitSeq(options, ",") {
		name, value, _ := strings.Cut(o, "=")
		switch name {
		case "subvol":
			folder = path.Join("/", value)
			_, there = s.Paths[folder]
			return strings.TrimSuffix(folder, "/"), there, there || s.Whole
		case "subvolid":
			for p, id := range s.Paths {
				if loader.SameNumber(value, id) {
					return strings.TrimSuffix(p, "/"), true, true
				}
			}
			return "", false, s.Whole
		}
	}
	return strings.TrimSuffix(s.Default, "/"), s.Default != "", s.Default != ""
}

// In is the path of a system's file on the volume that holds it.
func (s Spot) In(name string) string { return s.Folder + name }
