package field

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

func securedOnes(t *testing.T) []Met {
	fed := func(t *testing.T) diskmaker.Disk { return fedora(t, 1, one, one) }
	ubu := func(t *testing.T) diskmaker.Disk { return ubuntu(t, 1, one, one, "") }
	arc := func(t *testing.T) diskmaker.Disk { return arch(t, 1, one, one, "UUID="+one.root) }
	past := func(t *testing.T) diskmaker.Disk {
		d := ubuntu(t, 1, one, one, "")
		d.Partitions[0].Volume.Files[`\EFI\ubuntu\shimx64.efi`] = diskmaker.Program{Is: "grub", Prefix: "/EFI/ubuntu", Size: 8192}.Bytes()
		return d
	}
	return []Met{
		{Name: "Fedora by its shim", At: secured(alone("Fedora", fed, fedoraShim, "sata", fed)), Says: "Shim, GRUB and kernel are signed: it starts.", Verdict: startup.Starts},
		{Name: "Ubuntu by its shim", At: secured(alone("ubuntu", ubu, `\EFI\ubuntu\shimx64.efi`, "sata", ubu)), Says: "It starts.", Verdict: startup.Starts},
		{Name: "a boot loader that nobody signed", At: secured(alone("Linux Boot Manager", arc, `\EFI\systemd\systemd-bootx64.efi`, "sata", arc)),
			Says: "Secure boot refuses it: switch it off, or sign.", Verdict: startup.Stops, Stage: "loader", First: "secure-boot-off"},
		{Name: "a GRUB put past the shim", At: secured(alone("ubuntu", ubu, `\EFI\ubuntu\shimx64.efi`, "sata", past)),
			Says: "The shim is gone: secure boot refuses GRUB alone. Put the shim back.", Verdict: startup.Stops, Stage: "configuration", Words: "carries no signature"},
	}
}

// byName is an Ubuntu whose menu names its root in another way.
func byName(t *testing.T, id byte, is ids, root string) diskmaker.Disk {
	tree := based(t, "ID=ubuntu\nID_LIKE=debian\n", debianKin).with(tree{
		"boot/grub/grub.cfg": debianMenu("Ubuntu", "hd0,gpt2", "ext2", is.root, root, "/boot", ubuntuKernel), "boot/grub/grubenv": environment(),
		"boot/vmlinuz-" + ubuntuKernel: string(x64), "boot/initrd.img-" + ubuntuKernel: string(ramDisk),
		"etc/fstab": "LABEL=cloudimg-rootfs\t/\t ext4\tdiscard,errors=remount-ro\t0 1\n"})
	return efiDisk(id, is, shimmed("ubuntu", "search.fs_uuid "+is.root+" root hd0,gpt2 \nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n"),
		diskmaker.Partition{MiB: 200, Volume: volume(t, "ext4", is.root, 200, tree, "-L", "cloudimg-rootfs")})
}

func namesOfARoot(t *testing.T) []Met {
	const program = `\EFI\ubuntu\shimx64.efi`
	label := func(t *testing.T) diskmaker.Disk { return byName(t, 1, one, "LABEL=cloudimg-rootfs") }
	gone := func(t *testing.T) diskmaker.Disk { return byName(t, 1, one, "LABEL=root") }
	part := func(id byte) disks {
		return func(t *testing.T) diskmaker.Disk {
			return byName(t, 1, one, "PARTUUID="+strings.ToLower(byName(t, id, one, "").PartitionGUID(1).String()))
		}
	}
	device := func(t *testing.T) diskmaker.Disk { return byName(t, 1, one, "/dev/sda2") }
	return []Met{
		{Name: "by label", At: alone("ubuntu", label, program, "sata", label), Says: "It starts.", Verdict: startup.Starts},
		{Name: "by a label that is gone", At: alone("ubuntu", gone, program, "sata", gone), Says: "The label was not copied: initramfs shell. Label it again, or correct the menu.",
			Verdict: startup.Stops, Stage: "configuration", Words: "root", First: "linux-names"},
		{Name: "by its partition", At: alone("ubuntu", part(1), program, "sata", part(1)), Says: "It starts.", Verdict: startup.Starts},
		{Name: "by the partition of another table", At: alone("ubuntu", part(1), program, "sata", part(2)), Says: "New partition GUIDs: initramfs shell.", Verdict: startup.Stops, Stage: "configuration", First: "linux-names"},
		{Name: "by a device's name", At: alone("ubuntu", device, program, "sata", device), Says: "It starts as long as it is the first disk: names change. By UUID it would stay.", Verdict: startup.Starts, Words: "changes with the port"},
		{Name: "by label, the original beside it", At: beside("ubuntu", label, program, label), Says: "Two with one label: which one is mounted is chance. Unplug the original.", Verdict: startup.Depends,
			First: "-", Remains: "Unplug the original before anything else"},
	}
}

// What starts a system lies on another drive than the system.
func acrossDrives(t *testing.T) []Met {
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
	return []Met{
		{Name: "the boot partition on a drive that stays", At: at(3, true), Says: "The other drive starts it, as before: it starts while that stays in.", Verdict: startup.Starts},
		{Name: "the boot partition on a drive that was taken out", At: at(3, false), Says: "There are no boot files on the new drive: make an EFI partition and bcdboot.", Verdict: startup.Stops, Stage: "boot-partition", First: "create-esp"},
		{Name: "the boot partition on a drive that stays, new identifiers", At: at(4, true), Says: "0xc000000e: the store on the other drive names the old identifiers.", Verdict: startup.Stops, Stage: "configuration", Words: "0xc000000e"},
		{Name: "a boot partition of the wrong type", At: func(t *testing.T) machine.Machine {
			d := windows(t, 1, 1, inbox)
			d.Partitions[0].Type = disk.TypeBasicData
			return replaced(t, "sata", windowsLaid(1), d)
		}, Says: "Many boards start it all the same by its entry; the type has to be EFI system.", Verdict: startup.Depends, Words: "FAT"},
	}
}

// systemAlone is a drive with nothing but a partition for Windows, and room.
func systemAlone(id byte) diskmaker.Disk {
	d := windowsLaid(id)
	d.Partitions = d.Partitions[2:3]
	return d
}
