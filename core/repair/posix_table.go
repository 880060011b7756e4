package repair

import (
	"encoding/base64"
	"fmt"
	"slices"

	"latchkey/core/command"
	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

func copyCommands(o *machine.Drive) []Command {
	from, to := command.Var("original"), onClone
	return []Command{findNow("original", o),
		line(command.All(command.Run("[", from, "!=", to, "]"), dd(command.Join("if=", from), command.Join("of=", to), "bs=4M", "conv=fsync")),
			"As many records out as in, and no error.", "Read errors on the original: it is failing; copy with a tool that goes on after errors, and check the file systems."),
		reread(),
		{ByHand: true, Text: "Shut down, and unplug the original before the first start.", Good: "The clone is the only drive.", Bad: "Look at the models and capacities."}}
}

// sfdisk changes the table as it stands on the disk.
func sfdisk(n command.Node, good string) []Command {
	return []Command{line(n, good, putBack), reread()}
}

const altered = "The partition table has been altered."

// restorePrimaryCommands have the tool write what it reads.
func restorePrimaryCommands() []Command {
	return sfdisk(command.Fixed(`sfdisk --dump "$clone" >clone-table.txt && sfdisk --force --no-reread "$clone" <clone-table.txt`),
		"GPT PMBR size … or: The primary GPT table is corrupt, but the backup appears OK; then: "+altered)
}

func rewriteBackupCommands() []Command {
	return sfdisk(command.Fixed(`sfdisk --no-reread --force --relocate gpt-bak-std "$clone"`), altered)
}

// octal are bytes as printf(1) takes them.
func octal(bytes ...byte) string {
	text := ""
	for _, b := range bytes {
		text += fmt.Sprintf(`\%03o`, b)
	}
	return text
}

// write puts bytes on the clone.
func write(at int64, good string, bytes ...byte) Command {
	return line(command.Pipe(command.Run("printf", octal(bytes...)), dd(command.Join("of=", onClone), "bs=1", command.Join("seek=", at),
		"conv=notrunc,fsync")), good, putBack)
}

func protectiveCommands(d *machine.Drive) []Command {
	count := uint32(min(d.Contents.Layout.Sectors-1, 0xFFFFFFFF))
	record := make([]byte, 66)
	copy(record, []byte{0, 0, 2, 0, 0xEE, 0xFF, 0xFF, 0xFF, 1, 0, 0, 0, byte(count), byte(count >> 8),
		byte(count >> 16), byte(count >> 24)})
	record[64], record[65] = 0x55, 0xAA
	return []Command{write(446, "66 bytes copied.", record...), reread()}
}

func bootCodeCommands() []Command {
	return []Command{
		line(command.Pipe(command.Run("echo", base64.StdEncoding.EncodeToString(loader.StandardCode)), command.Run("base64", "-d").To("boot-code.bin")),
			quiet, "Paste the line whole."),
		line(command.Fixed(`dd if=boot-code.bin of="$clone" bs=440 count=1 conv=notrunc,fsync`), "440 bytes copied.", putBack),
		write(510, "2 bytes copied.", 0x55, 0xAA)}
}

func typeCommands(p disk.Partition) []Command {
	return sfdisk(command.Run("sfdisk", "--no-reread", "--force", "--part-type", onClone, p.Number, disk.TypeESP.String()), altered)
}

// activeCommands mark one partition active, and no other. The tool toggles marks, which a
// status that is neither leads astray, and leaves empty records alone: those are written byte
// by byte.
func activeCommands(c *machine.Contents, p disk.Partition) []Command {
	_, strange := c.Layout.Find(disk.CodeMBRStatus)
	empty := slices.ContainsFunc(c.Layout.MBR.Active(), func(e disk.MBREntry) bool { return !e.Used() })
	if strange || empty {
		var cmds []Command
		for i := range c.Layout.MBR.Entries {
			status := byte(0)
			if p.Number == i+1 {
				status = 0x80
			}
			cmds = append(cmds, write(446+16*int64(i), "1 byte copied.", status))
		}
		return append(cmds, reread())
	}
	return sfdisk(command.Run("sfdisk", "--no-reread", "--force", "--activate", onClone, p.Number), altered)
}

// hiddenCommands write where a partition starts into its boot sector, and into the
// copy that NTFS keeps in its last sector.
func hiddenCommands(d *machine.Drive, p disk.Partition, ntfs bool) []Command {
	v, size := uint32(p.Start), int64(d.Contents.Layout.SectorSize)
	start := []byte{byte(v), byte(v >> 8), byte(v >> 16), byte(v >> 24)}
	cmds := []Command{write(int64(p.Start)*size+28, "4 bytes copied.", start...)}
	if ntfs {
		cmds = append(cmds, write(int64(p.End()-1)*size+28, "4 bytes copied, in the boot sector's copy.", start...))
	}
	return cmds
}

func copySectorsCommands(d *machine.Drive, from, to, count uint64) []Command {
	return []Command{line(dd(command.Join("if=", onClone), command.Join("of=", onClone),
		command.Join("bs=", d.Contents.Layout.SectorSize), command.Join("skip=", from),
		command.Join("seek=", to), command.Join("count=", count), "conv=notrunc,fsync"), fmt.Sprintf("%d+0 records out.", count), putBack)}
}

func createCommands(d *machine.Drive, start, length uint64) []Command {
	number := newNumber(d.Contents)
	entry := command.Run("echo", fmt.Sprintf("start=%d, size=%d, type=%s", start, length, disk.TypeESP))
	return append(sfdisk(command.Pipe(entry, command.Run("sfdisk", "--no-reread", "--force", "--append", onClone)), fmt.Sprintf("Created a new partition %d … %s", number, altered)),
		format(disk.Partition{Number: number}, "No such file: start the live Linux anew, so that it sees the new partition."))
}

func newNumber(c *machine.Contents) int {
	number := 1
	for _, p := range c.Layout.Partitions {
		number = max(number, p.Number+1)
	}
	return number
}

func format(p disk.Partition, bad string) Command {
	return line(command.Run("mkfs.vfat", "-F", "32", "-n", "SYSTEM", partition(p)), "mkfs.fat 4.2 and no more.", bad)
}

func formatCommands(p disk.Partition) []Command {
	return []Command{format(p, "A partition too small for FAT32 says so: leave -F 32 away.")}
}
