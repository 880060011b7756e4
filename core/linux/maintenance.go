package linux

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/machine"
)

// forMaintenance are the words of a kernel line by which a system comes up to be maintained alone, and first
// programs that are a shell; asUsual those by which it comes up otherwise, the last of them counts.
// systemd.special(7) and kernel-command-line(7); init(8) has the same for runlevels.
var (
	forMaintenance = strings.Fields(`emergency -b rescue single s S 1 systemd.unit=rescue.target systemd.unit=emergency.target
		systemd.unit=runlevel1.target init=/bin/sh init=/bin/bash init=/bin/dash init=/usr/bin/sh init=/usr/bin/bash
		init=/usr/bin/dash init=/bin/busybox init=/sbin/sulogin`)
	asUsual = strings.Fields(`2 3 4 5 systemd.unit=default.target systemd.unit=multi-user.target systemd.unit=graphical.target
		systemd.unit=runlevel2.target systemd.unit=runlevel3.target systemd.unit=runlevel4.target systemd.unit=runlevel5.target`)
)

// comesUpAsUsual asks whether the kernel line has the system come up as usual, or to be maintained alone.
func comesUpAsUsual(a *course.Attempt, home machine.Spot, line kernelLine) *course.Result {
	word, open := "", false
	for _, o := range strings.Fields(line.options) {
		switch {
		case slices.Contains(forMaintenance, o):
			word, open = o, false
		case slices.Contains(asUsual, o):
			word = ""
		case strings.HasPrefix(o, "systemd.unit="):
			word, open = o, true
		}
	}
	if word == "" {
		return nil
	}
	if is, known := bySystemd(home); open || !is || !known {
		return openAt(a, home, "maintenance-open", course.StageConfiguration,
			fmt.Sprintf("The kernel line has the system come up by %s: what it comes up as is not known.", word), course.HowTry, line.cited)
	}
	end := a.Stop("maintenance", course.StageConfiguration, course.RescueMode,
		fmt.Sprintf("The kernel line, by %s, has the system come up to be maintained alone: another entry of the menu, or a line without it, has it come up as usual.", word),
		line.cited)
	return &end
}
