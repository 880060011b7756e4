package repair

import (
	_ "embed" // the routines of the batch files
	"fmt"
	"strings"

	"latchkey/core/command"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
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

// findInWindows sets CLONE to the number that the recovery environment gives the
// drive, found by its identifier and capacity, and stops when it is not there or
// not alone.
func findInWindows(d *machine.Drive) []Command {
	id, size := diskpartID(d), d.Contents.Layout.Bytes()
	shown := shownByDiskpart(size)
	c := batch(fmt.Sprintf("One disk of %sB, and its identifier is %s: that is the %s.", shown, id, d.Role), "Do not go on. Unplug the original and look again: list disk in diskpart.",
		command.Run("call", ":find", id, shown),
		command.Stop(fmt.Sprintf("The %s, %s, identifier %s, is not here, or there are two of it: stop.", d.Role, disk.Binary(size), id)),
		command.Say(fmt.Sprintf("The %s is disk", d.Role), numberOfClone))
	c.Typed = inDiskpart("list disk", "select disk …", "uniqueid disk")
	return []Command{c}
}

// The numbers that the routines find.
var (
	numberOfClone = command.Var("CLONE")
	numberOfPart  = command.Var("PART")
)

// diskpartID is a disk's identifier as uniqueid prints it: a GUID in braces, or
// eight hexadecimal digits; "" when it is not known.
func diskpartID(d *machine.Drive) string {
	id, known := d.Contents.Layout.DiskID().Get()
	switch {
	case !known || !disk.IsID(id):
		return ""
	case d.Contents.Layout.Style == disk.StyleGPT:
		return "{" + strings.ToUpper(strings.Trim(id, "{}")) + "}"
	}
	return strings.ToUpper(id)
}

// shownByDiskpart is a capacity as list disk shows it, without its last letter,
// which differs by language; from memory.
func shownByDiskpart(size int64) string {
	for i, unit := range []string{"K", "M", "G", "T"} {
		if n := size >> (10 * (i + 1)); n < 10240 || unit == "T" {
			return fmt.Sprintf("%d %s", n, unit)
		}
	}
	return ""
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
		c := batch("The file's name, and how much it holds. It lies in the folder you are in: let that be one on a stick.", "Not recognised: copy the program into the folder you are in; it is offered for download beside the plan. Without a copy do not go on.",
			command.Run(captureProgram(a), command.Join(`\\.\PhysicalDrive`, numberOfClone), "--sectors", sectors, "-o", file))
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
	return command.Ask(command.Run("diskpart", "/s", file), file, append([][]any{{"select disk", numberOfClone}}, lines...)...)
}

func diskpart(good string, lines ...[]any) Command {
	c := batch(good, unread, askDiskpart(lines...))
	c.Typed = inDiskpart(append([]string{"select disk …"}, typed(lines)...)...)
	return c
}

// say is a line of a diskpart script.
func say(words ...any) []any { return words }

func typeDiskpart(d *machine.Drive, p disk.Partition) []Command {
	return []Command{onPart(d, p, "DiskPart successfully set the partition ID.", say("set id="+strings.ToLower(strings.Trim(disk.TypeESP.String(), "{}"))))}
}

func activeDiskpart(d *machine.Drive, p disk.Partition) []Command {
	var cmds []Command
	for _, q := range d.Contents.Layout.Partitions {
		if q.Active && q.Number != p.Number && !q.Logical {
			cmds = append(cmds, onPart(d, q, "DiskPart marked the current partition as inactive.", say("inactive")))
		}
	}
	return append(cmds, onPart(d, p, "DiskPart marked the current partition as active.", say("active")))
}

// createDiskpart puts the new partition at the very place that was simulated.
func createDiskpart(d *machine.Drive, start uint64, shrunk int) []Command {
	size := uint64(d.Contents.Layout.SectorSize)
	var cmds []Command
	if shrunk >= 0 {
		p := d.Contents.Layout.Partitions[shrunk]
		less := ((p.End()-start)*size + 1<<20 - 1) >> 20 // MiB
		cmds = append(cmds, onPart(d, p, "DiskPart successfully shrunk the volume.", say(fmt.Sprintf("shrink desired=%d minimum=%d", less, less))))
	}
	return append(cmds, diskpart("DiskPart succeeded in creating the specified partition; 100 percent completed.", say(fmt.Sprintf("create partition efi size=%d offset=%d", espMiB, start*size/1024)), formatted32))
}

func formatDiskpart(d *machine.Drive, p disk.Partition) []Command {
	return []Command{onPart(d, p, "100 percent completed; DiskPart successfully formatted the volume.", formatted32)}
}

var formatted32 = say("format quick fs=fat32 label=SYSTEM")

// lettered gives partitions of the clone letters around commands: S to the boot
// partition and W to the system's.
func lettered(d *machine.Drive, boot, system int, cmds ...Command) []Command {
	parts := d.Contents.Layout.Partitions
	before := []Command{onPart(d, parts[boot], "DiskPart successfully assigned the drive letter.", say("assign letter=S"))}
	after := [][]any{say("select volume S"), say("remove letter=S")}
	if system >= 0 && system != boot {
		before = append(before, onPart(d, parts[system], "DiskPart successfully assigned the drive letter.", say("assign letter=W")))
		after = append(after, say("select volume W"), say("remove letter=W"))
	}
	return append(append(before, cmds...), diskpart("DiskPart successfully removed the drive letter.", after...))
}

// letterOf is the letter that lettered gives the system's partition.
func letterOf(boot, system int) string {
	if boot == system {
		return "S"
	}
	return "W"
}

func storeOf(mode firmware.Mode) string { return "S:" + loader.StorePath(mode) }

func windowsFilesCommands(d *machine.Drive, boot, system int, mode firmware.Mode) []Command {
	form, store, letter := "UEFI", storeOf(mode), letterOf(boot, system)
	if mode == firmware.Legacy {
		form = "BIOS"
	}
	away := batch("1 file(s) moved; or no answer, where there is no store.", "The partition cannot be written to: mark the step as failed.",
		command.If(command.Text(store), command.Run("attrib", "-h", "-s", "-r", store), command.Run("move", "/y", store, store+".bak")))
	away.Typed = fmt.Sprintf("attrib -h -s -r %s\nmove /y %s %s.bak", store, store, store)
	cmds := []Command{away, batch("Boot files successfully created.", "Failure when attempting to copy boot files: check that S: is the boot partition and "+letter+": holds Windows.",
		command.Run("bcdboot", letter+`:\Windows`, "/s", "S:", "/f", form))}
	if mode == firmware.Legacy {
		cmds = append(cmds, bootsect())
	}
	return lettered(d, boot, system, cmds...)
}

func bootsect() Command {
	return batch("Bootcode was successfully updated on all targeted volumes.", "Not recognised: it lies on the installer stick, in its folder boot.", command.Run("bootsect", "/nt60", "S:", "/mbr", "/force"))
}

func bootsectCommands(d *machine.Drive, active int) []Command {
	return lettered(d, active, -1, bootsect())
}

// succeeded is what bcdedit says.
const succeeded = "The operation completed successfully."

// referencesCommands point the store at the clone, and leave its other settings.
func referencesCommands(d *machine.Drive, boot, system int, mode firmware.Mode) []Command {
	store, letter := storeOf(mode), letterOf(boot, system)
	kept := command.Join(command.Var("TEMP"), `\BCD.bak`)
	set := func(object, element, value string) Command {
		return batch(succeeded, "The store cannot be opened, or has no such entry: mark the step as failed, and make it anew.", command.Run("bcdedit", "/store", store, "/set", object, element, value))
	}
	const damaged = "The store is damaged: mark the step as failed, and make it anew."
	return lettered(d, boot, system,
		batch(succeeded, damaged, command.Run("bcdedit", "/store", store, "/export", kept)),
		batch("1 file(s) copied.", damaged, command.Run("copy", "/y", kept, store+".bak")),
		set("{bootmgr}", "device", "partition=S:"),
		set("{default}", "device", "partition="+letter+":"),
		set("{default}", "osdevice", "partition="+letter+":"))
}

func fallbackDiskpart(d *machine.Drive, i int, from, to string) []Command {
	target := "S:" + to
	folder := command.Text(target[:strings.LastIndexByte(target, '\\')])
	return lettered(d, i, -1,
		batch("No answer, or: 1 file(s) copied.", "The partition cannot be written to: mark the step as failed.",
			command.Unless(folder, command.Run("mkdir", folder)), command.If(command.Text(target), command.Run("copy", "/y", target, target+".bak"))),
		batch("1 file(s) copied.", "No space left: delete what is not of the start.", command.Run("copy", "/y", "S:"+from, target)))
}

func convertCommands() []Command {
	disk := command.Join("/disk:", numberOfClone)
	return []Command{
		batch("Validation completed successfully.", "It says what stands in the way; nothing was changed.", command.Run("mbr2gpt", "/validate", disk)),
		batch("Conversion completed successfully.", "Read the message, take a new capture, and have the plan made anew; if nothing is left, copy again from the original.", command.Run("mbr2gpt", "/convert", disk))}
}

func safeStartCommands(m machine.Machine) []Command {
	cmds := []Command{}
	if boot, _, mode, ok := windowsPlace(m); ok {
		cmds = lettered(clone(m), boot, -1, batch(succeeded, "The store cannot be opened: make it anew first.", command.Run("bcdedit", "/store", storeOf(mode), "/set", "{default}", "safeboot", "minimal")))
	}
	return append(cmds,
		Command{ByHand: true, Text: "Start the machine once: it comes up in safe mode and loads the driver.", Good: "Safe mode stands in the corners of the screen.", Bad: "Still 0x7B: set the controller's mode back, or copy the drive's driver in with dism."},
		Command{ByHand: true, Text: "Then, in a command prompt as administrator: bcdedit /deletevalue {default} safeboot", Good: succeeded, Bad: "It goes on starting in safe mode: give it again, as administrator."})
}

func checkDiskCommands(d *machine.Drive, i int) []Command {
	return lettered(d, i, -1, batch("No problems found, or: made corrections.", "Copy again from the original.", command.Run("chkdsk", "S:", "/f")))
}
