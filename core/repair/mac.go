package repair

import (
	"fmt"

	"latchkey/core/command"
	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// What a Mac's recovery can do. start-rules, stage 7; common practice, no source.

// macSystem is the partition of a Mac's system, the largest; -1 when there is none.
func macSystem(d *machine.Drive) int {
	best := -1
	if d.Contents == nil {
		return best
	}
	parts := d.Contents.Layout.Partitions
	for i := range parts {
		k := d.Contents.Volumes[i].Kind
		if (k == volume.KindAPFS || k == volume.KindHFS) && (best < 0 || parts[i].Length > parts[best].Length) {
			best = i
		}
	}
	return best
}

func macVolume(d *machine.Drive) bool { return macSystem(d) >= 0 }

func isMac(m machine.Machine) bool {
	mac, known := m.Firmware.Behaviour.Of(firmware.ReadsMacVolumes).Get()
	return known && mac
}

// findMac finds the clone by the GUID of its system's partition and by its
// capacity. The maker's manual page diskutil(8): info takes a partition's UUID.
func findMac(d *machine.Drive) []Command {
	i := macSystem(d)
	guid := d.Contents.Layout.Partitions[i].GUID.String()
	size, found := d.Contents.Layout.Bytes(), command.Var("clone")
	whole := command.Set("clone", command.Output(command.Pipe(command.Run("diskutil", "info", guid), command.Run("sed", "-n", `s/.*Part of Whole: *//p`))))
	fits := command.Pipe(command.Run("diskutil", "info", found), command.Run("grep", "-q", fmt.Sprintf("(%d Bytes)", size)))
	is := command.All(fits, command.Run("echo", command.Join("Clone: ", found)))
	none := command.Sequence(command.Run("echo", fmt.Sprintf("The clone (%s) is not here: stop.", disk.Both(size))), command.Run("exit", "1"))
	return []Command{
		line(command.Sequence(whole, command.Either(is, none)), "Clone: disk…", "Do not go on. Look in diskutil list which drives are attached; unplug the original."),
		line(command.Fixed(`diskutil list "$clone"; diskutil apfs list | grep -A 30 "$clone"`), "The volumes of the clone, with their names.", "No system's volume among them: mark the step as failed."),
	}
}

// macBless makes the system on the clone the one that the firmware starts.
func macBless(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if !isMac(m) || !macVolume(d) || m.Answers["mac-offered:"+d.Name] == "yes" {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "mac-bless", Title: "Choose the system on the clone as the start-up disk", Why: "The firmware offers only a volume whose system is blessed.", Disk: d.Name, Risk: RiskLow, Minutes: 10, Save: "Nothing: one setting of the volume changes.", Undo: "Choose the old disk again."},
		key:      "mac-bless", result: answered(m, "mac-offered:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{MacRecovery: func() []Command {
			return append(inRecovery(d), Command{ByHand: true, Text: "In the menu: Startup Disk. Choose the volume that the list showed on the clone, by its name and capacity, and restart. In the terminal the same is: bless --mount, the folder where that volume is mounted, and --setBoot.",
				Good: "The disk is offered when Option is held at power-on.", Bad: "It is not in the list: a system must be installed there; mark the step as failed."})
		}},
	}}
}

// inRecovery begins a step in a Mac's recovery, in its terminal.
func inRecovery(d *machine.Drive) []Command {
	return append([]Command{{ByHand: true, Text: "Hold Command and R at power-on. In the menu under Utilities: Terminal.", Good: "A prompt.", Bad: "The recovery does not come up: hold Option, Command and R, and be on a network."}}, findMac(d)...)
}

// macInstall installs the system on the clone, where only its files were copied.
func macInstall(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if !isMac(m) || !macVolume(d) || m.Answers["mac-installed:"+d.Name] == "yes" {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "mac-install", Title: "Install the system on the clone from the Mac's recovery", Why: "The system's volume is sealed: only its own installer makes one that starts.", Disk: d.Name, Risk: RiskReal, Minutes: 60, Save: dataCopy, Undo: "Copy again from the original."},
		key:      "mac-install", result: answered(answered(m, "mac-installed:"+d.Name, "yes"), "mac-offered:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{MacRecovery: func() []Command {
			return append(inRecovery(d), Command{ByHand: true, Text: "Leave the terminal. Reinstall the system onto the volume that the list showed on the clone, by its name and capacity; its data stay. Missing data are brought over afterwards from the original.",
				Good: "It restarts into the system on the clone.", Bad: "The installer refuses the disk: its scheme must be GUID."})
		}},
	}}
}
