package machine

import (
	"cmp"
	"regexp"
	"slices"
	"strings"

	"latchkey/core/loader"
	"latchkey/core/volume"
)

// What kernel lines say of the root beside its name: its type, and the subvolume.

// rootType has a kernel line name the type of the root.
func (r *renaming) rootType(options string) {
	root := r.c.At(r.names.Root)
	for _, types := range loader.KernelOptions(options, "rootfstype") {
		as := Renamed{"rootfstype=" + types, "rootfstype=" + volume.MountedAs(root.Kind)}
		otherwise := volume.Refused(&root.Volume, types, "") != ""
		if otherwise && plainTypes.MatchString(types) {
			r.types(as)
		}
	}
}

// rootFlags has a kernel line name the subvolume that the root lies in, and none where the
// root's kind has none.
func (r *renaming) rootFlags(options string) {
	root := r.c.At(r.names.Root)
	for _, flags := range loader.KernelOptions(options, "rootflags") {
		var kept []string
		for o := range strings.SplitSeq(flags, ",") {
			if !volume.NamesSubvolume(o) && volume.Refused(&root.Volume, "", o) == "" {
				kept = append(kept, o)
			}
		}
		if root.Subvolumes != nil {
			if _, there, known := root.Subvolumes.Mounted(flags); there || !known || !r.loneSubvolume() {
				continue
			}
			kept = append([]string{"subvol=" + cmp.Or(r.names.Root.Folder, "/")}, kept...)
		} else if volume.Refused(&root.Volume, "", flags) == "" {
			continue
		}
		as := "rootflags=" + strings.Join(kept, ",")
		if len(kept) == 0 { // a word has to stand there
			as = "rootfstype=" + volume.MountedAs(root.Kind)
		}
		if plainFlags.MatchString(flags) && plainFlags.MatchString(as) {
			r.types(Renamed{"rootflags=" + flags, as})
		}
	}
}

// loneSubvolume reports whether no other subvolume as near to the top holds a system.
func (r *renaming) loneSubvolume() bool {
	own := r.names.Root
	for _, folder := range r.c.At(own).Subvolumes.Views() {
		at := Address{Index: own.Index, Inside: own.Inside, Folder: folder}
		if folder != own.Folder && strings.Count(folder, "/") <= strings.Count(own.Folder, "/") &&
			r.c.Config(at, ConfigFstab, fstabFile) != nil {
			return false
		}
	}
	return true
}

func (r *renaming) types(as Renamed) {
	if !slices.Contains(r.names.Types, as) {
		r.names.Types = append(r.names.Types, as)
		// The longer ones first: one may begin another.
		slices.SortStableFunc(r.names.Types, func(a, b Renamed) int { return len(b.Old) - len(a.Old) })
	}
}

var plainTypes, plainFlags = regexp.MustCompile(`^[a-z0-9,-]+$`), regexp.MustCompile(`^[A-Za-z0-9@._/,=+-]+$`)
