package repair

import (
	_ "embed" // the boot code
	"encoding/base64"
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/startup"
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
func findClone(d *startup.Drive) Command { return findDrive(d, identifier(d)) }

func findDrive(d *startup.Drive, id string) Command {
	size := int64(d.Contents.Layout.Sectors) * int64(d.Contents.Layout.SectorSize)
	test := fmt.Sprintf(`[ "$(blockdev --getsize64 "$d")" = %d ]`, size)
	what := disk.Both(size)
	if id != "" {
		test += fmt.Sprintf(` && [ "$(blkid -p -s PTUUID -o value "$d")" = %s ]`, id)
		what += ", identifier " + id
	}
	role := strings.ToUpper(string(d.Role[:1])) + string(d.Role[1:])
	return Command{
		Text: fmt.Sprintf(`clone=$(for d in $(lsblk -dnpo NAME); do %s && echo "$d"; done; true); `+
			`[ "$(echo "$clone" | wc -w)" = 1 ] || { echo "The %s (%s) is not here, or there are two of it: stop."; exit 1; }; echo "%s: $clone"`, test, d.Role, what, role),
		Typed: "lsblk -dbpo NAME,SIZE,MODEL,PTUUID\nclone=/dev/…",
		Good:  fmt.Sprintf("%s: /dev/…, the one line with %d%s.", role, size, andID(id)), Bad: "Do not go on. Look at which drives are attached; unplug the original.",
	}
}

func andID(id string) string {
	if id == "" {
		return ""
	}
	return " and " + id
}

// identifier is the disk's as blkid prints it; "" where a damaged table may keep
// it from being read.
func identifier(d *startup.Drive) string {
	l := &d.Contents.Layout
	id, known := l.DiskID().Get()
	_, unguarded := l.Find("gpt-unprotected")
	_, unsigned := l.Find("gpt-protective-unsigned")
	if !known || unguarded || unsigned || l.Style == disk.StyleGPT && l.GPT != nil && l.GPT.Primary.State != disk.CopyGood {
		return ""
	}
	return strings.ToLower(id)
}

// partition is the shell's name of a partition of the clone.
func partition(p disk.Partition) string {
	return fmt.Sprintf(`"$clone$(case $clone in *[0-9]) echo p;; esac)%d"`, p.Number)
}

// kept names the file that saved sectors are kept in.
func kept(action string, s Sectors, suffix string) string {
	return fmt.Sprintf("before-%s-%d.%s", action, s.First, suffix)
}

// saveLinux keeps sectors before they are overwritten.
func saveLinux(d *startup.Drive, action string, saves []Sectors) []Command {
	var cmds []Command
	for _, s := range saves {
		cmds = append(cmds, Command{Text: fmt.Sprintf(`dd if="$clone" of=%s bs=%d skip=%d count=%d conv=fsync`, kept(action, s, "bin"), d.Contents.Layout.SectorSize, s.First, s.Count),
			Good: fmt.Sprintf("%d+0 records out. The file lies in the folder you are in: let that be one that stays, on a stick.", s.Count), Bad: "Without a copy do not go on: look for room, or for a drive that cannot be read."})
	}
	return cmds
}

func putBackLinux(d *startup.Drive, action string, saves []Sectors) []Command {
	if len(saves) == 0 {
		return nil
	}
	cmds := []Command{findDrive(d, "")}
	for _, s := range saves {
		cmds = append(cmds, Command{Text: fmt.Sprintf(`dd if=%s of="$clone" bs=%d seek=%d conv=notrunc,fsync`, kept(action, s, "bin"), d.Contents.Layout.SectorSize, s.First),
			Good: fmt.Sprintf("%d+0 records out.", s.Count), Bad: "Look for the file where it was saved."})
	}
	return append(cmds, reread())
}

func reread() Command {
	return Command{Text: `sync; blockdev --rereadpt "$clone" 2>/dev/null || partprobe "$clone" 2>/dev/null || true`, Good: quiet, Bad: "Start the live Linux anew: the kernel still has the old table."}
}

// sfdisk changes the table as it stands on the disk.
func sfdisk(text, good string) []Command {
	return []Command{{Text: text, Good: good, Bad: putBack}, reread()}
}

const altered = "The partition table has been altered."

func restorePrimaryCommands() []Command {
	return sfdisk(`sfdisk --dump "$clone" > clone-table.txt && sfdisk --force --no-reread "$clone" < clone-table.txt`,
		"GPT PMBR size … or: The primary GPT table is corrupt, but the backup appears OK; then: "+altered)
}

func rewriteBackupCommands() []Command {
	return sfdisk(`sfdisk --no-reread --force --relocate gpt-bak-std "$clone"`, altered)
}

func protectiveCommands(d *startup.Drive) []Command {
	count := min(d.Contents.Layout.Sectors-1, 0xFFFFFFFF)
	record := fmt.Sprintf(`\000\000\002\000\356\377\377\377\001\000\000\000\%03o\%03o\%03o\%03o`, byte(count), byte(count>>8), byte(count>>16), byte(count>>24))
	return []Command{
		{Text: fmt.Sprintf(`{ printf '%s'; dd if=/dev/zero bs=48 count=1 2>/dev/null; printf '\125\252'; } | dd of="$clone" bs=1 seek=446 conv=notrunc,fsync`, record), Good: "66 bytes copied.", Bad: putBack}, reread()}
}

func bootCodeCommands() []Command {
	return []Command{
		{Text: fmt.Sprintf("base64 -d > boot-code.bin <<'END'\n%s\nEND", base64.StdEncoding.EncodeToString(BootCode)), Good: quiet, Bad: "Paste the lines whole, from base64 to the second END."},
		{Text: `dd if=boot-code.bin of="$clone" bs=440 count=1 conv=notrunc,fsync && printf '\125\252' | dd of="$clone" bs=1 seek=510 conv=notrunc,fsync`, Good: "440 bytes copied; 2 bytes copied.", Bad: putBack}}
}

func typeCommands(p disk.Partition) []Command {
	return sfdisk(fmt.Sprintf(`sfdisk --no-reread --force --part-type "$clone" %d %s`, p.Number, disk.TypeESP), altered)
}

func activeCommands(p disk.Partition) []Command {
	return sfdisk(fmt.Sprintf(`sfdisk --no-reread --force --activate "$clone" %d`, p.Number), altered)
}

// bootSectorAt writes where a partition starts into a boot sector.
func bootSectorAt(d *startup.Drive, p disk.Partition, sector uint64, good string) Command {
	v := uint32(p.Start)
	return Command{Text: fmt.Sprintf(`printf '\%03o\%03o\%03o\%03o' | dd of="$clone" bs=1 seek=%d conv=notrunc,fsync`, byte(v), byte(v>>8), byte(v>>16), byte(v>>24), sector*uint64(d.Contents.Layout.SectorSize)+28),
		Good: good, Bad: putBack}
}

func hiddenCommands(d *startup.Drive, p disk.Partition, ntfs bool) []Command {
	cmds := []Command{bootSectorAt(d, p, p.Start, "4 bytes copied.")}
	if ntfs {
		cmds = append(cmds, bootSectorAt(d, p, p.End()-1, "4 bytes copied, in the boot sector's copy."))
	}
	return cmds
}

func copySectorsCommands(d *startup.Drive, from, to, count uint64) []Command {
	return []Command{{Text: fmt.Sprintf(`dd if="$clone" of="$clone" bs=%d skip=%d seek=%d count=%d conv=notrunc,fsync`, d.Contents.Layout.SectorSize, from, to, count), Good: fmt.Sprintf("%d+0 records out.", count), Bad: putBack}}
}

func createCommands(d *startup.Drive, start, length uint64) []Command {
	number := newNumber(d.Contents)
	return append(sfdisk(fmt.Sprintf(`echo 'start=%d, size=%d, type=%s' | sfdisk --no-reread --force --append "$clone"`, start, length, disk.TypeESP), fmt.Sprintf("Created a new partition %d … %s", number, altered)),
		Command{Text: `mkfs.vfat -F 32 -n SYSTEM ` + partition(disk.Partition{Number: number}), Good: "mkfs.fat 4.2 and no more.", Bad: "No such file: start the live Linux anew, so that it sees the new partition."})
}

func newNumber(c *startup.Contents) int {
	number := 1
	for _, p := range c.Layout.Partitions {
		number = max(number, p.Number+1)
	}
	return number
}

func formatCommands(p disk.Partition) []Command {
	return []Command{{Text: `mkfs.vfat -F 32 -n SYSTEM ` + partition(p), Good: "mkfs.fat 4.2 and no more.", Bad: "A partition too small for FAT32 says so: leave -F 32 away."}}
}

// mounted mounts the clone's boot partition around commands.
func mounted(p disk.Partition, cmds ...Command) []Command {
	out := []Command{{Text: `mkdir -p /mnt/boot && mount ` + partition(p) + ` /mnt/boot`, Good: quiet, Bad: "It is no file system that can be mounted: mark the step as failed."}}
	return append(append(out, cmds...), Command{Text: `umount /mnt/boot`, Good: quiet, Bad: "Leave the folder /mnt/boot, and give it again."})
}

func slashes(path string) string { return strings.ReplaceAll(path, `\`, "/") }

func fallbackCommands(d *startup.Drive, i int, from, to string) []Command {
	dir := to[:strings.LastIndexByte(to, '\\')]
	return mounted(d.Contents.Layout.Partitions[i],
		Command{Text: fmt.Sprintf(`mkdir -p /mnt/boot%s && { [ ! -f /mnt/boot%s ] || cp /mnt/boot%s /mnt/boot%s.bak; } && cp /mnt/boot%s /mnt/boot%s`, slashes(dir), slashes(to), slashes(to), slashes(to), slashes(from), slashes(to)), Good: quiet, Bad: "No space left: delete what is not of the start. Read-only: the file system is damaged; mark the step as failed."})
}

func entryCommands(d *startup.Drive, i int, path string) []Command {
	return []Command{{Text: fmt.Sprintf(`efibootmgr --create --disk "$clone" --part %d --label Clone --loader '%s'`, d.Contents.Layout.Partitions[i].Number, path),
		Good: "BootOrder: … with the new entry first.", Bad: "EFI variables are not supported: the stick was not started in UEFI mode; start it so."}}
}

// orderCommands put an entry first. The numbers are the firmware's, and it may
// have given them anew: the entry is looked at before.
func orderCommands(e firmware.Entry, order []uint16) []Command {
	name := strings.NewReplacer(`'`, `'\''`).Replace(e.Description)
	return []Command{
		{Text: fmt.Sprintf(`efibootmgr | grep -F 'Boot%04X' | grep -F '%s' || { echo 'Entry %04X is not the one that was looked at: stop.'; exit 1; }`, e.Number, name, e.Number), Good: fmt.Sprintf("Boot%04X* %s", e.Number, e.Description), Bad: "Take efibootmgr -v as new evidence, and have the plan made anew."},
		{Text: fmt.Sprintf(`efibootmgr --bootnum %04X --active --quiet && efibootmgr --bootorder %s`, e.Number, hexes(order)), Good: fmt.Sprintf("BootOrder: %s", hexes(order)), Bad: "Invalid BootOrder: an entry is gone since. Take efibootmgr -v as new evidence, and have the plan made anew."}}
}

// inSystem runs commands within the clone's Linux, with the devices and the
// kernel's own file systems where its programs look for them.
func inSystem(d *startup.Drive, boot, root int, inside ...string) []Command {
	lines := append([]string{`for f in dev proc sys; do mount --rbind /$f /mnt/clone/$f; done`}, inside...)
	return onRoot(d, boot, root, lines...)
}

// onRoot runs commands while the clone's root is mounted.
func onRoot(d *startup.Drive, boot, root int, inside ...string) []Command {
	parts := d.Contents.Layout.Partitions
	const unmounted = "It is no file system that can be mounted: mark the step as failed."
	cmds := []Command{{Text: `mkdir -p /mnt/clone && mount ` + partition(parts[root]) + ` /mnt/clone`, Good: quiet, Bad: unmounted}}
	if i, apart := d.Contents.MountedAt(root, "/boot"); apart {
		cmds = append(cmds, Command{Text: `mount ` + partition(parts[i]) + ` /mnt/clone/boot`, Good: quiet, Bad: unmounted})
	}
	if boot >= 0 {
		cmds = append(cmds, Command{Text: `mkdir -p /mnt/clone/boot/efi && mount ` + partition(parts[boot]) + ` /mnt/clone/boot/efi`, Good: quiet, Bad: unmounted})
	}
	for _, line := range inside {
		cmds = append(cmds, Command{Text: line, Good: "No error.", Bad: "Give the last command, umount, and mark the step as failed with the message."})
	}
	return append(cmds, Command{Text: `umount -R /mnt/clone`, Good: quiet, Bad: "Leave the folder /mnt/clone, and give it again."})
}

// grubTarget is what grub-install calls a firmware's architecture.
var grubTarget = map[firmware.Arch]string{firmware.X64: "x86_64-efi", firmware.IA32: "i386-efi", firmware.ARM64: "arm64-efi"}

func linuxFilesCommands(d *startup.Drive, boot, root int, a firmware.Arch) []Command {
	install := `chroot /mnt/clone grub-install "$clone"`
	if boot >= 0 {
		install = fmt.Sprintf(`chroot /mnt/clone grub-install --target=%s --efi-directory=/boot/efi --bootloader-id=debian`, grubTarget[a])
	}
	lines := append(fstabLines(d, boot, root), `[ ! -f /mnt/clone/boot/grub/grub.cfg ] || cp /mnt/clone/boot/grub/grub.cfg /mnt/clone/boot/grub/grub.cfg.bak`)
	if boot >= 0 {
		lines = append(lines, `[ ! -d /mnt/clone/boot/efi/EFI ] || cp -r /mnt/clone/boot/efi/EFI before-linux-boot-files-EFI`)
	}
	// Without the name by UUID the menu would name the kernel's device, which is
	// another one when the drive hangs elsewhere.
	parts := d.Contents.Layout.Partitions
	byUUID := "/dev/disk/by-uuid/" + d.Contents.Volumes[root].Serial
	lines = append(lines, fmt.Sprintf(`mkdir -p /dev/disk/by-uuid && { [ -e %s ] || ln -s %s %s; }`, byUUID, partition(parts[root]), byUUID), install, `chroot /mnt/clone update-grub`)
	if boot >= 0 {
		lines = append(lines, fmt.Sprintf(`mkdir -p /mnt/clone/boot/efi/EFI/BOOT && cp /mnt/clone/boot/efi%s /mnt/clone/boot/efi%s`, slashes(loader.DebianPath(a)), slashes(loader.FallbackPath(a))))
	}
	return inSystem(d, boot, root, lines...)
}

// fstabLines let the mount table name the clone's own file systems.
func fstabLines(d *startup.Drive, boot, root int) []string {
	lines := []string{`cp /mnt/clone/etc/fstab /mnt/clone/etc/fstab.bak`,
		fmt.Sprintf(`sed -i -E 's#^[^ \t\#]+([ \t]+/[ \t])#UUID=%s\1#' /mnt/clone/etc/fstab`, d.Contents.Volumes[root].Serial)}
	for _, point := range d.Contents.Unresolved(root) {
		lines = append(lines, fmt.Sprintf(`sed -i -E 's#^([^ \t\#]+[ \t]+%s[ \t]+[^ \t]+[ \t]+)([^ \t]+)#\1\2,nofail#' /mnt/clone/etc/fstab`, point))
	}
	if boot >= 0 {
		lines = append(lines, fmt.Sprintf(`esp=$(blkid -p -s UUID -o value %s) && sed -i -E "s#^[^ \t\#]+([ \t]+/boot/efi[ \t])#UUID=$esp\1#" /mnt/clone/etc/fstab`, partition(d.Contents.Layout.Partitions[boot])))
	}
	return lines
}

func linuxNamesCommands(d *startup.Drive, boot, root int) []Command {
	uuid := d.Contents.Volumes[root].Serial
	lines := append(fstabLines(d, boot, root),
		`for f in /mnt/clone/boot/grub/grub.cfg /mnt/clone/boot/efi/EFI/*/grub.cfg /mnt/clone/boot/loader/entries/*.conf /mnt/clone/boot/efi/loader/entries/*.conf; do [ -f "$f" ] && cp "$f" "$f.bak"; done; true`,
		fmt.Sprintf(`for f in /mnt/clone/boot/grub/grub.cfg /mnt/clone/boot/efi/EFI/*/grub.cfg /mnt/clone/boot/loader/entries/*.conf /mnt/clone/boot/efi/loader/entries/*.conf; do [ -f "$f" ] && sed -i -E 's#root=(UUID|PARTUUID|LABEL)=[^ ]+#root=UUID=%s#; s#root=/dev/[^ ]+#root=UUID=%s#; s#(search(\.fs_uuid)? .*)[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}#\1%s#' "$f"; done; true`, uuid, uuid, uuid))
	return onRoot(d, boot, root, lines...)
}

func initialRAMDiskCommands(d *startup.Drive, root int) []Command {
	return inSystem(d, -1, root, `for f in /mnt/clone/boot/initrd.img-*; do cp "$f" "$f.bak"; done`, `chroot /mnt/clone sh -c 'MODULES=most update-initramfs -u -k all'`)
}
