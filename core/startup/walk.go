package startup

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
)

// walkMachine follows the firmware from power-on to the end of the start.
func walkMachine(m machine.Machine, w *course.World) outcome {
	k := &course.Walk{Machine: m, World: w}
	switch k.Mode() {
	case firmware.Legacy:
		legacy(k)
	case firmware.UEFICSM:
		if !uefi(k) {
			legacy(k)
		}
	default:
		uefi(k)
	}
	return settle(k)
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

// settle settles how the walk ended.
func settle(k *course.Walk) outcome {
	o := outcome{world: k.World, attempts: k.Attempts, chosen: -1, verdict: Stops, stage: course.StageOrder}
	for i := range k.Attempts {
		a := &k.Attempts[i]
		if a.HandsOver {
			o.chosen = i
			afterHandOver(k, &o, a)
			return o
		}
		if o.chosen < 0 || tellsMore(k, a, &k.Attempts[o.chosen]) {
			o.chosen, o.stage, o.symptom = i, a.Last(), a.Shown()
		}
	}
	if o.chosen < 0 {
		o.stage, o.symptom = nothingTried(k)
	} else if o.symptom.Text == "" {
		o.symptom = course.NoDevice
	}
	return o
}

// tellsMore prefers the clone's attempts, and of those the one that got
// furthest, or that shows something of its own there.
func tellsMore(k *course.Walk, a, than *course.Attempt) bool {
	if (a.Role == machine.RoleClone) != (than.Role == machine.RoleClone) {
		return a.Role == machine.RoleClone
	}
	if i, j := a.Last().Index(), than.Last().Index(); i != j {
		return i > j
	}
	return a.Symptom != "" && than.Symptom == ""
}

// nothingTried tells why there was no attempt at all.
func nothingTried(k *course.Walk) (course.Stage, course.Symptom) {
	for i := range k.Machine.Drives {
		if k.Attached(&k.Machine.Drives[i]) {
			return course.StageOrder, course.NoDevice
		}
	}
	return course.StageDrive, course.NoDevice
}

// afterHandOver judges what follows the start of the loader.
func afterHandOver(k *course.Walk, o *outcome, a *course.Attempt) {
	o.stage, o.symptom = "", course.Symptom{}
	switch {
	case k.Machine.Until != machine.UntilLoader:
		afterLoader(k, o, a)
	case a.Role != machine.RoleClone:
		o.verdict = StartsOriginal
	default:
		o.verdict = Starts
	}
}

func entryName(e firmware.Entry) string { return fmt.Sprintf("%04X", e.Number) }
