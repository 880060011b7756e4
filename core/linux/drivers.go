package linux

import (
	"fmt"
	"slices"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// holds adds what an initial RAM disk holds.
func (l *kernelLine) holds(held loader.Drivers, shows machine.Fact) {
	all := drivers{held: held}
	if l.drivers != nil {
		all = drivers{l.drivers.held.With(held), slices.Clone(l.drivers.facts)}
	}
	shows.Label, shows.Value = "Drivers in "+shows.Label, held.String()
	all.facts = append(all.facts, shows)
	l.drivers = &all
}

// passedOver are the options of a kernel line that keep modules from being loaded. modprobe(8); the kernel's
// admin-guide/kernel-parameters, "module_blacklist="; dracut.cmdline(7).
var passedOver = []string{"modprobe.blacklist", "module_blacklist", "rd.driver.blacklist", "blacklist"}

// reachesDrive asks whether a system can reach its drive on the bus that it hangs on now: by what its initial
// RAM disk holds, else by what a person tells.
func reachesDrive(k *course.Walk, a *course.Attempt, home machine.Spot, line kernelLine) (facts []machine.Fact,
	ok bool) {
	d := home.Drive
	name, changed := k.NewWay(d)
	if !changed {
		return nil, true
	}
	if k.World.Answers["driver:"+d.Name] == "" && !line.bare {
		facts, has, lacks := line.driversFor(k, d)
		switch {
		case has:
			return facts, true
		case lacks:
			a.Stop("no-driver", course.StageSystem, line.unfound(),
				fmt.Sprintf("The initial RAM disk on %s has no driver for %s: it was made without one.", d.Called(), name), facts...)
			return nil, false
		}
	}
	return nil, k.Driver(a, home, line.driverOf(), line.unfound())
}

// driversFor reports whether the initial RAM disks have the drivers for a drive, or are known to lack one. SATA is
// reached by other drivers than AHCI's, too, but not without libata; NVMe and USB by no others. The kernel's
// drivers/nvme, drivers/ata, drivers/scsi and drivers/usb/storage; a controller in RAID mode,
// drivers/pci/controller ("VMD").
func (l kernelLine) driversFor(k *course.Walk, d *machine.Drive) (facts []machine.Fact, has, lacks bool) {
	bus, known := d.Bus.Get()
	if l.drivers == nil || !known {
		return nil, false, false
	}
	for _, o := range passedOver {
		if len(loader.KernelOptions(l.options, o)) > 0 {
			return nil, false, false
		}
	}
	held, facts := l.drivers.held, l.drivers.facts
	mode, told := k.Machine.Firmware.StorageMode.Get()
	raid := told && mode == "raid"
	switch bus {
	case "nvme":
		has = held.Has(loader.DriverNVMe) && (!raid || held.Has(loader.DriverVMD))
		return facts, has, held.Lacks(loader.DriverNVMe)
	case "sata":
		lacks = held.Lacks(loader.DriverATA) || held.Lacks(loader.DriverDisks) ||
			told && !raid && held.Lacks(loader.DriverAHCI)
		return facts, held.Has(loader.DriverAHCI|loader.DriverDisks) && !raid, lacks
	case "usb":
		return facts, held.Has(loader.DriverUSBDisks | loader.DriverDisks | loader.DriverXHCI),
			held.Lacks(loader.DriverUSBDisks) || held.Lacks(loader.DriverDisks)
	}
	return nil, false, false
}
