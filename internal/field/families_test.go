package field_test

import (
	"strings"
	"testing"

	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

const fedoraShim = `\EFI\fedora\shimx64.efi`

func TestFedora(t *testing.T) {
	t.Parallel()
	was := func(t *testing.T) diskmaker.Disk { return fedora(t, 1, one, one) }
	alone := func(bus string, is disks) func(*testing.T) machine.Machine {
		return alone("Fedora", was, fedoraShim, bus, is)
	}
	hold(t, []met{
		{name: "copied sector by sector, alone", at: alone("sata", func(t *testing.T) diskmaker.Disk { return fedora(t, 1, one, one) }),
			says: "Same identifiers, same entry: it starts as the original did.", verdict: startup.Starts},
		{name: "new file systems, the names of the old ones", at: alone("sata", func(t *testing.T) diskmaker.Disk { return fedora(t, 1, two, one) }),
			says:    "grub.cfg on the boot partition looks for a UUID that is gone: GRUB's prompt. The names have to follow.",
			verdict: startup.Stops, stage: "configuration", words: one.boot, first: "linux-names"},
		{name: "new file system of the root alone", at: alone("sata", func(t *testing.T) diskmaker.Disk {
			return fedora(t, 1, ids{root: two.root, boot: one.boot}, one)
		}), says: "The menu comes, dracut waits for the root and ends in its emergency shell: entries, /etc/kernel/cmdline and fstab name the old UUID.",
			verdict: startup.Stops, stage: "configuration", words: one.root, first: "linux-names"},
		{name: "to NVMe", at: alone("nvme", func(t *testing.T) diskmaker.Disk { return fedora(t, 1, one, one) }),
			says:    "Fedora's initramfs holds drivers of the machine it was made on alone: does it have nvme? lsinitrd tells.",
			verdict: startup.Depends, words: "NVMe"},
	})
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

// beside is a clone with the original beside it.
func beside(name string, was disks, program string, is disks) func(*testing.T) machine.Machine {
	return func(t *testing.T) machine.Machine {
		entries := []firmware.Entry{entry(t, name, was(t), 0, program)}
		return pc(firmware.UEFI, entries, on(t, machine.RoleClone, "nvme", is(t)),
			on(t, machine.RoleOriginal, "sata", was(t)))
	}
}

func TestRedHatsServers(t *testing.T) {
	t.Parallel()
	const program = `\EFI\redhat\shimx64.efi`
	nine := func(t *testing.T) diskmaker.Disk { return redHat(t, 1, 9, one, one, "rhel", "rhel") }
	eight := func(t *testing.T) diskmaker.Disk { return redHat(t, 1, 8, one, one, "rhel", "rhel") }
	hold(t, []met{
		{name: "9, copied sector by sector", at: alone("Red Hat Enterprise Linux", nine, program, "sata", nine),
			says: "LVM and UUIDs came along: it starts.", verdict: startup.Starts},
		{name: "8, copied sector by sector", at: alone("Red Hat Enterprise Linux", eight, program, "sata", eight),
			says: "The options stand in grubenv: it starts.", verdict: startup.Starts},
		{name: "9, the group was given another name", at: alone("Red Hat Enterprise Linux", nine, program, "sata", func(t *testing.T) diskmaker.Disk {
			return redHat(t, 1, 9, one, one, "rhel_new", "rhel")
		}), says: "dracut waits for rhel/root and drops to its shell: rename the group back, or correct the entries and dracut.",
			verdict: startup.Stops, stage: "configuration", words: "rhel", first: "linux-names"},
		{name: "8, the group was given another name", at: alone("Red Hat Enterprise Linux", eight, program, "sata", func(t *testing.T) diskmaker.Disk {
			return redHat(t, 1, 8, one, one, "rhel_new", "rhel")
		}), says: "dracut waits for rhel/root: the name stands in grubenv.", verdict: startup.Stops, stage: "configuration", words: "rhel", first: "linux-names"},
		{name: "9, a new /boot", at: alone("Red Hat Enterprise Linux", nine, program, "sata", func(t *testing.T) diskmaker.Disk {
			return redHat(t, 1, 9, ids{one.root, two.boot, one.swap}, one, "rhel", "rhel")
		}), says: "The small grub.cfg on the boot partition looks for a UUID that is gone: GRUB's prompt.", verdict: startup.Stops,
			stage: "configuration", words: one.boot, first: "linux-names"},
		{name: "9, the original beside it", at: beside("Red Hat Enterprise Linux", nine, program, nine),
			says: "Two groups with one UUID in one machine: unplug the original first.", verdict: startup.Depends, words: "Unplug the original before the first start", first: "-", remains: "Unplug the original before anything else"},
	})
}

func TestUbuntu(t *testing.T) {
	t.Parallel()
	const program = `\EFI\ubuntu\shimx64.efi`
	was := func(t *testing.T) diskmaker.Disk { return ubuntu(t, 1, one, one, "") }
	with := func(is ids, names ids, more string) disks {
		return func(t *testing.T) diskmaker.Disk { return ubuntu(t, 1, is, names, more) }
	}
	server := func(t *testing.T) diskmaker.Disk { return ubuntuServer(t, 1, one, one) }
	hold(t, []met{
		{name: "copied sector by sector", at: alone("ubuntu", was, program, "sata", was), says: "It starts.", verdict: startup.Starts},
		{name: "to NVMe", at: alone("ubuntu", was, program, "nvme", was),
			says: "Ubuntu's initramfs has all drivers (MODULES=most), and it is named by UUID: it starts, if the board starts from NVMe.", verdict: startup.Depends, words: "NVMe"},
		{name: "the root formatted anew", at: alone("ubuntu", was, program, "sata", with(two, one, "")),
			says: "grub.cfg on the boot partition looks for a UUID that is gone: GRUB's prompt.", verdict: startup.Stops, stage: "configuration", words: one.root, first: "linux-names"},
		{name: "/home on a second drive that is not attached", at: alone("ubuntu", was, program, "sata", with(one, one, "UUID="+two.swap+" /home ext4 defaults 0 2\n")),
			says: "It waits a minute and a half for /home, and ends in emergency mode.", verdict: startup.Stops, stage: "configuration", words: "/home", first: "linux-names"},
		{name: "fstab by a device's name, to NVMe", at: alone("ubuntu", was, program, "nvme", with(one, one, "/dev/sda3 /data ext4 defaults 0 2\n")),
			says: "There is no sda any more, nor was there a third partition: emergency mode.", verdict: startup.Stops, stage: "configuration", words: "/dev/sda3"},
		{name: "swap that did not come along", at: alone("ubuntu", was, program, "sata", with(one, one, "UUID="+two.swap+" none swap sw 0 0\n")),
			says: "It starts, a minute and a half later.", verdict: startup.Starts, words: "minute and a half"},
		{name: "entries of another disk, and no fallback", at: alone("ubuntu", with(two, two, ""), program, "sata", func(t *testing.T) diskmaker.Disk {
			d := ubuntu(t, 3, one, one, "")
			delete(d.Partitions[0].Volume.Files, `\EFI\BOOT\BOOTX64.EFI`)
			delete(d.Partitions[0].Volume.Files, `\EFI\BOOT\fbx64.efi`)
			return d
		}), says: "The entry leads to the old disk, and there is no fallback: add an entry for shimx64.efi.", verdict: startup.Stops, stage: "loader", first: "add-entry"},
		{name: "entries of another disk, with the fallback", at: alone("ubuntu", func(t *testing.T) diskmaker.Disk { return ubuntu(t, 3, one, one, "") }, program, "sata", was),
			says: "The stale entry is passed over, the fallback starts and makes a new one; on a board that tries it.", verdict: startup.Depends, words: "fallback"},
		{name: "server, copied sector by sector", at: alone("ubuntu", server, program, "sata", server), says: "It starts.", verdict: startup.Starts},
	})
}

func TestSUSE(t *testing.T) {
	t.Parallel()
	const program = `\EFI\opensuse\shim.efi`
	was := func(t *testing.T) diskmaker.Disk {
		d := suse(t, 1, one, one)
		d.Partitions[0].Volume.Files[program] = shim.Bytes()
		return d
	}
	hold(t, []met{
		{name: "copied sector by sector", at: alone("opensuse-secureboot", was, program, "sata", was), says: "It starts from its snapshot.", verdict: startup.Starts},
		{name: "a new file system", at: alone("opensuse-secureboot", was, program, "sata", func(t *testing.T) diskmaker.Disk {
			d := suse(t, 1, two, one)
			d.Partitions[0].Volume.Files[program] = shim.Bytes()
			return d
		}), says: "The small grub.cfg looks for a UUID that is gone: GRUB's prompt.", verdict: startup.Stops, stage: "configuration", words: one.root, first: "linux-names"},
	})
}

func TestArch(t *testing.T) {
	t.Parallel()
	const program = `\EFI\systemd\systemd-bootx64.efi`
	by := func(is ids, root string) disks {
		return func(t *testing.T) diskmaker.Disk { return arch(t, 1, is, one, root) }
	}
	was := by(one, "UUID="+one.root)
	part := func(id byte) string {
		return "PARTUUID=" + strings.ToLower(arch(t, id, one, one, "").PartitionGUID(1).String())
	}
	hold(t, []met{
		{name: "copied sector by sector", at: alone("Linux Boot Manager", was, program, "sata", was), says: "It starts.", verdict: startup.Starts},
		{name: "the root formatted anew", at: alone("Linux Boot Manager", was, program, "sata", by(two, "UUID="+one.root)),
			says: "The entry names a UUID that is gone: the device is not found, a shell of the initramfs.", verdict: startup.Stops, stage: "configuration", words: one.root, first: "linux-names"},
		{name: "by PARTUUID", at: alone("Linux Boot Manager", was, program, "sata", by(one, part(1))), says: "It starts.", verdict: startup.Starts},
		{name: "by the PARTUUID of another table", at: alone("Linux Boot Manager", was, program, "sata", by(one, part(2))),
			says: "New partition GUIDs: the entry's PARTUUID is gone.", verdict: startup.Stops, stage: "configuration", first: "linux-names"},
		{name: "by a device's name, to NVMe", at: alone("Linux Boot Manager", was, program, "nvme", by(one, "/dev/sda2")),
			says: "There is no sda on NVMe: a shell of the initramfs.", verdict: startup.Stops, stage: "configuration", words: "/dev/sda2"},
		{name: "to NVMe", at: alone("Linux Boot Manager", was, program, "nvme", was),
			says: "mkinitcpio's autodetect left nvme out: the fallback entry starts, then mkinitcpio -P. Or it has it: lsinitcpio tells.", verdict: startup.Depends, words: "NVMe"},
	})
}
