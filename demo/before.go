package demo

import (
	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// CopyPlan is what was told of a copy before it is made, in the words of the HTTP
// interface.
type CopyPlan struct {
	Capacity                               string
	FromLink, FromMedium, ToLink, ToMedium string
	// SeenTo are lines of the list that were ticked off, by their keys, with who did it.
	SeenTo map[string]string
}

// blank is a new drive as it comes out of its box.
func blank(sectors uint64, sectorSize int) func() (*diskmaker.Image, error) {
	return func() (*diskmaker.Image, error) {
		return diskmaker.NewImage(disk.Span(sectors, sectorSize), sectorSize), nil
	}
}

// using has so many MiB of the system's volume in use.
func using(d diskmaker.Disk, mib uint64, unclean bool) diskmaker.Disk {
	v := &d.Partitions[windowsSystem].Volume
	v.UsedMiB, v.Unclean = mib, unclean
	return d
}

// dying builds a disk of which some sectors cannot be read any more.
func dying(d diskmaker.Disk) func() (*diskmaker.Image, error) {
	return func() (*diskmaker.Image, error) {
		m, err := d.Build()
		if err == nil {
			placed, _ := d.Placed()
			system := placed.Partitions[windowsSystem]
			m.Spoil(disk.Span(system.Start, 512)+int64(system.MiB)<<20-512, 512) // the copy of the boot sector
		}
		return m, err
	}
}

// Before lists the demo cases in which nothing was copied yet.
func Before() []Case {
	hard := CopyPlan{FromLink: "sata", FromMedium: "disk", ToLink: "usb3", ToMedium: "solid"}
	solid := CopyPlan{FromLink: "sata", FromMedium: "solid", ToLink: "usb3", ToMedium: "solid"}
	stick := hard
	stick.SeenTo = map[string]string{"stick": "Marit"}
	before := func(c Case, plan CopyPlan) Case {
		c.Stands, c.Reach, c.Copy, c.DeviceOrder = "before", "running", &plan, []string{"clone"}
		return c
	}
	return []Case{
		before(Case{Name: "slip-office", Title: "Slip office desktop", Machine: "Brisling B1, slip office", Firmware: uefi,
			Original: Drive{Model: "Halden H5", Bus: "sata", Attached: yes, Disk: using(windows(gb(1000), 0xB1), 121_000, true).Build},
			Clone:    Drive{Model: "Corvane S240", Bus: "sata", Attached: no, Disk: blank(gb(240), 512)}}, stick),
		before(Case{Name: "ballast-log", Title: "Ballast log computer", Machine: "Quayside K2, ferry Sandpiper", Firmware: uefi,
			Original: Drive{Model: "Corvane S210", Bus: "sata", Attached: yes, Disk: using(windows(gb(500), 0xB2), 209_300, false).Build},
			Clone:    Drive{Model: "Corvane S240", Bus: "sata", Attached: no}}, CopyPlan{Capacity: "240 GB", FromLink: "sata", FromMedium: "solid",
			ToLink: "usb3", ToMedium: "solid"}),
		before(Case{Name: "lock-keeper", Title: "Lock keeper's desktop", Machine: "Fenmark D4, lock house", Firmware: uefi,
			Original: Drive{Model: "Corvane S210", Bus: "sata", Attached: yes, Disk: windows(gb(500), 0xB3).Build},
			Clone:    Drive{Model: "Ostra N3", Bus: "sata", Attached: no, Disk: blank(gb(500)-20, 512)}}, solid),
		before(Case{Name: "cannery-scales", Title: "Cannery scales, to UEFI", Machine: "Brisling R3, cannery", Firmware: Firmware{Mode: "legacy", Arch: "x64"},
			Original: Drive{Model: "Halden H5", Bus: "sata", Attached: yes, Disk: legacyWindows(gb(500), 0x5A17B004, true).Build},
			Clone:    Drive{Model: "Ostra N3", Bus: "sata", Attached: no, Disk: blank(gb(4000), 512)}}, hard),
		before(Case{Name: "survey-laptop", Title: "Survey laptop, 4,096-byte enclosure", Machine: "Fenmark L7, survey boat", Firmware: uefi,
			Original: Drive{Model: "Corvane S210", Bus: "sata", Attached: yes, Disk: windows(gb(500), 0xB5).Build},
			Clone:    Drive{Model: "Ostra N3", Bus: "usb", Attached: no, Disk: blank(gb(1000)/8, 4096)}}, solid),
		before(Case{Name: "poster-mac", Title: "Poster Mac", Machine: "Mac, poster workshop", Firmware: Firmware{Mode: "uefi", Arch: "x64", Choices: map[string]bool{"readsMacVolumes": true}},
			Original: Drive{Model: "Halden H5", Bus: "sata", Attached: yes, Disk: mac(gb(500), 0xB6).Build},
			Clone:    Drive{Model: "Ostra N3", Bus: "sata", Attached: no}}, CopyPlan{Capacity: "1 TB", FromLink: "sata", FromMedium: "disk",
			ToLink: "usb3", ToMedium: "solid"}),
		before(Case{Name: "gauge-house", Title: "Gauge house computer, failing drive", Machine: "Quayside T1, gauge house", Firmware: uefi,
			Original: Drive{Model: "Halden H5", Bus: "sata", Attached: yes, Disk: dying(using(windows(gb(320), 0xB7), 64_000, true))},
			Clone:    Drive{Model: "Corvane S240", Bus: "sata", Attached: no, Disk: blank(gb(480), 512)}}, hard),
	}
}
