package linux

import (
	"fmt"
	"strings"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// kernel checks that kernel and initial RAM disk are where they are looked for,
// and goes on with them.
func kernel(k *course.Walk, a *course.Attempt, from *machine.Drive, at machine.Spot, line kernelLine) course.Result {
	if end := holdsFiles(a, at, line, append([]string{line.linux}, line.initrds...)); end != nil {
		return *end
	}
	if end := signedKernel(k, a, at, line); end != nil {
		return *end
	}
	if end := loadsKernel(a, at, line); end != nil {
		return *end
	}
	if end := loadsRAMDisks(k, a, at, &line); end != nil {
		return *end
	}
	line.lies = at
	return root(k, a, from, line)
}

// holdsFiles checks that what is loaded is there.
func holdsFiles(a *course.Attempt, at machine.Spot, line kernelLine, files []string) *course.Result {
	v := at.Volume()
	shows := line.gone
	if shows.ID == "" {
		shows = course.GRUBNoKernel
	}
	for _, file := range files {
		there, known := v.Holds(file)
		switch {
		case file == "" || there:
		case known:
			text, facts := line.lost.or(fmt.Sprintf("%s is not on %s.", file, at.Called()), line.cited)
			end := a.Stop("kernel-absent", course.StageConfiguration, shows, text, facts...)
			return &end
		default:
			text, how := unread(v, file, fmt.Sprintf("%s on %s", file, at.Called()))
			end := a.Unproven("kernel-missing-evidence", course.StageConfiguration, text, how, line.cited)
			return &end
		}
	}
	return nil
}

// signedKernel checks a kernel's signature, where secure boot may be on: GRUB asks the shim, other
// loaders the firmware. Under legacy firmware nobody does.
func signedKernel(k *course.Walk, a *course.Attempt, at machine.Spot, line kernelLine) *course.Result {
	if k.Mode() != firmware.UEFI {
		return nil
	}
	p, err := at.Volume().Kernel(line.linux)
	byGRUB := line.gone.ID == ""
	why := k.Refused(a, course.Candidate{Drive: at.Drive, Path: line.linux, Program: p, Err: err,
		Stage: course.StageConfiguration, Role: "kernel", Lenient: byGRUB})
	if why == "" {
		return nil
	}
	shows := course.GRUBSignature
	if !byGRUB {
		shows = course.SecureViolation
	}
	end := a.Stop("kernel-refused", course.StageConfiguration, shows, "The boot loader refuses its kernel: "+why, line.cited)
	return &end
}

// root resolves the root file system that a kernel line names.
func root(k *course.Walk, a *course.Attempt, from *machine.Drive, line kernelLine) course.Result {
	if end := opens(k, a, line); end != nil {
		return *end
	}
	if end := resolvesRoot(k, a, from, line); end != nil {
		return *end
	}
	if line.root == nil {
		return a.Unproven("no-root-named", course.StageConfiguration,
			"The kernel line names no root file system: the initial RAM disk finds it by itself.", course.HowTry, line.cited)
	}
	hits, known := seen(k, a, *line.root)
	switch {
	case len(hits) == 0 && !known:
		if at, found := locked(k, *line.root); found {
			return lockedRoot(k, a, from, at, line)
		}
		text, how := fmt.Sprintf("The kernel looks for its root by %s: the evidence does not tell where that is.",
			*line.root), course.HowCapture
		if at, ok := closed(k); ok {
			text += fmt.Sprintf(" It may lie in %s, which is %s and cannot be looked into.", at.Called(),
				inWords(at.Volume().Kind))
			how = course.HowTry
		}
		return a.Unproven("root-unknown", course.StageConfiguration, text, how, line.cited)
	case len(hits) == 0:
		if end := rootUnseen(k, a, line); end != nil {
			return *end
		}
		return a.Stop("root-absent", course.StageConfiguration, line.unfound(),
			fmt.Sprintf("The kernel looks for its root by %s, which no attached disk carries.", *line.root), line.cited)
	}
	home := hits[0]
	if written := otherLetters(home, *line.root); written != "" && !line.bare {
		return otherwiseWritten(a, home, line, written)
	}
	if end := assembled(k, a, home, line); end != nil {
		return *end
	}
	if end := subvolume(a, &home, line); end != nil {
		return *end
	}
	return rootAt(k, a, from, home, line)
}

// subvolume finds the folder of a Btrfs that the kernel mounts as its root: by rootflags=,
// else the default one. The kernel's admin-guide/kernel-parameters, rootflags=.
func subvolume(a *course.Attempt, home *machine.Spot, line kernelLine) *course.Result {
	s := home.Volume().Subvolumes
	if s == nil {
		return nil
	}
	options := strings.Join(loader.KernelOptions(line.options, "rootflags"), ",")
	folder, there, known := s.Mounted(options)
	var end course.Result
	switch {
	case !known:
		end = a.Unproven(
			"subvolume-unknown",
			course.StageConfiguration,
			fmt.Sprintf(
				"Which subvolume of %s is the root is not in evidence.",
				home.Called(),
			),
			course.HowCapture,
			line.cited,
		)
	case !there:
		end = a.Stop(
			"subvolume-absent",
			course.StageConfiguration,
			course.RootWait,
			fmt.Sprintf(
				"The kernel line has the root mounted with rootflags=%s, and %s has no such subvolume.",
				options,
				home.Called(),
			),
			line.cited,
		)
	default:
		home.Folder = folder
		return nil
	}
	return &end
}

// rootAt goes on with the root where it was found.
func rootAt(k *course.Walk, a *course.Attempt, from *machine.Drive, home machine.Spot, line kernelLine) course.Result {
	half, end := mounts(k, a, home, line)
	if end != nil {
		return *end
	}
	a.Takes(from, home, fmt.Sprintf("The loader starts %s with its root on %s.", line.linux, home.Called()), line.cited)
	if line.lost != nil {
		a.Risk("search-lost", line.lost.text+" It says so, and goes on with the partition that it had.", line.lost.facts...)
	}
	if lies := line.lies; lies.Drive != nil && lies.Drive != home.Drive && lies.Drive.Role == machine.RoleOriginal {
		a.Risk("kernel-from-the-other", fmt.Sprintf("The kernel is loaded from %s, and the system is on %s: it starts only with both drives, and a new kernel goes to the wrong one.",
			lies.Called(), home.Called()), line.cited)
	}
	if half != nil {
		a.Risk("half-from-the-other", "The system mounts parts of the other disk: it runs half from the old one.", half...)
	}
	if line.root.Kind == loader.ByDevice {
		a.Risk("root-by-device-name",
			"The root is named by the kernel's device name, which changes with the port and the other drives.", line.cited)
	}
	missingMembers(k, a, home)
	if k.Machine.Until == machine.UntilConfiguration {
		return course.Result{State: course.Passes, Home: home}
	}
	return linuxSystem(k, a, home, line)
}

// closed finds a container on the attached drives that cannot be looked into.
func closed(k *course.Walk) (machine.Spot, bool) {
	for _, d := range k.Drives() {
		for _, at := range d.Spots() {
			if v := at.Volume(); v.Opaque() {
				return at, true
			}
		}
	}
	return machine.Spot{}, false
}

// inWords is what a closed container is called.
func inWords(kind volume.Kind) string {
	switch kind {
	case volume.KindLUKS:
		return "encrypted (LUKS)"
	case volume.KindLVM:
		return "a physical volume of LVM"
	case volume.KindRAID:
		return "a member of a RAID"
	}
	return string(kind)
}

// missingMembers tells of a set of devices of which the root's drive is one and others
// are not attached, and of two drives that both carry the same device of a set: which of
// them is taken is chance, and both may be written to.
func missingMembers(k *course.Walk, a *course.Attempt, home machine.Spot) {
	c := home.Drive.Contents.Volumes[home.Index].Container
	if c == nil {
		return
	}
	what := "volume group " + c.Name
	switch {
	case c.Level != "":
		what = "RAID"
	case home.Volume().Kind == volume.KindBtrfs:
		what = "Btrfs"
	}
	others, twins := 0, 0
	for _, d := range k.Drives() {
		for _, at := range d.Spots() {
			if at.Inside > 0 {
				continue
			}
			i, o := at.Index, at.Volume().Container
			if o == nil || o.Set != c.Set || d == home.Drive && i == home.Index {
				continue
			}
			if o.Own == c.Own && d != home.Drive {
				twins++
			} else {
				others++
			}
		}
	}
	if twins > 0 {
		a.Risk("twin-members",
			fmt.Sprintf("Two attached drives carry the same device of one %s: either of them may be taken, and what is written may end on both. Unplug the original before the first start.", what))
	}
	if c.Members > others+1 {
		a.Risk("members-absent",
			fmt.Sprintf("The %s has %d devices, of which %d are attached: a RAID starts without them after a while where its level lets it, a volume group where nothing of the system lies on them.", what, c.Members, others+1))
	}
}
