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
	if d.Contents != nil {
		if p, bad := d.Contents.Layout.Find(disk.CodeUnreadable); bad {
			a.Risk("unreadable-sectors", p.Text)
		}
		if d.Contents.Layout.Style != disk.StyleUnknown {
			return true
		}
	}
	if k.Evidence(d, course.StageTable, "contents", "What does "+d.Called()+" hold? Nothing of its partition table is in evidence.",
		"Take a capture of "+d.Called()+", or add its first sectors as evidence.") {
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
	case k.Listed(d), told, offered(k, d):
	case !known && !sees(k, d):
		return a.Block("not-in-boot-list", course.StageDrive, "The firmware's boot list does not show "+d.Called()+".")
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

// offered reports whether someone told that a Mac offers to start from a drive: it sees it then.
func offered(k *course.Walk, d *machine.Drive) bool {
	isMac, known := k.Machine.Firmware.Behaviour.Of(firmware.ReadsMacVolumes).Get()
	return known && isMac && k.World.Answers["mac-offered:"+d.Name] == "yes"
}

// sees asks whether the firmware finds a drive of which nobody told the bus, where some
// bus is one that it may not start from.
func sees(k *course.Walk, d *machine.Drive) bool {
	for _, c := range []*firmware.Choice{firmware.StartsFromNVMe, firmware.StartsFromUSB} {
		if starts, known := k.Machine.Firmware.Behaviour.Of(c).Get(); !known || !starts {
			return k.World.Yes(course.UnknownBool, course.Question{ID: "shown:" + d.Name, Stage: course.StageDrive,
				Drive: d.Name, Fact: course.FactName{Of: course.OfShown, Key: d.Name},
				Text: "Does the firmware's boot list show " + d.Called() + "?",
				How:  "In the firmware's setup, the boot order or the one-time boot menu. On which bus it hangs tells it, too."})
		}
	}
	return true
}

// largeUSB and largeLegacy judge a drive with sectors of 4,096 bytes on a bus where
// some firmware does not read them.
func largeUSB(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	return largeSectors(k, a, d, "usb", "USB", firmware.StartsLargeUSB)
}

func largeLegacy(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	return largeSectors(k, a, d, "virtio", "virtio, a virtual machine's own bus,", firmware.StartsLargeVirtio) &&
		largeSectors(k, a, d, "scsi", "SCSI", firmware.StartsLargeSCSI)
}

func largeSectors(k *course.Walk, a *course.Attempt, d *machine.Drive, bus, called string,
	reads *firmware.Choice) bool {
	l := &d.Contents.Layout
	if l.SectorSize == 512 && !l.SectorOpen {
		return true
	}
	on, known := d.Bus.Get()
	if known && on != bus || k.Choice(reads, course.StageDrive, d, d.Called()) || !known &&
		!k.HangsOn(d, bus, called) {
		return true
	}
	if l.SectorOpen && !k.Evidence(d, course.StageDrive, "sector-size", "Has "+d.Called()+" sectors of 4,096 bytes?",
		"The drive's label says 4Kn; nearly all drives have sectors of 512 bytes to the outside.") {
		return true
	}
	a.Steps = nil
	return a.Block("large-sectors", course.StageDrive, "The firmware does not read sectors of 4,096 bytes on "+called+".",
		d.Cite("Sector size", fmt.Sprint(l.SectorSize), fact.Source{Origin: fact.Typed}), d.Cite("Bus", bus, d.Bus.Source()))
}
