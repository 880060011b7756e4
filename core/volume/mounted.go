package volume

import (
	"fmt"
	"slices"
	"strings"
)

// mountedAs are the types under which Linux mounts what a volume holds, its own name first.
// The kernel's filesystems/index; the driver of ext4 takes the older two.
var mountedAs = map[Kind][]string{
	KindExt: {"ext4", "ext3", "ext2"}, KindXFS: {"xfs"}, KindBtrfs: {"btrfs"},
	KindF2FS: {"f2fs"}, KindJFS: {"jfs"}, KindReiser: {"reiserfs"},
	KindBcachefs: {"bcachefs"}, KindNTFS: {"ntfs", "ntfs3", "ntfs-3g", "fuseblk", "antfs"},
	KindFAT: fatTypes, KindFAT12: fatTypes, KindFAT16: fatTypes, KindFAT32: fatTypes,
	KindExFAT: {"exfat", "exfat-fuse", "fuseblk"}, KindHFS: {"hfsplus"},
}

var fatTypes = []string{"vfat", "msdos", "umsdos", "fat"}

// MountedAs is the type under which Linux mounts a volume; "" where that is not known.
func MountedAs(k Kind) string {
	if as := mountedAs[k]; len(as) > 0 {
		return as[0]
	}
	return ""
}

// Refused says why a volume is not mounted with a type and options, where that is known; ""
// elsewhere. Types that are none of the known ones may be anything. mount(8), "-t".
func Refused(v *Volume, types, options string) string {
	as, known := mountedAs[v.Kind]
	asked := strings.FieldsFunc(types, func(r rune) bool { return r == ',' })
	open := func(t string) bool { return !isType(t) } // such as auto, or a negation
	switch {
	case !known:
		return ""
	case len(asked) > 0 && !slices.ContainsFunc(asked, open) &&
		!slices.ContainsFunc(asked, func(t string) bool { return slices.Contains(as, t) }):
		return fmt.Sprintf("as %s, and it holds %s", types, as[0])
	case v.Kind != KindBtrfs && slices.ContainsFunc(strings.Split(options, ","), NamesSubvolume):
		return fmt.Sprintf("with %s, which %s does not know", options, as[0])
	}
	return ""
}

// isType reports whether a word is the type of a file system that is known.
func isType(word string) bool {
	for _, as := range mountedAs {
		if slices.Contains(as, word) {
			return true
		}
	}
	return false
}

// NamesSubvolume reports whether an option of a mount names a subvolume. btrfs(5), "MOUNT OPTIONS".
func NamesSubvolume(option string) bool {
	return strings.HasPrefix(option, "subvol=") || strings.HasPrefix(option, "subvolid=")
}
