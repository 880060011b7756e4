package truth

import (
	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

func uefi(name string, drives ...Drive) Scenario {
	return Scenario{Name: name, Firmware: OVMF, Drives: drives}
}

func (s Scenario) entries(e ...diskmaker.Entry) Scenario { s.Entries = e; return s }

func (s Scenario) smoke() Scenario { s.Smoke = true; return s }

// uefiScenarios are those of UEFI firmware.
func uefiScenarios() []Scenario {
	var all []Scenario
	for _, group := range [][]Scenario{uefiStyles(), uefiEntries(), uefiPaths(), uefiTables(), uefiMBRs(),
		uefiVolumes(), uefiLoaders(), uefiPairs(), uefiOthers()} {
		all = append(all, group...)
	}
	return all
}

func uefiStyles() []Scenario {
	p := place{"a", 1}
	both := p.programs(fallbackX64, vendorPath)
	mbr := func(kind byte) Drive {
		part := esp(fat(both))
		part.MBRType = kind
		return Drive{Name: "a", Disk: mbrDisk(1, part, data())}
	}
	small := func(kind string) Drive {
		d := good("a", 1)
		d.Disk.Partitions[0].Volume.Kind = kind
		if kind == "fat12" {
			d.Disk.Partitions[0].MiB = 8
		}
		return d
	}
	bare := Drive{Name: "a", Disk: diskmaker.Disk{Sectors: diskSize / 512},
		Spoil: func(*diskmaker.Image) *diskmaker.Image {
			m := diskmaker.Disk{Sectors: diskSize/512 + 2048, Style: diskmaker.MBR,
				Partitions: []diskmaker.Partition{{MBRType: 0xEF,
					Volume: fat(place{"a", 0}.programs(fallbackX64))}}}.MustBuild()
			whole := diskmaker.NewImage(diskSize, 512)
			_ = m.Pages(func(off int64, page []byte) error {
				if off >= mib && off-mib+int64(len(page)) <= diskSize {
					_, err := whole.WriteAt(page, off-mib)
					return err
				}
				return nil
			})
			return whole
		}}
	return []Scenario{
		uefi("GPT, fallback, SATA", good("a", 1)).smoke(),
		uefi("GPT, fallback, NVMe", good("a", 1).on("nvme")),
		uefi("GPT, fallback, USB", good("a", 1).on("usb")),
		uefi("GPT, fallback, virtio", good("a", 1).on("virtio")),
		uefi("GPT, fallback, NVMe, 4096-byte sectors", good("a", 1).large().on("nvme")).smoke(),
		uefi("GPT, fallback, virtio, 4096-byte sectors", good("a", 1).large().on("virtio")),
		uefi("GPT, fallback, USB, 4096-byte sectors", good("a", 1).large().on("usb")),
		uefi("GPT, FAT16", small("fat16")),
		uefi("GPT, FAT12", small("fat12")),
		uefi("MBR, type EF", mbr(0xEF)).smoke(),
		uefi("MBR, type 0C", mbr(0x0C)),
		uefi("MBR, type 07 with FAT", mbr(0x07)),
		uefi("MBR, type 83 with FAT", mbr(0x83)),
		uefi("MBR, type EF, USB", mbr(0xEF).on("usb")),
		uefi("MBR, type EF, NVMe", mbr(0xEF).on("nvme")),
		uefi("MBR, Windows' layout without FAT", Drive{Name: "a", Disk: mbrDisk(1, diskmaker.Partition{MBRType: 7, MiB: 64, Active: true,
			Volume: diskmaker.Volume{Kind: "ntfs"}}, data())}),
		uefi("no table, one FAT volume", bare),
		uefi("no table, one FAT volume, USB", bare.on("usb")),
		uefi("blank disk", Drive{Name: "a", Disk: diskmaker.Disk{Sectors: diskSize / 512}}),
		uefi("no drive", func() Drive { d := good("a", 1); d.Detached = true; return d }()),
	}
}

// uefiEntries vary what an entry says of its partition.
func uefiEntries() []Scenario {
	g := with("a", 1, vendorPath) // only an entry leads to it
	at := func(change func(*node)) diskmaker.Entry {
		return diskmaker.Entry{Number: 3, Description: "Ferry", Path: append(partitionNode(g.Disk, 1, change),
			diskmaker.FileNode(vendorPath)...)}
	}
	exact := at(nil)
	inactive, hidden := exact, exact
	app := exact
	inactive.Inactive, hidden.Hidden, app.App = true, true, true
	next, none := uint16(3), uint16(9)
	stale := at(func(n *node) { n.guid[0]++ })
	stale.Number = 1
	m := Drive{Name: "a", Disk: mbrDisk(1, esp(fat(place{"a", 1}.programs(vendorPath))), data())}
	mbrAt := func(change func(*node)) diskmaker.Entry {
		return diskmaker.Entry{Number: 3, Description: "Ferry", Path: append(partitionNode(m.Disk, 1, change),
			diskmaker.FileNode(vendorPath)...)}
	}
	withNext := func(s Scenario, n *uint16) Scenario { s.Next = n; s.BootOrder = []uint16{}; return s }
	two := good("a", 1)
	s := []Scenario{
		uefi("entry matches", g).entries(exact).smoke(),
		uefi("entry with another partition number", g).entries(at(func(n *node) { n.number = 2 })),
		uefi("entry with another start", g).entries(at(func(n *node) { n.start += 2048 })),
		uefi("entry with another size", g).entries(at(func(n *node) { n.size += 2048 })),
		uefi("entry with another start and size", g).entries(at(func(n *node) { n.start += 8; n.size -= 8 })),
		uefi("entry with another GUID", g).entries(at(func(n *node) { n.guid[0]++ })).smoke(),
		uefi("entry with number 0", g).entries(at(func(n *node) { n.number = 0 })),
		uefi("entry inactive", g).entries(inactive),
		uefi("entry hidden", g).entries(hidden),
		uefi("entry of the category of applications", g).entries(app),
		uefi("stale entry, then a good one", g).entries(stale, exact),
		uefi("stale entry, then the fallback", two).entries(stale),
		uefi("no entries, vendor's path only", g),
		withNext(uefi("BootNext to an entry outside the order", g).entries(exact), &next),
		withNext(uefi("BootNext to an inactive entry", g).entries(inactive), &next),
		withNext(uefi("BootNext to an entry that is not there", g).entries(exact), &none),
		withNext(uefi("BootNext to a stale entry, then the fallback", two).entries(func() diskmaker.Entry { e := stale; e.Number = 3; return e }()), &next),
		uefi("MBR entry matches", m).entries(mbrAt(nil)),
		uefi("MBR entry with another signature", m).entries(mbrAt(func(n *node) { n.signature++ })),
		uefi("MBR entry with another number", m).entries(mbrAt(func(n *node) { n.number = 2 })),
		uefi("MBR entry with another start", m).entries(mbrAt(func(n *node) { n.start++ })),
	}
	s = append(s, uefiLogicalEntries()...)
	ordered := uefi("order names a missing entry first", g).entries(exact)
	ordered.BootOrder = []uint16{7, 3}
	left := uefi("entry outside the order", g).entries(exact)
	left.BootOrder = []uint16{}
	reversed := uefi("the order decides, not the number", two).entries(entry(1, two.Disk, 1, fallbackX64), entry(2, two.Disk, 1, vendorPath))
	reversed.BootOrder = []uint16{2, 1}
	return append(s, ordered, left, reversed)
}

// uefiPaths vary what an entry says of the program, and how it gets there.
func uefiPaths() []Scenario {
	g, both := with("a", 1, vendorPath), good("a", 1)
	file := func(path string) diskmaker.Entry { return entry(3, g.Disk, 1, path) }
	full := func(d Drive, nodes ...[]byte) diskmaker.Entry {
		var path []byte
		for _, n := range nodes {
			path = append(path, n...)
		}
		return diskmaker.Entry{Number: 3, Description: "Ferry", Path: path}
	}
	ahci := diskmaker.PCINodes(0x1F, 2)
	second := diskmaker.SATANode(1)
	return []Scenario{
		uefi("entry to a file that is missing", g).entries(file(`\EFI\ferry\other.efi`)),
		uefi("entry to a missing file, then the fallback", both).entries(file(`\EFI\ferry\other.efi`)),
		uefi("entry in other letters", g).entries(file(`\efi\FERRY\LOADER.EFI`)),
		uefi("entry without the leading backslash", g).entries(file(`EFI\ferry\loader.efi`)),
		uefi("entry with slashes", g).entries(file(`/EFI/ferry/loader.efi`)),
		uefi("entry with doubled backslashes", g).entries(file(`\EFI\\ferry\\loader.efi`)),
		uefi("entry to a folder", g).entries(file(`\EFI\ferry`)),
		uefi("entry to a partition without a file", both).entries(entry(3, both.Disk, 1, "")),
		uefi("entry to a partition without a file or a fallback", g).entries(entry(3, g.Disk, 1, "")),
		uefi("entry to a whole SATA disk", both).entries(full(both, ahci, diskmaker.SATANode(0))),
		uefi("entry to a whole SATA disk without a fallback", g).entries(full(g, ahci, diskmaker.SATANode(0))),
		uefi("entry to another SATA port", both).entries(full(both, ahci, second)),
		uefi("entry to a whole NVMe disk", both.on("nvme")).entries(full(both, diskmaker.PCINodes(4, 0), diskmaker.NVMeNode())),
		uefi("entry by the full path", g).entries(full(g, ahci, diskmaker.SATANode(0), partitionNode(g.Disk, 1, nil),
			diskmaker.FileNode(vendorPath))),
		uefi("entry by the full path of another port", g).entries(full(g, ahci, second, partitionNode(g.Disk, 1, nil), diskmaker.FileNode(vendorPath))),
		uefi("entry by the full path with another GUID", g).entries(full(g, ahci, diskmaker.SATANode(0),
			partitionNode(g.Disk, 1, func(n *node) { n.guid[3]++ }), diskmaker.FileNode(vendorPath))),
		uefi("entry to a partition that is no file system", g).entries(entry(3, g.Disk, 2, vendorPath)),
		uefi("entry to a program on a partition of basic data", Drive{Name: "a", Disk: gptDisk(1, func() diskmaker.Partition {
			p := esp(fat(place{"a", 1}.programs(vendorPath)))
			p.Type = disk.TypeBasicData
			return p
		}(), data())}).entries(file(vendorPath)),
	}
}

// uefiLoaders vary the program.
func uefiLoaders() []Scenario {
	put := func(program []byte, more ...string) Drive {
		files := place{"a", 1}.programs(more...)
		files[fallbackX64] = program
		return Drive{Name: "a", Disk: gptDisk(1, esp(fat(files)), data())}
	}
	mark := MarkX64.Program(tag("a", 1, fallbackX64))
	as := func(change func(*diskmaker.Program)) Drive {
		p := mark
		change(&p)
		return put(p.Bytes())
	}
	cut := mark.Bytes()
	stale := entry(1, good("a", 1).Disk, 1, vendorPath)
	broken := put([]byte("no program"), vendorPath)
	return []Scenario{
		uefi("program for ia32", as(func(p *diskmaker.Program) { p.Machine = 0x014C })),
		uefi("program for arm64", as(func(p *diskmaker.Program) { p.Machine = 0xAA64 })),
		uefi("program of machine 0", as(func(p *diskmaker.Program) { p.Machine = 0xFFFF })),
		uefi("program cut short", put(cut[:len(cut)-700])),
		uefi("program of 0 bytes", put(nil)),
		uefi("program is a text", put([]byte("This is no program, whatever its name says.\r\n"))),
		uefi("program is a boot service driver", as(func(p *diskmaker.Program) { p.Subsystem = 11 })),
		uefi("program is a run-time driver", as(func(p *diskmaker.Program) { p.Subsystem = 12 })),
		uefi("program is a native one", as(func(p *diskmaker.Program) { p.Subsystem = 1 })),
		uefi("program is a console one", as(func(p *diskmaker.Program) { p.Subsystem = 3 })),
		uefi("program is a boot application", as(func(p *diskmaker.Program) { p.Subsystem = 16 })),
		uefi("program with a certificate, secure boot off", as(func(p *diskmaker.Program) { p.Signed = true })),
		uefi("fallback in small letters", with("a", 1, `\efi\boot\bootx64.efi`)),
		uefi("fallback for another architecture only", with("a", 1, `\EFI\BOOT\BOOTAA64.EFI`)),
		uefi("entry to a sound program, fallback broken", broken).entries(stale),
		uefi("entry to a broken program, then the next", func() Drive {
			files := place{"a", 1}.programs(fallbackX64)
			files[vendorPath] = []byte("no program")
			return Drive{Name: "a", Disk: gptDisk(1, esp(fat(files)), data())}
		}()).entries(stale),
		{Name: "unsigned program under secure boot", Firmware: OVMFSecure, Drives: []Drive{good("a", 1)}},
		{Name: "ia32 firmware, its fallback", Firmware: OVMFIA32, Drives: []Drive{with("a", 1, fallbackIA32)}},
		{Name: "ia32 firmware, only a program for x64", Firmware: OVMFIA32, Drives: []Drive{with("a", 1, fallbackX64)}},
		{Name: "ia32 firmware, both", Firmware: OVMFIA32, Drives: []Drive{with("a", 1, fallbackIA32, fallbackX64)}},
	}
}

// original makes a drive the original.
func original(d Drive) Drive { d.Role = "original"; return d }

// uefiPairs attach two drives.
func uefiPairs() []Scenario {
	a, b := original(good("a", 1)), good("b", 2)
	twin := func(role string) Drive { // a raw copy: the same identifiers
		d := good("b", 1)
		return d
	}
	order := func(s Scenario, names ...string) Scenario { s.Order = names; return s }
	blank := Drive{Name: "a", Role: "original", Disk: diskmaker.Disk{Sectors: diskSize / 512}}
	gone := a
	gone.Detached = true
	vendorA, vendorB := entry(1, a.Disk, 1, vendorPath), entry(2, b.Disk, 1, vendorPath)
	only := func(d Drive, paths ...string) Drive {
		d.Disk.Partitions = append([]diskmaker.Partition{}, d.Disk.Partitions...)
		d.Disk.Partitions[0].Volume = fat(place{d.Name, 1}.programs(paths...))
		return d
	}
	twinVendor := only(twin(""), vendorPath)
	return []Scenario{
		uefi("two drives, the first is found first", a, b).smoke(),
		uefi("two drives, the other way round", b, a),
		uefi("two drives, entry to the clone", a, b).entries(vendorB),
		uefi("two drives, entry to the original", a, b).entries(vendorA),
		uefi("two drives, entries to both", a, b).entries(vendorB, vendorA),
		uefi("raw copy beside the original, entry", a, twin("")).entries(vendorA),
		uefi("raw copy found first, entry", twin(""), a).entries(vendorA),
		uefi("raw copy beside the original, fallback", a, twin("")),
		uefi("raw copy alone, entry", gone, twin("")).entries(vendorA),
		uefi("raw copy, the original's program is missing", only(a, fallbackX64), twinVendor).entries(vendorA),
		uefi("raw copy, the original's boot partition is unformatted", func() Drive {
			d := a
			d.Disk.Partitions = append([]diskmaker.Partition{}, d.Disk.Partitions...)
			d.Disk.Partitions[0].Volume = diskmaker.Volume{}
			return d
		}(), twinVendor).entries(vendorA),
		uefi("new identifiers, entry to the original that is gone", gone, b).entries(vendorA),
		uefi("new identifiers, entry to the original, no fallback", gone, only(b, vendorPath)).entries(vendorA),
		uefi("first drive blank", blank, b),
		uefi("first drive without a boot partition", original(Drive{Name: "a", Disk: gptDisk(1, data())}), b),
		uefi("first drive MBR with Windows' layout", original(Drive{Name: "a", Disk: mbrDisk(1, data())}), b),
		order(uefi("SATA and NVMe", a, b.on("nvme")), "b", "a"),
		order(uefi("SATA and USB", a, b.on("usb")), "b", "a"),
		order(uefi("NVMe and USB", a.on("nvme"), b.on("usb")), "a", "b"),
		order(uefi("virtio and SATA", a.on("sata"), b.on("virtio")), "b", "a"),
		uefi("two NVMe drives", a.on("nvme"), b.on("nvme")),
		uefi("two NVMe drives, an entry to the second as a whole", a.on("nvme"), b.on("nvme")).
			entries(diskmaker.Entry{Number: 3,
				Path: append(diskmaker.PCINodes(firstNVMe+1, 0), diskmaker.NVMeNode()...)}),
		uefi("raw copies on NVMe, entry", a.on("nvme"), twin("").on("nvme")).entries(vendorA),
		order(uefi("raw copy on NVMe beside SATA, entry", a, twin("").on("nvme")).entries(vendorA), "b", "a"),
	}
}

// uefiOthers are layouts between the groups.
func uefiOthers() []Scenario {
	a := good("a", 1)
	usb := Drive{Name: "b", Role: "other", Bus: "usb", Disk: gptDisk(7, esp(fat(place{"b", 1}.programs(fallbackX64))))}
	behind := with("a", 1, vendorPath)
	second := entry(3, a.Disk, 1, vendorPath)
	nothing := Drive{Name: "b", Disk: gptDisk(2, diskmaker.Partition{Type: disk.TypeLinuxData})}.roomier()
	return []Scenario{
		{Name: "nothing is left of the clone, the original unplugged", Firmware: OVMF, Drives: []Drive{original(a).unplugged(), nothing}, Order: []string{"b", "a"}},
		{Name: "a stick beside a drive with an entry", Firmware: OVMF, Drives: []Drive{behind, usb}, Order: []string{"b", "a"},
			Entries: []diskmaker.Entry{second}},
		{Name: "a stick beside a drive without an entry", Firmware: OVMF, Drives: []Drive{behind, usb}, Order: []string{"b", "a"}},
	}
}
