package demo

import (
	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// guid returns the disk GUID of a declared disk.
func guid(n byte) disk.GUID {
	g := disk.MustGUID("7E21B6D0-4C1A-4F0B-9A55-3C5A19E00000")
	g[14], g[15] = 0x40^n, n*13
	return g
}

func windowsFiles() map[string][]byte {
	manager := diskmaker.Program{Signed: true, Size: 1_500_672}.Bytes()
	return map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: manager, `\EFI\Microsoft\Boot\bootmgfw.efi`: manager}
}

// windows declares a Windows disk as its setup lays it out: boot partition,
// reserved, system, recovery.
func windows(sectors uint64, id byte) diskmaker.Disk {
	return diskmaker.Disk{
		Sectors: sectors, Style: diskmaker.GPT, GUID: guid(id),
		Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, Name: "EFI system partition", MiB: 100,
				Volume: diskmaker.Volume{Kind: "fat32", Label: "SYSTEM", Serial: 0x6A310000 | uint64(id), Files: windowsFiles()}},
			{Type: disk.TypeMSReserved, Name: "Microsoft reserved partition", MiB: 16},
			{Type: disk.TypeBasicData, Name: "Basic data partition", Volume: diskmaker.Volume{Kind: "ntfs", Serial: 0x01DA2B3C4D5E0000 | uint64(id)}},
			{Type: disk.TypeWinRE, Name: "Recovery", MiB: 990, Attributes: 1 | 1<<63, Volume: diskmaker.Volume{Kind: "ntfs", Serial: 0x01DA2B3C4D5F0000 | uint64(id)}},
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
	return diskmaker.Disk{
		Sectors: sectors, Style: diskmaker.MBR, Signature: signature, BootCode: "classic",
		Partitions: []diskmaker.Partition{
			{MBRType: 0x07, MiB: 500, Active: active, Volume: diskmaker.Volume{Kind: "ntfs", Serial: 0x3C11}},
			{MBRType: 0x07, Volume: diskmaker.Volume{Kind: "ntfs", Serial: 0x3C12}},
		},
	}
}

// linux declares a Linux disk whose loader lies in its distribution's own
// folder only, without a fallback loader.
func linux(sectors uint64, id byte) diskmaker.Disk {
	program := diskmaker.Program{Signed: true, Size: 900_096}.Bytes()
	return diskmaker.Disk{
		Sectors: sectors, Style: diskmaker.GPT, GUID: guid(id),
		Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, Name: "boot", MiB: 512, Volume: diskmaker.Volume{Kind: "fat32", Label: "BOOT", Serial: 0x7C400000 | uint64(id),
				Files: map[string][]byte{`\EFI\debian\shimx64.efi`: program, `\EFI\debian\grubx64.efi`: program}}},
			{Type: disk.TypeLinuxData, Name: "root", Volume: diskmaker.Volume{Kind: "ext4", Label: "display", UUID: [16]byte{0x5d, 0x11, 0x90, id}}},
			{Type: disk.MustGUID("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F"), Name: "swap", MiB: 4096},
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
