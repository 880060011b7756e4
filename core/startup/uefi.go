package startup

import (
	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// uefi follows the boot manager: the boot entries, then the devices. UEFI
// Specification 2.10, section 3.1. It reports whether a loader was started.
func uefi(k *course.Walk) bool {
	drives := k.Drives()
	if entries := k.Machine.Firmware.Entries; entries != nil {
		for _, e := range entries.Sequence() {
			if entry(k, drives, e) {
				return true
			}
		}
	}
	for _, d := range drives {
		if k.Machine.Firmware.Entries == nil && vendorEntry(k, d) {
			return true
		}
		if fallback(k, d) || macVolume(k, d) {
			return true
		}
	}
	return false
}

// vendorEntry tries, when the boot entries are not known, the loader that an
// entry would most likely lead to.
func vendorEntry(k *course.Walk, d *machine.Drive) bool {
	path, ok := d.VendorLoader()
	if !ok {
		return false
	}
	if !k.World.Yes(d.HasEntry, course.Question{
		ID: "entry:" + d.Name, Stage: course.StageOrder, Drive: d.Name, Fact: course.FactName{Of: course.OfEntry,
			Key: d.Name},
		Text: "Has the firmware a boot entry that leads to " + path + " on " + d.Called() + "?",
		How:  "In a running Linux: efibootmgr -v. In Windows: bcdedit /enum firmware. Or the named entries in the firmware's boot list.",
	}) {
		return false
	}
	return try(k, d, "", target{path: path, why: "The boot entry", only: disk.Partition.IsESP})
}

// fallback tries the removable-media path on a device. UEFI Specification 2.10,
// section 3.5.1.1.
func fallback(k *course.Walk, d *machine.Drive) bool {
	path := loader.FallbackPath(k.Arch())
	bus, _ := d.Bus.Get()
	tried := bus == "usb" || k.Choice(firmware.FallbackOnFixedDisks, course.StageOrder, nil, "")
	if !tried {
		a := course.Attempt{Drive: d.Name, Role: d.Role, Loader: path}
		if seen(k, &a, d) && readable(k, &a, d) && uefiMode(k, &a, d) {
			a.Block("no-entry-no-fallback", course.StageOrder, "No boot entry leads to "+d.Called()+", and the firmware does not look for "+path+" on fixed disks.")
		}
		k.Attempts = append(k.Attempts, a)
		return false
	}
	return try(k, d, "", target{path: path, why: "The firmware"})
}
