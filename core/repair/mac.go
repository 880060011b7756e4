package repair

import (
	"latchkey/core/startup"
	"latchkey/core/volume"
)

// What a Mac's recovery can do. start-rules, stage 7; common practice, no source.

func macVolume(d *startup.Drive) bool {
	if d.Contents == nil {
		return false
	}
	for i := range d.Contents.Volumes {
		if k := d.Contents.Volumes[i].Kind; k == volume.KindAPFS || k == volume.KindHFS {
			return true
		}
	}
	return false
}

func isMac(m startup.Machine) bool {
	mac, known := m.Firmware.Behaviour.ReadsMacVolumes.Get()
	return known && mac
}

// macBless makes the system on the clone the one that the firmware starts.
func macBless(m startup.Machine, _ startup.Stage) []move {
	d := clone(m)
	if !isMac(m) || !macVolume(d) || m.Answers["mac-offered:"+d.Name] == "yes" {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "mac-bless", Title: "Choose the system on the clone as the start-up disk", Why: "The firmware offers only a volume whose system is blessed.", Disk: d.Name, Risk: RiskLow, Minutes: 10, Undo: "Choose the old disk again."},
		key:      "mac-bless", result: answered(m, "mac-offered:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{MacRecovery: saying("Hold Command and R at power-on. In the menu: Startup Disk; choose the clone's volume by its name and capacity, and restart. Or in the terminal there: bless --mount /Volumes/NAME --setBoot",
			"The disk is offered when Option is held.", "It is not in the list: a system must be installed there.")},
	}}
}

// macInstall installs the system on the clone, where only its files were copied.
func macInstall(m startup.Machine, _ startup.Stage) []move {
	d := clone(m)
	if !isMac(m) || !macVolume(d) || m.Answers["mac-installed:"+d.Name] == "yes" {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "mac-install", Title: "Install the system on the clone from the Mac's recovery", Why: "The system's volume is sealed: only its own installer makes one that starts.", Disk: d.Name, Risk: RiskReal, Minutes: 60, Undo: "Copy again from the original."},
		key:      "mac-install", result: answered(answered(m, "mac-installed:"+d.Name, "yes"), "mac-offered:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{MacRecovery: saying("Hold Command and R at power-on. Reinstall the system onto the clone's volume, by its name and capacity; its data stay. Missing data are brought over afterwards from the original.",
			"It restarts into the system on the clone.", "The installer refuses the disk: its scheme must be GUID.")},
	}}
}
