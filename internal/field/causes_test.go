package field_test

import (
	"strings"
	"testing"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// secured is a machine with secure boot on.
func secured(at func(*testing.T) machine.Machine) func(*testing.T) machine.Machine {
	return func(t *testing.T) machine.Machine {
		m := at(t)
		m.Firmware.SecureBoot = fact.Tell(true)
		return m
	}
}

func TestSecureBoot(t *testing.T) {
	t.Parallel()
	fed := func(t *testing.T) diskmaker.Disk { return fedora(t, 1, one, one) }
	ubu := func(t *testing.T) diskmaker.Disk { return ubuntu(t, 1, one, one, "") }
	arc := func(t *testing.T) diskmaker.Disk { return arch(t, 1, one, one, "UUID="+one.root) }
	past := func(t *testing.T) diskmaker.Disk {
		d := ubuntu(t, 1, one, one, "")
		d.Partitions[0].Volume.Files[`\EFI\ubuntu\shimx64.efi`] = diskmaker.Program{Is: "grub", Prefix: "/EFI/ubuntu", Size: 8192}.Bytes()
		return d
	}
	hold(t, []met{
		{name: "Fedora by its shim", at: secured(alone("Fedora", fed, fedoraShim, "sata", fed)), says: "Shim, GRUB and kernel are signed: it starts.", verdict: startup.Starts},
		{name: "Ubuntu by its shim", at: secured(alone("ubuntu", ubu, `\EFI\ubuntu\shimx64.efi`, "sata", ubu)), says: "It starts.", verdict: startup.Starts},
		{name: "a boot loader that nobody signed", at: secured(alone("Linux Boot Manager", arc, `\EFI\systemd\systemd-bootx64.efi`, "sata", arc)),
			says: "Secure boot refuses it: switch it off, or sign.", verdict: startup.Stops, stage: "loader", first: "secure-boot-off"},
		{name: "a GRUB put past the shim", at: secured(alone("ubuntu", ubu, `\EFI\ubuntu\shimx64.efi`, "sata", past)),
			says: "The shim is gone: secure boot refuses GRUB alone. Put the shim back.", verdict: startup.Stops, stage: "configuration", words: "carries no signature"},
	})
}

// byName is an Ubuntu whose menu names its root in another way.
func byName(t *testing.T, id byte, is ids, root string) diskmaker.Disk {
	tree := based(t, "ID=ubuntu\nID_LIKE=debian\n", debianKin).with(tree{
		"boot/grub/grub.cfg": debianMenu("Ubuntu", "hd0,gpt2", "ext2", is.root, root, "/boot", ubuntuKernel), "boot/grub/grubenv": environment(),
		"boot/vmlinuz-" + ubuntuKernel: string(x64), "boot/initrd.img-" + ubuntuKernel: string(diskmaker.RAMDisk()),
		"etc/fstab": "LABEL=cloudimg-rootfs\t/\t ext4\tdiscard,errors=remount-ro\t0 1\n"})
	return efiDisk(id, is, shimmed("ubuntu", "search.fs_uuid "+is.root+" root hd0,gpt2 \nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n"),
		diskmaker.Partition{MiB: 200, Volume: volume(t, "ext4", is.root, 200, tree, "-L", "cloudimg-rootfs")})
}

func TestNamesOfARoot(t *testing.T) {
	t.Parallel()
	const program = `\EFI\ubuntu\shimx64.efi`
	label := func(t *testing.T) diskmaker.Disk { return byName(t, 1, one, "LABEL=cloudimg-rootfs") }
	gone := func(t *testing.T) diskmaker.Disk { return byName(t, 1, one, "LABEL=root") }
	part := func(id byte) disks {
		return func(t *testing.T) diskmaker.Disk {
			return byName(t, 1, one, "PARTUUID="+strings.ToLower(byName(t, id, one, "").PartitionGUID(1).String()))
		}
	}
	device := func(t *testing.T) diskmaker.Disk { return byName(t, 1, one, "/dev/sda2") }
	hold(t, []met{
		{name: "by label", at: alone("ubuntu", label, program, "sata", label), says: "It starts.", verdict: startup.Starts},
		{name: "by a label that is gone", at: alone("ubuntu", gone, program, "sata", gone), says: "The label was not copied: initramfs shell. Label it again, or correct the menu.",
			verdict: startup.Stops, stage: "configuration", words: "root", first: "linux-names"},
		{name: "by its partition", at: alone("ubuntu", part(1), program, "sata", part(1)), says: "It starts.", verdict: startup.Starts},
		{name: "by the partition of another table", at: alone("ubuntu", part(1), program, "sata", part(2)), says: "New partition GUIDs: initramfs shell.", verdict: startup.Stops, stage: "configuration", first: "linux-names"},
		{name: "by a device's name", at: alone("ubuntu", device, program, "sata", device), says: "It starts as long as it is the first disk: names change. By UUID it would stay.", verdict: startup.Starts, words: "changes with the port"},
		{name: "by label, the original beside it", at: beside("ubuntu", label, program, label), says: "Two with one label: which one is mounted is chance. Unplug the original.", verdict: startup.Depends,
			first: "-", remains: "Unplug the original before anything else"},
	})
}

// What starts a system lies on another drive than the system.
func TestAcrossDrives(t *testing.T) {
	t.Parallel()
	// The boot partition lay on the old drive, Windows on the one that was copied.
	boot := func(t *testing.T) diskmaker.Disk {
		d := windows(t, 1, 1, inbox)
		d.Partitions = d.Partitions[:2]
		place, _ := systemAlone(3).Place(0)
		own, _ := windowsLaid(1).Place(0)
		d.Partitions[0].Volume.Files[`\EFI\Microsoft\Boot\BCD`] = diskmaker.BootStore{Boot: own, System: place}.Bytes()
		return d
	}
	system := func(t *testing.T, id byte) diskmaker.Disk {
		d := systemAlone(id)
		place, _ := systemAlone(3).Place(0)
		d.Partitions[0].Volume = windows(t, 1, 1, inbox).Partitions[2].Volume
		d.Partitions[0].Volume.Files[`\Windows\System32\config\SYSTEM`] = hive(t, place, inbox)
		return d
	}
	other := func(t *testing.T, attached bool) machine.Drive {
		d := on(t, machine.RoleOther, "sata", boot(t))
		d.Attached = fact.Tell(attached)
		return d
	}
	at := func(id byte, attached bool) func(*testing.T) machine.Machine {
		return func(t *testing.T) machine.Machine {
			return pc(firmware.UEFI, managed(t, boot(t)), on(t, machine.RoleClone, "sata", system(t, id)), other(t, attached))
		}
	}
	hold(t, []met{
		{name: "the boot partition on a drive that stays", at: at(3, true), says: "The other drive starts it, as before: it starts while that stays in.", verdict: startup.Starts},
		{name: "the boot partition on a drive that was taken out", at: at(3, false), says: "There are no boot files on the new drive: make an EFI partition and bcdboot.", verdict: startup.Stops, stage: "boot-partition", first: "create-esp"},
		{name: "the boot partition on a drive that stays, new identifiers", at: at(4, true), says: "0xc000000e: the store on the other drive names the old identifiers.", verdict: startup.Stops, stage: "configuration", words: "0xc000000e"},
		{name: "a boot partition of the wrong type", at: func(t *testing.T) machine.Machine {
			d := windows(t, 1, 1, inbox)
			d.Partitions[0].Type = disk.TypeBasicData
			return replaced(t, "sata", windowsLaid(1), d)
		}, says: "Many boards start it all the same by its entry; the type has to be EFI system.", verdict: startup.Depends, words: "FAT"},
	})
}

// systemAlone is a drive with nothing but a partition for Windows, and room.
func systemAlone(id byte) diskmaker.Disk {
	d := windowsLaid(id)
	d.Partitions = d.Partitions[2:3]
	return d
}
