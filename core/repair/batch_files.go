package repair

import (
	"fmt"
	"strings"

	"latchkey/core/command"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// lettered gives partitions of the clone letters around commands: S to the boot
// partition and W to the system's.
func lettered(d *machine.Drive, boot, system int, cmds ...Command) []Command {
	parts := d.Contents.Layout.Partitions
	before := []Command{onPart(d, parts[boot], "DiskPart successfully assigned the drive letter.", say("assign letter=S"))}
	after := [][]any{say("select volume S"), say("remove letter=S")}
	before = append(before, unlocked(d, boot, "S")...)
	if system >= 0 && system != boot {
		before = append(before, onPart(d, parts[system], "DiskPart successfully assigned the drive letter.", say("assign letter=W")))
		before = append(before, unlocked(d, system, "W")...)
		after = append(after, say("select volume W"), say("remove letter=W"))
	}
	return append(append(before, cmds...), diskpart("DiskPart successfully removed the drive letter.", after...))
}

// unlocked opens an encrypted partition that has a letter, where the recovery environment has not
// done so already: nothing on it is to be seen before. The options are documented by the tool's maker.
func unlocked(d *machine.Drive, i int, letter string) []Command {
	if d.Contents.Volumes[i].Kind != volume.KindBitLocker {
		return nil
	}
	seen := command.Text(letter + `:\Windows`)
	unlock := batch("The password successfully unlocked the volume; or no answer, where it was unlocked already.",
		"Without the recovery key nothing on the partition can be reached: put the original back, and look for the key in the owner's account, on a printout or in the directory service.",
		command.Unless(seen, command.Prompt("The recovery key of the partition with Windows, 48 digits with hyphens:")),
		command.Unless(seen, command.Run("manage-bde", "-unlock", letter+":", "-RecoveryPassword", command.Var(command.Typed))),
		command.Stop("It is locked yet: stop. Without the recovery key nothing on it can be reached."))
	unlock.Typed = fmt.Sprintf("manage-bde -unlock %s: -RecoveryPassword the-recovery-key", letter)
	return []Command{unlock}
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
	cmds := []Command{away, batch("Boot files successfully created.", "Failure when attempting to copy boot files: check that S: is the boot partition and "+letter+": holds Windows. An option that it does not know: this is Windows 7's recovery; use a stick of a later one.",
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
	cmds := []Command{
		batch(succeeded, damaged, command.Run("bcdedit", "/store", store, "/export", kept)),
		batch("1 file(s) copied.", damaged, command.Run("copy", "/y", kept, store+".bak")),
		set("{bootmgr}", "device", "partition=S:"),
		set("{default}", "device", "partition="+letter+":"),
		set("{default}", "osdevice", "partition="+letter+":")}
	if of, ok := d.Contents.StoreOn(boot, mode); ok {
		resume, test := of.Beside()
		if resume != nil {
			cmds = append(cmds, set(resume.ID, "device", "partition="+letter+":"))
			if _, there := resume.Element(loader.ElementOSDevice); there {
				cmds = append(cmds, set(resume.ID, "filedevice", "partition="+letter+":"))
			}
		}
		if test != nil {
			cmds = append(cmds, set("{memdiag}", "device", "partition=S:"))
		}
	}
	return lettered(d, boot, system, cmds...)
}

func fallbackDiskpart(d *machine.Drive, i int, copies []copied) []Command {
	var cmds []Command
	for _, c := range copies {
		target := "S:" + c.to
		folder := command.Text(target[:strings.LastIndexByte(target, '\\')])
		cmds = append(cmds, batch("No answer, or: 1 file(s) copied.", "The partition cannot be written to: mark the step as failed.",
			command.Unless(folder, command.Run("mkdir", folder)),
			command.If(command.Text(target), command.Run("copy", "/y", target, target+".bak"))),
			batch("1 file(s) copied.", "No space left: delete what is not of the start.", command.Run("copy", "/y", "S:"+c.from, target)))
	}
	return lettered(d, i, -1, cmds...)
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

// driverCommands set a driver's start type in the registry of the system on the clone.
func driverCommands(d *machine.Drive, system int, control, name string, s loader.Service) []Command {
	file := "S:" + machine.SystemHive
	key := `HKLM\LatchkeySystem\` + control + `\Services\` + name
	const refused = "The file cannot be loaded or written to: mark the step as failed."
	cmds := []Command{
		batch("1 file(s) copied.", refused, command.Run("copy", "/y", file, file+".bak")),
		batch(succeeded, refused, command.Run("reg", "load", `HKLM\LatchkeySystem`, file)),
		batch(succeeded, refused, command.Run("reg", "add", key, "/v", "Start", "/t", "REG_DWORD", "/d", "0", "/f")),
	}
	if s.Override != 0 {
		cmds = append(cmds, batch(succeeded, refused, command.Run("reg", "delete", key+`\StartOverride`, "/f")))
	}
	cmds = append(cmds, batch(succeeded, "Still in use: close every window that looks into it, and give it again.", command.Run("reg", "unload", `HKLM\LatchkeySystem`)))
	return lettered(d, system, -1, cmds...)
}
