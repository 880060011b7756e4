package linux

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
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
		return *openAt(a, home, "mount-table-missing-evidence", course.StageSystem, text, how)
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
	if end := holdsFolders(a, home, line); end != nil {
		return *end
	}
	if end := comesUpAsUsual(a, home, line); end != nil {
		return *end
	}
	if c == nil {
		if end := rootStays(k, a, home, line, nil); end != nil {
			return *end
		}
	}
	drivers, ok := reachesDrive(k, a, home, line)
	if !ok {
		return course.Result{State: course.Blocks, Home: home}
	}
	end := k.ComesUp(a, home, "Linux", drivers...)
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
	if open || len(loader.KernelOptions(line.options, "init")) > 0 {
		text, how := fmt.Sprintf("Whether a system lies on %s is not in evidence.", home.Called()), course.HowCapture
		if err := v.Damage(home.In("/usr")); err != nil {
			text, how = fmt.Sprintf("Whether a system lies on %s cannot be told: %v.", home.Called(), err), course.HowCheck
		}
		return openAt(a, home, "root-signs-missing-evidence", course.StageSystem, text, how)
	}
	end := a.Stop("root-no-system", course.StageSystem, course.NoInit,
		fmt.Sprintf("The kernel's root, %s, holds no system: neither a first program such as /sbin/init nor /usr is on it.", home.Called()), line.cited)
	return &end
}
