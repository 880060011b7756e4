package startup

import (
	"fmt"

	"latchkey/core/fact"
	"latchkey/core/firmware"
)

// walk is one start of the machine in one world.
type walk struct {
	m        Machine
	w        *world
	attempts []Attempt
}

// walkMachine follows the firmware from power-on to the end of the start.
func walkMachine(m Machine, w *world) outcome {
	k := &walk{m: m, w: w}
	switch k.mode() {
	case firmware.Legacy:
		k.legacy()
	case firmware.UEFICSM:
		if !k.uefi() {
			k.legacy()
		}
	default:
		k.uefi()
	}
	return k.outcome()
}

func (k *walk) mode() firmware.Mode {
	if mode, ok := k.m.Firmware.Mode.Get(); ok {
		return mode
	}
	return firmware.Mode(k.w.ask(Question{
		ID: "mode", Stage: StageMode, Field: "mode",
		Text: "Does the firmware start in UEFI or in legacy mode?",
		How:  "In the firmware's setup, under boot: UEFI, legacy or both. In a running Windows: msinfo32, BIOS mode. In a running Linux: /sys/firmware/efi exists under UEFI.",
		Options: []Option{{ID: string(firmware.UEFI), Label: "UEFI"}, {ID: string(firmware.Legacy), Label: "Legacy"},
			{ID: string(firmware.UEFICSM), Label: "UEFI with compatibility support"}},
	}))
}

func (k *walk) arch() firmware.Arch {
	if arch, ok := k.m.Firmware.Arch.Get(); ok {
		return arch
	}
	return firmware.Arch(k.w.ask(Question{
		ID: "arch", Stage: StageLoader, Field: "arch",
		Text: "Which architecture is the firmware?",
		How:  "Nearly all machines are x64. In a running Linux: /sys/firmware/efi/fw_platform_size shows 64 or 32.",
		Options: []Option{{ID: string(firmware.X64), Label: "x64"}, {ID: string(firmware.IA32), Label: "ia32"},
			{ID: string(firmware.ARM64), Label: "arm64"}},
	}))
}

// drives returns the drives in the order in which the firmware goes through
// them, the detached ones left out.
func (k *walk) drives() []*Drive {
	var attached []*Drive
	for i := range k.m.Drives {
		if d := &k.m.Drives[i]; k.attached(d) {
			attached = append(attached, d)
		}
	}
	if k.m.DeviceOrder == nil && len(attached) > 1 {
		k.askFirst(&attached)
		return attached
	}
	var ordered []*Drive
	for _, name := range k.m.DeviceOrder {
		for _, d := range attached {
			if d.Name == name {
				ordered = append(ordered, d)
			}
		}
	}
	for _, d := range attached {
		if !k.listed(d) {
			ordered = append(ordered, d)
		}
	}
	return ordered
}

func (k *walk) attached(d *Drive) bool {
	return k.w.yes(d.Attached, Question{
		ID: "attached:" + d.Name, Stage: StageDrive, Drive: d.Name, Field: "attached:" + d.Name,
		Text: "Is " + d.called() + " attached, with its port switched on?",
		How:  "Look at the cable and at the firmware's list of drives.",
	})
}

// listed reports whether the typed order names the drive: the firmware's own
// list showed it.
func (k *walk) listed(d *Drive) bool {
	for _, name := range k.m.DeviceOrder {
		if name == d.Name {
			return true
		}
	}
	return false
}

// askFirst moves the drive that the firmware tries first to the front.
func (k *walk) askFirst(drives *[]*Drive) {
	q := Question{
		ID: "first", Stage: StageOrder, Field: "deviceOrder",
		Text: "Which drive does the firmware try first?",
		How:  "In the firmware's setup, the first drive of the boot order.",
	}
	for _, d := range *drives {
		q.Options = append(q.Options, Option{ID: d.Name, Label: d.called()})
	}
	first := k.w.ask(q)
	for i, d := range *drives {
		if d.Name == first {
			rest := append(append([]*Drive{}, (*drives)[:i]...), (*drives)[i+1:]...)
			*drives = append([]*Drive{d}, rest...)
			return
		}
	}
}

// seen judges the drive stage: attached, and on a bus the firmware can start
// from. start-rules, stage 1.
func (k *walk) seen(a *Attempt, d *Drive) bool {
	bus, known := d.Bus.Get()
	shown, told := d.Shown.Get()
	switch {
	case told && !shown:
		return a.block(StageDrive, "The firmware's boot list does not show "+d.called()+".", d.cite("In the boot list", "no", d.Shown.Source()))
	case k.listed(d), told:
	case known && bus == "nvme" && !k.startsFrom(d, "NVMe", k.m.Firmware.Behaviour.StartsFromNVMe):
		return a.block(StageDrive, "The firmware has no driver for NVMe: a running system shows the drive, the boot list does not.",
			d.cite("Bus", "NVMe", d.Bus.Source()))
	case known && bus == "usb" && !k.startsFrom(d, "USB", k.m.Firmware.Behaviour.StartsFromUSB):
		return a.block(StageDrive, "The firmware does not start from this drive while it hangs on USB.",
			d.cite("Bus", "USB", d.Bus.Source()))
	}
	facts := []Fact{d.cite("Attached", "yes", d.Attached.Source())}
	if known {
		facts = append(facts, d.cite("Bus", bus, d.Bus.Source()))
	}
	a.pass(StageDrive, "The firmware sees "+d.called()+".", facts...)
	return true
}

// largeSectors judges a drive with sectors of 4,096 bytes on a bus where some
// firmware does not read them.
func (k *walk) largeSectors(a *Attempt, d *Drive, reads fact.Of[bool]) bool {
	bus, _ := d.Bus.Get()
	if d.Contents.Layout.SectorSize == 512 || k.w.yes(reads, Question{
		ID: "large-" + bus, Stage: StageDrive, Drive: d.Name, Field: map[string]string{"usb": "startsLargeUSB", "virtio": "startsLargeVirtio"}[bus],
		Text: "Does the firmware read a drive with sectors of 4,096 bytes on this bus (" + d.called() + ", " + bus + ")?",
		How:  "Attach the drive to another bus, or in an enclosure that presents 512-byte sectors.",
	}) {
		return true
	}
	a.Steps = nil
	return a.block(StageDrive, "The firmware does not read sectors of 4,096 bytes on this drive's bus ("+bus+").",
		d.cite("Sector size", fmt.Sprint(d.Contents.Layout.SectorSize), fact.Source{Origin: fact.Typed}))
}

func (k *walk) startsFrom(d *Drive, bus string, f fact.Of[bool]) bool {
	return k.w.yes(f, Question{
		ID: "starts-from-" + bus, Stage: StageDrive, Drive: d.Name, Field: "startsFrom" + bus,
		Text: "Does the firmware show " + d.called() + " (" + bus + ") in its boot list?",
		How:  "In the firmware's setup, look for the drive's model under boot order, not only under the list of drives.",
	})
}

// evidence asks for bytes that the evidence does not hold.
func (k *walk) evidence(d *Drive, stage Stage, id, text, how string) bool {
	return k.w.yes(unknownBool, Question{
		ID: id + ":" + d.Name, Stage: stage, Drive: d.Name, Text: text, How: how,
	})
}

// outcome settles how the walk ended.
func (k *walk) outcome() outcome {
	o := outcome{world: k.w, attempts: k.attempts, chosen: -1, verdict: Stops, stage: StageOrder}
	for i := range k.attempts {
		a := &k.attempts[i]
		if a.HandsOver {
			o.chosen = i
			k.afterHandOver(&o, a)
			return o
		}
		if o.chosen < 0 || k.tellsMore(a, &k.attempts[o.chosen]) {
			o.chosen, o.stage, o.symptom = i, a.last(), a.Symptom
		}
	}
	if o.chosen < 0 {
		o.stage, o.symptom = k.nothingTried()
	} else if o.symptom == "" {
		o.symptom = noDevice
	}
	return o
}

const noDevice = "no bootable device was found, or the firmware's own setup."

// tellsMore prefers the clone's attempts, and of those the one that got
// furthest, or that shows something of its own there.
func (k *walk) tellsMore(a, than *Attempt) bool {
	if (a.Role == RoleClone) != (than.Role == RoleClone) {
		return a.Role == RoleClone
	}
	if i, j := a.last().index(), than.last().index(); i != j {
		return i > j
	}
	return a.Symptom != "" && than.Symptom == ""
}

// nothingTried tells why there was no attempt at all.
func (k *walk) nothingTried() (Stage, string) {
	for i := range k.m.Drives {
		if k.attached(&k.m.Drives[i]) {
			return StageOrder, noDevice
		}
	}
	return StageDrive, noDevice
}

// afterHandOver judges what follows the start of the loader.
func (k *walk) afterHandOver(o *outcome, a *Attempt) {
	o.stage, o.symptom = "", ""
	switch {
	case k.m.Until != UntilLoader:
		k.afterLoader(o, a)
	case a.Role != RoleClone:
		o.verdict = StartsOriginal
	default:
		o.verdict = Starts
	}
}

func (k *walk) drive(name string) *Drive {
	for i := range k.m.Drives {
		if k.m.Drives[i].Name == name {
			return &k.m.Drives[i]
		}
	}
	return nil
}

func entryName(e firmware.Entry) string { return fmt.Sprintf("%04X", e.Number) }
