package repair

import (
	"fmt"
	"strings"

	"latchkey/core/command"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

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

// convertCommands suspend the protection of an encrypted system, as the converter demands. Of other
// encrypted partitions its validation tells. Documentation of Windows' maker, MBR2GPT.EXE,
// "Prerequisites" and its questions and answers.
func convertCommands(d *machine.Drive, system int) []Command {
	var cmds []Command
	if d.Contents.Volumes[system].Kind == volume.KindBitLocker {
		cmds = lettered(d, system, -1, batch("Key protectors are disabled for volume S:.", "The volume is locked yet: unlock it with its recovery key first.",
			command.Run("manage-bde", "-protectors", "-disable", "S:")))
	}
	convert := func(what, good, bad string) Command {
		c := batch(good, bad, command.Run("mbr2gpt", what, command.Join("/disk:", numberOfDisk)))
		c.Typed = "mbr2gpt " + what + " /disk:…"
		return c
	}
	return append(cmds,
		convert("/validate", "Validation completed successfully.", "It says what stands in the way; nothing was changed."),
		convert("/convert", "Conversion completed successfully.", "Read the message, take a new capture, and have the plan made anew; if nothing is left, copy again from the original."))
}

func checkDiskCommands(d *machine.Drive, i int) []Command {
	return lettered(d, i, -1, batch("No problems found, or: made corrections.", "Copy again from the original.", command.Run("chkdsk", "S:", "/f")))
}
