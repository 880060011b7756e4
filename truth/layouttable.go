package truth

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// The layouts that are started.

const (
	byUUID   = "UUID=" + rootUUID
	onGroup  = "(lvm/vg-root)/boot/grub"
	onMirror = "(mduuid/4d1f0b6e911a475c8e0d3b0c991f2271)/boot/grub"
	noRoot   = "ALERT!"
	rescue   = "grub rescue>|grub>"
	noInit   = "No init found|Target filesystem doesn't have"
	// What mount says of a subvolume that is not there, and the initial RAM disk then.
	noSubvolume = "No such file or directory|mounting .* failed"
)

// chosen is a menu in which the second entry alone names the right root, and the default
// is what a script says.
func chosen(script string) string {
	return script + "\n" + menuEntry("wrong", "w", "@KERNEL@", "@RAM@", "UUID="+otherUUID) + "submenu 'more' --id more {\n" +
		menuEntry("wrong again", "v", "@KERNEL@", "@RAM@", "UUID="+otherUUID) + menuEntry("right", "r", "@KERNEL@", "@RAM@", byUUID) + "}\n" +
		menuEntry("right", "x", "@KERNEL@", "@RAM@", byUUID)
}

const debianDefault = `if [ -s $prefix/grubenv ]; then
  load_env
fi
if [ "${next_entry}" ] ; then
   set default="${next_entry}"
else
   set default="${saved_entry}"
fi`

func layouts() []layout {
	extended := diskmaker.Partition{Type: disk.MustGUID("BC13C2FF-59E6-4262-A352-B275FD6F7172"), MiB: 160,
		Volume: diskmaker.Volume{Kind: "fat32", Serial: 0x0B007B00}}
	ext := layout{firmware: OVMF, root: byUUID, prefix: "(,gpt2)/boot/grub", lay: plainExt}
	menu := func(name, script, env, shows string) layout {
		l := ext
		l.name, l.menu, l.env, l.shows = name, chosen(script), env, shows
		return l
	}
	boot := func(name, shows string, parts []diskmaker.Partition,
		files func(dir, tree string) (map[int]map[string][]byte, error)) layout {
		l := ext
		l.name, l.shows, l.parts, l.boot = name, shows, parts, files
		return l
	}
	subvolume := func(name, before, options string, byDefault bool, shows string) layout {
		l := ext
		l.name, l.shows, l.prefix, l.lay = name, shows, "(,gpt2)"+before+"/boot/grub", inSubvolume(byDefault, rootUUID)
		l.menu = "set default=0\n" + menuEntry("Debian", "d", before+"@KERNEL@", before+"@RAM@", byUUID+options)
		return l
	}
	return []layout{
		{name: "root on LVM", firmware: OVMF, root: "/dev/mapper/vg-root", prefix: onGroup, lay: onLVM()},
		{name: "root on LVM by UUID", firmware: OVMF, root: byUUID, prefix: onGroup, lay: onLVM()},
		{name: "root on LVM, legacy", firmware: SeaBIOS, root: "/dev/vg/root", prefix: onGroup, lay: onLVM()},
		{name: "root on LVM, a new identifier of the group", firmware: OVMF, root: "/dev/mapper/vg-root", prefix: onGroup, lay: onLVM("vgchange", "-u", "vg")},
		{name: "root on LVM, the group renamed", firmware: OVMF, root: "/dev/mapper/vg-root", prefix: onGroup, shows: rescue, lay: onLVM("vgrename", "vg", "other"), was: onLVM()},
		{name: "root on LVM, a volume that is not there", firmware: OVMF, root: "/dev/mapper/vg-gone", prefix: onGroup, shows: noRoot, lay: onLVM()},
		{name: "root on one half of a mirror", firmware: OVMF, root: byUUID, prefix: onMirror, lay: onRAID},
		{name: "root on one half of a mirror, legacy", firmware: SeaBIOS, root: byUUID, prefix: onMirror, lay: onRAID},
		{name: "root on a plain file system, by a volume of LVM", firmware: OVMF, root: "/dev/mapper/vg-root", prefix: ext.prefix, shows: noRoot, lay: plainExt},
		{name: "root on XFS", firmware: OVMF, root: byUUID, prefix: ext.prefix, lay: mounted("mkfs.xfs", "-q", "-f", "-m", "uuid="+rootUUID)},
		{name: "root on XFS, legacy", firmware: SeaBIOS, root: byUUID, prefix: "(,msdos1)/boot/grub", lay: mounted("mkfs.xfs", "-q", "-f", "-m", "uuid="+rootUUID)},
		{name: "root on XFS with a new identifier", firmware: OVMF, root: byUUID, prefix: ext.prefix, shows: noRoot, lay: mounted("mkfs.xfs", "-q", "-f", "-m", "uuid="+otherUUID),
			was: mounted("mkfs.xfs", "-q", "-f", "-m", "uuid="+rootUUID)},
		{name: "root on Btrfs", firmware: OVMF, root: byUUID, prefix: ext.prefix, lay: mounted("mkfs.btrfs", "-q", "-f", "-U", rootUUID)},
		subvolume("root in a subvolume of Btrfs", "/@", " rootflags=subvol=@", false, ""),
		subvolume("root in a subvolume of Btrfs, by its number", "/@", " rootflags=subvolid=256", false, ""),
		subvolume("root in the default subvolume of Btrfs", "/@", "", true, ""),
		subvolume("root in a subvolume of Btrfs that is not named", "/@", "", false, noInit),
		subvolume("root in a subvolume of Btrfs that is not there", "/@", " rootflags=subvol=gone", true, noSubvolume),
		subvolume("GRUB's folder without its subvolume", "", " rootflags=subvol=@", false, rescue),
		menu("the saved entry of a menu", debianDefault, "saved_entry=x", ""),
		menu("the saved entry within a submenu", debianDefault, "saved_entry=more>r", ""),
		menu("the next entry before the saved one", debianDefault, "saved_entry=x\nnext_entry=w", noRoot),
		menu("a saved entry that is not there", debianDefault, "saved_entry=gone", noRoot),
		menu("an entry by its number, submenus counted once", "set default=2", "", ""),
		menu("a default that a condition sets", "if [ x$feature_menuentry_id = xy ]; then set default=r; set default=x; else set default=w; fi", "", ""),
		boot("systemd-boot with an entry", "", nil, entries(0, map[string]string{"a": byUUID})),
		boot("systemd-boot, the newer entry", "", nil, entries(0, map[string]string{"linux-6.9": "UUID=" + otherUUID, "linux-6.10": byUUID})),
		boot("systemd-boot, the entry that its settings name", noRoot, nil, entries(0, map[string]string{"linux-6.9": "UUID=" + otherUUID, "linux-6.10": byUUID,
			"": "default linux-6.9*\n"})),
		boot("systemd-boot, entries on the extended boot loader partition", "", []diskmaker.Partition{extended}, entries(1, map[string]string{"a": byUUID})),
		boot("a unified kernel under systemd-boot", "", nil, unified(`\EFI\Linux\debian.efi`, byUUID)),
		boot("a unified kernel as the fallback", "", nil, unified(fallbackX64, byUUID)),
		boot("a unified kernel with another root", noRoot, nil, unified(fallbackX64, "UUID="+otherUUID)),
	}
}

// renamedLayouts are copies in which volumes have other names than mount table and menus say:
// what programs do that give a copy new identifiers.
func renamedLayouts() []layout {
	const finds = "search.fs_uuid " + rootUUID + " root\nset prefix=($root)/boot/grub\n"
	const group, groupTable = "/dev/mapper/vg-root", "/dev/mapper/vg-root / ext4 errors=remount-ro 0 1\n"
	rename := onLVM("vgrename", "vg", "other-group")
	boot := diskmaker.Partition{Type: disk.TypeLinuxData, MiB: bootMiB,
		Volume: diskmaker.Volume{Kind: "raw", Raw: make([]byte, 512)}}
	apart := func(name, root, fstab string, lay, was func(dir, tree, volume string) error) layout {
		return layout{name: "/boot by itself, " + name, firmware: OVMF, root: root,
			menu: menuInBoot(root, bootGone), fstab: fstab, shows: "grub>",
			parts: []diskmaker.Partition{boot}, bootUUID: bootFSUUID, boot: throughStub(bootGone), lay: lay, was: was}
	}
	bootTable := func(root string) string {
		return root + " / auto defaults 0 1\nUUID=" + bootGone + " /boot ext4 defaults 0 2\n"
	}
	subvolume := strings.Replace(menuEntry("Debian", "d", "/@@KERNEL@", "/@@RAM@", byUUID), "root="+byUUID, "root="+byUUID+" rootflags=subvol=@", 1)
	return []layout{
		{name: "root on LVM, the group renamed, GRUB goes by the file system", firmware: OVMF, root: group, fstab: groupTable,
			prefix: "/boot/grub", early: finds, shows: noRoot, lay: rename, was: onLVM()},
		{name: "systemd-boot, root on LVM, the group renamed", firmware: OVMF, root: group, fstab: groupTable, shows: noRoot, lay: rename, was: onLVM(),
			boot: entries(0, map[string]string{"a": group})},
		{name: "root on LVM, the group renamed, legacy", firmware: SeaBIOS, root: group, fstab: groupTable, prefix: onGroup,
			shows: rescue, lay: rename, was: onLVM()},
		{name: "root in a subvolume of Btrfs with a new identifier", firmware: OVMF, root: byUUID, prefix: "(,gpt2)/@/boot/grub",
			menu: "set default=0\n" + subvolume, fstab: byUUID + " / btrfs subvol=@ 0 0\n", shows: noRoot,
			lay: inSubvolume(false, otherUUID), was: inSubvolume(false, rootUUID)},
		{name: "root on one half of a mirror with a new identifier", firmware: OVMF, root: byUUID, prefix: onMirror, shows: noRoot,
			lay: onRAIDAs(otherUUID)},
		apart("both with new identifiers, root on XFS", byUUID, bootTable(byUUID),
			mounted("mkfs.xfs", "-q", "-f", "-m", "uuid="+otherUUID), mounted("mkfs.xfs", "-q", "-f", "-m", "uuid="+rootUUID)),
		apart("with a new identifier, root on LVM, the group renamed", group, bootTable(group), rename, onLVM()),
		apart("with a new identifier, root in a subvolume of Btrfs with another", byUUID+" rootflags=subvol=@",
			strings.Replace(bootTable(byUUID), "auto defaults", "btrfs subvol=@", 1), inSubvolume(false, otherUUID), inSubvolume(false, rootUUID)),
	}
}

// menuInBoot is a menu in a /boot by itself, which it looks for by a UUID.
func menuInBoot(root, uuid string) string {
	return "set default=0\nmenuentry 'Debian' {\n\tsearch --no-floppy --fs-uuid --set=root " + uuid +
		"\n\tlinux @BOOTKERNEL@ root=" + root + kernelLine + "\n\tinitrd @BOOTRAM@\n}\n"
}

// bootFSUUID is what a /boot by itself is called on a copy with new identifiers.
const bootFSUUID = "c1d27f4e-3a50-4a0e-8a3e-64a2f6c6a7b2"

// bootGone is what it was called on the original.
const bootGone = "1f1a3a58-94a3-4c80-9f0c-1e4f1a0f5b01"

// throughStub has GRUB on the boot partition, whose configuration there looks for /boot by
// its UUID, as the families' own programs write it.
func throughStub(uuid string) func(dir, tree string) (map[int]map[string][]byte, error) {
	return func(dir, _ string) (map[int]map[string][]byte, error) {
		program, err := grubProgram(dir, "/EFI/debian", "")
		stub := onSerial + "search.fs_uuid " + uuid + " root\nset prefix=($root)'/grub'\nconfigfile $prefix/grub.cfg\n"
		return map[int]map[string][]byte{0: {fallbackX64: program, `\EFI\debian\grub.cfg`: []byte(stub)}}, err
	}
}

// systemdBoot is Debian's unsigned program.
func systemdBoot() ([]byte, error) {
	return os.ReadFile("/usr/lib/systemd/boot/efi/systemd-bootx64.efi")
}

// kernelAndRAM are the files that a menu loads.
func kernelAndRAM(tree string) (kernel, ram []byte, err error) {
	k, r := kernelsOf(tree)
	if kernel, err = os.ReadFile(filepath.Join(tree, k)); err == nil {
		ram, err = os.ReadFile(filepath.Join(tree, r))
	}
	return kernel, ram, err
}

// entries has systemd-boot on the boot partition, and entries with their kernel on one of
// the partitions: each with its root, and with no name the settings.
func entries(on int, named map[string]string) func(dir, tree string) (map[int]map[string][]byte, error) {
	return func(_, tree string) (map[int]map[string][]byte, error) {
		program, err := systemdBoot()
		if err != nil {
			return nil, err
		}
		kernel, ram, err := kernelAndRAM(tree)
		if err != nil {
			return nil, err
		}
		files := map[int]map[string][]byte{0: {}, on: {}}
		files[0][fallbackX64] = program
		files[on][`\vmlinuz`], files[on][`\initrd.img`] = kernel, ram
		files[0][`\loader\loader.conf`] = []byte("timeout 0\n" + named[""])
		for name, root := range named {
			if name != "" {
				files[on][`\loader\entries\`+name+".conf"] = []byte("title " + name + "\nversion " + strings.TrimPrefix(name, "linux-") +
					"\nlinux /vmlinuz\ninitrd /initrd.img\noptions root=" + root + kernelLine + "\n")
			}
		}
		return files, nil
	}
}

// unified has a unified kernel at a path, and systemd-boot as the fallback where that is
// another one.
func unified(path, root string) func(dir, tree string) (map[int]map[string][]byte, error) {
	return func(dir, tree string) (map[int]map[string][]byte, error) {
		program, err := systemdBoot()
		if err != nil {
			return nil, err
		}
		kernel, ram := kernelsOf(tree)
		options, release, out := filepath.Join(dir, "options"), filepath.Join(tree, "etc/os-release"), filepath.Join(dir, "unified.efi")
		if err := os.WriteFile(options, []byte("root="+root+kernelLine), 0o600); err != nil {
			return nil, err
		}
		// Where systemd's own tool puts the sections. systemd-stub(7).
		args := []string{}
		for _, s := range []struct {
			name, file string
			at         int
		}{{".osrel", release, 0x20000}, {".cmdline", options, 0x30000}, {".linux", filepath.Join(tree, kernel), 0x2000000}, {".initrd",
			filepath.Join(tree, ram), 0x3000000}} {
			args = append(args, "--add-section", s.name+"="+s.file, "--change-section-vma", fmt.Sprintf("%s=%#x", s.name, s.at))
		}
		if err := run("objcopy", append(args, "/usr/lib/systemd/boot/efi/linuxx64.efi.stub", out)...); err != nil {
			return nil, err
		}
		raw, err := os.ReadFile(out)
		return map[int]map[string][]byte{0: {fallbackX64: program, path: raw, `\loader\loader.conf`: []byte("timeout 0\n")}}, err
	}
}
