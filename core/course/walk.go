// Package course holds the course of one start: the stages, the steps taken, the
// questions that the evidence leaves open and the answers of one world. The
// packages that follow a part of the way (linux, windows, mac, startup) share it.
package course

import (
	"slices"

	"latchkey/core/firmware"
	"latchkey/core/machine"
)

// Walk is one start of the machine in one world.
type Walk struct {
	Machine  machine.Machine
	World    *World
	Attempts []Attempt
}

// Mode returns the firmware boot mode, asking when it is unknown.
func (k *Walk) Mode() firmware.Mode {
	if mode, ok := k.Machine.Firmware.Mode.Get(); ok {
		return mode
	}
	return firmware.Mode(k.World.Ask(Question{
		ID: "mode", Stage: StageMode, Fact: FactName{Of: OfMode},
		Text: "Does the firmware start in UEFI or in legacy mode?",
		How:  "In the firmware's setup, under boot: UEFI, legacy or both. In a running Windows: msinfo32, BIOS mode. In a running Linux: /sys/firmware/efi exists under UEFI.",
		Options: []Option{{ID: string(firmware.UEFI), Label: "UEFI"}, {ID: string(firmware.Legacy), Label: "Legacy"},
			{ID: string(firmware.UEFICSM), Label: "UEFI with compatibility support"}},
	}))
}

// Arch returns the architecture of the firmware, asking when it is unknown.
func (k *Walk) Arch() firmware.Arch {
	if arch, ok := k.Machine.Firmware.Arch.Get(); ok {
		return arch
	}
	return firmware.Arch(k.World.Ask(Question{
		ID: "arch", Stage: StageLoader, Fact: FactName{Of: OfArch},
		Text: "Which architecture is the firmware?",
		How:  "Nearly all machines are x64. In a running Linux: /sys/firmware/efi/fw_platform_size shows 64 or 32.",
		Options: []Option{{ID: string(firmware.X64), Label: "x64"}, {ID: string(firmware.IA32), Label: "ia32"},
			{ID: string(firmware.ARM64), Label: "arm64"}},
	}))
}

// Drives returns the drives in the order in which the firmware goes through
// them, the detached ones left out.
func (k *Walk) Drives() []*machine.Drive {
	var attached []*machine.Drive
	for i := range k.Machine.Drives {
		if d := &k.Machine.Drives[i]; k.Attached(d) {
			attached = append(attached, d)
		}
	}
	if k.Machine.DeviceOrder == nil && len(attached) > 1 {
		return k.askFirst(attached)
	}
	var ordered []*machine.Drive
	for _, name := range k.Machine.DeviceOrder {
		for _, d := range attached {
			if d.Name == name {
				ordered = append(ordered, d)
			}
		}
	}
	for _, d := range attached {
		if !k.Listed(d) {
			ordered = append(ordered, d)
		}
	}
	return ordered
}

// Attached reports whether a drive is plugged in and switched on, asking when it
// is unknown.
func (k *Walk) Attached(d *machine.Drive) bool {
	return k.World.Yes(d.Attached, Question{
		ID: "attached:" + d.Name, Stage: StageDrive, Drive: d.Name, Fact: FactName{OfAttached, d.Name},
		Text: "Is " + d.Called() + " attached, with its port switched on?",
		How:  "Look at the cable and at the firmware's list of drives.",
	})
}

// Listed reports whether the typed order names the drive: the firmware's own
// list showed it.
func (k *Walk) Listed(d *machine.Drive) bool {
	for _, name := range k.Machine.DeviceOrder {
		if name == d.Name {
			return true
		}
	}
	return false
}

// askFirst moves the drive that the firmware tries first to the front.
func (k *Walk) askFirst(drives []*machine.Drive) []*machine.Drive {
	q := Question{
		ID: "first", Stage: StageOrder, Fact: FactName{Of: OfFirst},
		Text: "Which drive does the firmware try first?",
		How:  "In the firmware's setup, the first drive of the boot order.",
	}
	return k.AskDrive(q, drives)
}

// AskDrive asks a question that has drives for answers, and moves the one that is picked to the
// front. Where the question has its own words for them, they are kept.
func (k *Walk) AskDrive(q Question, drives []*machine.Drive) []*machine.Drive {
	if q.Options == nil {
		for _, d := range drives {
			q.Options = append(q.Options, Option{ID: d.Name, Label: d.Called()})
		}
	}
	picked := k.World.Ask(q)
	i := slices.IndexFunc(drives, func(d *machine.Drive) bool { return d.Name == picked })
	if i < 0 {
		return drives
	}
	return slices.Concat(drives[i:i+1], drives[:i], drives[i+1:])
}

// Evidence asks for bytes that the evidence does not hold.
func (k *Walk) Evidence(d *machine.Drive, stage Stage, id, text, how string) bool {
	return k.World.Yes(UnknownBool, Question{
		ID: id + ":" + d.Name, Stage: stage, Drive: d.Name, Text: text, How: how,
	})
}

// Drive returns a drive by name, nil for none.
func (k *Walk) Drive(name string) *machine.Drive {
	for i := range k.Machine.Drives {
		if k.Machine.Drives[i].Name == name {
			return &k.Machine.Drives[i]
		}
	}
	return nil
}
