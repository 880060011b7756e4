package linux

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/loader"
	"latchkey/core/machine"
)

// systemdProgram is where systemd lies, by its own build.
const systemdProgram = "/usr/lib/systemd/systemd"

// bySystemd tells whether the system at a place comes up by systemd.
func bySystemd(home machine.Spot) (is, known bool) {
	return home.Volume().Holds(home.In(systemdProgram))
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
	said := slices.Concat(loader.KernelOptions(line.options, "fstab"), loader.KernelOptions(line.options, "systemd.fstab"))
	return len(said) == 0 || !slices.Contains([]string{"0", "no", "off", "false", "n"}, said[len(said)-1])
}

// citedMount is a line of the mount table.
func citedMount(home machine.Spot, c *machine.Config, m loader.Mount) machine.Fact {
	return home.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, m.Line), m.Spec.String()+" on "+m.Point,
		c.Source(home.Base(), m.Point, m.Offset, m.Length))
}
