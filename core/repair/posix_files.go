package repair

import (
	_ "embed"
	"fmt"
	"strconv"
	"strings"

	"latchkey/core/command"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// The programs that edit files: nothing in them varies, they get what they put
// there as variables.
var (
	//go:embed mounts.awk
	mountsProgram string
	//go:embed names.awk
	namesProgram string
)

func fallbackCommands(d *machine.Drive, i int, copies []copied) []Command {
	const boot = "/mnt/boot"
	cmds := []Command{mount(d.Contents.Layout.Partitions[i], boot)}
	for _, c := range copies {
		target := boot + slashes(c.to)
		cmds = append(cmds, line(command.All(command.Run("mkdir", "-p", target[:strings.LastIndexByte(target, '/')]),
			unless(missing("-f", target), command.Run("cp", target, target+".bak")),
			command.Run("cp", boot+slashes(c.from), target)),
			quiet, "No space left: delete what is not of the start. Read-only: the file system is damaged; mark the step as failed."))
	}
	return append(cmds, line(command.Run("umount", boot), quiet, "Leave the folder /mnt/boot, and give it again."))
}

// copyFilesCommands copy what the original's boot partition holds, which is mounted
// read-only.
func copyFilesCommands(d, o *machine.Drive, i, j int) []Command {
	const boot, from = "/mnt/boot", "/mnt/original-boot"
	return append(fromOriginal(o, j, from, "ro"),
		mount(d.Contents.Layout.Partitions[i], boot),
		line(command.Run("cp", "-R", from+"/.", boot), quiet, "No space left: the clone's boot partition is smaller than what the original's holds; mark the step as failed."),
		line(command.Run("umount", boot), quiet, "Leave the folder /mnt/boot, and give it again."),
		line(command.Run("umount", from), quiet, "Leave the folder /mnt/original-boot, and give it again."))
}

// fromOriginal mounts a partition of the original on a folder, with options by which nothing is written.
func fromOriginal(o *machine.Drive, partition int, folder, options string) []Command {
	source := command.Join(command.Var("original"), command.Output(command.Fixed("case $original in *[0-9]) echo p;; esac")),
		o.Contents.Layout.Partitions[partition].Number)
	return []Command{findNow("original", o),
		line(command.All(command.Run("[", command.Var("original"), "!=", onClone, "]"), command.Run("mkdir", "-p", folder),
			command.Run("mount", "-o", options, source, folder)), quiet, unmounted)}
}

// entryCommands add a boot entry that leads to a program, and gives it a line; "" is none. efibootmgr(8).
func entryCommands(d *machine.Drive, i int, path, given string) []Command {
	return []Command{line(newEntry(d, i, "Clone", path, given),
		"BootOrder: … with the new entry first.", "EFI variables are not supported: the stick was not started in UEFI mode; start it so.")}
}

// newEntry adds an entry, first in the order.
func newEntry(d *machine.Drive, i int, label, path, given string) command.Simple {
	args := []any{"efibootmgr", "--create", "--disk", onClone, "--part", d.Contents.Layout.Partitions[i].Number, "--label", label, "--loader", path}
	if given != "" {
		args = append(args, "--unicode", given)
	}
	return command.Run(args...)
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
		line(command.Either(look, command.Sequence(other, command.Run("exit", "1"))),
			fmt.Sprintf("Boot%04X* %s", e.Number, e.Description), "Take efibootmgr -v as new evidence, and have the plan made anew."),
		line(command.All(command.Run("efibootmgr", "--bootnum", fmt.Sprintf("%04X", e.Number), "--active", "--quiet"), command.Run("efibootmgr", "--bootorder", hexes(order))),
			"BootOrder: "+hexes(order), "Invalid BootOrder: an entry is gone since. Take efibootmgr -v as new evidence, and have the plan made anew.")}
}

// inSystem runs commands within the clone's Linux, with the devices and the
// kernel's own file systems where its programs look for them: the folders are made that a copy of files left out.
func inSystem(d *machine.Drive, n machine.Names, inside func(root command.Word) []command.Node) []Command {
	return onRoot(d, n, func(root command.Word) []command.Node {
		return append([]command.Node{command.Fixed(`for f in dev proc sys run; do [ -e /mnt/clone/$f ] || [ -L /mnt/clone/$f ] || mkdir /mnt/clone/$f || exit 1; done`),
			command.Fixed(`for f in dev proc sys; do readlink -f /mnt/clone/$f | grep -q '^/mnt/clone/' && mount --rbind /$f /mnt/clone/$f || exit 1; done`)}, inside(root)...)
	})
}

// usrOf is where the /usr of a system lies that has one by itself: programs of the system want it.
func usrOf(c *machine.Contents, n machine.Names) (machine.Address, bool) {
	for _, r := range n.Mounts {
		if r.Point == machine.UsrPoint {
			return r.To, true
		}
	}
	if n.Within != nil || n.NoRoot {
		return machine.Address{}, false
	}
	return c.MountedAt(n.Root, machine.UsrPoint)
}

// onRoot runs commands while the clone's root is mounted; inside gets its device.
func onRoot(d *machine.Drive, n machine.Names, inside func(root command.Word) []command.Node) []Command {
	c := d.Contents
	m := mounting{done: map[string]bool{}}
	if n.NoRoot {
		return onBoot(d, n, m, inside)
	}
	var root command.Word
	if n.Within != nil {
		root = m.within(c, n, mountedClone)
	} else {
		root = m.at(c, n.Root, mountedClone)
	}
	if usr, ok := usrOf(c, n); ok {
		m.at(c, usr, mountedClone+"/usr")
	}
	if n.HomeKnown && n.Home != n.Root {
		m.at(c, n.Home, mountedClone+"/boot")
	}
	if n.Boot >= 0 && n.Home != (machine.Address{Index: n.Boot}) {
		m.partitionAt(c.Layout.Partitions[n.Boot], mountedClone+"/boot/efi")
	}
	cmds := m.open
	for _, x := range inside(root) {
		cmds = append(cmds, line(x, "No error.", "Give the last command, umount, and mark the step as failed with the message."))
	}
	return append(append(cmds, line(command.Run("umount", "-R", mountedClone), quiet, "Leave the folder /mnt/clone, and give it again.")), m.shut...)
}

// onBoot runs commands while the clone's /boot alone is mounted, where it would be in its system.
func onBoot(d *machine.Drive, n machine.Names, m mounting, inside func(root command.Word) []command.Node) []Command {
	home := m.at(d.Contents, n.Home, mountedClone+"/boot")
	cmds, shut := m.open, mountedClone+"/boot"
	if n.Boot >= 0 {
		cmds = append(cmds, mount(d.Contents.Layout.Partitions[n.Boot], mountedClone+"/boot/efi"))
	}
	for _, x := range inside(home) {
		cmds = append(cmds, line(x, "No error.", "Give the last command, umount, and mark the step as failed with the message."))
	}
	return append(append(cmds, line(command.Run("umount", "-R", shut), quiet, "Leave the folder /mnt/clone, and give it again.")), m.shut...)
}

// lookInsideCommands open an encrypted volume for reading, list what lies in it, and close it.
// cryptsetup-open(8); lvmconfig(8), devices/filter.
func lookInsideCommands(d *machine.Drive, at machine.Address) []Command {
	const name, device = "clone-inside", "/dev/mapper/clone-inside"
	group := func(verb string) command.Node {
		return command.Either(command.Run("lvm", "vgchange", verb, "--config", `devices { use_devicesfile=0 filter=["a|^`+device+`$|","r|.*|"] }`),
			command.Run("true"))
	}
	return []Command{
		line(command.Run("cryptsetup", "open", "--readonly", reach(d.Contents, at).device, name), "No answer but the question for the passphrase.", "No key available: it is another passphrase. The header is damaged: copy again."),
		line(group("-ay"), "Where a volume group lies in it: …logical volume(s) … now active. Else no answer.", "Give the next lines all the same."),
		line(command.Run("lsblk", "-o", "NAME,FSTYPE,UUID,LABEL", device), "It lists the root by the name that the question tells.", "It is not there: mark the step as failed, and answer the question with no."),
		line(group("-an"), quiet, "Give the next line all the same."),
		line(command.Run("cryptsetup", "close", name), quiet, "It is in use: leave its folders, and give it again."),
	}
}

// chroot runs a program of the clone's own system.
func chroot(args ...any) command.Simple {
	return command.Run(append([]any{"chroot", mountedClone}, args...)...)
}

// efiFolder is where the boot partition is mounted in the clone's system.
func efiFolder(n machine.Names) string {
	if n.Home == (machine.Address{Index: n.Boot}) {
		return "/boot"
	}
	return "/boot/efi"
}

func linuxFilesCommands(d *machine.Drive, n machine.Names, a firmware.Arch, f family) []Command {
	names := f.names(d.Contents, n.Boot)
	target := "--target=" + grubPlatform(a, n.Boot >= 0) // else it goes by how the live system was started
	install := chroot(f.install, target, onClone)
	if n.Boot >= 0 {
		install = chroot(f.install, target, "--efi-directory="+efiFolder(n), "--bootloader-id="+names.Folder, "--no-nvram")
	}
	menu := mountedClone + "/boot/" + names.Dir + "/grub.cfg"
	efi := mountedClone + efiFolder(n)
	return inSystem(d, n, func(root command.Word) []command.Node {
		nodes := []command.Node{f.has}
		if n.Boot >= 0 {
			nodes = append(nodes, command.Run("efibootmgr").To("entries-before"))
		}
		nodes = append(nodes, mountTable(d, n)...)
		nodes = append(nodes, unless(missing("-f", menu), spared(menu)))
		if n.Boot >= 0 {
			nodes = append(nodes, unless(missing("-d", efi+"/EFI"), command.Run("cp", "-r", efi+"/EFI", "before-linux-boot-files-EFI")))
		}
		nodes = append(nodes, linkedByUUID(d, n, root)...)
		nodes = append(nodes, install, chroot(f.menu...))
		if n.Boot >= 0 {
			// The shim starts the GRUB that lies beside it, under secure boot, too: both are copied.
			program, shim := efi+slashes(names.Program(a)), efi+slashes(names.Shim(a))
			fallback := efi + slashes(loader.FallbackPath(a))
			nodes = append(nodes, command.All(command.Run("mkdir", "-p", efi+"/EFI/BOOT"), command.Run("cp", program, fallback),
				unless(missing("-f", shim), command.Run("cp", program, efi+"/EFI/BOOT/grub"+loader.Suffix(a)), command.Run("cp", shim, fallback))))
			// Whether the installer's own entry is made hangs on what the system on the clone has.
			nodes = append(nodes, newEntry(d, n.Boot, names.Folder, names.Starts(&d.Contents.Volumes[n.Boot], a), ""))
		}
		return nodes
	})
}

// linkedByUUID has the root's name by its UUID: without it the menu would name the kernel's device, which is
// another one when the drive hangs elsewhere.
func linkedByUUID(d *machine.Drive, n machine.Names, root command.Word) []command.Node {
	uuid, ok := rootUUID(d, n)
	if !ok {
		return nil
	}
	byUUID := "/dev/disk/by-uuid/" + uuid
	return []command.Node{command.All(command.Run("mkdir", "-p", "/dev/disk/by-uuid"),
		unless(exists("-e", byUUID), command.Run("ln", "-s", root, byUUID)))}
}

// rootUUID is by which UUID the root's file system is known.
func rootUUID(d *machine.Drive, n machine.Names) (uuid string, ok bool) {
	if n.Within != nil {
		return n.Within.Spec.Value, n.Within.Spec.Kind == loader.ByFSUUID
	}
	return d.Contents.At(n.Root).Serial, true
}

// edited puts what a program makes of a file in its place, when it succeeds.
func edited(program command.Simple, file any) command.Node {
	return command.All(inClone(file), program.From(file).To("edited"), command.Run("cp", "edited", file))
}

// fresh sets a variable to the UUID that a file system has when the commands run: one that
// was made by a step before has one that nobody knew when they were written.
func fresh(d *machine.Drive, name command.Name, at machine.Address) command.Node {
	return command.Set(name, command.Output(command.Run("blkid", "-p", "-s", "UUID", "-o", "value", reach(d.Contents, at).device)))
}

// mountTable lets the mount table name the clone's own file systems.
func mountTable(d *machine.Drive, n machine.Names) []command.Node {
	const table = mountedClone + "/etc/fstab"
	if n.NoRoot {
		return nil
	}
	nodes := []command.Node{spared(table)}
	change := func(point string, old loader.Spec) command.Simple {
		line := command.Run("awk", mountsProgram).With("point", point)
		// Of other kinds there are several ways to write a name.
		asItIs := old.Kind == loader.ByFSUUID || old.Kind == loader.ByPartUUID || old.Kind == loader.ByDevice ||
			old.Kind == loader.ByOwnName
		if asItIs && machine.Plain(old) {
			line = line.With("old", old.Value)
		}
		if n.Within != nil { // the table is not in evidence
			line = line.With("perhaps", "yes")
		}
		return line
	}
	for _, r := range n.Mounts {
		if r.New.Kind != loader.ByFSUUID {
			nodes = append(nodes, edited(change(r.Point, r.Old).With("device", machine.DeviceText(r.New)), table))
			continue
		}
		nodes = append(nodes, command.All(fresh(d, "uuid", r.To),
			edited(change(r.Point, r.Old).With("device", command.Join("UUID=", command.Var("uuid"))), table)))
	}
	for _, m := range n.Lax {
		nodes = append(nodes, edited(change(m.Field, m.Spec).With("lax", "yes"), table))
	}
	for _, m := range n.AnyType {
		nodes = append(nodes, edited(change(m.Field, m.Spec).With("type", "auto"), table))
	}
	return nodes
}

// newNames are pairs of an old name and a new one, for the program that puts the one in the
// place of the other.
func newNames(d *machine.Drive, n machine.Names) (set []command.Node, pairs command.Word) {
	variables := map[machine.Address]command.Name{}
	for _, r := range n.Menus {
		for _, t := range r.Texts() {
			as := command.Text(t.New)
			if before, ok := strings.CutSuffix(t.New, r.New.Value); ok && r.New.Kind == loader.ByFSUUID {
				name, known := variables[r.To]
				if !known {
					name = command.Name(fmt.Sprintf("uuid%d", len(variables)))
					variables[r.To] = name
					set = append(set, fresh(d, name, r.To))
				}
				as = command.Join(before, command.Var(name))
			}
			pairs = command.Join(pairs, t.Old, " ", as, " ")
		}
	}
	for _, t := range n.Types {
		pairs = command.Join(pairs, t.Old, " ", t.New, " ")
	}
	return set, pairs
}

func linuxNamesCommands(d *machine.Drive, n machine.Names) []Command {
	file := command.Var("f")
	set, pairs := newNames(d, n)
	change := unless(missing("-f", file), spared(file),
		edited(command.Run("awk", namesProgram).With("names", pairs), file))
	files := command.Files("/mnt/clone/boot/grub/grub.cfg /mnt/clone/boot/grub2/grub.cfg /mnt/clone/boot/grub/custom.cfg /mnt/clone/boot/efi/grub/grub.cfg /mnt/clone/boot/EFI/*/grub.cfg /mnt/clone/boot/efi/EFI/*/grub.cfg /mnt/clone/boot/loader/entries/*.conf /mnt/clone/boot/efi/loader/entries/*.conf /mnt/clone/boot/extlinux/extlinux.conf /mnt/clone/extlinux/extlinux.conf /mnt/clone/boot/syslinux/syslinux.cfg /mnt/clone/boot/syslinux/extlinux.conf /mnt/clone/syslinux/syslinux.cfg /mnt/clone/extlinux.conf /mnt/clone/syslinux.cfg /mnt/clone/etc/kernel/cmdline /mnt/clone/etc/default/grub /mnt/clone/boot/grub/grubenv /mnt/clone/boot/grub2/grubenv /mnt/clone/boot/efi/EFI/*/grubenv")
	return onRoot(d, n, func(command.Word) []command.Node {
		nodes := mountTable(d, n)
		if !n.EditsMenus() {
			return nodes
		}
		return append(append(nodes, set...), command.Each("f", files, command.Either(change, command.Run("exit", "1"))))
	})
}

// initialRAMDiskCommands make the initial RAM disks anew, where there is room for so many bytes.
func initialRAMDiskCommands(d *machine.Drive, n machine.Names, m ramDiskMaker, takes int64) []Command {
	free := command.Pipe(command.Run("df", "-Pk", "/mnt/clone/boot"), command.Run("awk", "NR==2{print $4}"))
	room := command.Run("test", command.Output(free), "-ge", strconv.FormatInt(takes>>10, 10))
	return inSystem(d, n, func(command.Word) []command.Node {
		return append([]command.Node{m.has, room, m.keep}, m.make...)
	})
}

func hexes(order []uint16) string {
	var numbers []string
	for _, n := range order {
		numbers = append(numbers, fmt.Sprintf("%04X", n))
	}
	return strings.Join(numbers, ",")
}
