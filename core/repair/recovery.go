package repair

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/startup"
)

// The commands for Windows' recovery environment are lines of a batch file; for
// typing them a doubled percent sign is a single one. They use nothing but what
// is built into it, the tool that saves sectors aside: it has none of its own.
// Answers are never looked for by words, which differ by language.

// ask runs lines of a diskpart script, its answer in answer.txt.
func ask(indent string, lines ...string) string {
	return indent + `(echo ` + strings.Join(lines, "& echo ") + `) > "%TEMP%\ask.txt"` + "\r\n" +
		indent + `diskpart /s "%TEMP%\ask.txt" > "%TEMP%\answer.txt"` + "\r\n"
}

// findInWindows sets CLONE to the number that the recovery environment gives the
// drive, found by its identifier and capacity, and stops when it is not there or
// not alone. The command ver makes up for the last search, which may have found
// nothing.
func findInWindows(d *startup.Drive) []Command {
	id, _ := d.Contents.Layout.DiskID().Get()
	size := int64(d.Contents.Layout.Sectors) * int64(d.Contents.Layout.SectorSize)
	shown := shownByDiskpart(size)
	text := "set CLONE=\r\nset FOUND=0\r\nfor /l %%i in (0,1,15) do (\r\n" +
		ask("  ", "select disk %%i", "uniqueid disk", "list disk") +
		"  type nul > \"%TEMP%\\line.txt\"\r\n" +
		"  for /f \"usebackq tokens=1,*\" %%a in (\"%TEMP%\\answer.txt\") do if \"%%a\"==\"*\" >\"%TEMP%\\line.txt\" echo %%b\r\n" +
		fmt.Sprintf("  find \" %s\" \"%%TEMP%%\\line.txt\" > nul\r\n", shown) +
		"  if not errorlevel 1 (\r\n" +
		fmt.Sprintf("    find /i \"%s\" \"%%TEMP%%\\answer.txt\" > nul\r\n", strings.Trim(id, "{}")) +
		"    if not errorlevel 1 (set CLONE=%%i& set /a FOUND+=1)\r\n  )\r\n)\r\n" +
		fmt.Sprintf("if not \"%%FOUND%%\"==\"1\" (echo The %s, %s, identifier %s, is not here, or there are two of it: stop.& exit /b 1)\r\n", d.Role, disk.Binary(size), id) +
		fmt.Sprintf("echo The %s is disk %%CLONE%%\r\nver > nul", d.Role)
	return []Command{{Text: text, Good: fmt.Sprintf("The %s is disk …: found by its identifier and by %sB. The lines are of a batch file: typed by hand, %%%%i is %%i.", d.Role, shown), Bad: "Do not go on. Unplug the original and look again: list disk in diskpart."}}
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

// findPart sets a name to the number that diskpart gives a partition, found by
// where it begins: tools count partitions differently.
func findPart(d *startup.Drive, name string, p disk.Partition) Command {
	offset := p.Start * uint64(d.Contents.Layout.SectorSize)
	text := "set " + name + "=\r\nfor /l %%i in (1,1,32) do (\r\n" +
		ask("  ", "select disk %CLONE%", "select partition %%i", "detail partition") +
		fmt.Sprintf("  for /f \"usebackq tokens=2 delims=:\" %%%%a in (\"%%TEMP%%\\answer.txt\") do for /f %%%%b in (\"%%%%a\") do if \"%%%%b\"==\"%d\" set %s=%%%%i\r\n)\r\n", offset, name) +
		fmt.Sprintf("if not defined %s (echo No partition of the clone begins at byte %d: stop.& exit /b 1)\r\necho It is partition %%%s%%\r\nver > nul", name, offset, name)
	return Command{Text: text, Good: fmt.Sprintf("It is partition …: the one that begins at byte %d.", offset), Bad: "The disk has changed since it was looked at: take a new capture, and have the plan made anew."}
}

// saveWindows keeps sectors with the capture command, which lies beside the batch
// file.
func saveWindows(action string, saves []Sectors) []Command {
	var cmds []Command
	for _, s := range saves {
		cmds = append(cmds, Command{Text: fmt.Sprintf(`latchkey-capture \\.\PhysicalDrive%%CLONE%% --sectors %d+%d -o %s`, s.First, s.Count, kept(action, s, "lkcap")),
			Good: "The file's name, and how much it holds. It lies in the folder you are in: let that be one on a stick.", Bad: "Not recognised: copy latchkey-capture.exe into the folder you are in. Without a copy do not go on."})
	}
	return cmds
}

func putBackWindows(d *startup.Drive, action string, saves []Sectors) []Command {
	if len(saves) == 0 {
		return nil
	}
	cmds := []Command{{ByHand: true, Text: fmt.Sprintf("In diskpart, list disk: find the %s by its capacity, %sB, and put its number in the place of N.", d.Role, shownByDiskpart(int64(d.Contents.Layout.Sectors)*int64(d.Contents.Layout.SectorSize))),
		Good: "One disk has that capacity.", Bad: "Unplug the other one."}}
	for _, s := range saves {
		cmds = append(cmds, Command{Text: fmt.Sprintf(`latchkey-capture put-back %s \\.\PhysicalDriveN`, kept(action, s, "lkcap")),
			Good: "Put back, and read again: the same bytes.", Bad: "Access denied: the sectors lie in a volume that is in use. Give it no letter, or put them back in a live Linux."})
	}
	return cmds
}

// diskpart runs a script on the clone.
func diskpart(good string, lines ...string) Command {
	var b strings.Builder
	b.WriteString("(\r\n  echo select disk %CLONE%\r\n")
	for _, l := range lines {
		b.WriteString("  echo " + l + "\r\n")
	}
	b.WriteString(") > \"%TEMP%\\repair.txt\"\r\ndiskpart /s \"%TEMP%\\repair.txt\"")
	return Command{Text: b.String(), Good: good, Bad: "Read the message; nothing after it was done."}
}

func typeDiskpart(d *startup.Drive, p disk.Partition) []Command {
	return []Command{findPart(d, "PART", p), diskpart("DiskPart successfully set the partition ID.", "select partition %PART%", "set id="+strings.ToLower(strings.Trim(disk.TypeESP.String(), "{}")))}
}

func activeDiskpart(d *startup.Drive, p disk.Partition) []Command {
	var cmds []Command
	for _, q := range d.Contents.Layout.Partitions {
		if q.Active && q.Number != p.Number && !q.Logical {
			cmds = append(cmds, findPart(d, "PART", q), diskpart("DiskPart marked the current partition as inactive.", "select partition %PART%", "inactive"))
		}
	}
	return append(cmds, findPart(d, "PART", p), diskpart("DiskPart marked the current partition as active.", "select partition %PART%", "active"))
}

func createDiskpart(d *startup.Drive, shrunk int) []Command {
	var cmds []Command
	if shrunk >= 0 {
		cmds = append(cmds, findPart(d, "PART", d.Contents.Layout.Partitions[shrunk]),
			diskpart("DiskPart successfully shrunk the volume.", "select partition %PART%", fmt.Sprintf("shrink desired=%d minimum=%d", espMiB, espMiB)))
	}
	return append(cmds, diskpart("DiskPart succeeded in creating the specified partition; 100 percent completed.", fmt.Sprintf("create partition efi size=%d", espMiB), "format quick fs=fat32 label=SYSTEM"))
}

func formatDiskpart(d *startup.Drive, p disk.Partition) []Command {
	return []Command{findPart(d, "PART", p), diskpart("100 percent completed; DiskPart successfully formatted the volume.", "select partition %PART%", "format quick fs=fat32 label=SYSTEM")}
}

// lettered gives partitions of the clone letters around commands: S to the boot
// partition and W to the system's.
func lettered(d *startup.Drive, boot, system int, cmds ...Command) []Command {
	parts := d.Contents.Layout.Partitions
	var before, after []Command
	give := func(i int, letter string) {
		before = append(before, findPart(d, "PART", parts[i]), diskpart("DiskPart successfully assigned the drive letter.", "select partition %PART%", "assign letter="+letter))
		after = append(after, findPart(d, "PART", parts[i]), diskpart("DiskPart successfully removed the drive letter.", "select partition %PART%", "remove letter="+letter))
	}
	give(boot, "S")
	if system >= 0 && system != boot {
		give(system, "W")
	}
	return append(append(before, cmds...), after...)
}

// letterOf is the letter that lettered gives the system's partition.
func letterOf(boot, system int) string {
	if boot == system {
		return "S"
	}
	return "W"
}

func storeOf(mode firmware.Mode) string {
	if mode == firmware.Legacy {
		return `S:\Boot\BCD`
	}
	return `S:\EFI\Microsoft\Boot\BCD`
}

func windowsFilesCommands(d *startup.Drive, boot, system int, mode firmware.Mode) []Command {
	form, store, letter := "UEFI", storeOf(mode), letterOf(boot, system)
	if mode == firmware.Legacy {
		form = "BIOS"
	}
	cmds := []Command{
		{Text: fmt.Sprintf("if exist %s (\r\n  attrib -h -s -r %s\r\n  move /y %s %s.bak\r\n)", store, store, store, store), Good: "1 file(s) moved; or no answer, where there is no store.", Bad: "The partition cannot be written to: mark the step as failed."},
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
	d := clone(m)
	mode := firmware.UEFI
	if isLegacy(m) {
		mode = firmware.Legacy
	}
	const done = "The operation completed successfully."
	cmds := []Command{}
	if boot := bootOf(m, d.Contents); boot >= 0 {
		cmds = lettered(d, boot, -1, Command{Text: fmt.Sprintf(`bcdedit /store %s /set {default} safeboot minimal`, storeOf(mode)), Good: done, Bad: "The store cannot be opened: make it anew first."})
	}
	return append(cmds,
		Command{ByHand: true, Text: "Start the machine once: it comes up in safe mode and loads the driver.", Good: "Safe mode stands in the corners of the screen.", Bad: "Still 0x7B: set the controller's mode back, or copy the drive's driver in with dism."},
		Command{ByHand: true, Text: "Then, in a command prompt as administrator: bcdedit /deletevalue {default} safeboot", Good: done, Bad: "It goes on starting in safe mode: give it again, as administrator."})
}

func checkDiskCommands(d *startup.Drive, i int) []Command {
	return lettered(d, i, -1, Command{Text: "chkdsk S: /f", Good: "No problems found, or: made corrections.", Bad: "Copy again from the original."})
}
