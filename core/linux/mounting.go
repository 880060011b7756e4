package linux

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// mountsRoot asks whether the kernel line has the root mounted as what it is.
func mountsRoot(a *course.Attempt, home machine.Spot, line kernelLine) *course.Result {
	said := func(name string) string { return strings.Join(loader.KernelOptions(line.options, name), ",") }
	if p, long := overlong(home); long {
		end := a.StopFor("root-too-long", course.StageSystem, line.unmounted(),
			"The root is longer than its partition, and Linux does not mount it", machine.LowerFirst(p.Text),
			machine.ProblemFact(p, home.Drive.Name), line.cited)
		return &end
	}
	why := volume.Refused(&home.Volume().Volume, said("rootfstype"), said("rootflags"))
	text := fmt.Sprintf("The kernel line has the root, %s, mounted ", home.Called())
	if why != "" {
		end := a.Stop("root-refused", course.StageSystem, line.unmounted(), text+why+".", line.cited)
		return &end
	}
	if open := volume.Doubtful(&home.Volume().Volume, said("rootfstype"), said("rootflags")); open != "" {
		return openAt(a, home, "root-doubtful", course.StageSystem, text+open+".", course.HowTry, line.cited)
	}
	return nil
}

// overlong tells of a file system that is longer than the partition it lies in, where the kernel refuses
// it for that. Linux 6.1, fs/ext4/super.c (ext4_check_geometry), fs/xfs/xfs_mount.c (xfs_check_sizes),
// fs/btrfs/volumes.c (read_one_dev); each was seen (package truth, "in a partition too short").
func overlong(at machine.Spot) (p disk.Problem, long bool) {
	switch v := at.Volume(); v.Kind {
	case volume.KindExt, volume.KindXFS, volume.KindBtrfs:
		p, long = v.Problem(volume.CodeVolumeTooLong)
	}
	return p, long && at.Inside == 0 && !at.Partition().Rough && !at.Partition().Unplaced
}

// resolvesRoot asks whether a kernel that is given no initial RAM disk can find its root: it
// knows partitions by their identifier and name, and devices; what a file system calls itself,
// the links of /dev/disk and what lies in a container are known by programs alone. The
// kernel's admin-guide/kernel-parameters, root=, and early_lookup_bdev.
func resolvesRoot(k *course.Walk, a *course.Attempt, from *machine.Drive, line kernelLine) *course.Result {
	finds := line.root != nil && kernelFinds(*line.root, line.options)
	switch {
	case line.hollow != nil:
		return withoutItsRAMDisk(k, a, from, line, finds)
	case !line.bare || finds:
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
	case loader.ByFSUUID, loader.ByFSLabel, loader.ByMapped, loader.ByOwnName:
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
