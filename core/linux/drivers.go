package linux

import (
	"fmt"
	"slices"

	"latchkey/core/course"
	"latchkey/core/machine"
)

// hasAllDrivers reports whether the initial RAM disk has the driver for the bus that the clone hangs on now: that
// of initramfs-tools has those of all disks, unless its settings have it made for one machine. initramfs.conf(5),
// "MODULES"; as the real Debians of package truth show, which are made on no such bus. What a person told of it
// counts before that.
func hasAllDrivers(k *course.Walk, home machine.Spot, line kernelLine) (facts []machine.Fact, all bool) {
	d := home.Drive
	_, changed := k.NewWay(d)
	mode, known := k.Machine.Firmware.StorageMode.Get()
	bus, _ := d.Bus.Get()
	if !changed || line.bare || known && mode == "raid" || !slices.Contains([]string{"nvme", "sata", "usb"}, bus) ||
		k.World.Answers["driver:"+d.Name] != "" || !slices.Equal(makers(home), []machine.Tool{machine.UpdateInitramfs}) {
		return nil, false
	}
	c := d.Contents.RAMDiskDrivers(home.Address())
	if c == nil || c.RAMDisk.Modules != "most" {
		return nil, false
	}
	return []machine.Fact{d.Cite(fmt.Sprintf("%s, line %d", c.Path, c.RAMDisk.Line), "MODULES=most: the drivers of all disks",
		c.Source(home.Base(), "MODULES", c.RAMDisk.Offset, c.RAMDisk.Length))}, true
}
