package linux

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/machine"
)

// forMaintenance are the words of a kernel line by which a system comes up to be maintained alone.
// systemd.special(7) and kernel-command-line(7); init(8) has the same for runlevel 1.
var forMaintenance = []string{"emergency", "-b", "rescue", "single", "s", "S", "1"}

// shells are first programs that are no system: whoever writes them wants to mend something.
var shells = []string{"init=/bin/sh", "init=/bin/bash", "init=/bin/dash", "init=/usr/bin/sh", "init=/usr/bin/bash", "init=/usr/bin/dash", "init=/bin/busybox",
	"init=/sbin/sulogin"}

// usualUnits are what a system comes up as otherwise. systemd.special(7).
var usualUnits = []string{"default.target", "multi-user.target", "graphical.target", "runlevel2.target", "runlevel3.target",
	"runlevel4.target", "runlevel5.target"}

// comesUpAsUsual asks whether the kernel line has the system come up as usual, or to be maintained alone.
func comesUpAsUsual(a *course.Attempt, home machine.Spot, line kernelLine) *course.Result {
	word, open := "", false
	for _, o := range strings.Fields(line.options) {
		unit, isUnit := strings.CutPrefix(o, "systemd.unit=")
		switch {
		case slices.Contains(forMaintenance, o), isUnit && slices.Contains([]string{"rescue.target", "emergency.target", "runlevel1.target"}, unit):
			word, open = o, false
		case slices.Contains(shells, o):
			word, open = o, false
		case isUnit && slices.Contains(usualUnits, unit), slices.Contains([]string{"2", "3", "4", "5"}, o):
			word = ""
		case isUnit:
			word, open = o, true
		}
	}
	if word == "" {
		return nil
	}
	if is, known := bySystemd(home); open || !is || !known {
		end := a.Unproven("maintenance-open", course.StageConfiguration,
			fmt.Sprintf("The kernel line has the system come up by %s: what it comes up as is not known.", word), course.HowTry, line.cited)
		end.Home = home
		return &end
	}
	end := a.Stop("maintenance", course.StageConfiguration, course.RescueMode,
		fmt.Sprintf("The kernel line, by %s, has the system come up to be maintained alone: another entry of the menu, or a line without it, has it come up as usual.", word),
		line.cited)
	return &end
}
