package field

import (
	"fmt"
	"strings"
	"testing"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// manjaro has GRUB and the kernel in the subvolume @ of a root, as some of Arch's kin do.
func manjaro(t *testing.T, is, names ids) diskmaker.Disk {
	const kernel = "6.1-x86_64"
	menu := strings.ReplaceAll(debianMenu("Manjaro Linux", "hd0,gpt2", "btrfs", names.root, "UUID="+names.root+" rw rootflags=subvol=@", "/@/boot", kernel),
		"/@/boot/initrd.img-"+kernel, "/@/boot/intel-ucode.img /@/boot/initramfs-"+kernel+".img")
	root := based(t, "ID=manjaro\nID_LIKE=arch\n", tree{"usr/bin/mkinitcpio": "#!/bin/sh\n", "usr/bin/grub-install": "#!/bin/sh\n", "usr/bin/grub-mkconfig": "#!/bin/sh\n",
		"boot/grub/grub.cfg": menu, "boot/grub/grubenv": environment(), "boot/vmlinuz-" + kernel: string(x64),
		"boot/intel-ucode.img": string(ramDisk), "boot/initramfs-" + kernel + ".img": string(ramDisk),
		"etc/fstab": fmt.Sprintf("UUID=1000-%04X /boot/efi vfat umask=0077 0 2\n", serialOf(names)) + "UUID=" + names.root + " / btrfs subvol=/@,defaults,noatime,compress=zstd 0 0\nUUID=" +
			names.root + " /home btrfs subvol=/@home,defaults,noatime,compress=zstd 0 0\ntmpfs /tmp tmpfs defaults,noatime,mode=1777 0 0\n"})
	return efiDisk(1, is, map[string][]byte{`\EFI\Manjaro\grubx64.efi`: grubProgram("(,gpt2)/@/boot/grub"), `\EFI\boot\bootx64.efi`: grubProgram("(,gpt2)/@/boot/grub")},
		diskmaker.Partition{MiB: 300, Volume: btrfs(t, is.root, 300, []string{"@", "@home"}, map[string]tree{"@": root})})
}

// installedKernels is a boot partition as kernel-install fills it: a folder of the machine's identifier.
func installedKernels(t *testing.T, is, names ids) diskmaker.Disk {
	const at, version = "/0123456789abcdef0123456789abcdef/6.6.4-arch1-1", "6.6.4-arch1-1"
	back := strings.ReplaceAll(at, "/", `\`)
	root := based(t, "ID=endeavouros\nID_LIKE=arch\n", tree{"usr/bin/dracut": "#!/bin/sh\n", "etc/kernel/cmdline": "root=UUID=" + names.root + " rw nvme_load=YES\n",
		"etc/fstab": fmt.Sprintf("UUID=1000-%04X /efi vfat fmask=0137,dmask=0027 0 2\n", serialOf(names)) + "UUID=" + names.root + " / ext4 noatime 0 1\n"})
	return efiDisk(1, is, map[string][]byte{`\EFI\systemd\systemd-bootx64.efi`: diskmaker.Program{Is: "systemd-boot", Size: 8192}.Bytes(),
		`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{Is: "systemd-boot", Size: 8192}.Bytes(), back + `\linux`: x64, back + `\initrd`: ramDisk,
		`\loader\loader.conf`: []byte("default 0123456789abcdef0123456789abcdef*\ntimeout 5\n"),
		`\loader\entries\0123456789abcdef0123456789abcdef-` + version + `.conf`: []byte("title EndeavourOS\nversion " + version +
			"\nmachine-id 0123456789abcdef0123456789abcdef\nsort-key endeavouros-" + version + "\noptions nvme_load=YES rw root=UUID=" + names.root + "\nlinux " + at + "/linux\ninitrd " + at + "/initrd\n"),
	}, diskmaker.Partition{MiB: 200, Volume: volume(t, "ext4", is.root, 200, root)})
}

// onTheVendorsFolder has its menu and environment in the vendor's folder of the EFI system partition, and entries
// on /boot; seven its entries in the menu.
func onTheVendorsFolder(t *testing.T, version int, is, names ids, group string) diskmaker.Disk {
	kernel := fmt.Sprintf("4.18.0-513.el%d.x86_64", version)
	line := "root=/dev/mapper/cl-root ro rd.lvm.lv=cl/root rhgb quiet"
	menu, env := blsMenu(names, line), environment("saved_entry=aa-"+kernel, "kernelopts="+line+" ")
	boot := tree{"loader/entries/aa-" + kernel + ".conf": "title Linux 8\nversion " + kernel + "\nlinux /vmlinuz-" + kernel + "\ninitrd /initramfs-" + kernel +
		".img $tuned_initrd\noptions $kernelopts $tuned_params\nid aa-1\ngrub_users $grub_users\n",
		"vmlinuz-" + kernel: string(x64), "initramfs-" + kernel + ".img": string(ramDisk), "grub2/grubenv": "-> ../efi/EFI/centos/grubenv"}
	if version == 7 {
		delete(boot, "loader/entries/aa-"+kernel+".conf")
		env = environment("saved_entry=Linux (" + kernel + ") 7 (Core)")
		menu = strings.Split(blsMenu(names, line), "### BEGIN /etc/grub.d/10_linux ###")[0] + "menuentry 'Linux (" + kernel + ") 7 (Core)' --class centos --unrestricted $menuentry_id_option 'gnulinux-advanced' {\n" +
			"\tload_video\n\tset gfxpayload=keep\n\tinsmod gzio\n\tinsmod part_gpt\n\tinsmod xfs\n\tset root='hd0,gpt2'\n\tif [ x$feature_platform_search_hint = xy ]; then\n" +
			"\t  search --no-floppy --fs-uuid --set=root --hint-bios=hd0,gpt2 --hint='hd0,gpt2'  " + names.boot + "\n\telse\n\t  search --no-floppy --fs-uuid --set=root " + names.boot + "\n\tfi\n" +
			"\tlinuxefi /vmlinuz-" + kernel + " " + line + "\n\tinitrdefi /initramfs-" + kernel + ".img\n}\n"
	}
	esp := shimmed("centos", menu)
	esp[`\EFI\centos\grubenv`] = []byte(env)
	return efiDisk(1, is, esp, diskmaker.Partition{MiB: 200, Volume: volume(t, "ext4", is.boot, 200, boot)},
		diskmaker.Partition{MiB: 360, Volume: centosRoot(t, version, is, names, group,
			fmt.Sprintf("UUID=1000-%04X /boot/efi vfat umask=0077,shortname=winnt 0 0\n", serialOf(names)))})
}

// centosRoot is the volume group of such a server; its mount table has more in it.
func centosRoot(t *testing.T, version int, is, names ids, group, more string) diskmaker.Volume {
	root := based(t, fmt.Sprintf("ID=\"centos\"\nID_LIKE=\"rhel fedora\"\nVERSION_ID=\"%d\"\n", version), tree{"usr/bin/dracut": "#!/bin/sh\n", "usr/sbin/grub2-install": "#!/bin/sh\n",
		"usr/sbin/grub2-mkconfig": "#!/bin/sh\n", "etc/fstab": "/dev/mapper/cl-root / xfs defaults 0 0\nUUID=" + names.boot + " /boot ext4 defaults 0 0\n" + more})
	return diskmaker.Volume{Kind: "lvm", Group: group,
		Logical: []diskmaker.Logical{{Name: "root", MiB: 320, Volume: volume(t, "xfs", is.root, 320, root)}}}
}

// deployed is a Fedora whose system lies in a deployment of its own.
func deployed(t *testing.T, is, names ids) diskmaker.Disk {
	d := fedora(t, 1, is, names)
	line := "root=UUID=" + names.root + " rootflags=subvol=root rw ostree=/ostree/boot.1/fedora/0a1b/0"
	boot := tree{"grub2/grub.cfg": blsMenu(names, line), "grub2/grubenv": environment(), "ostree/fedora-0a1b/vmlinuz-6.5": string(x64),
		"ostree/fedora-0a1b/initramfs-6.5.img": string(ramDisk),
		"loader/entries/ostree-1-fedora.conf":  "title Fedora Linux 39 (Silverblue) (ostree:0)\nversion 1\noptions " + line + "\nlinux /ostree/fedora-0a1b/vmlinuz-6.5\ninitrd /ostree/fedora-0a1b/initramfs-6.5.img\n"}
	root := tree{"ostree/repo/config": "x", "ostree/deploy/fedora/deploy/0a1b.0/usr/lib/os-release": "ID=fedora\n", "ostree/boot.1/fedora/kept": "x", "boot": "/", "dev": "/", "proc": "/", "run": "/", "sys": "/"}
	d.Partitions[1].Volume = volume(t, "ext4", is.boot, 200, boot)
	d.Partitions[2].Volume = btrfs(t, is.root, 300, []string{"root", "home", "var"}, map[string]tree{"root": root})
	return d
}

func variants(t *testing.T) []Met {
	by := func(make func(*testing.T, ids, ids) diskmaker.Disk, is ids) disks {
		return func(t *testing.T) diskmaker.Disk { return make(t, is, one) }
	}
	vendors := func(version int, is ids, group string) disks {
		return func(t *testing.T) diskmaker.Disk { return onTheVendorsFolder(t, version, is, one, group) }
	}
	const m, b, c, f = `\EFI\Manjaro\grubx64.efi`, `\EFI\systemd\systemd-bootx64.efi`, `\EFI\centos\shimx64.efi`, `\EFI\fedora\shimx64.efi`
	root := ids{two.root, one.boot, one.swap}
	return []Met{
		{Name: "subvolume @ with GRUB in it, copied sector by sector", At: alone("Manjaro", by(manjaro, one), m, "sata", by(manjaro, one)), Says: "It starts.", Verdict: startup.Starts},
		{Name: "subvolume @ with GRUB in it, a new file system", At: alone("Manjaro", by(manjaro, one), m, "sata", by(manjaro, root)),
			Says: "GRUB comes by its partition's number, its menu looks for a UUID that is gone.", Verdict: startup.Stops, Stage: "configuration", Words: one.root, First: "linux-names"},
		{Name: "kernels in folders of the machine, copied sector by sector", At: alone("Linux Boot Manager", by(installedKernels, one), b, "sata", by(installedKernels, one)),
			Says: "It starts.", Verdict: startup.Starts},
		{Name: "kernels in folders of the machine, a new root", At: alone("Linux Boot Manager", by(installedKernels, one), b, "sata", by(installedKernels, root)),
			Says: "The entry names a UUID that is gone; /etc/kernel/cmdline does so for the next kernel.", Verdict: startup.Stops, Stage: "configuration", Words: one.root, First: "linux-names"},
		{Name: "CentOS 8 with its menu on the boot partition, copied sector by sector", At: alone("CentOS", vendors(8, one, "cl"), c, "sata", vendors(8, one, "cl")), Says: "It starts.", Verdict: startup.Starts},
		{Name: "CentOS 8 with its menu on the boot partition, a new /boot", At: alone("CentOS", vendors(8, one, "cl"), c, "sata", vendors(8, ids{one.root, two.boot, one.swap}, "cl")),
			Says: "The menu comes and looks for /boot by a UUID that is gone: no entries.", Verdict: startup.Stops, Stage: "configuration", Words: one.boot, First: "linux-names"},
		{Name: "CentOS 8, the group renamed", At: alone("CentOS", vendors(8, one, "cl"), c, "sata", vendors(8, one, "cl_new")), Says: "dracut waits for cl/root.", Verdict: startup.Stops,
			Stage: "configuration", Words: "cl-root", First: "linux-names"},
		{Name: "CentOS 7, copied sector by sector", At: alone("CentOS", vendors(7, one, "cl"), c, "sata", vendors(7, one, "cl")), Says: "It starts.", Verdict: startup.Starts},
		{Name: "CentOS 7, a new /boot", At: alone("CentOS", vendors(7, one, "cl"), c, "sata", vendors(7, ids{one.root, two.boot, one.swap}, "cl")),
			Says: "The entry sets the root by number first, and looks by a UUID that is gone: the kernel is found by the number; fstab stops it at /boot.", Verdict: startup.Stops, Stage: "configuration", Words: one.boot, First: "linux-names"},
		{Name: "a deployment of its own, copied sector by sector", At: alone("Fedora", by(deployed, one), f, "sata", by(deployed, one)),
			Says: "It starts.", Verdict: startup.Starts},
		{Name: "a deployment of its own, a new root", At: alone("Fedora", by(deployed, one), f, "sata", by(deployed, root)),
			Says: "The entries name a UUID that is gone.", Verdict: startup.Stops, Stage: "configuration", Words: one.root},
	}
}

// twoSystems is the disk of a Windows with an Ubuntu behind it; names are those that Linux goes by.
func twoSystems(t *testing.T, id, store byte, is, names ids) diskmaker.Disk {
	d, u := windows(t, id, store, inbox), ubuntu(t, id, is, names, "")
	for file, raw := range u.Partitions[0].Volume.Files {
		if strings.Contains(strings.ToLower(file), `\ubuntu\`) {
			d.Partitions[0].Volume.Files[file] = raw
		}
	}
	d.Partitions[0].Volume.Serial = 0x10000000 | uint64(serialOf(is))
	d.Partitions = append(d.Partitions, u.Partitions[1])
	d.Sectors += 210 << 11
	return d
}

func twoSystemsEach(t *testing.T) []Met {
	at := func(id, store byte, is, names ids) func(*testing.T) machine.Machine {
		return func(t *testing.T) machine.Machine {
			was := twoSystems(t, 1, 1, one, one)
			entries := []firmware.Entry{entry(t, "ubuntu", was, 0, `\EFI\ubuntu\shimx64.efi`), entry(t, "Windows Boot Manager", was, 0, `\EFI\Microsoft\Boot\bootmgfw.efi`)}
			return pc(firmware.UEFI, entries, on(t, machine.RoleClone, "sata", twoSystems(t, id, store, is, names)))
		}
	}
	return []Met{
		{Name: "copied sector by sector", At: at(1, 1, one, one), Says: "It starts Ubuntu's menu, as the original.", Verdict: startup.Starts},
		{Name: "new GUIDs, the file systems as they were", At: at(2, 2, one, one), Says: "Both entries are stale; the fallback starts Windows where it is tried. Entries for Ubuntu have to be made.", Verdict: startup.Depends, Words: "fallback"},
		{Name: "a new file system for Linux", At: at(1, 1, two, one), Says: "GRUB's prompt; Windows starts by the firmware's menu meanwhile.", Verdict: startup.Stops, Stage: "configuration", Words: one.root, First: "linux-names"},
	}
}

func otherSystems(t *testing.T) []Met {
	return []Met{
		{Name: "Windows XP", At: func(t *testing.T) machine.Machine {
			d := mbrDisk("classic", diskmaker.Partition{MBRType: 7, Active: true, MiB: 300,
				Volume: diskmaker.Volume{Kind: "ntfs", UsedMiB: 50, Files: map[string][]byte{
					`\ntldr`: x64, `\NTDETECT.COM`: x64, `\boot.ini`: []byte("[boot loader]\r\ntimeout=30\r\ndefault=multi(0)disk(0)rdisk(0)partition(1)\\WINDOWS\r\n[operating systems]\r\nmulti(0)disk(0)rdisk(0)partition(1)\\WINDOWS=\"Windows XP\"\r\n"),
					`\WINDOWS\system32\ntoskrnl.exe`: x64, `\WINDOWS\system32\hal.dll`: x64}}})
			m := pc(firmware.Legacy, nil, on(t, machine.RoleClone, "sata", d))
			m.DeviceOrder = []string{"clone"}
			return m
		}, Says: "An exact copy starts; what NTLDR does nobody here looks into.", Verdict: startup.Depends},
		{Name: "a system of another kind behind UEFI", At: func(t *testing.T) machine.Machine {
			d := efiDisk(1, one, map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: x64, `\EFI\freebsd\loader.efi`: x64},
				diskmaker.Partition{Type: disk.MustGUID("516E7CB6-6ECF-11D6-8FF8-00022D09712B"), MiB: 200, Volume: diskmaker.Volume{Kind: "raw", Raw: []byte("ufs")}})
			return pc(firmware.UEFI, []firmware.Entry{entry(t, "FreeBSD", d, 0, `\EFI\BOOT\BOOTX64.EFI`)}, on(t, machine.RoleClone, "sata", d))
		}, Says: "It reaches its loader; what that does is not told here.", Verdict: startup.Depends},
		{Name: "data, and no system", At: func(t *testing.T) machine.Machine {
			d := diskmaker.Disk{Sectors: 300 << 11, Style: diskmaker.GPT, GUID: disk.MustGUID("DA7A0000-0000-4000-8000-000000000010"),
				Partitions: []diskmaker.Partition{{Type: disk.TypeBasicData, MiB: 200, Volume: diskmaker.Volume{Kind: "ntfs",
					Files: map[string][]byte{`\photos\1.jpg`: []byte("x")}}}}}
			return pc(firmware.UEFI, nil, on(t, machine.RoleClone, "sata", d))
		}, Says: "There is nothing to start on it: the wrong disk, or only data were copied.", Verdict: startup.Stops, Stage: "boot-partition"},
		{Name: "an empty drive", At: func(t *testing.T) machine.Machine {
			d := diskmaker.Disk{Sectors: 300 << 11}
			return pc(firmware.UEFI, nil, on(t, machine.RoleClone, "sata", d))
		}, Says: "Nothing was copied.", Verdict: startup.Stops, Stage: "table"},
		{Name: "Windows from NVMe to SATA", At: func(t *testing.T) machine.Machine {
			m := replaced(t, "sata", windowsLaid(1), windows(t, 1, 1, but(map[string]string{"storahci": "0/3", "stornvme": "0"})))
			m.Drives[1].Bus = fact.Tell("nvme")
			return m
		}, Says: "storahci is overridden, as SATA was not in use: try it, safe mode once, or delete StartOverride.", Verdict: startup.Depends, Words: "SATA"},
	}
}
