package repair

import (
	_ "embed" // the routines of the batch files
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/startup"
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
func findInWindows(d *startup.Drive) []Command {
	id := diskpartID(d)
	size := int64(d.Contents.Layout.Sectors) * int64(d.Contents.Layout.SectorSize)
	shown := shownByDiskpart(size)
	return []Command{{
		Text:  fmt.Sprintf("call :find \"%s\" \"%s\"\r\nif errorlevel 1 (echo The %s, %s, identifier %s, is not here, or there are two of it: stop.& exit /b 1)\r\necho The %s is disk %%CLONE%%", id, shown, d.Role, disk.Binary(size), id, d.Role),
		Typed: inDiskpart("list disk", "select disk …", "uniqueid disk"),
		Good:  fmt.Sprintf("One disk of %sB, and its identifier is %s: that is the %s.", shown, id, d.Role), Bad: "Do not go on. Unplug the original and look again: list disk in diskpart."}}
}

// diskpartID is a disk's identifier as uniqueid prints it: a GUID in braces, or
// eight hexadecimal digits; "" when it is not known.
func diskpartID(d *startup.Drive) string {
	id, known := d.Contents.Layout.DiskID().Get()
	switch {
	case !known:
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

// findPart sets PART to the number that diskpart gives a partition, found by where
// it begins: tools count partitions differently.
func findPart(offset uint64) string {
	return fmt.Sprintf("call :part %d\r\nif errorlevel 1 (echo No partition of the clone begins at byte %d: stop.& exit /b 1)\r\n", offset, offset)
}

// onPart runs lines of a diskpart script on a partition of the clone.
func onPart(d *startup.Drive, p disk.Partition, good string, lines ...string) Command {
	offset := p.Start * uint64(d.Contents.Layout.SectorSize)
	c := diskpart(good, append([]string{"select partition %PART%"}, lines...)...)
	c.Text = findPart(offset) + c.Text
	c.Typed = inDiskpart(append([]string{"select disk …", "list partition", "select partition …", "detail partition"}, lines...)...)
	c.Good = fmt.Sprintf("The offset in bytes is %d, before you go on. Then: %s", offset, good)
	c.Bad = "Another offset: it is another partition, or the disk has changed since it was looked at; take a new capture. " + c.Bad
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
		cmds = append(cmds, Command{Text: fmt.Sprintf(`%s \\.\PhysicalDrive%%CLONE%% --sectors %d+%d -o %s`, captureProgram(a), s.First, s.Count, kept(action, s, "lkcap")),
			Typed: fmt.Sprintf(`%s \\.\PhysicalDrive… --sectors %d+%d -o %s`, captureProgram(a), s.First, s.Count, kept(action, s, "lkcap")),
			Good:  "The file's name, and how much it holds. It lies in the folder you are in: let that be one on a stick.", Bad: "Not recognised: copy the program into the folder you are in; it is offered for download beside the plan. Without a copy do not go on."})
	}
	return cmds
}

func putBackWindows(d *startup.Drive, a firmware.Arch, action string, saves []Sectors) []Command {
	if len(saves) == 0 {
		return nil
	}
	cmds := []Command{{ByHand: true, Text: fmt.Sprintf("In diskpart, list disk: find the %s by its capacity, %sB, and put its number in the place of N.", d.Role, shownByDiskpart(int64(d.Contents.Layout.Sectors)*int64(d.Contents.Layout.SectorSize))),
		Good: "One disk has that capacity.", Bad: "Unplug the other one."}}
	for _, s := range saves {
		cmds = append(cmds, Command{Text: fmt.Sprintf(`%s put-back %s \\.\PhysicalDriveN`, captureProgram(a), kept(action, s, "lkcap")),
			Good: "Put back, and read again: the same bytes.", Bad: "Access denied: the sectors lie in a volume that is in use. Give it no letter, or put them back in a live Linux."})
	}
	return cmds
}

// inDiskpart is what is typed into it; the dots stand for the numbers that were
// found before.
func inDiskpart(lines ...string) string {
	return "diskpart\n" + strings.Join(lines, "\n") + "\nexit"
}

// diskpart runs a script on the clone.
func diskpart(good string, lines ...string) Command {
	// The redirection stands first, so that no number at a line's end is taken for a
	// stream's.
	text := ">\"%TEMP%\\ask.txt\" echo select disk %CLONE%\r\n"
	for _, l := range lines {
		text += ">>\"%TEMP%\\ask.txt\" echo " + l + "\r\n"
	}
	text += `diskpart /s "%TEMP%\ask.txt"`
	typed := []string{"select disk …"}
	for _, l := range lines {
		typed = append(typed, strings.ReplaceAll(l, "%PART%", "…"))
	}
	return Command{Text: text, Typed: inDiskpart(typed...), Good: good, Bad: "Read the message; nothing after it was done."}
}

func typeDiskpart(d *startup.Drive, p disk.Partition) []Command {
	return []Command{onPart(d, p, "DiskPart successfully set the partition ID.", "set id="+strings.ToLower(strings.Trim(disk.TypeESP.String(), "{}")))}
}

func activeDiskpart(d *startup.Drive, p disk.Partition) []Command {
	var cmds []Command
	for _, q := range d.Contents.Layout.Partitions {
		if q.Active && q.Number != p.Number && !q.Logical {
			cmds = append(cmds, onPart(d, q, "DiskPart marked the current partition as inactive.", "inactive"))
		}
	}
	return append(cmds, onPart(d, p, "DiskPart marked the current partition as active.", "active"))
}

// createDiskpart puts the new partition at the very place that was simulated.
func createDiskpart(d *startup.Drive, start uint64, shrunk int) []Command {
	size := uint64(d.Contents.Layout.SectorSize)
	var cmds []Command
	if shrunk >= 0 {
		p := d.Contents.Layout.Partitions[shrunk]
		less := ((p.End()-start)*size + 1<<20 - 1) >> 20 // MiB
		cmds = append(cmds, onPart(d, p, "DiskPart successfully shrunk the volume.", fmt.Sprintf("shrink desired=%d minimum=%d", less, less)))
	}
	return append(cmds, diskpart("DiskPart succeeded in creating the specified partition; 100 percent completed.", fmt.Sprintf("create partition efi size=%d offset=%d", espMiB, start*size/1024), "format quick fs=fat32 label=SYSTEM"))
}

func formatDiskpart(d *startup.Drive, p disk.Partition) []Command {
	return []Command{onPart(d, p, "100 percent completed; DiskPart successfully formatted the volume.", "format quick fs=fat32 label=SYSTEM")}
}

// lettered gives partitions of the clone letters around commands: S to the boot
// partition and W to the system's.
func lettered(d *startup.Drive, boot, system int, cmds ...Command) []Command {
	parts := d.Contents.Layout.Partitions
	before := []Command{onPart(d, parts[boot], "DiskPart successfully assigned the drive letter.", "assign letter=S")}
	after := []string{"select volume S", "remove letter=S"}
	if system >= 0 && system != boot {
		before = append(before, onPart(d, parts[system], "DiskPart successfully assigned the drive letter.", "assign letter=W"))
		after = append(after, "select volume W", "remove letter=W")
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

func windowsFilesCommands(d *startup.Drive, boot, system int, mode firmware.Mode) []Command {
	form, store, letter := "UEFI", storeOf(mode), letterOf(boot, system)
	if mode == firmware.Legacy {
		form = "BIOS"
	}
	cmds := []Command{
		{Typed: fmt.Sprintf("attrib -h -s -r %s\nmove /y %s %s.bak", store, store, store), Text: fmt.Sprintf("if exist %s (\r\n  attrib -h -s -r %s\r\n  move /y %s %s.bak\r\n)", store, store, store, store), Good: "1 file(s) moved; or no answer, where there is no store.", Bad: "The partition cannot be written to: mark the step as failed."},
		{Text: fmt.Sprintf(`bcdboot %s:\Windows /s S: /f %s`, letter, form), Good: "Boot files successfully created.", Bad: "Failure when attempting to copy boot files: check that S: is the boot partition and " + letter + ": holds Windows."}}
	if mode == firmware.Legacy {
		cmds = append(cmds, bootsect)
	}
	return lettered(d, boot, system, cmds...)
}

var bootsect = Command{Text: `bootsect /nt60 S: /mbr /force`, Good: "Bootcode was successfully updated on all targeted volumes.", Bad: "Not recognised: it lies on the installer stick, in its folder boot."}

func bootsectCommands(d *startup.Drive, active int) []Command {
	return lettered(d, active, -1, bootsect)
}

// referencesCommands point the store at the clone, and leave its other settings.
func referencesCommands(d *startup.Drive, boot, system int, mode firmware.Mode) []Command {
	store, letter := storeOf(mode), letterOf(boot, system)
	set := func(object, element, value string) Command {
		return Command{Text: fmt.Sprintf(`bcdedit /store %s /set %s %s %s`, store, object, element, value), Good: "The operation completed successfully.", Bad: "The store cannot be opened, or has no such entry: mark the step as failed, and make it anew."}
	}
	return lettered(d, boot, system,
		Command{Text: fmt.Sprintf(`bcdedit /store %s /export "%%TEMP%%\BCD.bak" && copy /y "%%TEMP%%\BCD.bak" %s.bak`, store, store), Good: "The operation completed successfully; 1 file(s) copied.", Bad: "The store is damaged: mark the step as failed, and make it anew."},
		set("{bootmgr}", "device", "partition=S:"),
		set("{default}", "device", "partition="+letter+":"),
		set("{default}", "osdevice", "partition="+letter+":"))
}

func fallbackDiskpart(d *startup.Drive, i int, from, to string) []Command {
	return lettered(d, i, -1,
		Command{Text: fmt.Sprintf("if not exist S:%s mkdir S:%s\r\nif exist S:%s copy /y S:%s S:%s.bak", to[:strings.LastIndexByte(to, '\\')], to[:strings.LastIndexByte(to, '\\')], to, to, to), Good: "No answer, or: 1 file(s) copied.", Bad: "The partition cannot be written to: mark the step as failed."},
		Command{Text: fmt.Sprintf(`copy /y S:%s S:%s`, from, to), Good: "1 file(s) copied.", Bad: "No space left: delete what is not of the start."})
}

func convertCommands() []Command {
	return []Command{
		{Text: `mbr2gpt /validate /disk:%CLONE%`, Good: "Validation completed successfully.", Bad: "It says what stands in the way; nothing was changed."},
		{Text: `mbr2gpt /convert /disk:%CLONE%`, Good: "Conversion completed successfully.", Bad: "Read the message, take a new capture, and have the plan made anew; if nothing is left, copy again from the original."}}
}

func safeStartCommands(m startup.Machine) []Command {
	const done = "The operation completed successfully."
	cmds := []Command{}
	if boot, _, mode, ok := windowsPlace(m); ok {
		cmds = lettered(clone(m), boot, -1, Command{Text: fmt.Sprintf(`bcdedit /store %s /set {default} safeboot minimal`, storeOf(mode)), Good: done, Bad: "The store cannot be opened: make it anew first."})
	}
	return append(cmds,
		Command{ByHand: true, Text: "Start the machine once: it comes up in safe mode and loads the driver.", Good: "Safe mode stands in the corners of the screen.", Bad: "Still 0x7B: set the controller's mode back, or copy the drive's driver in with dism."},
		Command{ByHand: true, Text: "Then, in a command prompt as administrator: bcdedit /deletevalue {default} safeboot", Good: done, Bad: "It goes on starting in safe mode: give it again, as administrator."})
}

func checkDiskCommands(d *startup.Drive, i int) []Command {
	return lettered(d, i, -1, Command{Text: "chkdsk S: /f", Good: "No problems found, or: made corrections.", Bad: "Copy again from the original."})
}
