package demo

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// guid returns the disk GUID of a declared disk.
func guid(n byte) disk.GUID {
	g := disk.MustGUID("7E21B6D0-4C1A-4F0B-9A55-3C5A19E00000")
	g[14], g[15] = 0x40^n, n*13
	return g
}

// places of the partitions on a Windows disk.
const (
	windowsBoot   = 0
	windowsSystem = 2
)

// withStore puts boot files and a boot configuration store on a boot partition;
// the store names the partitions of another disk where the copy did not correct
// it.
func withStore(d, names diskmaker.Disk) diskmaker.Disk {
	boot, errBoot := names.Place(windowsBoot)
	system, errSystem := names.Place(windowsSystem)
	if errBoot != nil || errSystem != nil {
		panic("a demo disk is declared without room")
	}
	manager := diskmaker.Program{Signed: true, Size: 1_500_672, Is: "windows"}.Bytes()
	d.Partitions = append([]diskmaker.Partition{}, d.Partitions...)
	d.Partitions[windowsBoot].Volume.Files = map[string][]byte{
		`\EFI\BOOT\BOOTX64.EFI`: manager, `\EFI\Microsoft\Boot\bootmgfw.efi`: manager,
		`\EFI\Microsoft\Boot\BCD`: diskmaker.BootStore{Boot: boot, System: system}.Bytes(),
	}
	return d
}

// windowsVolume declares a system's own volume.
func windowsVolume(serial, usedMiB uint64) diskmaker.Volume {
	files := diskmaker.WindowsFiles(diskmaker.Program{Signed: true, Size: 20_480}.Bytes(), diskmaker.Registry{
		Starts: map[string]uint32{"storahci": 0, "stornvme": 0}, Overrides: map[string]uint32{"stornvme": 3}})
	files[`\Users\desk\notes.txt`] = []byte("Tides: see the board.")
	return diskmaker.Volume{Kind: "ntfs", Label: "Windows", Serial: serial, UsedMiB: usedMiB, Files: files}
}

// windows declares a Windows disk as its setup lays it out: boot partition,
// reserved, system, recovery.
func windows(sectors uint64, id byte) diskmaker.Disk {
	d := windowsLayout(sectors, id)
	return withStore(d, d)
}

func windowsLayout(sectors uint64, id byte) diskmaker.Disk {
	return diskmaker.Disk{
		Sectors: sectors, Style: diskmaker.GPT, GUID: guid(id),
		Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, Name: "EFI system partition", MiB: 100,
				Volume: diskmaker.Volume{Kind: "fat32", Label: "SYSTEM", Serial: 0x6A310000 | uint64(id)}},
			{Type: disk.TypeMSReserved, Name: "Microsoft reserved partition", MiB: 16},
			{Type: disk.TypeBasicData, Name: "Basic data partition", Volume: windowsVolume(0x01DA2B3C4D5E0000|uint64(id), 92_000)},
			{Type: disk.TypeWinRE, Name: "Recovery", MiB: 990, Attributes: 1 | 1<<63,
				Volume: diskmaker.Volume{Kind: "ntfs", Serial: 0x01DA2B3C4D5F0000 | uint64(id)}},
		},
	}
}

// bigPartitionOnly declares a clone that got the system partition and nothing
// else.
func bigPartitionOnly(sectors uint64, id byte) diskmaker.Disk {
	d := windows(sectors, id)
	d.Partitions = d.Partitions[2:3]
	return d
}

// emptyBootPartition declares a clone whose boot partition was made anew and
// never filled.
func emptyBootPartition(d diskmaker.Disk) diskmaker.Disk {
	d.Partitions[0].Volume.Files = nil
	return d
}

// in4096 declares the same disk as written through an enclosure that presents
// 4,096-byte sectors.
func in4096(d diskmaker.Disk) diskmaker.Disk {
	d.Sectors, d.SectorSize = d.Sectors/8, 4096
	d.Partitions[0].MiB = 300
	return d
}

// legacyWindows declares an MBR disk with a small active boot partition.
func legacyWindows(sectors uint64, signature uint32, active bool) diskmaker.Disk {
	d := diskmaker.Disk{
		Sectors: sectors, Style: diskmaker.MBR, Signature: signature, BootCode: "classic",
		Partitions: []diskmaker.Partition{
			{MBRType: 0x07, MiB: 500, Active: active, Volume: diskmaker.Volume{Kind: "ntfs", Label: "System", Serial: 0x3C11,
				UsedMiB: 38}},
			{MBRType: 0x07, Volume: windowsVolume(0x3C12, 61_000)},
		},
	}
	boot, errBoot := d.Place(0)
	system, errSystem := d.Place(1)
	if errBoot != nil || errSystem != nil {
		panic("a demo disk is declared without room")
	}
	d.Partitions[0].Volume.Files = map[string][]byte{
		`\bootmgr`:  diskmaker.Program{Size: 400_384}.Bytes(),
		`\Boot\BCD`: diskmaker.BootStore{Legacy: true, Boot: boot, System: system}.Bytes(),
	}
	return d
}

// encrypted declares a Windows disk whose system is encrypted.
func encrypted(sectors uint64, id byte) diskmaker.Disk {
	d := windows(sectors, id)
	d.Partitions[windowsSystem].Volume = diskmaker.Volume{Kind: "raw", Raw: []byte("\xEB\x58\x90-FVE-FS-")}
	return d
}

// asleep declares a Windows disk that was put to sleep, not shut down, before the
// copy.
func asleep(d diskmaker.Disk) diskmaker.Disk {
	d.Partitions[windowsSystem].Volume.Files[`\hiberfil.sys`] = append([]byte("hibr"), make([]byte, 8192)...)
	d.Partitions[windowsSystem].Volume.Unclean = true
	return d
}

// Partition types of Linux and of a Mac. The Discoverable Partitions
// Specification; start-rules, section 7.
var (
	typeLVM  = disk.MustGUID("E6D6D379-F507-44C2-A23C-238F2A3DF928")
	typeSwap = disk.MustGUID("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F")
	typeAPFS = disk.MustGUID("7C3457EF-0000-11AA-AA11-00306543ECAC")
	typeHFS  = disk.MustGUID("48465300-0000-11AA-AA11-00306543ECAC")
)

// hfsVolume lays out the header of an HFS+ volume: Technical Note TN1150.
func hfsVolume(id byte) diskmaker.Volume {
	raw := make([]byte, 2048)
	copy(raw[1024:], "H+")
	raw[1024+111] = id
	return diskmaker.Volume{Kind: "raw", Raw: raw}
}

// rootUUID is the file system UUID of a Linux disk's root.
func rootUUID(id byte) [16]byte {
	return [16]byte{0x5d, 0x11, 0x90, id, 0x2c, 0x07, 0x4e, 0x1b, 0x9a, 0x30, 0x61, 0x0e, 0x7f, 0x52, 0xc8, id}
}

func uuid(u [16]byte) string {
	return fmt.Sprintf("%x-%x-%x-%x-%x", u[0:4], u[4:6], u[6:8], u[8:10], u[10:16])
}

// swapVolume lays out the header of swap space: the kernel's mm/swapfile.c.
func swapVolume(id byte) diskmaker.Volume {
	raw := make([]byte, 4096)
	raw[1024] = 1
	u := rootUUID(id ^ 0xFF)
	copy(raw[1036:], u[:])
	copy(raw[4086:], "SWAPSPACE2")
	return diskmaker.Volume{Kind: "raw", Raw: raw}
}

// linux declares a Linux disk whose loader lies in its distribution's own folder
// only, without a fallback loader. Its configuration names the root of the disk
// that it was made for.
func linux(sectors uint64, id, names byte) diskmaker.Disk {
	root := uuid(rootUUID(names))
	boot := fmt.Sprintf("7C40-00%02X", names)
	return diskmaker.Disk{
		Sectors: sectors, Style: diskmaker.GPT, GUID: guid(id),
		Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, Name: "boot", MiB: 512, Volume: diskmaker.Volume{Kind: "fat32", Label: "BOOT",
				Serial: 0x7C400000 | uint64(id),
				Files: map[string][]byte{
					`\EFI\debian\shimx64.efi`: diskmaker.Program{Signed: true, Size: 900_096, Is: "shim"}.Bytes(),
					`\EFI\debian\grubx64.efi`: diskmaker.Program{Signed: true, Size: 1_200_128, Is: "grub", Prefix: "/EFI/debian"}.Bytes(),
					`\EFI\debian\grub.cfg`:    []byte("search.fs_uuid " + root + " root \nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n"),
				}}},
			{Type: disk.TypeLinuxData, Name: "root", Volume: diskmaker.Volume{Kind: "ext4", Label: "display", UUID: rootUUID(id),
				UsedMiB: 9_400, Files: map[string][]byte{
					"boot/grub/grub.cfg": []byte("set default=\"0\"\nmenuentry 'Timetable' --class gnu-linux $menuentry_id_option 'gnulinux-simple' {\n" +
						"\tsearch --no-floppy --fs-uuid --set=root " + root + "\n\tlinux\t/boot/vmlinuz-6.1.0-18-amd64 root=UUID=" + root + " ro quiet\n\tinitrd\t/boot/initrd.img-6.1.0-18-amd64\n}\n"),
					"etc/fstab":                      []byte("# made by the installer\nUUID=" + root + " / ext4 errors=remount-ro 0 1\nUUID=" + boot + " /boot/efi vfat umask=0077 0 1\nUUID=" + uuid(rootUUID(names^0xFF)) + " none swap sw 0 0\n"),
					"boot/vmlinuz-6.1.0-18-amd64":    diskmaker.Program{}.Bytes(),
					"boot/initrd.img-6.1.0-18-amd64": diskmaker.RAMDisk(),
					"usr/sbin/grub-install":          make([]byte, 1000), "usr/sbin/update-grub": make([]byte, 1000), "usr/sbin/update-initramfs": make([]byte, 1000),
					"usr/lib/grub/i386-pc/modinfo.sh": make([]byte, 1000), "usr/lib/grub/x86_64-efi/modinfo.sh": make([]byte, 1000),
				}}},
			{Type: typeSwap, Name: "swap", MiB: 4096, Volume: swapVolume(id)},
		},
	}
}

// withFallback adds the loader that every firmware looks for.
func withFallback(d diskmaker.Disk) diskmaker.Disk {
	files := d.Partitions[0].Volume.Files
	files[`\EFI\BOOT\BOOTX64.EFI`] = files[`\EFI\debian\grubx64.efi`]
	return d
}

// entryLinux declares a Linux disk that is started by systemd-boot with an entry
// of the Boot Loader Specification, and whose root is named by its partition.
func entryLinux(sectors uint64, id byte) diskmaker.Disk {
	d := linux(sectors, id, id)
	program := diskmaker.Program{Size: 98_304, Is: "systemd-boot"}.Bytes()
	d.Partitions[0].Volume.Files = map[string][]byte{
		`\EFI\BOOT\BOOTX64.EFI`: program, `\EFI\systemd\systemd-bootx64.efi`: program,
		`\loader\entries\station.conf`: []byte("title   Weather station\nlinux   /vmlinuz-6.1.0-18-amd64\ninitrd  /initrd.img-6.1.0-18-amd64\noptions root=PARTUUID=" +
			strings.ToLower(d.PartitionGUID(1).String()) + " ro\n"),
		`\vmlinuz-6.1.0-18-amd64`: diskmaker.Program{}.Bytes(), `\initrd.img-6.1.0-18-amd64`: diskmaker.RAMDisk(),
	}
	return d
}

// legacyLinux declares an MBR disk that GRUB starts from sector 0.
func legacyLinux(sectors uint64, signature uint32, id byte) diskmaker.Disk {
	root := linux(sectors, id, id).Partitions[1]
	root.MBRType, root.Type = 0x83, disk.GUID{}
	swap := swapVolume(id)
	root.Volume.Files["etc/fstab"] = []byte("UUID=" + uuid(rootUUID(id)) + " / ext4 errors=remount-ro 0 1\n/dev/sda2 none swap sw 0 0\n")
	return diskmaker.Disk{
		Sectors: sectors, Style: diskmaker.MBR, Signature: signature, BootCode: "grub", GRUBPrefix: "(,msdos1)/boot/grub",
		Partitions: []diskmaker.Partition{root, {MBRType: 0x82, MiB: 2048, Volume: swap}},
	}
}

// onLVM puts the root of a Linux disk, and its swap space, into a volume group.
func onLVM(d diskmaker.Disk, group string) diskmaker.Disk {
	root, swap := d.Partitions[1].Volume, d.Partitions[2].Volume
	for _, name := range []string{"boot/grub/grub.cfg", "etc/fstab"} {
		text := string(root.Files[name])
		text = strings.ReplaceAll(text, "root=UUID="+uuid(root.UUID), "root=/dev/mapper/"+group+"-root")
		text = strings.ReplaceAll(text, "UUID="+uuid(root.UUID)+" / ", "/dev/mapper/"+group+"-root / ")
		root.Files[name] = []byte(text)
	}
	root.Files["etc/os-release"] = []byte("PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\n")
	d.Partitions = []diskmaker.Partition{d.Partitions[0], {Type: typeLVM, Name: "pool",
		Volume: diskmaker.Volume{Kind: "lvm", Group: group, Serial: root.Serial,
			Logical: []diskmaker.Logical{{Name: "root", MiB: 40_000, Volume: root}, {Name: "swap", MiB: 4096, Volume: swap}}}}}
	return withFallback(d)
}

// registered gives a Windows disk its registry: drivers for SATA that load at start-up,
// one for NVMe that does not.
func registered(d diskmaker.Disk) diskmaker.Disk {
	c, _ := d.Place(windowsSystem)
	d.Partitions[windowsSystem].Volume.Files[diskmaker.RegistryPath] = diskmaker.Registry{C: c,
		Starts: map[string]uint32{"storahci": 0, "stornvme": 3, "USBSTOR": 3}}.Bytes()
	return d
}

// dataServer declares a Linux disk with a volume of every kind that is recognised
// and not read: an encrypted one, one of LVM, an array's part, XFS, Btrfs, exFAT.
func dataServer(sectors uint64, id byte) diskmaker.Disk {
	d := withFallback(linux(sectors, id, id))
	u := rootUUID(id ^ 0x55)
	at := func(offset int, magic string, uuidAt int) diskmaker.Volume {
		raw := make([]byte, 70<<10)
		copy(raw[offset:], magic)
		copy(raw[uuidAt:], u[:])
		return diskmaker.Volume{Kind: "raw", Raw: raw}
	}
	vault := at(0, "LUKS\xBA\xBE\x00\x02", 4096)
	copy(vault.Raw[168:], uuid(u))
	volumes := at(512, "LABELONE", 8192)
	volumes.Raw[512+20] = 32
	copy(volumes.Raw[512+24:], "LVM2 001q7Hc0aVtXn41dLEo5Rk2uYwZsB8mGfJp")
	shared := at(3, "EXFAT   ", 8192)
	shared.Raw[0], shared.Raw[510], shared.Raw[511] = 0xEB, 0x55, 0xAA
	for _, v := range []struct {
		name   string
		volume diskmaker.Volume
	}{
		{"vault", vault}, {"volumes", volumes}, {"array", at(4096, "\xFC\x4E\x2B\xA9", 4096+16)}, {"manifests", at(0, "XFSB", 32)},
		{"pool", at(64<<10+64, "_BHRfS_M", 64<<10+32)}, {"shared", shared},
	} {
		d.Partitions = append(d.Partitions, diskmaker.Partition{Type: disk.TypeLinuxData, Name: v.name, MiB: 10_240,
			Volume: v.volume})
	}
	return d
}

// mac declares a Mac's disk: its firmware reads the container by itself.
func mac(sectors uint64, id byte) diskmaker.Disk {
	raw := make([]byte, 4096)
	copy(raw[32:], "NXSB")
	raw[37] = 0x10 // blocks of 4,096 bytes
	u := rootUUID(id)
	copy(raw[72:], u[:])
	return diskmaker.Disk{
		Sectors: sectors, Style: diskmaker.GPT, GUID: guid(id),
		Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, Name: "EFI System Partition", MiB: 200, Volume: diskmaker.Volume{Kind: "fat32", Label: "EFI",
				Serial: 0x66E30000 | uint64(id)}},
			{Type: typeAPFS, Name: "Container", Volume: diskmaker.Volume{Kind: "raw", Raw: raw}},
			{Type: typeHFS, Name: "Drawings", MiB: 40_960, Volume: hfsVolume(id)},
		},
	}
}

// damagedPrimary builds a disk and then spoils a byte of the primary table's
// header, as a bad sector or a careless tool does.
func damagedPrimary(d diskmaker.Disk) func() (*diskmaker.Image, error) {
	return func() (*diskmaker.Image, error) {
		m, err := d.Build()
		if err == nil {
			_, err = m.WriteAt([]byte{0xA7}, 512+60)
		}
		return m, err
	}
}

// cutTo builds a disk and copies it sector by sector to a smaller one.
func cutTo(d diskmaker.Disk, sectors uint64) func() (*diskmaker.Image, error) {
	return func() (*diskmaker.Image, error) {
		m, err := d.Build()
		if err != nil {
			return nil, err
		}
		return m.Clone(int64(sectors) * 512), nil
	}
}
