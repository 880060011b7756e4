package repair

import (
	_ "embed" // the boot code
	"encoding/base64"
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/startup"
)

// saying is a thing to do that is no command.
func saying(text, good, bad string) func() []Command {
	return func() []Command { return []Command{{Text: text, Good: good, Bad: bad}} }
}

// BootCode is the standard boot code for sector 0, 440 bytes, which runs the
// active partition; its source is bootcode.asm.
//
//go:embed bootcode.bin
var BootCode []byte

// The commands for a live Linux are lines of a POSIX shell; they are run one
// after the other in one shell, as root.

// findClone finds the clone by capacity and identifier, and stops when it is not
// there or not alone: a disk is never named by a number.
func findClone(d *startup.Drive) Command {
	size := int64(d.Contents.Layout.Sectors) * int64(d.Contents.Layout.SectorSize)
	test := fmt.Sprintf(`[ "$(blockdev --getsize64 "$d")" = %d ]`, size)
	what := disk.Both(size)
	if id := identifier(d); id != "" {
		test += fmt.Sprintf(` && [ "$(blkid -p -s PTUUID -o value "$d")" = %s ]`, id)
		what += ", identifier " + id
	}
	role := strings.ToUpper(string(d.Role[:1])) + string(d.Role[1:])
	return Command{
		Text: fmt.Sprintf(`clone=$(for d in $(lsblk -dnpo NAME); do %s && echo "$d"; done; true); `+
			`[ "$(echo "$clone" | wc -w)" = 1 ] || { echo "The %s (%s) is not here, or there are two of it: stop."; exit 1; }; echo "%s: $clone"`, test, d.Role, what, role),
		Good: role + ": /dev/…", Bad: "Do not go on. Look at which drives are attached; unplug the original.",
	}
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

// save keeps sectors before they are overwritten.
func save(name string, first, count uint64) Command {
	return Command{Text: fmt.Sprintf(`dd if="$clone" of=%s bs=512 skip=%d count=%d conv=fsync`, name, first, count),
		Good: fmt.Sprintf("%d+0 records out. To put them back: dd if=%s of=\"$clone\" bs=512 seek=%d conv=notrunc,fsync", count, name, first), Bad: "Without a copy do not go on."}
}

func reread() Command {
	return Command{Text: `sync; blockdev --rereadpt "$clone" 2>/dev/null || partprobe "$clone" 2>/dev/null || true`, Good: "No answer."}
}

func per512(c *startup.Contents) uint64 { return uint64(c.Layout.SectorSize) / 512 }

func restorePrimaryCommands(d *startup.Drive) []Command {
	return []Command{findClone(d), save("clone-first.bin", 0, 34*per512(d.Contents)),
		{Text: `sfdisk --dump "$clone" > clone-table.txt && sfdisk --force --no-reread "$clone" < clone-table.txt`, Good: "GPT PMBR size … or: The primary GPT table is corrupt, but the backup appears OK; then: The partition table has been altered.", Bad: "Put the saved sectors back."}, reread()}
}

func protectiveCommands(d *startup.Drive) []Command {
	last := d.Contents.Layout.Sectors - 1
	count := min(last, 0xFFFFFFFF)
	record := fmt.Sprintf(`\000\000\002\000\356\377\377\377\001\000\000\000\%03o\%03o\%03o\%03o`, byte(count), byte(count>>8), byte(count>>16), byte(count>>24))
	return []Command{findClone(d), save("clone-sector0.bin", 0, 1),
		{Text: fmt.Sprintf(`{ printf '%s'; dd if=/dev/zero bs=48 count=1 2>/dev/null; printf '\125\252'; } | dd of="$clone" bs=1 seek=446 conv=notrunc,fsync`, record), Good: "66 bytes copied."}, reread()}
}

func bootCodeCommands(d *startup.Drive) []Command {
	return []Command{findClone(d), save("clone-sector0.bin", 0, 1),
		{Text: fmt.Sprintf("base64 -d > boot-code.bin <<'END'\n%s\nEND", base64.StdEncoding.EncodeToString(BootCode)), Good: "No answer."},
		{Text: `dd if=boot-code.bin of="$clone" bs=440 count=1 conv=notrunc,fsync && printf '\125\252' | dd of="$clone" bs=1 seek=510 conv=notrunc,fsync`, Good: "440 bytes copied; 2 bytes copied."}}
}

func typeCommands(d *startup.Drive, p disk.Partition) []Command {
	return []Command{findClone(d), save("clone-first.bin", 0, 34*per512(d.Contents)),
		{Text: fmt.Sprintf(`sfdisk --no-reread --force --part-type "$clone" %d %s`, p.Number, disk.TypeESP), Good: "The partition table has been altered."}, reread()}
}

func activeCommands(d *startup.Drive, p disk.Partition) []Command {
	return []Command{findClone(d), save("clone-sector0.bin", 0, 1),
		{Text: fmt.Sprintf(`sfdisk --no-reread --force --activate "$clone" %d`, p.Number), Good: "The partition table has been altered."}, reread()}
}

func hiddenCommands(d *startup.Drive, p disk.Partition, ntfs bool) []Command {
	first := p.Start * per512(d.Contents)
	v := uint32(p.Start)
	value := fmt.Sprintf(`\%03o\%03o\%03o\%03o`, byte(v), byte(v>>8), byte(v>>16), byte(v>>24))
	cmds := []Command{findClone(d), save("clone-boot-sector.bin", first, 1),
		{Text: fmt.Sprintf(`printf '%s' | dd of="$clone" bs=1 seek=%d conv=notrunc,fsync`, value, int64(first)*512+28), Good: "4 bytes copied."}}
	if ntfs {
		last := (p.End() - 1) * per512(d.Contents)
		cmds = append(cmds, Command{Text: fmt.Sprintf(`printf '%s' | dd of="$clone" bs=1 seek=%d conv=notrunc,fsync`, value, int64(last)*512+28), Good: "4 bytes copied, in the boot sector's copy."})
	}
	return cmds
}

func createCommands(d *startup.Drive, start, length uint64) []Command {
	number := 1
	for _, p := range d.Contents.Layout.Partitions {
		number = max(number, p.Number+1)
	}
	return []Command{findClone(d), save("clone-first.bin", 0, 34*per512(d.Contents)),
		{Text: fmt.Sprintf(`echo 'start=%d, size=%d, type=%s' | sfdisk --no-reread --force --append "$clone"`, start, length, disk.TypeESP), Good: fmt.Sprintf("Created a new partition %d … The partition table has been altered.", number)},
		reread(), {Text: `mkfs.vfat -F 32 -n SYSTEM ` + partition(disk.Partition{Number: number}), Good: "mkfs.fat 4.2 and no more."}}
}

func formatCommands(d *startup.Drive, p disk.Partition) []Command {
	first := p.Start * per512(d.Contents)
	return []Command{findClone(d), save("clone-boot-partition.bin", first, min(p.Length*per512(d.Contents), 2048)),
		{Text: `mkfs.vfat -F 32 -n SYSTEM ` + partition(p), Good: "mkfs.fat 4.2 and no more.", Bad: "A partition too small for FAT32 says so: leave -F 32 away."}}
}

// mounted mounts the clone's boot partition around commands.
func mounted(d *startup.Drive, p disk.Partition, cmds ...Command) []Command {
	out := []Command{findClone(d), {Text: `mkdir -p /mnt/boot && mount ` + partition(p) + ` /mnt/boot`, Good: "No answer."}}
	return append(append(out, cmds...), Command{Text: `umount /mnt/boot`, Good: "No answer."})
}

func slashes(path string) string { return strings.ReplaceAll(path, `\`, "/") }

func fallbackCommands(d *startup.Drive, i int, from, to string) []Command {
	dir := to[:strings.LastIndexByte(to, '\\')]
	return mounted(d, d.Contents.Layout.Partitions[i],
		Command{Text: fmt.Sprintf(`mkdir -p /mnt/boot%s && cp /mnt/boot%s /mnt/boot%s`, slashes(dir), slashes(from), slashes(to)), Good: "No answer."})
}

func entryCommands(d *startup.Drive, i int, path string) []Command {
	return []Command{findClone(d), {Text: fmt.Sprintf(`efibootmgr --create --disk "$clone" --part %d --label Clone --loader '%s'`, d.Contents.Layout.Partitions[i].Number, path),
		Good: "BootOrder: … with the new entry first.", Bad: "EFI variables are not supported: the stick was not started in UEFI mode; start it so."}}
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
	cmds := []Command{findClone(d), {Text: `mkdir -p /mnt/clone && mount ` + partition(parts[root]) + ` /mnt/clone`, Good: "No answer."}}
	if boot >= 0 {
		cmds = append(cmds, Command{Text: `mkdir -p /mnt/clone/boot/efi && mount ` + partition(parts[boot]) + ` /mnt/clone/boot/efi`, Good: "No answer."})
	}
	for _, line := range inside {
		cmds = append(cmds, Command{Text: line, Good: "No error."})
	}
	return append(cmds, Command{Text: `umount -R /mnt/clone`, Good: "No answer."})
}

func linuxFilesCommands(d *startup.Drive, boot, root int) []Command {
	install := `chroot /mnt/clone grub-install "$clone"`
	if boot >= 0 {
		install = `chroot /mnt/clone grub-install --target=x86_64-efi --efi-directory=/boot/efi --bootloader-id=debian`
	}
	lines := append(fstabLines(d, boot, root), install, `chroot /mnt/clone update-grub`)
	if boot >= 0 {
		lines = append(lines, `mkdir -p /mnt/clone/boot/efi/EFI/BOOT && cp /mnt/clone/boot/efi/EFI/debian/grubx64.efi /mnt/clone/boot/efi/EFI/BOOT/BOOTX64.EFI`)
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
		lines = append(lines, fmt.Sprintf(`sed -i -E "s#^[^ \t\#]+([ \t]+/boot/efi[ \t])#UUID=$(blkid -s UUID -o value %s)\1#" /mnt/clone/etc/fstab`, strings.ReplaceAll(partition(d.Contents.Layout.Partitions[boot]), `"`, "")))
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

// The commands for Windows' recovery environment are lines of a batch file; for
// typing them a doubled percent sign is a single one.

// findInWindows sets CLONE to the number that the recovery environment gives the
// clone, found by its identifier, and stops when it is not there or not alone.
// The command ver makes up for the last search, which may have found nothing.
func findInWindows(d *startup.Drive) []Command {
	id, _ := d.Contents.Layout.DiskID().Get()
	size := int64(d.Contents.Layout.Sectors) * int64(d.Contents.Layout.SectorSize)
	return []Command{{
		Text: fmt.Sprintf("set CLONE=\r\nset FOUND=0\r\nfor /l %%%%i in (0,1,15) do (\r\n  (echo select disk %%%%i& echo uniqueid disk) > \"%%TEMP%%\\find.txt\"\r\n  diskpart /s \"%%TEMP%%\\find.txt\" | find /i \"%s\" > nul && (set CLONE=%%%%i& set /a FOUND+=1)\r\n)\r\nver > nul\r\n"+
			"if not \"%%FOUND%%\"==\"1\" (echo The clone, %s, is not here, or there are two of it: stop.& exit /b 1)\r\necho The clone is disk %%CLONE%%", strings.Trim(id, "{}"), disk.Both(size)),
		Good: "The clone is disk …: check in list disk that its size is " + disk.Binary(size) + ". The lines are of a batch file: typed by hand, %%i is %i.", Bad: "Do not go on. Unplug the original and look again.",
	}}
}

// diskpart runs a script on the clone.
func diskpart(d *startup.Drive, good string, lines ...string) []Command {
	var b strings.Builder
	b.WriteString("(\r\n  echo select disk %CLONE%\r\n")
	for _, l := range lines {
		b.WriteString("  echo " + l + "\r\n")
	}
	b.WriteString(") > \"%TEMP%\\repair.txt\"\r\ndiskpart /s \"%TEMP%\\repair.txt\"")
	return append(findInWindows(d), Command{Text: b.String(), Good: good, Bad: "Read the message; nothing after it was done."})
}

func typeDiskpart(d *startup.Drive, p disk.Partition) []Command {
	return diskpart(d, "DiskPart successfully set the partition ID.", fmt.Sprintf("select partition %d", p.Number), "set id="+strings.ToLower(disk.TypeESP.String()))
}

func activeDiskpart(d *startup.Drive, p disk.Partition) []Command {
	var lines []string
	for _, q := range d.Contents.Layout.Partitions {
		if q.Active && q.Number != p.Number {
			lines = append(lines, fmt.Sprintf("select partition %d", q.Number), "inactive")
		}
	}
	return diskpart(d, "DiskPart marked the current partition as active.", append(lines, fmt.Sprintf("select partition %d", p.Number), "active")...)
}

func createDiskpart(d *startup.Drive, c *startup.Contents, shrunk int) []Command {
	var lines []string
	if shrunk >= 0 {
		lines = append(lines, fmt.Sprintf("select partition %d", c.Layout.Partitions[shrunk].Number), fmt.Sprintf("shrink desired=%d minimum=%d", espMiB, espMiB))
	}
	return diskpart(d, "DiskPart succeeded in creating the specified partition; 100 percent completed.", append(lines, fmt.Sprintf("create partition efi size=%d", espMiB), "format quick fs=fat32 label=SYSTEM")...)
}

func formatDiskpart(d *startup.Drive, p disk.Partition) []Command {
	return diskpart(d, "100 percent completed; DiskPart successfully formatted the volume.", fmt.Sprintf("select partition %d", p.Number), "format quick fs=fat32 label=SYSTEM")
}

// letters gives the clone's partitions letters of their own for a while.
func letters(d *startup.Drive, boot, system int) []Command {
	parts := d.Contents.Layout.Partitions
	lines := []string{fmt.Sprintf("select partition %d", parts[boot].Number), "assign letter=S"}
	if system >= 0 && system != boot {
		lines = append(lines, fmt.Sprintf("select partition %d", parts[system].Number), "assign letter=W")
	}
	return diskpart(d, "DiskPart successfully assigned the drive letter.", lines...)
}

func windowsFilesCommands(d *startup.Drive, boot, system int, mode firmware.Mode) []Command {
	form, store, letter := "UEFI", `S:\EFI\Microsoft\Boot\BCD`, "W"
	if mode == firmware.Legacy {
		form, store = "BIOS", `S:\Boot\BCD`
	}
	if boot == system {
		letter = "S"
	}
	return append(letters(d, boot, system),
		Command{Text: fmt.Sprintf(`if exist %s ren %s BCD.bak`, store, store), Good: "No answer."},
		Command{Text: fmt.Sprintf(`bcdboot %s:\Windows /s S: /f %s`, letter, form), Good: "Boot files successfully created.", Bad: "Failure when attempting to copy boot files: check that S: is the boot partition and " + letter + ": holds Windows."})
}

func fallbackDiskpart(d *startup.Drive, i int, from, to string) []Command {
	return append(letters(d, i, -1), Command{Text: fmt.Sprintf(`mkdir S:%s 2> nul & copy /y S:%s S:%s`, to[:strings.LastIndexByte(to, '\\')], from, to), Good: "1 file(s) copied."})
}

func convertCommands(d *startup.Drive) []Command {
	return append(findInWindows(d),
		Command{Text: `mbr2gpt /validate /disk:%CLONE%`, Good: "Validation completed successfully.", Bad: "It says what stands in the way; nothing was changed."},
		Command{Text: `mbr2gpt /convert /disk:%CLONE%`, Good: "Conversion completed successfully."})
}

func safeStartCommands(m startup.Machine) []Command {
	d := clone(m)
	boot := bootOf(m, d.Contents)
	store := `S:\EFI\Microsoft\Boot\BCD`
	if isLegacy(m) {
		store = `S:\Boot\BCD`
	}
	var cmds []Command
	if boot >= 0 {
		cmds = letters(d, boot, -1)
	}
	return append(cmds,
		Command{Text: fmt.Sprintf(`bcdedit /store %s /set {default} safeboot minimal`, store), Good: "The operation completed successfully."},
		Command{Text: "Start the machine once: it comes up in safe mode and loads the driver. Then, in a command prompt as administrator: bcdedit /deletevalue {default} safeboot", Good: "The operation completed successfully.", Bad: "Still 0x7B: set the controller's mode back, or copy the drive's driver in with dism."})
}
