package repair

import (
	"latchkey/core/course"
	"latchkey/core/machine"
)

// macBless makes the system on the clone the one that the firmware starts.
func macBless(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if !isMac(m) || !macVolume(d) || m.Answers["mac-offered:"+d.Name] == "yes" {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "mac-bless", Title: "Choose the system on the clone as the start-up disk", Why: "The firmware offers only a volume whose system is blessed.", Disk: d.Name, Risk: RiskLow, Minutes: 10, Save: "Nothing: one setting of the volume changes.",
			Undo: "Choose the old disk again."},
		key: "mac-bless", result: answered(m, "mac-offered:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{MacRecovery: func() []Command {
			return append(inRecovery(d), Command{ByHand: true, Text: "In the menu: Startup Disk. Choose the volume that the list showed on the clone, by its name and capacity, and restart. In the terminal the same is: bless --mount, the folder where that volume is mounted, and --setBoot.",
				Good: "The disk is offered when Option is held at power-on.", Bad: "It is not in the list: a system must be installed there; mark the step as failed."})
		}},
	}}
}

// macInstall installs the system on the clone, where only its files were copied.
func macInstall(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if !isMac(m) || !macVolume(d) || m.Answers["mac-installed:"+d.Name] == "yes" {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "mac-install", Title: "Install the system on the clone from the Mac's recovery", Why: "The system's volume is sealed: only its own installer makes one that starts.", Disk: d.Name, Risk: RiskReal, Minutes: 60, Save: dataCopy,
			Undo: "Copy again from the original."},
		key: "mac-install", result: answered(answered(m, "mac-installed:"+d.Name, "yes"), "mac-offered:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{MacRecovery: func() []Command {
			return append(inRecovery(d), Command{ByHand: true, Text: "Leave the terminal. Reinstall the system onto the volume that the list showed on the clone, by its name and capacity; its data stay. Missing data are brought over afterwards from the original.",
				Good: "It restarts into the system on the clone.", Bad: "The installer refuses the disk: its scheme must be GUID."})
		}},
	}}
}
