package repair

import (
	"latchkey/core/course"
	"latchkey/core/mac"
	"latchkey/core/machine"
)

// macBless makes the system on the clone the one that the firmware starts.
func macBless(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	i, found := mac.VolumeOf(d)
	if !isMac(m) || !found || m.Answers["mac-offered:"+d.Name] == "yes" || mac.Lacks(&d.Contents.Volumes[i]) != "" {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "mac-bless", Title: "Choose the system on the clone as the start-up disk", Why: "The firmware offers only a volume whose system is blessed.", Disk: d.Name, Risk: RiskLow, Minutes: 10, Save: "Nothing: one setting of the volume changes.",
			Undo: "Choose the old disk again."},
		key: "mac-bless", result: answered(m, "mac-offered:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{MacRecovery: func() []Command {
			return append(inRecovery(m, d), Command{ByHand: true, Text: "In the menu: Startup Disk. Choose the volume that the list showed on the clone, by its name and capacity, and restart. In the terminal the same is: bless --mount, the folder where that volume is mounted, and --setBoot.",
				Good: "The disk is offered when " + mac.KindOf(m).Choose + ".", Bad: "It is not in the list: a system must be installed there; mark the step as failed."})
		}},
	}}
}

// macInstall installs the system on the clone, where only its files were copied.
func macInstall(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	i, found := mac.VolumeOf(d)
	if !isMac(m) || !found || m.Answers["mac-installed:"+d.Name] == "yes" {
		return nil
	}
	installed := with(answered(answered(m, "mac-installed:"+d.Name, "yes"), "mac-offered:"+d.Name, "yes"), d.Name,
		func(x *machine.Drive) { x.Contents = d.Contents.WithMacSystem(i) })
	return []move{{
		PlanStep: PlanStep{Action: "mac-install", Title: "Install the system on the clone from the Mac's recovery", Why: "The system's volume is sealed: only its own installer makes one that starts.", Disk: d.Name, Risk: RiskReal, Minutes: 60, Save: dataCopy,
			Undo: "Copy again from the original."},
		key: "mac-install", result: installed,
		tools: map[Toolbox]func() []Command{MacRecovery: func() []Command {
			return append(inRecovery(m, d), Command{ByHand: true, Text: "Leave the terminal. Reinstall the system onto the volume that the list showed on the clone, by its name and capacity; its data stay. Missing data are brought over afterwards from the original.",
				Good: "It restarts into the system on the clone.", Bad: "The installer refuses the disk: its scheme must be GUID."})
		}},
	}}
}

// macExternal lets the Mac start from drives that are not built in.
func macExternal(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if _, found := mac.VolumeOf(d); !isMac(m) || !found || m.Answers["mac-external:"+d.Name] == "yes" {
		return nil
	}
	if bus, _ := d.Bus.Get(); bus != "usb" {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "mac-external", Title: "Let the Mac start from drives that are not built in", Why: "With a security chip it starts from its own drive alone, as it is delivered.", Risk: RiskNone, Minutes: 10, Save: "Nothing on a disk changes.",
			Undo: "Set it back in the same place."},
		key: "mac-external", result: answered(m, "mac-external:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{MacRecovery: saying(mac.KindOf(m).Recover+". In the menu under Utilities: Startup Security Utility; allow booting from external media.",
			"The setting is chosen.", "The program is not there: this Mac has no security chip; mark the step as failed.")},
	}}
}
