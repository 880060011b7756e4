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

// otherTypes are types of the kernel's that mount none of these kinds. The kernel's filesystems/index.
var otherTypes = []string{"iso9660", "udf", "squashfs", "erofs", "cramfs", "romfs", "minix", "nilfs2", "ocfs2", "gfs2", "hfs", "affs",
	"befs", "bfs", "efs", "omfs", "qnx4", "qnx6", "ufs", "sysv", "ubifs", "jffs2", "zonefs", "swap"}

// noFiles are kinds of which there is nothing to mount, in words.
var noFiles = map[Kind]string{KindSwap: "swap space", KindLUKS: "an encrypted volume (LUKS), which is mounted by what it is opened as",
	KindLVM: "a physical volume of LVM", KindRAID: "a member of a RAID", KindBitLocker: "a volume that BitLocker encrypts"}

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
	isOther := func(t string) bool { return isType(t) && !slices.Contains(as, t) }
	if what, none := noFiles[v.Kind]; none {
		return "as a file system, and it holds " + what
	}
	if !known {
		return ""
	}
	if len(asked) > 0 && !slices.ContainsFunc(asked, func(t string) bool { return !isOther(t) }) {
		return fmt.Sprintf("as %s, and it holds %s", types, as[0])
	}
	if len(asked) == 1 && tooNew(v, asked[0]) {
		return fmt.Sprintf("as %s, and it has what only ext4 knows", types)
	}
	if option, _ := understood(v.Kind, options); option != "" {
		return fmt.Sprintf("with %s, which %s does not know", option, as[0])
	}
	return ""
}

// Doubtful says why it is not known whether a volume that is not refused is mounted with a type and options;
// "" where it is.
func Doubtful(v *Volume, types, options string) string {
	if v.KindUnseen() || v.Kind == Unknown || v.Kind == Empty {
		return "as a file system, and which one it holds is not known here"
	}
	if _, known := mountedAs[v.Kind]; !known {
		return ""
	}
	asked := strings.FieldsFunc(types, func(r rune) bool { return r == ',' })
	anyType := func(t string) bool { return t == "auto" || strings.HasPrefix(t, "no") || isType(t) }
	if len(asked) > 0 && !slices.ContainsFunc(asked, anyType) {
		return "as " + types + ", and what mounts that is not known here"
	}
	if v.Kind == KindExt && len(asked) == 1 && v.ExtFeatures == 0 && (asked[0] == "ext3" || asked[0] == "ext2") {
		return "as " + types + ", and whether it has what only ext4 knows is not in evidence"
	}
	if _, option := understood(v.Kind, options); option != "" {
		return fmt.Sprintf("with %s, of which it is not known here whether %s takes it", option, mountedAs[v.Kind][0])
	}
	return ""
}

// tooNew reports whether an ext volume has features with which it is not mounted as the older type: of the
// incompatible ones ext3 has file types, the need of its journal and groups of descriptors, ext2 all of
// these but the journal. The kernel's fs/ext4/ext4.h, EXT3_FEATURE_INCOMPAT_SUPP, EXT2_FEATURE_INCOMPAT_SUPP.
func tooNew(v *Volume, asked string) bool {
	const fileTypes = 0x2
	older := map[string]uint32{"ext3": fileTypes | incompatRecover | incompatMetaBG, "ext2": fileTypes | incompatMetaBG}[asked]
	return v.Kind == KindExt && older != 0 && v.ExtFeatures&^older != 0
}

// isType reports whether a word is the type of a file system that is known.
func isType(word string) bool {
	for _, as := range mountedAs {
		if slices.Contains(as, word) {
			return true
		}
	}
	return slices.Contains(otherTypes, word)
}

// NamesSubvolume reports whether an option of a mount names a subvolume. btrfs(5), "MOUNT OPTIONS".
func NamesSubvolume(option string) bool {
	return strings.HasPrefix(option, "subvol=") || strings.HasPrefix(option, "subvolid=")
}
