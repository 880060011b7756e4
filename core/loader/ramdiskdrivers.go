package loader

import (
	"bytes"
	"path"
	"strings"
)

// Drivers are the drivers of drives that an initial RAM disk holds, or that its kernel has built in
// as it says, a bit for each.
type Drivers uint64

// The drivers, by the names of the kernel's modules, and what else is told of a RAM disk. The bits stand
// in captures: one is never given another meaning.
const (
	DriverNVMe     Drivers = 1 << iota // nvme
	DriverVMD                          // vmd: NVMe drives behind a controller in RAID mode
	DriverAHCI                         // ahci
	DriverDisks                        // sd_mod: disks behind SATA, SCSI and USB
	DriverUSBDisks                     // usb_storage or uas
	DriverXHCI                         // xhci_pci
	DriverATA                          // libata: whatever hangs on SATA
	DriversWhole                       // it was read to its end, and hides nothing
	DriversBuiltIn                     // it says what its kernel has built in
	DriversBroken                      // it does not unpack to its end
	DriversRead                        // it was looked into at all
)

// AllDrivers is what an initial RAM disk holds that is made for every bus.
const AllDrivers = DriverNVMe | DriverVMD | DriverAHCI | DriverDisks | DriverUSBDisks | DriverXHCI | DriverATA |
	DriversWhole | DriversBuiltIn | DriversRead

// With is what several initial RAM disks of one kernel hold, which is given them one behind the other.
func (d Drivers) With(other Drivers) Drivers {
	const each = DriversWhole | DriversRead
	return (d|other)&^each | d&other&each
}

// Has reports whether some drivers are all there.
func (d Drivers) Has(all Drivers) bool { return d&all == all }

// Lacks reports whether it is known that none of some drivers is there.
func (d Drivers) Lacks(all Drivers) bool {
	return d.Has(DriversWhole|DriversBuiltIn|DriversRead) && d&(DriversBroken|all) == 0
}

// String lists the drivers by the modules' names.
func (d Drivers) String() string {
	var names []string
	for i, name := range []string{"nvme", "vmd", "ahci", "sd_mod", "usb_storage", "xhci_pci", "libata"} {
		if d&(1<<i) != 0 {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return "no driver of drives that is known here"
	}
	return strings.Join(names, ", ")
}

// driverModules are the modules' names, with hyphens. The kernel's drivers/nvme/host, drivers/pci/controller,
// drivers/ata, drivers/scsi and drivers/usb, their makefiles.
var driverModules = map[string]Drivers{"nvme": DriverNVMe, "vmd": DriverVMD, "ahci": DriverAHCI, "sd-mod": DriverDisks,
	"usb-storage": DriverUSBDisks, "uas": DriverUSBDisks, "xhci-pci": DriverXHCI, "libata": DriverATA}

// BuiltInDrivers are those in the list of what a kernel has built in, which has a path in each line. modules.builtin of
// the kernel's build (Documentation/kbuild).
func BuiltInDrivers(list []byte) (found Drivers) {
	for line := range bytes.Lines(list) {
		found |= DriverIn(path.Base(strings.TrimSpace(string(line))))
	}
	return found
}

// DriverIn is the driver that a module is, by the name of its file, which may be packed by itself; 0 for any other.
func DriverIn(file string) Drivers {
	name, rest, _ := strings.Cut(file, ".")
	if rest != "ko" && !strings.HasPrefix(rest, "ko.") {
		return 0
	}
	return driverModules[strings.ReplaceAll(name, "_", "-")]
}
