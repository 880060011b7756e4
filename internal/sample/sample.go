// Package sample declares small disks and machines for the tests of the rules.
package sample

import (
	"fmt"
	"testing"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// FallbackPath is the removable-media path of the x64 architecture. UEFI Specification 2.10,
// section 3.5.1.1.
const FallbackPath = `\EFI\BOOT\BOOTX64.EFI`

// X64 is a sound EFI program.
func X64() []byte { return diskmaker.Program{}.Bytes() }

// GPTDisk declares a small UEFI disk with the given files on its boot partition.
func GPTDisk(id byte, files map[string][]byte) diskmaker.Disk {
	g := disk.MustGUID("D15C0000-0000-4000-8000-000000000000")
	g[15] = id
	return diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.GPT, GUID: g, Partitions: []diskmaker.Partition{
		{Type: disk.TypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32", Files: files}},
		{Type: disk.TypeBasicData, Volume: diskmaker.Volume{Kind: "ntfs"}},
	}}
}

// MBRDisk declares a disk of two NTFS partitions, some of them active.
func MBRDisk(code string, active ...int) diskmaker.Disk {
	d := diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.MBR, Signature: 0xCAFE, BootCode: code,
		Partitions: []diskmaker.Partition{
			{MBRType: 7, MiB: 100, Volume: diskmaker.Volume{Kind: "ntfs"}},
			{MBRType: 7, Volume: diskmaker.Volume{Kind: "ntfs"}},
		}}
	for _, i := range active {
		d.Partitions[i].Active = true
	}
	return d
}

// Examine reads a disk.
func Examine(t testing.TB, m *diskmaker.Image) *machine.Contents {
	t.Helper()
	d, err := disk.New(m, m.Size, m.SectorSize)
	if err != nil {
		t.Fatal(err)
	}
	return machine.Examine(d)
}

// Drive is an attached drive on SATA; a nil image is one of which nothing is in evidence.
func Drive(t testing.TB, role machine.Role, m *diskmaker.Image) machine.Drive {
	t.Helper()
	d := machine.Drive{Name: string(role), Role: role, Bus: fact.Tell("sata"), Attached: fact.Tell(true)}
	if m != nil {
		d.Contents = Examine(t, m)
	}
	return d
}

// EDK2 returns a machine with everything about its firmware known, judged up to
// the hand-over.
func EDK2(mode firmware.Mode, drives ...machine.Drive) machine.Machine {
	b, _ := firmware.Named("edk2")
	m := machine.Machine{Until: machine.UntilLoader, Drives: drives, Firmware: firmware.Settings{
		Mode: fact.Tell(mode), Arch: fact.Tell(firmware.X64), SecureBoot: fact.Tell(false), Behaviour: b,
		Entries: &firmware.Entries{All: map[uint16]firmware.Entry{}, Menu: &firmware.LoaderMenu{}},
	}}
	for _, d := range drives {
		m.DeviceOrder = append(m.DeviceOrder, d.Name)
	}
	return m
}

// StorePath is where Windows' boot configuration store lies under UEFI.
const StorePath = `\EFI\Microsoft\Boot\BCD`

// windowsFiles are of a system whose registry does not tell for sure which drivers are loaded.
func windowsFiles() map[string][]byte {
	drivers := map[string]uint32{"storahci": 0, "stornvme": 0}
	return diskmaker.WindowsFiles(X64(), diskmaker.Registry{Unsaved: true, Starts: drivers,
		Overrides: map[string]uint32{"storahci": 3, "stornvme": 3}})
}

// WindowsDisk declares a Windows disk whose store names the partitions of another.
func WindowsDisk(id, names byte) diskmaker.Disk {
	d := GPTDisk(id, nil)
	boot, _ := GPTDisk(names, nil).Place(0)
	system, _ := GPTDisk(names, nil).Place(1)
	manager := diskmaker.Program{Is: "windows", Size: 8192}.Bytes()
	d.Partitions[0].Volume.Files = map[string][]byte{FallbackPath: manager, StorePath: diskmaker.BootStore{Boot: boot,
		System: system}.Bytes()}
	d.Partitions[1].Volume = diskmaker.Volume{Kind: "ntfs", Files: windowsFiles()}
	return d
}

// LegacyWindowsDisk declares a Windows disk for legacy firmware, whose store names the
// loader of legacy or of UEFI starts.
func LegacyWindowsDisk(legacy bool) diskmaker.Disk {
	d := MBRDisk("classic", 0)
	boot, _ := d.Place(0)
	system, _ := d.Place(1)
	d.Partitions[0].Volume.Files = map[string][]byte{`\bootmgr`: X64(), `\Boot\BCD`: diskmaker.BootStore{Legacy: legacy, Boot: boot,
		System: system}.Bytes()}
	d.Partitions[1].Volume.Files = windowsFiles()
	return d
}

// LinuxDisk declares a Linux disk; its configuration names the file systems of
// another.
func LinuxDisk(id, names byte) diskmaker.Disk {
	d := GPTDisk(id, nil)
	root := fmt.Sprintf("%02x000000-0000-0000-0000-000000000000", names)
	d.Partitions[0].Volume.Serial = 0x10000000 | uint64(id)
	d.Partitions[0].Volume.Files = map[string][]byte{
		FallbackPath:           diskmaker.Program{Is: "grub", Prefix: "/EFI/debian", Size: 8192}.Bytes(),
		`\EFI\debian\grub.cfg`: []byte("search.fs_uuid " + root + " root\nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n"),
	}
	d.Partitions[1].Type = disk.TypeLinuxData
	d.Partitions[1].Volume = diskmaker.Volume{Kind: "ext4", Label: "root", UUID: [16]byte{id}, Files: map[string][]byte{
		"boot/grub/grub.cfg": []byte("menuentry 'x' {\n search --fs-uuid --set=root " + root + "\n linux /boot/vmlinuz root=UUID=" + root + "\n initrd /boot/initrd.img\n}\n"),
		"boot/vmlinuz":       X64(), "boot/initrd.img": diskmaker.RAMDisk(),
		"etc/fstab": []byte("UUID=" + root + " / ext4 defaults 0 1\n" + fmt.Sprintf("UUID=1000-00%02X /boot/efi vfat defaults 0 1\n", names)),
	}}
	return WithTools(d, 1, DebianTools...)
}

// DebianTools are what a repair from within a Debian calls.
var DebianTools = []string{"usr/sbin/grub-install", "usr/sbin/update-grub", "usr/sbin/update-initramfs",
	"usr/lib/grub/i386-pc/modinfo.sh", "usr/lib/grub/x86_64-efi/modinfo.sh"}

// WithTools puts programs, and what belongs to them, into a partition.
func WithTools(d diskmaker.Disk, partition int, tools ...string) diskmaker.Disk {
	for _, tool := range tools {
		d.Partitions[partition].Volume.Files[tool] = []byte("#!/bin/sh\n")
	}
	return d
}

// WithoutTools takes them out again.
func WithoutTools(d diskmaker.Disk, partition int, tools ...string) diskmaker.Disk {
	for _, tool := range tools {
		delete(d.Partitions[partition].Volume.Files, tool)
	}
	return d
}

// EncryptedLinuxDisk declares a Linux disk with /boot by itself and its root in an encrypted
// volume, which the kernel line looks for by root.
func EncryptedLinuxDisk(root string) diskmaker.Disk {
	const boot = "b0000000-0000-0000-0000-000000000000"
	d := GPTDisk(1, map[string][]byte{
		FallbackPath:           diskmaker.Program{Is: "grub", Prefix: "/EFI/debian", Size: 8192}.Bytes(),
		`\EFI\debian\grub.cfg`: []byte("search.fs_uuid " + boot + " root\nset prefix=($root)'/grub'\nconfigfile $prefix/grub.cfg\n"),
	})
	menu := "menuentry 'x' {\n search --fs-uuid --set=root " + boot +
		"\n linux /vmlinuz-6.1 root=" + root + " ro\n initrd /initrd.img-6.1\n}\n"
	files := map[string][]byte{"grub/grub.cfg": []byte(menu), "vmlinuz-6.1": X64(), "initrd.img-6.1": diskmaker.RAMDisk()}
	d.Partitions[1] = diskmaker.Partition{Type: disk.TypeLinuxData, MiB: 64,
		Volume: diskmaker.Volume{Kind: "ext4", UUID: [16]byte{0xB0}, Files: files}}
	d.Partitions = append(d.Partitions, diskmaker.Partition{Type: disk.TypeLinuxData, MiB: 100,
		Volume: diskmaker.Volume{Kind: "luks", UUID: [16]byte{0xC0, 1}}})
	return d
}

// With has a file in a partition, or none where the text is empty.
func With(d diskmaker.Disk, partition int, file, text string) diskmaker.Disk {
	files := d.Partitions[partition].Volume.Files
	if text == "" {
		delete(files, file)
	} else {
		files[file] = []byte(text)
	}
	return d
}

// Whole is EDK2 judged to the end of its start.
func Whole(mode firmware.Mode, drives ...machine.Drive) machine.Machine {
	m := EDK2(mode, drives...)
	m.Until = ""
	return m
}

// Words is all that a trace says: what the screen shows, the reason, the headline and
// what it asks.
func Words(t startup.Trace) string {
	all := t.Symptom + t.Reason + t.Headline
	for _, q := range t.Missing {
		all += q.Text
	}
	return all
}
