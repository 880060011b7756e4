package linux

import (
	"fmt"
	"strings"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// linuxSystem judges stage 8 for Linux.
func linuxSystem(k *course.Walk, a *course.Attempt, home machine.Spot, line kernelLine) course.Result {
	v, p := home.Volume(), home.Partition()
	if k.LostPart(a, home) {
		return course.Result{State: course.Blocks, Home: home}
	}
	c := v.Config(machine.ConfigFstab, home.In("/etc/fstab"))
	if c == nil && !v.Readable || c != nil && c.Err != nil {
		text, how := unread(v, home.In("/etc/fstab"), fmt.Sprintf("The mount table on partition %d (%s)", p.Number, v.Kind))
		end := a.Unproven("mount-table-missing-evidence", course.StageSystem, text, how)
		end.Home = home
		return end
	}
	if end := holdsSystem(a, home, line); end != nil {
		return *end
	}
	if end := firstProgram(a, home, line); end != nil {
		return *end
	}
	if end := mountsRoot(a, home, line); end != nil {
		return *end
	}
	if !k.Driver(a, home, line.driverOf(), line.unfound()) {
		return course.Result{State: course.Blocks, Home: home}
	}
	end := k.ComesUp(a, home, "Linux")
	waits(k, a, home, line)
	return end
}

// holdsSystem asks whether the root holds a system: a volume is not one because it can be
// read.
func holdsSystem(a *course.Attempt, home machine.Spot, line kernelLine) *course.Result {
	v := home.Volume()
	if v.Config(machine.ConfigFstab, home.In("/etc/fstab")) != nil {
		return nil
	}
	open := false
	for _, sign := range machine.SystemSigns {
		there, known := v.Holds(home.In(sign))
		if there {
			return nil
		}
		open = open || !known
	}
	var end course.Result
	if open || len(loader.KernelOptions(line.options, "init")) > 0 {
		text, how := fmt.Sprintf("Whether a system lies on %s is not in evidence.", home.Called()), course.HowCapture
		if err := v.Damage(home.In("/usr")); err != nil {
			text, how = fmt.Sprintf("Whether a system lies on %s cannot be told: %v.", home.Called(), err), course.HowCheck
		}
		end = a.Unproven("root-signs-missing-evidence", course.StageSystem, text, how)
		end.Home = home
	} else {
		end = a.Stop("root-no-system", course.StageSystem, course.NoInit,
			fmt.Sprintf("The kernel's root, %s, holds no system: neither a first program such as /sbin/init nor /usr is on it.", home.Called()), line.cited)
	}
	return &end
}

// firstProgram asks whether what the start passes control to is a program: the first of the names that
// there is, where the initial RAM disk chooses. The kernel's init/main.c; Debian's initramfs-tools, init.
func firstProgram(a *course.Attempt, home machine.Spot, line kernelLine) *course.Result {
	if line.bare || len(loader.KernelOptions(line.options, "init")) > 0 {
		return nil
	}
	for _, sign := range machine.FirstPrograms {
		name := home.In(sign)
		there, known := home.Volume().Holds(name)
		switch {
		case !there && known:
			continue
		case !there:
			return nil
		}
		p, fact, end := payload(a, home, line, name)
		if end != nil {
			end.Home = home
			return end
		}
		if p.Form != loader.PayloadProgram {
			stop := a.Stop("first-program-unsound", course.StageSystem, course.NoInit,
				fmt.Sprintf("%s on %s is what the system's start begins with, and is no program: it begins otherwise, or is empty.", name, home.Called()), fact)
			return &stop
		}
		return nil
	}
	return nil
}

// waits tells of what the start waits for in vain and goes on without: swap space, and
// the image of a sleeping system. systemd's systemd-system.conf(5), DefaultTimeoutStartSec;
// resume= of the kernel's admin-guide/kernel-parameters.
func waits(k *course.Walk, a *course.Attempt, home machine.Spot, line kernelLine) {
	for _, value := range loader.KernelOptions(line.options, "resume") {
		s := loader.ParseSpec(value)
		if hits, known := find(k, a, s); known && len(hits) == 0 {
			a.Risk("resume-absent",
				fmt.Sprintf("The kernel line has the system wake from %s, which no attached disk carries: the start waits for it, up to a minute and a half, and goes on. Take resume= out of the line, or name the swap space that is there.", s), line.cited)
		}
	}
	c := home.Volume().Config(machine.ConfigFstab, home.In("/etc/fstab"))
	if c == nil {
		return
	}
	for _, m := range c.Mounts {
		if m.Type != "swap" || m.NoFail || m.Comment != "" || m.Spec.Kind == loader.ByOther {
			continue
		}
		if hits, known := find(k, a, m.Spec); known && len(hits) == 0 {
			a.Risk("swap-absent",
				fmt.Sprintf("The system waits a minute and a half for its swap space, %s, which no attached disk carries, and goes on without it. Take the line out of /etc/fstab, or make swap space and name that.", m.Spec),
				home.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, m.Line), m.Spec.String()+", swap",
					c.Source(home.Base(), "swap", m.Offset, m.Length)))
		}
	}
}

// lacksSubvolume reports whether a Btrfs is known to have no subvolume such as a line of the
// mount table names.
func lacksSubvolume(at machine.Spot, m loader.Mount) bool {
	if at.Volume().Subvolumes == nil {
		return false
	}
	_, there, known := at.Volume().Subvolumes.Mounted(m.Options)
	return known && !there
}

// refused says why a volume is not mounted as a line of the mount table has it; "" where nothing is known
// to keep it from that.
func refused(at machine.Spot, m loader.Mount) string {
	why := volume.Refused(&at.Volume().Volume, m.Type, m.Options)
	if p, long := overlong(at); why == "" && long {
		why = "which reaches beyond its partition: " + machine.LowerFirst(strings.TrimSuffix(p.Text, "."))
	}
	return why
}

// mounts checks what the system's mount table waits for; half are the mounts that
// lie on the original, and the system does not. What the evidence does not tell of it is
// left to the next stage.
func mounts(k *course.Walk, a *course.Attempt, home machine.Spot) (half []machine.Fact, end *course.Result) {
	c := home.Volume().Config(machine.ConfigFstab, home.In("/etc/fstab"))
	if c == nil || c.Err != nil || home.Drive.Contents.Lost(home.Partition()) {
		return nil, nil
	}
	if _, long := overlong(home); long {
		return nil, nil // nothing comes to it
	}
	for _, m := range c.Mounts {
		if !m.Essential() || m.Spec.Kind == loader.ByPath {
			continue
		}
		cited := home.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, m.Line), m.Spec.String()+" on "+m.Point,
			c.Source(home.Base(), m.Point, m.Offset, m.Length))
		hits, known := seen(k, a, m.Spec)
		written, why := "", ""
		if len(hits) > 0 {
			written, why = otherLetters(hits[0], m.Spec), refused(hits[0], m)
		}
		switch {
		case len(hits) == 0 && !known:
			stop := a.Unproven("mount-unknown", course.StageConfiguration,
				fmt.Sprintf("The system mounts %s by %s: the evidence does not tell where that is.", m.Point,
					m.Spec), course.HowCapture, cited)
			stop.Home = home
			return nil, &stop
		case len(hits) == 0:
			stop := a.Stop("mount-absent", course.StageConfiguration, course.EmergencyMode,
				fmt.Sprintf("The system waits for %s, by %s, which %s.", m.Point, m.Spec, nowhere(k, a, m.Spec)), cited)
			return nil, &stop
		case m.Point != "/" && lacksSubvolume(hits[0], m):
			stop := a.Stop(
				"mount-absent",
				course.StageConfiguration,
				course.EmergencyMode,
				fmt.Sprintf(
					"The system mounts %s with %s, and %s has no such subvolume.",
					m.Point,
					m.Options,
					hits[0].Called(),
				),
				cited,
			)
			return nil, &stop
		case written != "":
			stop := a.Unproven("mount-in-other-letters", course.StageConfiguration,
				fmt.Sprintf("The system mounts %s by %s, and calls that %s: it tells capital letters from small ones, and waits for it in vain.",
					m.Point, m.Spec, written), course.HowTry, cited)
			stop.Home = home
			return nil, &stop
		case m.Point != "/" && why != "":
			stop := a.Stop("mount-refused", course.StageConfiguration, course.EmergencyMode,
				fmt.Sprintf("The system mounts %s, %s, %s.", m.Point, hits[0].Called(), why), cited)
			return nil, &stop
		case hits[0].Drive != home.Drive && hits[0].Drive.Role == machine.RoleOriginal:
			half = append(half, cited)
		}
	}
	return half, nil
}
