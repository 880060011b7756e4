package linux

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// mountedAs are the types under which Linux mounts what a volume holds. The kernel's
// filesystems/index; the driver of ext4 takes the older two.
var mountedAs = map[volume.Kind][]string{
	volume.KindExt: {"ext4", "ext3", "ext2"}, volume.KindXFS: {"xfs"}, volume.KindBtrfs: {"btrfs"},
	volume.KindF2FS: {"f2fs"}, volume.KindJFS: {"jfs"}, volume.KindReiser: {"reiserfs"},
	volume.KindBcachefs: {"bcachefs"}, volume.KindNTFS: {"ntfs", "ntfs3", "ntfs-3g", "fuseblk", "antfs"},
	volume.KindFAT: fatTypes, volume.KindFAT12: fatTypes, volume.KindFAT16: fatTypes, volume.KindFAT32: fatTypes,
	volume.KindExFAT: {"exfat", "exfat-fuse", "fuseblk"}, volume.KindHFS: {"hfsplus"},
}

var fatTypes = []string{"vfat", "msdos", "umsdos", "fat"}

// refused says why a volume is not mounted with a type and options, where that is known; ""
// elsewhere. Types that are none of the known ones may be anything. mount(8), "-t".
func refused(v *volume.Volume, types, options string) string {
	as, known := mountedAs[v.Kind]
	asked := strings.FieldsFunc(types, func(r rune) bool { return r == ',' })
	open := func(t string) bool { return !isType(t) } // such as auto, or a negation
	switch {
	case !known:
		return ""
	case len(asked) > 0 && !slices.ContainsFunc(asked, open) &&
		!slices.ContainsFunc(asked, func(t string) bool { return slices.Contains(as, t) }):
		return fmt.Sprintf("as %s, and it holds %s", types, as[0])
	case v.Kind != volume.KindBtrfs && slices.ContainsFunc(strings.Split(options, ","), namesSubvolume):
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

func namesSubvolume(option string) bool {
	return strings.HasPrefix(option, "subvol=") || strings.HasPrefix(option, "subvolid=")
}

// mountsRoot asks whether the kernel line has the root mounted as what it is.
func mountsRoot(a *course.Attempt, home machine.Spot, line kernelLine) *course.Result {
	said := func(name string) string { return strings.Join(loader.KernelOptions(line.options, name), ",") }
	why := refused(&home.Volume().Volume, said("rootfstype"), said("rootflags"))
	if why == "" {
		return nil
	}
	end := a.Stop("root-refused", course.StageSystem, line.unmounted(),
		fmt.Sprintf("The kernel line has the root, %s, mounted %s.", home.Called(), why), line.cited)
	return &end
}

// resolvesRoot asks whether a kernel that is given no initial RAM disk can find its root: it
// knows partitions by their identifier and name, and devices; what a file system calls itself,
// the links of /dev/disk and what lies in a container are known by programs alone. The
// kernel's admin-guide/kernel-parameters, root=, and early_lookup_bdev.
func resolvesRoot(k *course.Walk, a *course.Attempt, from *machine.Drive, line kernelLine) *course.Result {
	if !line.bare || line.root != nil && kernelFinds(*line.root, line.options) {
		return nil
	}
	what := "without one, and without the name of its root, it finds none"
	if line.root != nil {
		what = fmt.Sprintf("by itself the kernel cannot find a root by %s", *line.root)
	}
	if k.World.Yes(course.UnknownBool, course.Question{
		ID: "built-in:" + from.Name, Stage: course.StageConfiguration, Drive: from.Name,
		Text: fmt.Sprintf("Has %s an initial RAM disk built in? It is given none, and %s.", line.linux, what),
		How:  "Only a kernel that somebody built for this machine has one: grep INITRAMFS_SOURCE in the file config-… beside it; nothing between the quotes is no.",
	}) {
		return nil
	}
	end := a.Stop("no-initial-ram-disk", course.StageConfiguration, course.RootPanic,
		fmt.Sprintf("%s is given no initial RAM disk: %s.", line.linux, what), line.cited)
	return &end
}

// kernelFinds reports whether a kernel may find its root by itself, or by what is not told.
func kernelFinds(root loader.Spec, options string) bool {
	switch root.Kind {
	case loader.ByFSUUID, loader.ByFSLabel, loader.ByMapped:
		return false
	case loader.ByPartUUID, loader.ByPartLabel:
		values := loader.KernelOptions(options, "root")
		return len(values) == 0 || !strings.HasPrefix(values[len(values)-1], "/dev/disk/")
	}
	return true
}

// otherLetters is what an identifier is called where a name differs from it in capital letters
// alone, which programs tell apart; "" where they are the same. blkid(8), "--match-token".
func otherLetters(at machine.Spot, s loader.Spec) string {
	var written string
	switch s.Kind {
	case loader.ByFSUUID:
		written = at.Volume().Serial
	case loader.ByPartUUID:
		written = loader.PartUUID(&at.Drive.Contents.Layout, at.Partition())
	}
	if written == s.Value {
		return ""
	}
	return written
}

// otherwiseWritten ends a start whose root is named in other letters. The initial RAM disk of
// Debian's family goes by blkid, as a real one showed (package truth, "by the UUID in
// capitals"); others may do otherwise.
func otherwiseWritten(a *course.Attempt, home machine.Spot, line kernelLine, written string) course.Result {
	text := fmt.Sprintf("The kernel line writes the root as %s, and the system calls it %s", *line.root, written)
	if r := home.Drive.Contents.Release(home.Address()); r != nil && (r.ID == "debian" || slices.Contains(r.Like, "debian")) {
		return a.Stop("root-in-other-letters", course.StageConfiguration, course.RootWait,
			text+": the initial RAM disk tells capital letters from small ones, and does not find it.", line.cited)
	}
	return a.Unproven("root-in-other-letters", course.StageConfiguration,
		text+": most initial RAM disks tell capital letters from small ones, and do not find it.", course.HowTry, line.cited)
}
