package linux

import (
	"fmt"
	"slices"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// readerOf names the module by which GRUB reads a kind of volume. GNU GRUB 2.06, grub-core/fs.
var readerOf = map[volume.Kind]string{
	volume.KindExt: "ext2", volume.KindXFS: "xfs", volume.KindBtrfs: "btrfs", volume.KindNTFS: "ntfs", volume.KindF2FS: "f2fs",
	volume.KindFAT12: "fat", volume.KindFAT16: "fat", volume.KindFAT32: "fat", volume.KindExFAT: "exfat", volume.KindZFS: "zfs",
	volume.KindJFS: "jfs", volume.KindReiser: "reiserfs", volume.KindHFS: "hfsplus",
}

// readsFolder asks whether what is built into GRUB can read the volume of its folder: all
// other modules lie in that.
func readsFolder(a *course.Attempt, root machine.Spot, g *loader.GRUBCore) *course.Result {
	if root.Drive == nil || root.Index < 0 || root.Drive.Contents == nil {
		return nil
	}
	v := root.Volume()
	if v.Kind == volume.KindXFS && v.Newer {
		end := a.Unproven("grub-reader-unknown", course.StageConfiguration,
			fmt.Sprintf("%s (XFS) has features that GRUB reads from version 2.12 on: whether this one does is not in evidence.",
				root.Called()), course.HowTry)
		return &end
	}
	if end := takesFeatures(a, root, g); end != nil {
		return end
	}
	want := []string{readerOf[v.Kind]}
	if root.Inside == 0 {
		style := map[disk.Style]string{disk.StyleGPT: "part_gpt", disk.StyleMBR: "part_msdos"}
		want = append(want, style[root.Drive.Contents.Layout.Style])
	}
	missing := slices.DeleteFunc(want, func(m string) bool { return m == "" || slices.Contains(g.Modules, m) })
	if len(missing) == 0 || len(g.Modules) == 0 && g.ModulesErr == nil {
		return nil
	}
	var end course.Result
	switch {
	case disk.IsNotCaptured(g.ModulesErr):
		end = a.Unproven("grub-modules-missing-evidence", course.StageConfiguration,
			"What is built into GRUB is not in evidence to its end, so that whether it reads the volume of its folder is not known.",
			course.HowCapture)
	case g.ModulesErr != nil:
		return nil // the names of a core of another version
	default:
		end = a.Stop("grub-lacks-module", course.StageConfiguration, course.GRUBRescue,
			fmt.Sprintf("GRUB's folder lies on %s (%s), and %s, by which it reads such a one, is not built into it.",
				root.Called(), v.Kind, missing[0]), root.Drive.CoreFact())
	}
	return &end
}

// rareFeatures are features of ext of which no released GRUB is known to read them all: large
// attributes, data in folders and inodes, names without case.
const rareFeatures = 0x400 | 0x1000 | 0x8000 | 0x20000

// takesFeatures asks whether GRUB's reader takes an ext volume with its features: it does not
// see one with a feature that it does not know. GNU GRUB 2.06, grub-core/fs/ext2.c.
func takesFeatures(a *course.Attempt, at machine.Spot, g *loader.GRUBCore) *course.Result {
	v := at.Volume()
	if g == nil || v.Kind != volume.KindExt {
		return nil
	}
	var end course.Result
	newer := g.ExtOpen && v.ExtFeatures&^loader.ExtFeaturesUsual != 0
	switch beyond := v.ExtFeatures &^ g.ExtFeatures; {
	case g.ExtFeatures == 0 && (v.ExtFeatures&rareFeatures != 0 || newer):
		end = a.Unproven("grub-reader-unknown", course.StageConfiguration,
			fmt.Sprintf("%s (ext4) has features that GRUB may not read: whether this one does is not in evidence.", at.Called()),
			course.HowTry)
	case g.ExtFeatures == 0 || beyond == 0:
		return nil
	default:
		end = a.Stop("grub-lacks-feature", course.StageConfiguration, course.GRUBRescue,
			fmt.Sprintf("%s (ext4) has features (%#x) that this GRUB does not read: to it there is no file system.", at.Called(),
				beyond), at.Drive.CoreFact())
	}
	return &end
}
