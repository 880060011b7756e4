package linux

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// loadsKernel asks whether the file that is loaded as the kernel is one. A loader refuses what has
// not the header of one, and starts what is cut off: that ends in its own unpacking.
// GNU GRUB 2.06, grub-core/loader/i386/linux.c; both as real machines show (package truth).
func loadsKernel(a *course.Attempt, at machine.Spot, line kernelLine) *course.Result {
	p, fact, end := payload(a, at, line, line.linux)
	if end != nil {
		return end
	}
	why := p.NoKernel()
	if why == "" {
		return nil
	}
	rule, shows := course.Rule("kernel-unsound"), course.GRUBBadKernel
	switch {
	case line.bySyslinux() && p.Form == loader.PayloadEmpty:
		shows = line.gone
	case line.gone.ID != "" && !line.bySyslinux(): // the firmware loads it, all or nothing
		shows = course.StubBadKernel
	case p.Form == loader.PayloadKernel:
		rule, shows = "kernel-cut", course.KernelSilent
	case line.bySyslinux():
		shows = course.SyslinuxBadKernel
	}
	stop := a.Stop(rule, course.StageConfiguration, shows,
		fmt.Sprintf("%s on %s is no kernel that can be started: %s.", line.linux, at.Called(), why), fact, line.cited)
	return &stop
}

// loadsRAMDisks asks whether the kernel can unpack what it is given as initial RAM disks. Of several
// the last holds the system's own, those before it what a processor wants early (common practice).
// The kernel goes on without what is empty, and takes nothing from what is no archive, nor from what
// follows. The kernel's init/initramfs.c, unpack_to_rootfs; as real machines show (package truth).
func loadsRAMDisks(k *course.Walk, a *course.Attempt, at machine.Spot, line *kernelLine) *course.Result {
	for i, name := range line.initrds {
		p, fact, end := payload(a, at, *line, name)
		if end != nil {
			return end
		}
		why, last := p.NoRAMDisk(), i == len(line.initrds)-1
		nothing := p.Form == loader.PayloadEmpty || p.Form == loader.PayloadZeros
		switch {
		case p.Form == loader.PayloadVolume:
			end := a.Unproven("ram-disk-volume", course.StageConfiguration,
				fmt.Sprintf("%s on %s is a file system, as initial RAM disks of the old kind are: what a kernel makes of it is not followed.",
					name, at.Called()), course.HowTry, fact)
			return &end
		case p.Form == loader.PayloadEmpty && line.bySyslinux():
			end := a.Stop("ram-disk-unsound", course.StageConfiguration, line.gone,
				fmt.Sprintf("%s on %s cannot be loaded: %s.", name, at.Called(), why), fact, line.cited)
			return &end
		case why == "":
			if end := unbroken(a, at, name, p.Drivers, fact, line.cited); end != nil {
				return end
			}
			shorter(k, a, at, name, p, fact)
			line.holds(p.Drivers, fact)
		case !last && nothing:
			a.Risk("ram-disk-empty", fmt.Sprintf("%s on %s adds nothing to the start: %s.", name, at.Called(), why), fact)
		default:
			line.bare, line.hollow = true, &hollow{fmt.Sprintf("%s on %s is none that it can unpack, %s", name, at.Called(), why), fact}
			return nil
		}
	}
	return nil
}

// unbroken leaves a start open whose initial RAM disk does not unpack to its end: a kernel says so and goes on with
// what it has of it. The kernel's init/initramfs.c, do_populate_rootfs.
func unbroken(a *course.Attempt, at machine.Spot, name string, held loader.Drivers,
	facts ...machine.Fact) *course.Result {
	if !held.Has(loader.DriversBroken) {
		return nil
	}
	end := a.Unproven("ram-disk-broken", course.StageConfiguration,
		fmt.Sprintf("%s on %s does not unpack to its end: it is damaged, or cut off. A kernel goes on with what it could unpack of it, which is not followed.",
			name, at.Called()), course.HowCheck, facts...)
	return &end
}

// shorter tells of a file that has fewer bytes than on the original: it is looked at where it begins, and
// what is cut off of it is not seen there.
func shorter(k *course.Walk, a *course.Attempt, at machine.Spot, name string, p loader.Payload, fact machine.Fact) {
	if at.Drive.Role != machine.RoleClone {
		return
	}
	for i := range k.Machine.Drives {
		d := &k.Machine.Drives[i]
		if d.Role != machine.RoleOriginal || d.Contents == nil {
			continue
		}
		for _, s := range d.Spots() {
			was, _, err := s.Payload(name)
			if err == nil && was.Size > p.Size && s.Index == at.Index && s.Volume().Kind == at.Volume().Kind {
				a.Risk("ram-disk-shorter", fmt.Sprintf("%s has %d bytes on %s, and %d on %s: unless it was made anew since the copy, it is cut off.",
					name, p.Size, at.Called(), was.Size, s.Called()), fact)
			}
		}
	}
}

// bySyslinux reports whether Syslinux loads the kernel. It refuses a file that is empty.
func (l kernelLine) bySyslinux() bool { return l.gone.ID == course.SyslinuxNoFile.ID }

// payload is what a file begins with that is loaded; end is set where that is not in evidence.
func payload(a *course.Attempt, at machine.Spot, line kernelLine, name string) (p loader.Payload, shows machine.Fact,
	end *course.Result) {
	p, source, err := at.Payload(name)
	if err != nil {
		text, how := unread(at.Volume(), name, fmt.Sprintf("What is in %s on %s", name, at.Called()))
		stop := a.Unproven("payload-missing-evidence", course.StageConfiguration, text, how, line.cited)
		return p, shows, &stop
	}
	return p, at.Drive.Cite(name, fmt.Sprintf("%s, %d bytes", p.Form, p.Size), source), nil
}

// withoutItsRAMDisk ends the start of a kernel that can take nothing from its initial RAM disk. Who
// gives a kernel one has none built in (common practice); where the kernel can find the root by itself,
// it may have built in what it needs for that.
func withoutItsRAMDisk(k *course.Walk, a *course.Attempt, from *machine.Drive, line kernelLine,
	finds bool) *course.Result {
	if finds && k.World.Yes(course.UnknownBool, course.Question{
		ID: "built-in:" + from.Name, Stage: course.StageConfiguration, Drive: from.Name,
		Text: fmt.Sprintf("Has %s the drivers of the drive and of its root's file system built in? It goes on without an initial RAM disk: %s.",
			line.linux, line.hollow.text),
		How: "In the file config-… beside it: grep -E 'BLK_DEV_NVME|SATA_AHCI|EXT4_FS|XFS_FS|BTRFS_FS'; =y is built in, =m is not.",
	}) {
		return nil
	}
	end := a.Stop("ram-disk-hollow", course.StageConfiguration, course.RootPanic,
		fmt.Sprintf("%s goes on without an initial RAM disk: %s.", line.linux, line.hollow.text), line.hollow.fact, line.cited)
	return &end
}
