package repair

import (
	_ "embed" // the boot code
	"encoding/base64"
	"fmt"
	"strings"

	"latchkey/core/command"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// The commands for a live Linux are lines of a POSIX shell; they are run one
// after the other in one shell, as root.

// saying is a thing to do that is no command.
func saying(text, good, bad string) func() []Command {
	return func() []Command { return []Command{{Text: text, ByHand: true, Good: good, Bad: bad}} }
}

// BootCode is the standard boot code for sector 0, 440 bytes, which runs the
// active partition; its source is bootcode.asm.
//
//go:embed bootcode.bin
var BootCode []byte

// What a command says when it went well, and what to do when it did not.
const (
	quiet   = "No answer."
	putBack = "Put the saved sectors back, and look at the message."
)

// findClone finds the drive by capacity and identifier, and stops when it is not
// there or not alone: a disk is never named by a number.
func findClone(d *machine.Drive) Command { return findNow("clone", d) }

// findNow finds a drive as it was when it was looked at.
func findNow(name command.Name, d *machine.Drive) Command {
	id := identifier(d)
	if id == "" {
		return findDrive(name, d, "")
	}
	return findDrive(name, d, id, equal(tableID, id))
}

// What tells a drive, as the live Linux prints it.
var (
	capacity     = command.Output(command.Run("blockdev", "--getsize64", command.Var("d")))
	tableID      = command.Output(command.Run("blkid", "-p", "-s", "PTUUID", "-o", "value", command.Var("d")))
	serialNumber = command.Output(serialOf("d"))
)

func serialOf(drive command.Name) command.Simple {
	return command.Run("lsblk", "-dnro", "SERIAL", command.Var(drive))
}

func equal(a, b any) command.Node { return command.Run("[", a, "=", b, "]") }

// findDrive sets a variable to the name of a drive: the only one of its capacity that
// passes the tests.
func findDrive(name command.Name, d *machine.Drive, id string, tests ...command.Node) Command {
	size := d.Contents.Layout.Bytes()
	tests = append([]command.Node{equal(capacity, size)}, tests...)
	what := disk.Both(size)
	if id != "" {
		what += ", identifier " + id
	}
	role := strings.ToUpper(string(d.Role[:1])) + string(d.Role[1:])
	drives := command.Each("d", command.Fields(command.Run("lsblk", "-dnpo", "NAME")), command.All(append(tests, command.Run("echo", command.Var("d")))...))
	set, found := command.Set(name, command.Output(command.Sequence(drives, command.Run("true")))), command.Var(name)
	one := command.Run("[", command.Output(command.Pipe(command.Run("echo", found), command.Run("wc", "-w"))), "=", "1", "]")
	none := command.Run("echo", fmt.Sprintf("The %s (%s) is not here, or there are two of it: stop.", d.Role, what))
	c := line(command.Sequence(set, command.Either(one, command.Sequence(none, command.Run("exit", "1"))), command.Run("echo", command.Join(role+": ", found))),
		fmt.Sprintf("%s: /dev/…, the one line with %d%s.", role, size, andID(id)), "Do not go on. Look at which drives are attached; unplug the original.")
	c.Typed = "lsblk -dbpo NAME,SIZE,MODEL,PTUUID\n" + string(name) + "=/dev/…"
	return c
}

// onClone is the clone as a word.
var onClone = command.Var("clone")

func andID(id string) string {
	if id == "" {
		return ""
	}
	return " and " + id
}

// identifier is the disk's as blkid prints it; "" where a damaged table may keep
// it from being read.
func identifier(d *machine.Drive) string {
	l := &d.Contents.Layout
	id, known := l.DiskID().Get()
	_, unguarded := l.Find(disk.CodeGPTUnprotected)
	_, unsigned := l.Find(disk.CodeGPTProtectiveUnsigned)
	if !known || !disk.IsID(id) || unguarded || unsigned || l.Style == disk.StyleGPT && l.GPT != nil && l.GPT.Primary.State != disk.CopyGood {
		return ""
	}
	return strings.ToLower(id)
}

// partition is the name of a partition of the clone: the kernel puts a p between a
// disk's name that ends in a digit and the number.
func partition(p disk.Partition) command.Word {
	return command.Join(onClone, command.Output(command.Fixed("case $clone in *[0-9]) echo p;; esac")), p.Number)
}

// kept names the file that saved sectors are kept in.
func kept(action string, s Sectors, suffix string) string {
	return fmt.Sprintf("before-%s-%d.%s", action, s.First, suffix)
}

// dd copies sectors; the operands are those of dd(1).
func dd(operands ...any) command.Simple { return command.Run(append([]any{"dd"}, operands...)...) }

const stays = " The file lies in the folder you are in: let that be one that stays, on a stick."

// saveLinux keeps sectors before they are overwritten, and the serial number of the
// drive that they are of.
func saveLinux(d *machine.Drive, action string, saves []Sectors) []Command {
	if len(saves) == 0 {
		return nil
	}
	cmds := []Command{line(serialOf("clone").To(serialFile(action)), quiet+stays, "Look for room: without it the sectors cannot be put back by commands.")}
	for _, s := range saves {
		cmds = append(cmds, line(dd(command.Join("if=", onClone), "of="+kept(action, s, "bin"), command.Join("bs=", d.Contents.Layout.SectorSize),
			command.Join("skip=", s.First), command.Join("count=", s.Count), "conv=excl,fsync"),
			fmt.Sprintf("%d+0 records out.", s.Count)+stays, "Without a copy do not go on. File exists: something was saved here before; go into a new folder. Else look for room, or for a drive that cannot be read."))
	}
	return cmds
}

func serialFile(action string) string { return fmt.Sprintf("before-%s.serial", action) }

// savedOf tests that a drive is the one that sectors were saved of: by its serial
// number, and where it has none by its identifier, unless its table has none now.
func savedOf(d *machine.Drive, action string) []command.Node {
	kept := command.Output(command.Run("cat", serialFile(action)))
	tests := []command.Node{equal(serialNumber, kept)}
	if id := identifier(d); id != "" {
		tests = append(tests, command.Either(command.Run("[", "-n", kept, "]"), equal(tableID, id), command.Run("[", "-z", tableID, "]")))
	}
	return tests
}

func putBackLinux(d *machine.Drive, action string, saves []Sectors) []Command {
	if len(saves) == 0 {
		return nil
	}
	cmds := []Command{findDrive("clone", d, "", savedOf(d, action)...)}
	for _, s := range saves {
		cmds = append(cmds, line(dd("if="+kept(action, s, "bin"), command.Join("of=", onClone), command.Join("bs=", d.Contents.Layout.SectorSize),
			command.Join("seek=", s.First), "conv=notrunc,fsync"), fmt.Sprintf("%d+0 records out.", s.Count), "Look for the file where it was saved."))
	}
	return append(cmds, reread())
}

func reread() Command {
	return line(command.Fixed(`sync; blockdev --rereadpt "$clone" 2>/dev/null || partprobe "$clone" 2>/dev/null || true`), quiet, "Start the live Linux anew: the kernel still has the old table.")
}

// sfdisk changes the table as it stands on the disk.
func sfdisk(n command.Node, good string) []Command {
	return []Command{line(n, good, putBack), reread()}
}

const altered = "The partition table has been altered."

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
	return line(command.Pipe(command.Run("printf", octal(bytes...)), dd(command.Join("of=", onClone), "bs=1", command.Join("seek=", at), "conv=notrunc,fsync")), good, putBack)
}

func protectiveCommands(d *machine.Drive) []Command {
	count := uint32(min(d.Contents.Layout.Sectors-1, 0xFFFFFFFF))
	record := make([]byte, 66)
	copy(record, []byte{0, 0, 2, 0, 0xEE, 0xFF, 0xFF, 0xFF, 1, 0, 0, 0, byte(count), byte(count >> 8), byte(count >> 16), byte(count >> 24)})
	record[64], record[65] = 0x55, 0xAA
	return []Command{write(446, "66 bytes copied.", record...), reread()}
}

func bootCodeCommands() []Command {
	return []Command{
		line(command.Pipe(command.Run("echo", base64.StdEncoding.EncodeToString(BootCode)), command.Run("base64", "-d").To("boot-code.bin")), quiet, "Paste the line whole."),
		line(command.Fixed(`dd if=boot-code.bin of="$clone" bs=440 count=1 conv=notrunc,fsync`), "440 bytes copied.", putBack),
		write(510, "2 bytes copied.", 0x55, 0xAA)}
}

func typeCommands(p disk.Partition) []Command {
	return sfdisk(command.Run("sfdisk", "--no-reread", "--force", "--part-type", onClone, p.Number, disk.TypeESP.String()), altered)
}

func activeCommands(p disk.Partition) []Command {
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
	return []Command{line(dd(command.Join("if=", onClone), command.Join("of=", onClone), command.Join("bs=", d.Contents.Layout.SectorSize), command.Join("skip=", from),
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

// unmounted is said where a file system cannot be mounted.
const unmounted = "It is no file system that can be mounted: mark the step as failed."

// mount mounts a partition of the clone on a folder, which is made.
func mount(p disk.Partition, folder string) Command {
	return line(command.All(command.Run("mkdir", "-p", folder), command.Run("mount", partition(p), folder)), quiet, unmounted)
}

func slashes(path string) string { return strings.ReplaceAll(path, `\`, "/") }

// exists tests whether something is there: -f a file, -d a folder, -e either.
func exists(kind string, path any) command.Node { return command.Run("[", kind, path, "]") }

// unless runs commands where something is not there.
func unless(test command.Node, nodes ...command.Node) command.Node {
	return command.Either(test, command.All(nodes...))
}

// missing tests whether something is not there.
func missing(kind string, path any) command.Node { return command.Run("[", "!", kind, path, "]") }

func fallbackCommands(d *machine.Drive, i int, from, to string) []Command {
	const boot = "/mnt/boot"
	target := boot + slashes(to)
	return []Command{
		mount(d.Contents.Layout.Partitions[i], boot),
		line(command.All(command.Run("mkdir", "-p", target[:strings.LastIndexByte(target, '/')]),
			unless(missing("-f", target), command.Run("cp", target, target+".bak")), command.Run("cp", boot+slashes(from), target)),
			quiet, "No space left: delete what is not of the start. Read-only: the file system is damaged; mark the step as failed."),
		line(command.Run("umount", boot), quiet, "Leave the folder /mnt/boot, and give it again."),
	}
}

func entryCommands(d *machine.Drive, i int, path string) []Command {
	return []Command{line(command.Run("efibootmgr", "--create", "--disk", onClone, "--part", d.Contents.Layout.Partitions[i].Number, "--label", "Clone", "--loader", path),
		"BootOrder: … with the new entry first.", "EFI variables are not supported: the stick was not started in UEFI mode; start it so.")}
}

// orderCommands put an entry first. The numbers are the firmware's, and it may
// have given them anew: the entry is looked at before.
func orderCommands(e firmware.Entry, order []uint16) []Command {
	number, named := fmt.Sprintf("Boot%04X", e.Number), command.Clean(e.Description)
	if node := e.Path.Partition; node != nil && !node.MBR {
		named = strings.ToLower(node.GUID.String())
	}
	look := command.Pipe(command.Run("efibootmgr", "-v"), command.Run("grep", "-F", number), command.Run("grep", "-F", "-i", "-e", named))
	other := command.Run("echo", fmt.Sprintf("Entry %04X is not the one that was looked at: stop.", e.Number))
	return []Command{
		line(command.Either(look, command.Sequence(other, command.Run("exit", "1"))), fmt.Sprintf("Boot%04X* %s", e.Number, e.Description), "Take efibootmgr -v as new evidence, and have the plan made anew."),
		line(command.All(command.Run("efibootmgr", "--bootnum", fmt.Sprintf("%04X", e.Number), "--active", "--quiet"), command.Run("efibootmgr", "--bootorder", hexes(order))),
			"BootOrder: "+hexes(order), "Invalid BootOrder: an entry is gone since. Take efibootmgr -v as new evidence, and have the plan made anew.")}
}

// mountedClone is where the clone's own system is mounted.
const mountedClone = "/mnt/clone"

// inSystem runs commands within the clone's Linux, with the devices and the
// kernel's own file systems where its programs look for them.
func inSystem(d *machine.Drive, boot, root int, inside ...command.Node) []Command {
	nodes := append([]command.Node{command.Fixed(`for f in dev proc sys; do mount --rbind /$f /mnt/clone/$f; done`)}, inside...)
	return onRoot(d, boot, root, nodes...)
}

// onRoot runs commands while the clone's root is mounted.
func onRoot(d *machine.Drive, boot, root int, inside ...command.Node) []Command {
	parts := d.Contents.Layout.Partitions
	cmds := []Command{mount(parts[root], mountedClone)}
	if i, apart := d.Contents.MountedAt(root, "/boot"); apart {
		cmds = append(cmds, mount(parts[i], mountedClone+"/boot"))
	}
	if boot >= 0 {
		cmds = append(cmds, mount(parts[boot], mountedClone+"/boot/efi"))
	}
	for _, n := range inside {
		cmds = append(cmds, line(n, "No error.", "Give the last command, umount, and mark the step as failed with the message."))
	}
	return append(cmds, line(command.Run("umount", "-R", mountedClone), quiet, "Leave the folder /mnt/clone, and give it again."))
}

// chroot runs a program of the clone's own system.
func chroot(args ...any) command.Simple {
	return command.Run(append([]any{"chroot", mountedClone}, args...)...)
}

// grubTarget is what grub-install calls a firmware's architecture.
var grubTarget = map[firmware.Arch]string{firmware.X64: "x86_64-efi", firmware.IA32: "i386-efi", firmware.ARM64: "arm64-efi"}

func linuxFilesCommands(d *machine.Drive, boot, root int, a firmware.Arch) []Command {
	install := chroot("grub-install", onClone)
	if boot >= 0 {
		install = chroot("grub-install", "--target="+grubTarget[a], "--efi-directory=/boot/efi", "--bootloader-id=debian")
	}
	const menu, efi = mountedClone + "/boot/grub/grub.cfg", mountedClone + "/boot/efi"
	nodes := append(mountTable(d, boot, root), unless(missing("-f", menu), command.Run("cp", menu, menu+".bak")))
	if boot >= 0 {
		nodes = append(nodes, unless(missing("-d", efi+"/EFI"), command.Run("cp", "-r", efi+"/EFI", "before-linux-boot-files-EFI")))
	}
	// Without the name by UUID the menu would name the kernel's device, which is
	// another one when the drive hangs elsewhere.
	byUUID := "/dev/disk/by-uuid/" + d.Contents.Volumes[root].Serial
	nodes = append(nodes, command.All(command.Run("mkdir", "-p", "/dev/disk/by-uuid"), unless(exists("-e", byUUID), command.Run("ln", "-s", partition(d.Contents.Layout.Partitions[root]), byUUID))),
		install, chroot("update-grub"))
	if boot >= 0 {
		nodes = append(nodes, command.All(command.Run("mkdir", "-p", efi+"/EFI/BOOT"), command.Run("cp", efi+slashes(loader.DebianPath(a)), efi+slashes(loader.FallbackPath(a)))))
	}
	return inSystem(d, boot, root, nodes...)
}

// The programs that edit files: nothing in them varies, they get what they put
// there as variables.
var (
	//go:embed mounts.awk
	mountsProgram string
	//go:embed names.awk
	namesProgram string
)

// edited puts what a program makes of a file in its place, when it succeeds.
func edited(program command.Simple, file any) command.Node {
	return command.All(program.From(file).To("edited"), command.Run("cp", "edited", file))
}

// mountTable lets the mount table name the clone's own file systems.
func mountTable(d *machine.Drive, boot, root int) []command.Node {
	const table = mountedClone + "/etc/fstab"
	nodes := []command.Node{command.Run("cp", table, table+".bak")}
	change := func(m loader.Mount) command.Simple { return command.Run("awk", mountsProgram).With("point", m.Field) }
	for _, m := range d.Contents.Mounts(root, "/") {
		nodes = append(nodes, edited(change(m).With("device", "UUID="+d.Contents.Volumes[root].Serial), table))
	}
	for _, m := range d.Contents.Unresolved(root) {
		nodes = append(nodes, edited(change(m).With("lax", "yes"), table))
	}
	if boot < 0 {
		return nodes
	}
	for _, m := range d.Contents.Mounts(root, "/boot/efi") {
		serial := command.Set("esp", command.Output(command.Run("blkid", "-p", "-s", "UUID", "-o", "value", partition(d.Contents.Layout.Partitions[boot]))))
		nodes = append(nodes, command.All(serial, edited(change(m).With("device", command.Join("UUID=", command.Var("esp"))), table)))
	}
	return nodes
}

func linuxNamesCommands(d *machine.Drive, boot, root int) []Command {
	file := command.Var("f")
	change := unless(missing("-f", file), command.Run("cp", file, command.Join(file, ".bak")), edited(command.Run("awk", namesProgram).With("root", d.Contents.Volumes[root].Serial), file))
	files := command.Files("/mnt/clone/boot/grub/grub.cfg /mnt/clone/boot/efi/EFI/*/grub.cfg /mnt/clone/boot/loader/entries/*.conf /mnt/clone/boot/efi/loader/entries/*.conf")
	return onRoot(d, boot, root, append(mountTable(d, boot, root), command.Each("f", files, command.Either(change, command.Run("exit", "1"))))...)
}

func initialRAMDiskCommands(d *machine.Drive, root int) []Command {
	return inSystem(d, -1, root, command.Fixed(`for f in /mnt/clone/boot/initrd.img-*; do cp "$f" "$f.bak"; done`), command.Fixed(`chroot /mnt/clone sh -c 'MODULES=most update-initramfs -u -k all'`))
}
