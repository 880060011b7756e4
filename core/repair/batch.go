package repair

import (
	_ "embed"
	"fmt"
	"strings"

	"latchkey/core/command"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/machine"
)

// The commands for Windows' recovery environment are lines of a batch file, which
// ends in the routines that they call; each has a form for typing by hand. They use
// nothing but what is built into it, the tool that saves sectors aside: it has none
// of its own. Answers are never looked for by words, which differ by language.

// recoveryRoutines find a disk by its identifier and size, and a partition by
// where it begins.
//
//go:embed recovery.cmd
var recoveryRoutines string

// findInWindows sets DISK to the number that the recovery environment gives the
// drive, found by its identifier and capacity, and stops when it is not there or
// not alone.
func findInWindows(d *machine.Drive) []Command {
	id, size := diskpartID(d), d.Contents.Layout.Bytes()
	shown := shownByDiskpart(size)
	c := batch(fmt.Sprintf("One disk of %sB, and its identifier is %s: that is the %s.", shown, id, d.Role), "Do not go on. Unplug the original and look again: list disk in diskpart.",
		command.Run("call", ":find", id, shown),
		command.Stop(fmt.Sprintf("The %s, %s, identifier %s, is not here, or there are two of it: stop.", d.Role, disk.Binary(size), id)),
		command.Say(fmt.Sprintf("The %s is disk", d.Role), numberOfDisk))
	c.Typed = inDiskpart("list disk", "select disk …", "uniqueid disk")
	return []Command{c}
}

// onPart runs lines of a diskpart script on a partition of the clone, found by
// where it begins: tools count partitions differently.
func onPart(d *machine.Drive, p disk.Partition, good string, lines ...[]any) Command {
	offset := p.Start * uint64(d.Contents.Layout.SectorSize)
	c := batch(fmt.Sprintf("The offset in bytes is %d, before you go on. Then: %s", offset, good),
		"Another offset: it is another partition, or the disk has changed since it was looked at; take a new capture. "+unread,
		command.Run("call", ":part", offset), command.Stop(fmt.Sprintf("No partition of the clone begins at byte %d: stop.", offset)),
		askDiskpart(append([][]any{{"select partition", numberOfPart}}, lines...)...))
	c.Typed = inDiskpart(append([]string{"select disk …", "list partition", "select partition …", "detail partition"}, typed(lines)...)...)
	return c
}

// captureProgram is the capture command's build for a machine.
func captureProgram(a firmware.Arch) string {
	if a == firmware.ARM64 {
		return "latchkey-capture-windows-arm64"
	}
	return "latchkey-capture-windows-amd64"
}

// saveWindows keeps sectors with the capture command, which lies beside the batch
// file.
func saveWindows(a firmware.Arch, action string, saves []Sectors) []Command {
	var cmds []Command
	for _, s := range saves {
		sectors, file := fmt.Sprintf("%d+%d", s.First, s.Count), kept(action, s, "lkcap")
		c := batch("The file's name, and how much it holds. It lies in the folder you are in: let that be one on a stick.", "Not recognised: copy the program into the folder you are in; it is offered for download beside the plan. It ends with an error of its own: this is the recovery of Windows 7 or 8, where it does not run; start a stick of a later one. Without a copy do not go on.",
			command.Run(captureProgram(a), command.Join(`\\.\PhysicalDrive`, numberOfDisk), "--sectors", sectors, "-o", file))
		c.Typed = captureProgram(a) + ` \\.\PhysicalDrive… --sectors ` + sectors + " -o " + file
		cmds = append(cmds, c)
	}
	return cmds
}

func putBackWindows(d *machine.Drive, a firmware.Arch, action string, saves []Sectors) []Command {
	if len(saves) == 0 {
		return nil
	}
	cmds := []Command{{ByHand: true, Text: fmt.Sprintf("In diskpart, list disk: find the %s by its capacity, %sB, and put its number in the place of N.", d.Role, shownByDiskpart(d.Contents.Layout.Bytes())),
		Good: "One disk has that capacity.", Bad: "Unplug the other one."}}
	for _, s := range saves {
		cmds = append(cmds, batch("Put back, and read again: the same bytes.", "Access denied: the sectors lie in a volume that is in use. Give it no letter, or put them back in a live Linux.",
			command.Run(captureProgram(a), "put-back", kept(action, s, "lkcap"), `\\.\PhysicalDriveN`)))
	}
	return cmds
}

// inDiskpart is what is typed into it; the dots stand for the numbers that were
// found before.
func inDiskpart(lines ...string) string {
	return "diskpart\n" + strings.Join(lines, "\n") + "\nexit"
}

// typed are lines of a diskpart script as they are typed.
func typed(lines [][]any) []string {
	var out []string
	for _, l := range lines {
		var words []string
		for _, w := range l {
			if text, ok := w.(string); ok {
				words = append(words, text)
			} else {
				words = append(words, "…")
			}
		}
		out = append(out, strings.Join(words, " "))
	}
	return out
}

// unread is what to do when a command of diskpart answers otherwise.
const unread = "Read the message; nothing after it was done."

// askDiskpart runs a script on the clone.
func askDiskpart(lines ...[]any) command.Line {
	file := command.Join(command.Var("TEMP"), `\ask.txt`)
	return command.Ask(command.Run("diskpart", "/s", file), file, append([][]any{{"select disk", numberOfDisk}}, lines...)...)
}

func diskpart(good string, lines ...[]any) Command {
	c := batch(good, unread, askDiskpart(lines...))
	c.Typed = inDiskpart(append([]string{"select disk …"}, typed(lines)...)...)
	return c
}

// say is a line of a diskpart script.
func say(words ...any) []any { return words }

// The numbers that the routines find.
var (
	numberOfDisk = command.Var("DISK")
	numberOfPart = command.Var("PART")
)
