package field

import (
	"strings"
	"testing"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

const fedoraShim = `\EFI\fedora\shimx64.efi`

func fedoras(t *testing.T) []Met {
	was := func(t *testing.T) diskmaker.Disk { return fedora(t, 1, one, one) }
	alone := func(bus string, is disks) func(*testing.T) machine.Machine {
		return alone("Fedora", was, fedoraShim, bus, is)
	}
	return []Met{
		{Name: "copied sector by sector, alone", At: alone("sata", func(t *testing.T) diskmaker.Disk { return fedora(t, 1, one, one) }),
			Says: "Same identifiers, same entry: it starts as the original did.", Verdict: startup.Starts},
		{Name: "new file systems, the names of the old ones", At: alone("sata", func(t *testing.T) diskmaker.Disk { return fedora(t, 1, two, one) }),
			Says:    "grub.cfg on the boot partition looks for a UUID that is gone: GRUB's prompt. The names have to follow.",
			Verdict: startup.Stops, Stage: "configuration", Words: one.boot, First: "linux-names"},
		{Name: "new file system of the root alone", At: alone("sata", func(t *testing.T) diskmaker.Disk {
			return fedora(t, 1, ids{root: two.root, boot: one.boot}, one)
		}), Says: "The menu comes, dracut waits for the root and ends in its emergency shell: entries, /etc/kernel/cmdline and fstab name the old UUID.",
			Verdict: startup.Stops, Stage: "configuration", Words: one.root, First: "linux-names"},
		{Name: "to NVMe", At: alone("nvme", func(t *testing.T) diskmaker.Disk { return fedora(t, 1, one, one) }),
			Says:    "Fedora's initramfs holds drivers of the machine it was made on alone: does it have nvme? lsinitrd tells.",
			Verdict: startup.Depends, Words: "NVMe"},
		{Name: "to NVMe, its RAM disk has the driver", At: fromNVMe(alone("nvme", holding(was, "drivers/nvme/host/nvme", "drivers/ata/libata"))),
			Says: "lsinitrd shows nvme: it starts.", Verdict: startup.Starts},
		{Name: "to NVMe, its RAM disk has none", At: fromNVMe(alone("nvme", holding(was, "drivers/ata/ahci", "drivers/ata/libata", "drivers/scsi/sd_mod"))),
			Says: "lsinitrd shows no nvme: dracut waits for the root and ends in its shell. dracut -f from a live system, or from the old drive.", Verdict: startup.Stops, Stage: "system", Words: "NVMe", First: "initial-ram-disk"},
		{Name: "in a USB enclosure, its RAM disk has SATA's drivers alone", At: alone("usb", holding(was, "drivers/ata/ahci", "drivers/ata/libata", "drivers/scsi/sd_mod")),
			Says: "No usb_storage in it: build the drive in, or make it anew.", Verdict: startup.Stops, Stage: "system", Words: "USB"},
	}
}

// one and two are what the parts of the original are called, and of a copy with identifiers of its own.
var one, two = numbered(1), numbered(2)

// disks makes the disk of a family.
type disks func(t *testing.T) diskmaker.Disk

// alone is a clone by itself in the original's place, behind the entry that led to the original.
func alone(name string, was disks, program, bus string, is disks) func(*testing.T) machine.Machine {
	return func(t *testing.T) machine.Machine {
		entries := []firmware.Entry{entry(t, name, was(t), 0, program)}
		return pc(firmware.UEFI, entries, on(t, machine.RoleClone, bus, is(t)))
	}
}

// most are modules of an initial RAM disk that is made for every machine.
var most = []string{"drivers/nvme/host/nvme", "drivers/ata/ahci", "drivers/ata/libata", "drivers/scsi/sd_mod", "drivers/usb/storage/usb-storage",
	"drivers/usb/host/xhci-pci"}

// fromNVMe is a machine whose firmware is known to start from NVMe.
func fromNVMe(at func(*testing.T) machine.Machine) func(*testing.T) machine.Machine {
	return started(firmware.StartsFromNVMe, at)
}

// started is a machine whose firmware is known to do something.
func started(does *firmware.Choice, at func(*testing.T) machine.Machine) func(*testing.T) machine.Machine {
	return func(t *testing.T) machine.Machine {
		m := at(t)
		m.Firmware.Behaviour = m.Firmware.Behaviour.With(does, fact.Tell(true))
		return m
	}
}

// beside is a clone with the original beside it.
func beside(name string, was disks, program string, is disks) func(*testing.T) machine.Machine {
	return func(t *testing.T) machine.Machine {
		entries := []firmware.Entry{entry(t, name, was(t), 0, program)}
		return pc(firmware.UEFI, entries, on(t, machine.RoleClone, "nvme", is(t)),
			on(t, machine.RoleOriginal, "sata", was(t)))
	}
}

func redHats(t *testing.T) []Met {
	const program = `\EFI\redhat\shimx64.efi`
	nine := func(t *testing.T) diskmaker.Disk { return redHat(t, 1, 9, one, one, "rhel", "rhel") }
	eight := func(t *testing.T) diskmaker.Disk { return redHat(t, 1, 8, one, one, "rhel", "rhel") }
	return []Met{
		{Name: "9, copied sector by sector", At: alone("Red Hat Enterprise Linux", nine, program, "sata", nine),
			Says: "LVM and UUIDs came along: it starts.", Verdict: startup.Starts},
		{Name: "8, copied sector by sector", At: alone("Red Hat Enterprise Linux", eight, program, "sata", eight),
			Says: "The options stand in grubenv: it starts.", Verdict: startup.Starts},
		{Name: "9, the group was given another name", At: alone("Red Hat Enterprise Linux", nine, program, "sata", func(t *testing.T) diskmaker.Disk {
			return redHat(t, 1, 9, one, one, "rhel_new", "rhel")
		}), Says: "dracut waits for rhel/root and drops to its shell: rename the group back, or correct the entries and dracut.",
			Verdict: startup.Stops, Stage: "configuration", Words: "rhel", First: "linux-names"},
		{Name: "8, the group was given another name", At: alone("Red Hat Enterprise Linux", eight, program, "sata", func(t *testing.T) diskmaker.Disk {
			return redHat(t, 1, 8, one, one, "rhel_new", "rhel")
		}), Says: "dracut waits for rhel/root: the name stands in grubenv.", Verdict: startup.Stops, Stage: "configuration", Words: "rhel", First: "linux-names"},
		{Name: "9, a new /boot", At: alone("Red Hat Enterprise Linux", nine, program, "sata", func(t *testing.T) diskmaker.Disk {
			return redHat(t, 1, 9, ids{one.root, two.boot, one.swap}, one, "rhel", "rhel")
		}), Says: "The small grub.cfg on the boot partition looks for a UUID that is gone: GRUB's prompt.", Verdict: startup.Stops,
			Stage: "configuration", Words: one.boot, First: "linux-names"},
		{Name: "9, the original beside it", At: beside("Red Hat Enterprise Linux", nine, program, nine),
			Says: "Two groups with one UUID in one machine: unplug the original first.", Verdict: startup.Depends, Words: "Unplug the original before the first start", First: "-", Remains: "Unplug the original before anything else"},
	}
}

func ubuntus(t *testing.T) []Met {
	const program = `\EFI\ubuntu\shimx64.efi`
	was := func(t *testing.T) diskmaker.Disk { return ubuntu(t, 1, one, one, "") }
	with := func(is ids, names ids, more string) disks {
		return func(t *testing.T) diskmaker.Disk { return ubuntu(t, 1, is, names, more) }
	}
	server := func(t *testing.T) diskmaker.Disk { return ubuntuServer(t, 1, one, one) }
	return []Met{
		{Name: "copied sector by sector", At: alone("ubuntu", was, program, "sata", was), Says: "It starts.", Verdict: startup.Starts},
		{Name: "to NVMe", At: alone("ubuntu", was, program, "nvme", holding(was, most...)),
			Says: "Ubuntu's initramfs has all drivers (MODULES=most), and it is named by UUID: it starts, if the board starts from NVMe.", Verdict: startup.Depends, Words: "NVMe"},
		{Name: "to NVMe, on a board that starts from it", At: fromNVMe(alone("ubuntu", was, program, "nvme", holding(was, most...))),
			Says: "Ubuntu's initramfs has all drivers: it starts.", Verdict: startup.Starts},
		{Name: "to NVMe, with drivers for one machine", At: fromNVMe(alone("ubuntu", was, program, "nvme", holding(was, most[1:]...))),
			Says:    "The installer was told to put in the drivers of this machine alone (MODULES=dep), and nvme is none of them: a shell of the initramfs. Make it anew from a live system.",
			Verdict: startup.Stops, Stage: "system", Words: "NVMe", First: "initial-ram-disk"},
		{Name: "in a USB enclosure", At: started(firmware.StartsFromUSB, alone("ubuntu", was, program, "usb", holding(was, most...))),
			Says: "Its initramfs has usb_storage too: it starts there as well.", Verdict: startup.Starts},
		{Name: "the root formatted anew", At: alone("ubuntu", was, program, "sata", with(two, one, "")),
			Says: "grub.cfg on the boot partition looks for a UUID that is gone: GRUB's prompt.", Verdict: startup.Stops, Stage: "configuration", Words: one.root, First: "linux-names"},
		{Name: "/home on a second drive that is not attached", At: alone("ubuntu", was, program, "sata", with(one, one, "UUID="+two.swap+" /home ext4 defaults 0 2\n")),
			Says: "It waits a minute and a half for /home, and ends in emergency mode.", Verdict: startup.Stops, Stage: "configuration", Words: "/home", First: "linux-names"},
		{Name: "fstab by a device's name, to NVMe", At: alone("ubuntu", was, program, "nvme", with(one, one, "/dev/sda3 /data ext4 defaults 0 2\n")),
			Says: "There is no sda any more, nor was there a third partition: emergency mode.", Verdict: startup.Stops, Stage: "configuration", Words: "/dev/sda3"},
		{Name: "swap that did not come along", At: alone("ubuntu", was, program, "sata", with(one, one, "UUID="+two.swap+" none swap sw 0 0\n")),
			Says: "It starts, a minute and a half later.", Verdict: startup.Starts, Words: "minute and a half"},
		{Name: "entries of another disk, and no fallback", At: alone("ubuntu", with(two, two, ""), program, "sata", func(t *testing.T) diskmaker.Disk {
			d := ubuntu(t, 3, one, one, "")
			delete(d.Partitions[0].Volume.Files, `\EFI\BOOT\BOOTX64.EFI`)
			delete(d.Partitions[0].Volume.Files, `\EFI\BOOT\fbx64.efi`)
			return d
		}), Says: "The entry leads to the old disk, and there is no fallback: add an entry for shimx64.efi.", Verdict: startup.Stops, Stage: "loader", First: "add-entry"},
		{Name: "entries of another disk, with the fallback", At: alone("ubuntu", func(t *testing.T) diskmaker.Disk { return ubuntu(t, 3, one, one, "") }, program, "sata", was),
			Says: "The stale entry is passed over, the fallback starts and makes a new one; on a board that tries it.", Verdict: startup.Depends, Words: "fallback"},
		{Name: "server, copied sector by sector", At: alone("ubuntu", server, program, "sata", server), Says: "It starts.", Verdict: startup.Starts},
	}
}

func suses(t *testing.T) []Met {
	const program = `\EFI\opensuse\shim.efi`
	was := func(t *testing.T) diskmaker.Disk {
		d := suse(t, 1, one, one)
		d.Partitions[0].Volume.Files[program] = shim.Bytes()
		return d
	}
	return []Met{
		{Name: "copied sector by sector", At: alone("opensuse-secureboot", was, program, "sata", was), Says: "It starts from its snapshot.", Verdict: startup.Starts},
		{Name: "a new file system", At: alone("opensuse-secureboot", was, program, "sata", func(t *testing.T) diskmaker.Disk {
			d := suse(t, 1, two, one)
			d.Partitions[0].Volume.Files[program] = shim.Bytes()
			return d
		}), Says: "The small grub.cfg looks for a UUID that is gone: GRUB's prompt.", Verdict: startup.Stops, Stage: "configuration", Words: one.root, First: "linux-names"},
	}
}

func arches(t *testing.T) []Met {
	const program = `\EFI\systemd\systemd-bootx64.efi`
	by := func(is ids, root string) disks {
		return func(t *testing.T) diskmaker.Disk { return arch(t, 1, is, one, root) }
	}
	was := by(one, "UUID="+one.root)
	part := func(id byte) string {
		return "PARTUUID=" + strings.ToLower(arch(t, id, one, one, "").PartitionGUID(1).String())
	}
	return []Met{
		{Name: "copied sector by sector", At: alone("Linux Boot Manager", was, program, "sata", was), Says: "It starts.", Verdict: startup.Starts},
		{Name: "the root formatted anew", At: alone("Linux Boot Manager", was, program, "sata", by(two, "UUID="+one.root)),
			Says: "The entry names a UUID that is gone: the device is not found, a shell of the initramfs.", Verdict: startup.Stops, Stage: "configuration", Words: one.root, First: "linux-names"},
		{Name: "by PARTUUID", At: alone("Linux Boot Manager", was, program, "sata", by(one, part(1))), Says: "It starts.", Verdict: startup.Starts},
		{Name: "by the PARTUUID of another table", At: alone("Linux Boot Manager", was, program, "sata", by(one, part(2))),
			Says: "New partition GUIDs: the entry's PARTUUID is gone.", Verdict: startup.Stops, Stage: "configuration", First: "linux-names"},
		{Name: "by a device's name, to NVMe", At: alone("Linux Boot Manager", was, program, "nvme", by(one, "/dev/sda2")),
			Says: "There is no sda on NVMe: a shell of the initramfs.", Verdict: startup.Stops, Stage: "configuration", Words: "/dev/sda2"},
		{Name: "to NVMe", At: alone("Linux Boot Manager", was, program, "nvme", was),
			Says: "mkinitcpio's autodetect left nvme out: the fallback entry starts, then mkinitcpio -P. Or it has it: lsinitcpio tells.", Verdict: startup.Depends, Words: "NVMe"},
		{Name: "to NVMe, autodetect left its driver out", At: fromNVMe(alone("Linux Boot Manager", was, program, "nvme", holding(was, "ahci", "libata", "sd_mod"))),
			Says: "No nvme in it: a shell of the initramfs. The fallback entry starts; then mkinitcpio -P.", Verdict: startup.Stops, Stage: "system", Words: "NVMe", First: "initial-ram-disk"},
		{Name: "from NVMe to NVMe by way of SATA", At: fromNVMe(alone("Linux Boot Manager", was, program, "nvme", holding(was, "nvme"))),
			Says: "nvme is in it: it starts.", Verdict: startup.Starts},
	}
}
