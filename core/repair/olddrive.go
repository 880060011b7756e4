package repair

import (
	"fmt"
	"strings"

	"latchkey/core/command"
	"latchkey/core/disk"
	"latchkey/core/machine"
)

// Fate is what becomes of the old drive.
type Fate string

// What becomes of it.
const (
	FateData  Fate = "data"  // a drive for data
	FateWiped Fate = "wiped" // every sector overwritten
	// Imaged is what comes before: everything on it copied into a file.
	Imaged Fate = "image"
)

// System is the system that runs from the clone, or a live one, in which work is done
// that is no repair.
type System string

// The systems that commands are rendered for.
const (
	InWindows System = "windows"
	InLinux   System = "linux"
)

// Work is what is done in a running system, with its commands and the same as a script.
type Work struct {
	System   System    `json:"system" enum:"windows,linux"`
	Shell    Shell     `json:"shell" enum:"posix,batch"`
	Commands []Command `json:"commands"`
	PutBack  []Command `json:"putBack,omitempty"` // puts back what was saved before
	Script   string    `json:"script"`
}

// Release renders what makes the old drive a data drive, or wipes it. Its commands find
// the drive by capacity, by identifier and by serial number as far as they are known, and
// stop where the running system has anything of it in use. why says why there are none.
func Release(m machine.Machine, serial string, f Fate, s System) (w Work, why string) {
	old, new := original(m), clone(m)
	switch {
	case old == nil:
		return Work{}, "The old drive's own sectors are not in evidence: no command could tell it from another. Take a capture of it."
	case serial == "" && (new == nil || new.Contents == nil || !toldApart(old, new)):
		return Work{}, "Capacity and identifier do not tell the old drive from the clone. Type the serial number from the old drive's label: the commands then look for it."
	case s == InWindows && f == Imaged:
		return Work{}, "Windows has no command that copies a whole drive into a file: take a live Linux."
	case s == InWindows && diskpartID(old) == "":
		return Work{}, "The old drive's identifier is not known: Windows' commands cannot tell it. Take a live Linux."
	}
	w = Work{System: s, Shell: shells[map[System]Toolbox{InLinux: Linux, InWindows: WindowsRecovery}[s]]}
	if s == InLinux {
		w.Commands = releaseInLinux(old, serial, f, m)
	} else {
		w.Commands = releaseInWindows(old, serial, f)
	}
	remark := fmt.Sprintf("The old drive: %s. Everything on it is lost.", f)
	if f == Imaged {
		remark = "The old drive, copied into a file. It is only read."
	}
	w.Script = scriptOf(w.Commands, w.Shell, remark)
	return w, ""
}

// scriptOf is commands as a file to run.
func scriptOf(commands []Command, shell Shell, remark string) string {
	form := scriptForms[shell]
	var b strings.Builder
	b.WriteString(form.begin + command.Comment(remark, shell == Batch) + form.end)
	for _, c := range commands {
		b.WriteString(form.command(c))
	}
	b.WriteString(form.routines)
	return b.String()
}

var onOld = command.Var("old")

// releaseInLinux is for the Linux that runs from the clone, or a live one, as root.
func releaseInLinux(old *machine.Drive, serial string, f Fate, m machine.Machine) []Command {
	size := old.Contents.Layout.Bytes()
	id, tests := identifier(old), []command.Node{}
	if id != "" {
		tests = append(tests, equal(tableID, id))
	}
	if serial != "" {
		tests = append(tests, equal(serialNumber, serial))
	}
	const stop = "Do not go on."
	used := command.Output(command.Pipe(command.Run("lsblk", "-nro", "MOUNTPOINT", onOld), command.Run("tr", "-d", `\n `)))
	none := command.Sequence(command.Run("echo", "Something of this drive is in use, or the running system runs from it: stop."), command.Run("exit", "1"))
	cmds := []Command{
		findDrive("old", old, id, tests...),
		line(command.Either(command.Run("[", "-z", used, "]"), none), quiet, stop+" Start from the clone, with nothing of the old drive mounted."),
	}
	if f == Imaged {
		const image = "old-drive.img"
		return append(cmds,
			line(dd(command.Join("if=", onOld), "of="+image, "bs=1048576", "conv=excl,fsync", "status=progress"),
				fmt.Sprintf("%d bytes.", size)+stays, stop+" File exists: there is one already. No space left: take a larger drive."),
			line(command.Run("cmp", onOld, image), quiet+" Every byte is there.", "It names the first byte that differs: copy it once more."))
	}
	// The kernel hands a drive over whole only while nothing holds any part of it.
	cmds = append(cmds,
		line(command.Run("wipefs", "--all", onOld), "The marks of the table, erased.", stop+" Device or resource busy: the kernel has something of it in use."))
	if f == FateWiped {
		return append(cmds,
			line(dd("if=/dev/zero", command.Join("of=", onOld), "bs=1048576", command.Join("count=", size), "iflag=count_bytes", "conv=fsync", "status=progress"),
				fmt.Sprintf("%d bytes, after some hours.", size), "Input/output error: the drive is failing; have it destroyed where its data matter."),
			line(command.Run("cmp", "-n", size, onOld, "/dev/zero"), quiet+" Every byte reads as zero.", "It names the first byte that does not: run the line before once more."))
	}
	table := "label: gpt\nname=Data, type=" + disk.TypeBasicData.String() + "\n"
	format := command.Run("mkfs.ntfs", "-Q", "-L", "Data", firstOf(onOld))
	if c := clone(m); c != nil && holdsLinux(c) {
		table = "label: gpt\nname=Data, type=" + disk.TypeLinuxData.String() + "\n"
		format = command.Run("mkfs.ext4", "-L", "Data", firstOf(onOld))
	}
	return append(cmds,
		line(command.Pipe(command.Run("printf", "%s", table), command.Run("sfdisk", "--wipe", "always", "--wipe-partitions", "always", onOld)), altered, stop+" Read the message."),
		line(command.Run("udevadm", "settle"), quiet, "Wait a moment, and go on."),
		line(format, "No word of an error.", stop+" Read the message."))
}

// firstOf is the name of a drive's first partition.
func firstOf(drive command.Word) command.Word {
	return command.Join(drive, command.Output(command.Fixed("case $old in *[0-9]) echo p;; esac")), 1)
}

// releaseInWindows is for the Windows that runs from the clone, as an administrator.
// Get-Disk tells a disk's serial number and whether Windows starts or runs from it:
// MSFT_Disk, as its maker documents it.
func releaseInWindows(old *machine.Drive, serial string, f Fate) []Command {
	cmds := findInWindows(old)
	disk := func(what string) command.Word {
		return command.Join("(Get-Disk -Number ", numberOfDisk, ")"+what)
	}
	ask := func(question command.Word) command.Simple {
		return command.Run("powershell", "-NoProfile", "-Command", question)
	}
	answer := command.Join(command.Var("TEMP"), `\answer.txt`)
	// Disks of sizes that list disk shows as one are told apart by the exact number.
	size := fmt.Sprint(old.Contents.Layout.Bytes())
	exact := batch(size+", the old drive's capacity in bytes.", "Another number: it is another disk. Do not go on.",
		ask(disk(".Size")).To(answer), command.Stop("Windows does not tell the disk's size: stop."),
		command.Run("findstr", "/x", "/c:"+size, answer).To("nul"), command.Stop("The disk has another size than "+size+" bytes: stop."))
	exact.Typed = "powershell -NoProfile -Command \"Get-Disk | Format-Table Number,Size\""
	cmds = append(cmds, exact)
	if serial != "" {
		c := batch("The serial number on the old drive's label.", "Another number: it is another disk. Do not go on.",
			ask(disk(".SerialNumber.Trim()")).To(answer), command.Stop("Windows does not tell the disk's serial number: stop."),
			command.Run("findstr", "/l", "/x", "/c:"+serial, answer).To("nul"), command.Stop("The disk has another serial number than "+serial+": stop."))
		c.Typed = "powershell -NoProfile -Command \"Get-Disk | Format-Table Number,SerialNumber,Size\""
		cmds = append(cmds, c)
	}
	unused := batch("False, and False.", "True: Windows runs from this disk, or starts from it. Do not go on.",
		ask(disk(".IsBoot")).To(answer), command.Stop("Windows does not tell whether it runs from the disk: stop."),
		command.Run("findstr", "/x", "/c:False", answer).To("nul"), command.Stop("The running Windows runs from this disk: stop."),
		ask(disk(".IsSystem")).To(answer), command.Stop("Windows does not tell whether it starts from the disk: stop."),
		command.Run("findstr", "/x", "/c:False", answer).To("nul"), command.Stop("The running Windows starts from this disk: stop."))
	unused.Typed = "powershell -NoProfile -Command \"Get-Disk | Format-Table Number,IsBoot,IsSystem,Size\""
	cmds = append(cmds, unused, diskpart("It is online, and can be written.", say("attributes disk clear readonly noerr"), say("online disk noerr")))
	if f == FateWiped {
		return append(cmds, diskpart("It says that the disk is clean, after some hours.", say("clean all")))
	}
	return append(cmds, diskpart("A volume of the whole disk, empty, with a letter.", say("clean"), say("convert gpt"), say("create partition primary"),
		say("format fs=ntfs label=Data quick"), say("assign")))
}

// HideRecovery renders what takes the letter off the clone's recovery partition in the
// Windows that runs from it, and sets the type and attributes that keep Windows from
// giving it another: "Configure UEFI/GPT-based hard drive partitions" and "BIOS/MBR-based",
// as its maker documents them. i is the partition's index. The table is saved before.
func HideRecovery(m machine.Machine, i int) (w Work, why string) {
	d := clone(m)
	if d == nil || d.Contents == nil || diskpartID(d) == "" || d.Contents.Rounded {
		return Work{}, "The clone's identifier or capacity is not exactly known: no command could tell it from another."
	}
	if _, known := d.Contents.Size(); !known {
		return Work{}, "The clone's capacity is not known: take a capture of it."
	}
	p := d.Contents.Layout.Partitions[i]
	if p.Start == 0 {
		return Work{}, "Where the recovery partition begins is not known: take a capture of the clone."
	}
	hide := [][]any{say("set id=de94bba4-06d1-4d40-a16a-bfd50179d6ac override"), say("gpt attributes=0x8000000000000001")}
	if d.Contents.Layout.Style == disk.StyleMBR {
		hide = [][]any{say("set id=27 override")}
	}
	const action = "hide-recovery"
	saves := tableSectors(d.Contents)
	w = Work{System: InWindows, Shell: Batch, PutBack: putBackWindows(d, arch(m), action, saves),
		Commands: append(append(findInWindows(d), saveWindows(arch(m), action, saves)...),
			onPart(d, p, "The letter is gone from the Explorer. Restart, and look once more.", append(hide, say("remove noerr"))...))}
	w.Script = scriptOf(w.Commands, Batch, "Take the letter off the recovery partition, and hide it")
	return w, ""
}

func holdsLinux(d *machine.Drive) bool {
	_, ok := linuxOn(d)
	return ok
}
