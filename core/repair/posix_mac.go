package repair

import (
	"fmt"

	"latchkey/core/command"
	"latchkey/core/disk"
	"latchkey/core/mac"
	"latchkey/core/machine"
)

// findMac finds the clone by the GUID of its system's partition and by its
// capacity. The maker's manual page diskutil(8): info takes a partition's UUID.
func findMac(d *machine.Drive) []Command {
	i, _ := mac.VolumeOf(d)
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

// inRecovery begins a step in a Mac's recovery, in its terminal.
func inRecovery(m machine.Machine, d *machine.Drive) []Command {
	return append([]Command{{ByHand: true, Text: mac.KindOf(m).Recover + ". In the menu under Utilities: Terminal.", Good: "A prompt.", Bad: "The recovery does not come up: hold Option, Command and R, and be on a network."}}, findMac(d)...)
}
