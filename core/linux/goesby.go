package linux

import (
	"fmt"
	"strings"

	"latchkey/core/loader"
	"latchkey/core/machine"
)

// bySystemd tells whether the system at a place comes up by systemd.
func bySystemd(home machine.Spot) (is, known bool) {
	return home.Volume().Holds(home.In(machine.Systemd))
}

// mountedToWrite reports whether the kernel line has the root mounted so that it can be written to. The
// kernel's admin-guide/kernel-parameters, "ro" and "rw": the last counts, and ro is the default.
func mountedToWrite(line kernelLine) (yes bool) {
	for _, o := range strings.Fields(line.options) {
		if o == "ro" || o == "rw" {
			yes = o == "rw"
		}
	}
	return yes
}

// goesByTable reports whether the kernel line lets the mount table be gone by. systemd-fstab-generator(8).
func goesByTable(line kernelLine) bool {
	return loader.KernelSwitch(line.options, "fstab", true) && loader.KernelSwitch(line.options, "systemd.fstab", true)
}

// citedMount is a line of the mount table.
func citedMount(home machine.Spot, c *machine.Config, m loader.Mount) machine.Fact {
	return home.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, m.Line), m.Spec.String()+" on "+m.Point,
		c.Source(home.Base(), m.Point, m.Offset, m.Length))
}
