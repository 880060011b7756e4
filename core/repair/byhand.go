package repair

import (
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// dataCopy is what must be saved before a step that can cost data.
const dataCopy = "The data: the original is their copy. Look that it is whole and detached, or copy what is wanted elsewhere first."

func copyByHand(o, d *machine.Drive, whole bool) []Command {
	way := "the whole disk"
	if !whole {
		way = "by the space in use, all partitions, the largest made smaller"
	}
	size := func(x *machine.Drive) string {
		return disk.Both(x.Contents.Layout.Bytes())
	}
	return []Command{{ByHand: true, Text: fmt.Sprintf("With the copying tool that you have: %s, from the original (%s, identifier %s) onto the clone's drive (%s), while it hangs where it is to stay.", way, size(o), diskpartID(o), size(d)),
		Good: "All partitions are on the clone.", Bad: "Read errors on the original: copy sector by sector, to a drive at least as large."},
		{ByHand: true, Text: "Unplug the original before the first start.", Good: "The clone is the only drive.", Bad: "Look at the models and capacities."}}
}

func putOldBack(as Toolbox) Command {
	prompt := "open a command prompt as administrator"
	if as == Linux {
		prompt = "open a terminal as root (sudo -i)"
	}
	return Command{ByHand: true, Text: "Power off. Put the old drive back, with the clone on a second port or in an enclosure; start the old drive's system, and " + prompt + ".",
		Good: "The old system comes up, and shows the clone as its second disk.", Bad: "It came up from the clone, or not at all: choose the old drive in the firmware's boot menu."}
}

var takeOldOut = Command{ByHand: true, Text: "Shut down, and attach the drives as they were before.", Good: "The clone hangs where it is to stay.", Bad: "Look at the models and capacities."}
