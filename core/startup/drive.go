package startup

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
)

// readable asks for a disk's bytes when nothing of it is in evidence.
func readable(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	if d.Contents != nil && d.Contents.Layout.Style != disk.StyleUnknown {
		return true
	}
	if k.Evidence(d, course.StageTable, "contents", "What does "+d.Called()+" hold? Nothing of its partition table is in evidence.",
		"Add the first sectors of "+d.Called()+" as evidence.") {
		a.Steps = append(a.Steps, course.Step{Rule: "table-missing-evidence", Stage: course.StageTable, State: course.Unproven, Text: "Nothing of the partition table is in evidence."})
		a.HandsOver = true
		return false
	}
	return a.Block("table-missing-evidence", course.StageTable, "Nothing of the partition table is in evidence.")
}

// seen judges the drive stage: attached, and on a bus the firmware can start
// from. start-rules, stage 1.
func seen(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	bus, known := d.Bus.Get()
	shown, told := d.Shown.Get()
	switch {
	case told && !shown:
		return a.Block("not-in-boot-list", course.StageDrive, "The firmware's boot list does not show "+d.Called()+".", d.Cite("In the boot list", "no", d.Shown.Source()))
	case k.Listed(d), told:
	case known && bus == "nvme" && !k.Choice(firmware.StartsFromNVMe, course.StageDrive, d, d.Called()):
		return a.BlockFor("no-nvme-driver", course.StageDrive, "The firmware has no driver for NVMe", "a running system shows the drive, the boot list does not.",
			d.Cite("Bus", "NVMe", d.Bus.Source()))
	case known && bus == "usb" && !k.Choice(firmware.StartsFromUSB, course.StageDrive, d, d.Called()):
		return a.Block("no-usb-start", course.StageDrive, "The firmware does not start from this drive while it hangs on USB.",
			d.Cite("Bus", "USB", d.Bus.Source()))
	}
	facts := []machine.Fact{d.Cite("Attached", "yes", d.Attached.Source())}
	if known {
		facts = append(facts, d.Cite("Bus", bus, d.Bus.Source()))
	}
	a.Pass(course.StageDrive, "The firmware sees "+d.Called()+".", facts...)
	return true
}

// largeSectors judges a drive with sectors of 4,096 bytes on a bus where some
// firmware does not read them.
func largeSectors(k *course.Walk, a *course.Attempt, d *machine.Drive, reads *firmware.Choice) bool {
	bus, _ := d.Bus.Get()
	if d.Contents.Layout.SectorSize == 512 || k.Choice(reads, course.StageDrive, d, d.Called()) {
		return true
	}
	a.Steps = nil
	return a.Block("large-sectors", course.StageDrive, "The firmware does not read sectors of 4,096 bytes on this drive's bus ("+bus+").",
		d.Cite("Sector size", fmt.Sprint(d.Contents.Layout.SectorSize), fact.Source{Origin: fact.Typed}))
}
