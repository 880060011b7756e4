package field

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// ids are what the parts of a Linux disk are called, by the last digit of their UUIDs.
type ids struct{ root, boot, swap string }

func uuid(kind string, n int) string { return fmt.Sprintf("%s0-1111-4222-8333-%012d", kind, n) }

// numbered are those of the n-th disk.
func numbered(n int) ids { return ids{uuid("0a0a0a0", n), uuid("0b0b0b0", n), uuid("0c0c0c0", n)} }

var (
	shim = diskmaker.Program{Is: "shim", Signed: true, Size: 8192}
	x64  = diskmaker.Program{Signed: true}.Bytes()
)

func grubProgram(prefix string) []byte {
	return diskmaker.Program{Is: "grub", Signed: true, Prefix: prefix, Size: 8192}.Bytes()
}

// based is the root of a system of today: programs in /usr, links to them, folders to mount on.
func based(t *testing.T, release string, more tree) tree {
	t.Helper()
	program, err := os.ReadFile("/bin/true")
	require.NoError(t, err)
	return tree{"usr/lib/os-release": release, "etc/os-release": "-> ../usr/lib/os-release",
		"bin": "-> usr/bin", "sbin": "-> usr/sbin", "lib": "-> usr/lib", "lib64": "-> usr/lib64",
		"usr/lib/systemd/systemd": string(program), "usr/sbin/init": "-> ../lib/systemd/systemd", "usr/bin/sh": string(program),
		"usr/lib64/ld-linux-x86-64.so.2": string(program), "dev": "/", "proc": "/", "sys": "/", "run": "/", "tmp": "/", "var": "/", "home": "/",
		"root": "/", "mnt": "/", "boot/kept": "x"}.with(more)
}

// efiDisk is a GPT disk with an EFI system partition and what follows it.
func efiDisk(id byte, is ids, esp map[string][]byte, rest ...diskmaker.Partition) diskmaker.Disk {
	parts := []diskmaker.Partition{{Type: disk.TypeESP, MiB: 100, Name: "EFI System Partition",
		Volume: diskmaker.Volume{Kind: "fat32", Serial: 0x10000000 | uint64(serialOf(is)), Files: esp}}}
	sectors := uint64(4 << 11)
	for i := range rest {
		if rest[i].Type.IsZero() {
			rest[i].Type = disk.TypeLinuxData
		}
		sectors += rest[i].MiB << 11
	}
	return diskmaker.Disk{Sectors: sectors + 100<<11, Style: diskmaker.GPT, Partitions: append(parts, rest...),
		GUID: disk.MustGUID(fmt.Sprintf("F1E1D000-0000-4000-8000-0000000000%02X", id*16))}
}

// fedora is a workstation: /boot by itself, root and home in subvolumes, entries of the boot loader
// specification. It is called by what names names.
func fedora(t *testing.T, id byte, is, names ids) diskmaker.Disk {
	const version = "6.5.6-300.fc39.x86_64"
	line := "root=UUID=" + names.root + " ro rootflags=subvol=root rhgb quiet"
	boot := tree{"grub2/grub.cfg": blsMenu(names, line), "grub2/grubenv": environment("saved_entry=0123456789abcdef-" + version),
		"loader/entries/0123456789abcdef-" + version + ".conf": "title Fedora Linux (" + version + ") 39 (Workstation Edition)\nversion " + version +
			"\nlinux /vmlinuz-" + version + "\ninitrd /initramfs-" + version + ".img\noptions " + line + " \n" +
			"grub_users $grub_users\ngrub_arg --unrestricted\ngrub_class fedora\n",
		"vmlinuz-" + version: string(x64), "initramfs-" + version + ".img": string(ramDisk)}
	root := based(t, "ID=fedora\nVERSION_ID=39\nNAME=\"Fedora Linux\"\n", tree{"usr/bin/dracut": "#!/bin/sh\n", "usr/sbin/grub2-install": "#!/bin/sh\n",
		"usr/sbin/grub2-mkconfig": "#!/bin/sh\n", "etc/default/grub": "GRUB_CMDLINE_LINUX=\"rootflags=subvol=root rhgb quiet\"\nGRUB_ENABLE_BLSCFG=true\n",
		"etc/kernel/cmdline": line + "\n",
		"etc/fstab": "UUID=" + names.root + " / btrfs subvol=root,compress=zstd:1 0 0\nUUID=" + names.boot + " /boot ext4 defaults 1 2\n" +
			fmt.Sprintf("UUID=1000-%04X /boot/efi vfat umask=0077,shortname=winnt 0 2\n", serialOf(names)) +
			"UUID=" + names.root + " /home btrfs subvol=home,compress=zstd:1 0 0\n"})
	return efiDisk(id, is, shimmed("fedora", "search --no-floppy --root-dev-only --fs-uuid --set=dev "+names.boot+
		"\nset prefix=($dev)/grub2\nexport $prefix\nconfigfile $prefix/grub.cfg\n"),
		diskmaker.Partition{MiB: 200, Volume: volume(t, "ext4", is.boot, 200, boot)},
		diskmaker.Partition{MiB: 300, Volume: btrfs(t, is.root, 300, []string{"root", "home"}, map[string]tree{"root": root})})
}

// serialOf is the serial number of the boot partition of the disk whose parts are called so.
func serialOf(n ids) (serial int) {
	fmt.Sscanf(n.boot[len(n.boot)-12:], "%d", &serial)
	return serial
}

// shimmed is an EFI system partition of a family with a shim, GRUB and the fallback that makes entries.
func shimmed(family, menu string) map[string][]byte {
	at := `\EFI\` + family + `\`
	csv := []byte{0xFF, 0xFE}
	for _, c := range "shimx64.efi," + family + ",,This is the boot entry\r\n" {
		csv = append(csv, byte(c), 0)
	}
	return map[string][]byte{at + "shimx64.efi": shim.Bytes(), at + "grubx64.efi": grubProgram("/EFI/" + family), at + "grub.cfg": []byte(menu),
		at + "BOOTX64.CSV": csv, `\EFI\BOOT\BOOTX64.EFI`: shim.Bytes(),
		`\EFI\BOOT\fbx64.efi`: diskmaker.Program{Signed: true}.Bytes()}
}

// environment is GRUB's block of variables. GNU GRUB Manual, "The GRUB environment block".
func environment(lines ...string) string {
	text := "# GRUB Environment Block\n" + strings.Join(lines, "\n") + "\n"
	return text + strings.Repeat("#", 1024-len(text))
}

// redHat is a server: root and swap in LVM, /boot by itself on XFS, options of kernels in the environment as
// version 8 has them, or in the entries as version 9. Its entries name the group of what names says.
func redHat(t *testing.T, id byte, version int, is, names ids, group, calls string) diskmaker.Disk {
	kernel := fmt.Sprintf("5.14.0-362.el%d.x86_64", version)
	line := "root=/dev/mapper/" + calls + "-root ro crashkernel=auto resume=/dev/mapper/" + calls + "-swap rd.lvm.lv=" + calls + "/root rd.lvm.lv=" + calls + "/swap rhgb quiet"
	options, env := line, environment("saved_entry=fedcba9876543210-"+kernel)
	if version == 8 {
		options, env = "$kernelopts $tuned_params", environment("saved_entry=fedcba9876543210-"+kernel, "kernelopts="+line+" ", "boot_success=0")
	}
	boot := tree{"grub2/grub.cfg": blsMenu(names, line), "grub2/grubenv": env,
		"loader/entries/fedcba9876543210-" + kernel + ".conf": "title Enterprise Linux (" + kernel + ")\nversion " + kernel +
			"\nlinux /vmlinuz-" + kernel + "\ninitrd /initramfs-" + kernel + ".img $tuned_initrd\noptions " + options + "\n",
		"loader/entries/fedcba9876543210-0-rescue.conf": "title Enterprise Linux (0-rescue)\nversion 0-rescue\nlinux /vmlinuz-" + kernel +
			"\ninitrd /initramfs-" + kernel + ".img\noptions " + options + "\n",
		"vmlinuz-" + kernel: string(x64), "initramfs-" + kernel + ".img": string(ramDisk)}
	root := based(t, fmt.Sprintf("ID=\"rhel\"\nID_LIKE=\"fedora\"\nVERSION_ID=\"%d.3\"\n", version), tree{"usr/bin/dracut": "#!/bin/sh\n",
		"usr/sbin/grub2-install": "#!/bin/sh\n", "usr/sbin/grub2-mkconfig": "#!/bin/sh\n",
		"etc/default/grub": "GRUB_CMDLINE_LINUX=\"crashkernel=auto\"\nGRUB_ENABLE_BLSCFG=true\n",
		"etc/fstab": "/dev/mapper/" + calls + "-root / xfs defaults 0 0\nUUID=" + names.boot + " /boot xfs defaults 0 0\n" +
			fmt.Sprintf("UUID=1000-%04X /boot/efi vfat umask=0077,shortname=winnt 0 2\n", serialOf(names)) +
			"/dev/mapper/" + calls + "-swap none swap defaults 0 0\n"})
	pv := diskmaker.Partition{Type: disk.MustGUID("E6D6D379-F507-44C2-A23C-238F2A3DF928"), MiB: 420, Volume: diskmaker.Volume{Kind: "lvm", Group: group,
		Logical: []diskmaker.Logical{{Name: "swap", MiB: 64, Volume: volume(t, "swap", is.swap, 64, nil)},
			{Name: "root", MiB: 320, Volume: volume(t, "xfs", is.root, 320, root)}}}}
	return efiDisk(id, is, shimmed("redhat", "search --no-floppy --fs-uuid --set=dev "+names.boot+"\nset prefix=($dev)/grub2\nexport $prefix\nconfigfile $prefix/grub.cfg\n"),
		diskmaker.Partition{MiB: 320, Volume: volume(t, "xfs", is.boot, 320, boot)}, pv)
}

// debianKin is what a repair within a system of Debian's kin runs.
var debianKin = tree{"usr/sbin/grub-install": "#!/bin/sh\n", "usr/sbin/update-grub": "#!/bin/sh\n", "usr/sbin/update-initramfs": "#!/bin/sh\n",
	"usr/lib/grub/i386-pc/modinfo.sh": "x", "usr/lib/grub/x86_64-efi/modinfo.sh": "x", "etc/default/grub": "GRUB_DEFAULT=0\n"}

const ubuntuKernel = "6.5.0-14-generic"

// ubuntu is a desktop: all on one ext4 beside the EFI system partition. fstab names a swap file and what more says.
func ubuntu(t *testing.T, id byte, is, names ids, more string) diskmaker.Disk {
	root := based(t, "ID=ubuntu\nID_LIKE=debian\nVERSION_ID=\"22.04\"\nNAME=\"Ubuntu\"\n", debianKin).with(tree{
		"boot/grub/grub.cfg": debianMenu("Ubuntu", "hd0,gpt2", "ext2", names.root, "UUID="+names.root, "/boot", ubuntuKernel),
		"boot/grub/grubenv":  environment(), "boot/vmlinuz-" + ubuntuKernel: string(x64), "boot/initrd.img-" + ubuntuKernel: string(ramDisk),
		"boot/vmlinuz": "-> vmlinuz-" + ubuntuKernel, "swapfile": "x",
		"etc/fstab": "# <file system> <mount point>   <type>  <options>       <dump>  <pass>\nUUID=" + names.root + " / ext4 errors=remount-ro 0 1\n" +
			fmt.Sprintf("UUID=1000-%04X  /boot/efi vfat umask=0077 0 1\n", serialOf(names)) + "/swapfile none swap sw 0 0\n" + more})
	return efiDisk(id, is, shimmed("ubuntu", "search.fs_uuid "+names.root+" root hd0,gpt2 \nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n"),
		diskmaker.Partition{MiB: 200, Volume: volume(t, "ext4", is.root, 200, root)})
}

// ubuntuServer has its root in LVM, and /boot by itself.
func ubuntuServer(t *testing.T, id byte, is, names ids) diskmaker.Disk {
	boot := tree{"grub/grub.cfg": debianMenu("Ubuntu", "hd0,gpt2", "ext2", names.boot, "/dev/mapper/ubuntu--vg-ubuntu--lv", "", ubuntuKernel),
		"vmlinuz-" + ubuntuKernel: string(x64), "initrd.img-" + ubuntuKernel: string(ramDisk), "grub/grubenv": environment()}
	root := based(t, "ID=ubuntu\nID_LIKE=debian\nVERSION_ID=\"22.04\"\n", debianKin).with(tree{
		"etc/fstab": "/dev/disk/by-id/dm-uuid-LVM-ORjgHdNhVT /  ext4 defaults 0 1\n/dev/disk/by-uuid/" + names.boot + " /boot ext4 defaults 0 1\n" +
			fmt.Sprintf("/dev/disk/by-uuid/1000-%04X /boot/efi vfat defaults 0 1\n", serialOf(names)) + "/swap.img none swap sw 0 0\n"})
	return efiDisk(id, is, shimmed("ubuntu", "search.fs_uuid "+names.boot+" root hd0,gpt2 \nset prefix=($root)'/grub'\nconfigfile $prefix/grub.cfg\n"),
		diskmaker.Partition{MiB: 150, Volume: volume(t, "ext4", is.boot, 150, boot)},
		diskmaker.Partition{MiB: 260, Volume: diskmaker.Volume{Kind: "lvm", Group: "ubuntu-vg",
			Logical: []diskmaker.Logical{{Name: "ubuntu-lv", MiB: 200, Volume: volume(t, "ext4", is.root, 200, root)}}}})
}

// suse has its system in a snapshot that is the default subvolume, as GRUB of that family reads it.
func suse(t *testing.T, id byte, is, names ids) diskmaker.Disk {
	const snapshot = "@/.snapshots/1/snapshot"
	menu := strings.ReplaceAll(debianMenu("openSUSE Leap 15.5", "hd0,gpt2", "btrfs", names.root, "UUID="+names.root, "/boot", "5.14.21-150500.53-default"),
		"initrd.img-", "initrd-")
	menu = "set btrfs_relative_path=\"y\"\nexport btrfs_relative_path\n" + menu
	mounts := "UUID=" + names.root + " / btrfs defaults 0 0\n"
	for _, s := range []string{"var", "home", "root", "opt", "srv", "usr/local", "tmp", "boot/grub2/x86_64-efi", "boot/grub2/i386-pc"} {
		mounts += "UUID=" + names.root + " /" + s + " btrfs subvol=/@/" + s + " 0 0\n"
	}
	root := based(t, "ID=\"opensuse-leap\"\nID_LIKE=\"suse opensuse\"\n", tree{"usr/bin/dracut": "#!/bin/sh\n", "usr/sbin/grub2-install": "#!/bin/sh\n",
		"usr/sbin/grub2-mkconfig": "#!/bin/sh\n", "etc/default/grub": "SUSE_BTRFS_SNAPSHOT_BOOTING=true\n",
		"boot/grub2/grub.cfg": menu, "boot/grub2/grubenv": environment(), "boot/vmlinuz-5.14.21-150500.53-default": string(x64),
		"boot/initrd-5.14.21-150500.53-default": string(ramDisk),
		"etc/fstab":                             mounts + fmt.Sprintf("UUID=1000-%04X /boot/efi vfat utf8 0 2\n", serialOf(names))})
	subvolumes := []string{"@", snapshot + "!", "@/var", "@/home", "@/root", "@/opt", "@/srv", "@/usr/local", "@/tmp", "@/boot/grub2/x86_64-efi", "@/boot/grub2/i386-pc"}
	return efiDisk(id, is, shimmed("opensuse", "set btrfs_relative_path=\"yes\"\nsearch --fs-uuid --set=root "+names.root+"\nset prefix=(${root})/boot/grub2\nsource \"${prefix}/grub.cfg\"\n"),
		diskmaker.Partition{MiB: 300, Volume: btrfs(t, is.root, 300, subvolumes, map[string]tree{snapshot: root})})
}

// arch has systemd-boot, and its kernel on the EFI system partition.
func arch(t *testing.T, id byte, is, names ids, root string) diskmaker.Disk {
	esp := map[string][]byte{`\EFI\systemd\systemd-bootx64.efi`: diskmaker.Program{Is: "systemd-boot", Size: 8192}.Bytes(),
		`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{Is: "systemd-boot", Size: 8192}.Bytes(), `\vmlinuz-linux`: x64,
		`\initramfs-linux.img`: ramDisk, `\intel-ucode.img`: ramDisk, `\initramfs-linux-fallback.img`: ramDisk,
		`\loader\loader.conf`:                []byte("default  arch.conf\ntimeout  4\nconsole-mode max\neditor   no\n"),
		`\loader\entries\arch.conf`:          []byte("title   Arch Linux\nlinux   /vmlinuz-linux\ninitrd  /intel-ucode.img\ninitrd  /initramfs-linux.img\noptions root=" + root + " rw\n"),
		`\loader\entries\arch-fallback.conf`: []byte("title   Arch Linux (fallback)\nlinux   /vmlinuz-linux\ninitrd  /initramfs-linux-fallback.img\noptions root=" + root + " rw\n")}
	tree := based(t, "ID=arch\nNAME=\"Arch Linux\"\n", tree{"usr/bin/mkinitcpio": "#!/bin/sh\n", "etc/mkinitcpio.conf": "HOOKS=(base udev autodetect modconf block filesystems fsck)\n",
		"etc/fstab": "UUID=" + names.root + "\t/\text4\trw,relatime\t0 1\n" + fmt.Sprintf("UUID=1000-%04X\t/boot\tvfat\trw,relatime,fmask=0022,dmask=0022,codepage=437,iocharset=ascii,shortname=mixed,utf8,errors=remount-ro\t0 2\n", serialOf(names))})
	return efiDisk(id, is, esp, diskmaker.Partition{Type: disk.MustGUID("4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709"),
		MiB: 200, Volume: volume(t, "ext4", is.root, 200, tree)})
}
