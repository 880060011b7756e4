package field

import (
	"fmt"
	"strings"
	"testing"

	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// onTheESP is a system whose kernel lies on the EFI system partition with an entry of systemd-boot, as of what
// folder names; its first program may be its own.
func onTheESP(t *testing.T, id byte, is, names ids, folder, more string, release string) diskmaker.Disk {
	root := based(t, release, tree{"usr/sbin/update-initramfs": "#!/bin/sh\n", "etc/fstab": "UUID=" + names.root + "  /  ext4  noatime,errors=remount-ro  0 0\n" +
		fmt.Sprintf("UUID=1000-%04X  /boot/efi  vfat  umask=0077  0  0\n", serialOf(names))})
	if strings.Contains(more, "init=/nix") {
		root = tree{"nix/store/abc-system/init": "#!/bin/sh\n", "etc/NIXOS": "x", "bin/sh": "-> ../nix/store/bash", "dev": "/", "proc": "/", "sys": "/", "run": "/",
			"usr/bin/env": "-> ../../nix/store/env", "home": "/", "var": "/", "tmp": "/", "root": "/", "boot/kept": "x"}
	}
	options := strings.TrimSpace("root=UUID=" + names.root + " ro quiet" + more)
	if strings.Contains(more, "init=/nix") {
		options = strings.TrimSpace(more) + " loglevel=4"
	}
	at := strings.ReplaceAll(folder, "/", `\`)
	return efiDisk(id, is, map[string][]byte{`\EFI\systemd\systemd-bootx64.efi`: diskmaker.Program{Is: "systemd-boot", Size: 8192}.Bytes(),
		`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{Is: "systemd-boot", Size: 8192}.Bytes(),
		at + `\vmlinuz.efi`:     x64, at + `\initrd.img`: ramDisk,
		`\loader\loader.conf`:          []byte("default Current*\ntimeout 3\n"),
		`\loader\entries\Current.conf`: []byte("title Current\nlinux " + folder + "/vmlinuz.efi\ninitrd " + folder + "/initrd.img\noptions " + options + "\n"),
	}, diskmaker.Partition{MiB: 200, Volume: volume(t, "ext4", is.root, 200, root)})
}

// unifiedArch is a kernel with all that it needs in one program.
func unifiedArch(t *testing.T, is, names ids) diskmaker.Disk {
	text := func(s string) []byte { return []byte(s + "\x00") }
	kernel := diskmaker.Program{Size: 8192, Sections: []diskmaker.Section{{Name: ".osrel", Data: text("ID=arch\nNAME=\"Arch Linux\"\nVERSION_ID=1\n")},
		{Name: ".cmdline", Data: text("root=UUID=" + names.root + " rw")}, {Name: ".linux", Data: x64}, {Name: ".initrd", Data: ramDisk}}}.Bytes()
	root := based(t, "ID=arch\n", tree{"usr/bin/mkinitcpio": "#!/bin/sh\n", "etc/kernel/cmdline": "root=UUID=" + names.root + " rw\n", "etc/fstab": "UUID=" + names.root + " / ext4 rw 0 1\n"})
	manager := diskmaker.Program{Is: "systemd-boot", Size: 8192}.Bytes()
	return efiDisk(1, is, map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: manager, `\EFI\systemd\systemd-bootx64.efi`: manager,
		`\EFI\Linux\arch-linux.efi`: kernel}, diskmaker.Partition{MiB: 200, Volume: volume(t, "ext4", is.root, 200, root)})
}

// sealed is Debian's kin with an encrypted LVM behind a plain /boot.
func sealed(t *testing.T, is, names ids) diskmaker.Disk {
	boot := tree{"grub/grub.cfg": debianMenu("Debian GNU/Linux", "hd0,gpt2", "ext2", names.boot, "/dev/mapper/debian--vg-root", "", "6.1.0-13-amd64"), "grub/grubenv": environment(),
		"vmlinuz-6.1.0-13-amd64": string(x64), "initrd.img-6.1.0-13-amd64": string(ramDisk)}
	return efiDisk(1, is, shimmed("debian", "search.fs_uuid "+names.boot+" root hd0,gpt2 \nset prefix=($root)'/grub'\nconfigfile $prefix/grub.cfg\n"),
		diskmaker.Partition{MiB: 150, Volume: volume(t, "ext4", is.boot, 150, boot)},
		diskmaker.Partition{MiB: 100, Volume: diskmaker.Volume{Kind: "luks", UUID: [16]byte{0xC0, 1}}})
}

func otherLinuxes(t *testing.T) []Met {
	const program = `\EFI\systemd\systemd-bootx64.efi`
	pop := func(is ids) disks {
		return func(t *testing.T) diskmaker.Disk {
			return onTheESP(t, 1, is, one, "/EFI/Pop_OS-"+one.root, " loglevel=0 systemd.show_status=false splash", "ID=pop\nID_LIKE=\"ubuntu debian\"\n")
		}
	}
	nix := func(is ids) disks {
		return func(t *testing.T) diskmaker.Disk {
			return onTheESP(t, 1, is, one, "/EFI/nixos", " init=/nix/store/abc-system/init", "ID=nixos\n")
		}
	}
	unified := func(is ids) disks { return func(t *testing.T) diskmaker.Disk { return unifiedArch(t, is, one) } }
	crypt := func(is ids) disks { return func(t *testing.T) diskmaker.Disk { return sealed(t, is, one) } }
	const debianShim = `\EFI\debian\shimx64.efi`
	return []Met{
		{Name: "kernel on the boot partition, copied sector by sector", At: alone("Linux", pop(one), program, "sata", pop(one)), Says: "It starts.", Verdict: startup.Starts},
		{Name: "kernel on the boot partition, the root formatted anew", At: alone("Linux", pop(one), program, "sata", pop(two)),
			Says: "The kernel comes, the root is not found: the entry on the boot partition names the old UUID.", Verdict: startup.Stops, Stage: "configuration", Words: one.root, First: "linux-names"},
		{Name: "first program in a store of its own", At: alone("Linux", nix(two), program, "sata", nix(two)),
			Says: "Its root stands in the initial RAM disk, not in the line: the generation that starts has to be looked into.", Verdict: startup.Depends, Words: "names no root"},
		{Name: "a unified kernel, copied sector by sector", At: alone("Linux", unified(one), program, "sata", unified(one)), Says: "It starts.", Verdict: startup.Starts},
		{Name: "a unified kernel, a new root", At: alone("Linux", unified(one), program, "sata", unified(two)),
			Says: "The line is built into the kernel: it has to be made anew, with the new UUID in /etc/kernel/cmdline.", Verdict: startup.Stops, Stage: "configuration", Words: one.root},
		{Name: "encrypted, copied sector by sector", At: alone("debian", crypt(one), debianShim, "sata", crypt(one)),
			Says: "It asks for the passphrase, and starts if what lies in it came along: nobody sees that from outside.", Verdict: startup.Depends, Words: "encrypted"},
		{Name: "encrypted, a new /boot", At: alone("debian", crypt(one), debianShim, "sata", crypt(ids{one.root, two.boot, one.swap})),
			Says: "The small grub.cfg looks for a UUID that is gone: GRUB's prompt.", Verdict: startup.Stops, Stage: "configuration", Words: one.boot, First: "linux-names"},
	}
}

// mbrDisk is a disk for legacy firmware, with GRUB in sector 0 unless code says otherwise.
func mbrDisk(code string, parts ...diskmaker.Partition) diskmaker.Disk {
	sectors := uint64(4 << 11)
	for _, p := range parts {
		sectors += p.MiB << 11
	}
	return diskmaker.Disk{Sectors: sectors, Style: diskmaker.MBR, Signature: 0xC0DE0001, BootCode: code,
		GRUBPrefix: "(,msdos1)/boot/grub", Partitions: parts}
}

// olderMint is all on one ext4 behind a partition table of before.
func olderMint(t *testing.T, code string, is, names ids, root string) diskmaker.Disk {
	tree := based(t, "ID=linuxmint\nID_LIKE=ubuntu\n", debianKin).with(tree{
		"boot/grub/grub.cfg": strings.ReplaceAll(debianMenu("Linux Mint 20.3", "hd0,msdos1", "ext2", names.root, root, "/boot", "5.4.0-91-generic"), "part_gpt", "part_msdos"),
		"boot/grub/grubenv":  environment(), "boot/vmlinuz-5.4.0-91-generic": string(x64), "boot/initrd.img-5.4.0-91-generic": string(ramDisk),
		"etc/fstab": "UUID=" + names.root + " / ext4 errors=remount-ro 0 1\n"})
	return mbrDisk(code, diskmaker.Partition{MBRType: 0x83, Active: true, MiB: 200,
		Volume: volume(t, "ext4", is.root, 200, tree)})
}

// legacyRedHat is a server for legacy firmware, its /boot first and its root in LVM.
func legacyRedHat(t *testing.T, version int, is, names ids, group string) diskmaker.Disk {
	d := onTheVendorsFolder(t, version, is, names, group)
	menu, env := d.Partitions[0].Volume.Files[`\EFI\centos\grub.cfg`], d.Partitions[0].Volume.Files[`\EFI\centos\grubenv`]
	text := strings.NewReplacer("linuxefi", "linux16", "initrdefi", "initrd16", "part_gpt", "part_msdos", "gpt2", "msdos1").Replace(string(menu))
	boot := tree{"grub2/grub.cfg": text, "grub2/grubenv": string(env)}
	kernel := fmt.Sprintf("4.18.0-513.el%d.x86_64", version)
	boot["vmlinuz-"+kernel], boot["initramfs-"+kernel+".img"] = string(x64), string(ramDisk)
	if version > 7 {
		boot["loader/entries/aa-"+kernel+".conf"] = "title Linux\nversion " + kernel + "\nlinux /vmlinuz-" + kernel + "\ninitrd /initramfs-" + kernel +
			".img\noptions $kernelopts $tuned_params\n"
	}
	legacy := mbrDisk("grub", diskmaker.Partition{MBRType: 0x83, Active: true, MiB: 200,
		Volume: volume(t, "ext4", is.boot, 200, boot)},
		diskmaker.Partition{MBRType: 0x8E, MiB: 360, Volume: centosRoot(t, version, is, names, group, "")})
	legacy.GRUBPrefix = "(,msdos1)/grub2"
	return legacy
}

func legacyLinuxes(t *testing.T) []Met {
	at := func(mode firmware.Mode, bus string, d disks) func(*testing.T) machine.Machine {
		return func(t *testing.T) machine.Machine {
			m := pc(mode, nil, on(t, machine.RoleClone, bus, d(t)))
			m.DeviceOrder = []string{"clone"}
			return m
		}
	}
	mint := func(code string, is ids, root string) disks {
		return func(t *testing.T) diskmaker.Disk { return olderMint(t, code, is, one, root) }
	}
	by := "UUID=" + one.root
	server := func(version int, is ids, group string) disks {
		return func(t *testing.T) diskmaker.Disk { return legacyRedHat(t, version, is, one, group) }
	}
	return []Met{
		{Name: "copied sector by sector", At: at(firmware.Legacy, "sata", mint("grub", one, by)), Says: "It starts.", Verdict: startup.Starts},
		{Name: "files and partitions alone", At: at(firmware.Legacy, "sata", mint("", one, by)),
			Says: "Sector 0 has no boot code: no bootable device. grub-install.", Verdict: startup.Stops, Stage: "table", First: "linux-boot-files"},
		{Name: "boot code of another system", At: at(firmware.Legacy, "sata", mint("classic", one, by)),
			Says: "Sector 0 hands over to the active partition, which has no boot code of its own: it hangs or says so. grub-install.", Verdict: startup.Stops, Stage: "boot-partition", First: "linux-boot-files"},
		{Name: "the file system formatted anew", At: at(firmware.Legacy, "sata", mint("grub", two, by)),
			Says: "GRUB's menu looks for the old UUID, but its root is set by the device as well: the kernel's line stops it, no root.", Verdict: startup.Stops, Stage: "configuration", Words: one.root, First: "linux-names"},
		{Name: "CentOS 7, copied sector by sector", At: at(firmware.Legacy, "sata", server(7, one, "cl")), Says: "It starts.", Verdict: startup.Starts},
		{Name: "CentOS 8, the group renamed", At: at(firmware.Legacy, "sata", server(8, one, "cl_new")), Says: "dracut waits for cl/root.",
			Verdict: startup.Stops, Stage: "configuration", Words: "cl-root", First: "linux-names"},
		{Name: "CentOS 8, a new /boot", At: at(firmware.Legacy, "sata", server(8, ids{one.root, two.boot, one.swap}, "cl")), Says: "GRUB comes by the partition's number, and finds no entries: it looks by the old UUID.",
			Verdict: startup.Stops, Stage: "configuration", Words: one.boot, First: "linux-names"},
		{Name: "in a machine that starts by UEFI alone", At: at(firmware.UEFI, "sata", mint("grub", one, by)),
			Says: "There is no EFI boot partition on it: legacy support on, or convert.", Verdict: startup.Stops, Stage: "mode", First: "set-mode"},
		{Name: "root=/dev/sda1, to NVMe", At: at(firmware.Legacy, "nvme", mint("grub", one, "/dev/sda1")),
			Says: "If the board starts from NVMe in legacy mode at all, there is no sda.", Verdict: startup.Stops, Stage: "configuration", Words: "/dev/sda1"},
	}
}
