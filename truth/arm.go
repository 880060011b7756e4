package truth

import (
	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// Paths of programs for arm64.
const (
	fallbackARM64 = `\EFI\BOOT\BOOTAA64.EFI`
	vendorARM64   = `\EFI\ferry\loaderaa64.efi`
)

// arm is a machine with arm64. Its firmware has no driver for SATA: drives hang on NVMe where nothing
// else is said.
func arm(name string, drives ...Drive) Scenario {
	for i := range drives {
		if drives[i].Bus == "" {
			drives[i].Bus = "nvme"
		}
	}
	return Scenario{Name: name, Firmware: AAVMF, Drives: drives}
}

// armScenarios are machines with arm64, whose firmware is the same edk2 built for it.
func armScenarios() []Scenario {
	return append(append(armStyles(), armPrograms()...), armPairs()...)
}

// armGood is a drive that firmware for arm64 starts by the fallback and by the vendor's path.
func armGood(name string, id byte) Drive { return with(name, id, fallbackARM64, vendorARM64) }

func armStyles() []Scenario {
	g := armGood("a", 1)
	files := place{"a", 1}.programs(fallbackARM64)
	mbr := Drive{Name: "a", Disk: mbrDisk(1, esp(fat(files)), data())}
	basic := esp(fat(files))
	basic.Type = disk.TypeBasicData
	last := int64(diskSize - 512)
	large := armGood("a", 1).large()
	large.Presents = 512
	return []Scenario{
		arm("GPT, fallback, NVMe", g).smoke(),
		arm("GPT, fallback, USB", g.on("usb")),
		arm("GPT, fallback, virtio", g.on("virtio")),
		arm("GPT, fallback, NVMe, 4096-byte sectors", g.large()),
		arm("MBR, type EF", mbr),
		arm("boot partition typed basic data", Drive{Name: "a", Disk: gptDisk(1, basic, data())}),
		arm("no boot partition", Drive{Name: "a", Disk: gptDisk(1, data())}),
		arm("boot partition is NTFS", Drive{Name: "a", Disk: gptDisk(1, esp(diskmaker.Volume{Kind: "ntfs"}), data())}),
		arm("blank disk", Drive{Name: "a", Disk: diskmaker.Disk{Sectors: diskSize / 512}}),
		arm("no drive", g.unplugged()),
		arm("primary header's checksum wrong", g.spoiled(flip(512+16))),
		arm("both headers damaged", g.spoiled(flip(512+56)).spoiled(flip(last+56))),
		arm("raw copy to a larger disk", g.resized(2*diskSize)),
		arm("raw copy to a smaller disk", g.resized(diskSize-32*mib)),
		arm("table for 4096-byte sectors on a 512-byte port", large),
	}
}

// armPrograms vary the program and what leads to it.
func armPrograms() []Scenario {
	put := func(program []byte) Drive {
		return Drive{Name: "a", Disk: gptDisk(1, esp(fat(map[string][]byte{fallbackARM64: program})), data())}
	}
	mark := MarkARM64.Program(tag("a", 1, fallbackARM64))
	foreign := MarkX64.Program(tag("a", 1, fallbackARM64)).Bytes()
	behind, both := with("a", 1, vendorARM64), armGood("a", 1)
	at := func(change func(*node)) diskmaker.Entry {
		return diskmaker.Entry{Number: 3, Description: "Ferry",
			Path: append(partitionNode(behind.Disk, 1, change), diskmaker.FileNode(vendorARM64)...)}
	}
	stale := at(func(n *node) { n.guid[0]++ })
	next := uint16(3)
	once := arm("BootNext to an entry outside the order", behind).entries(at(nil))
	once.Next, once.BootOrder = &next, []uint16{}
	return []Scenario{
		arm("only a program for x64", with("a", 1, fallbackX64)),
		arm("only a program for ia32", with("a", 1, fallbackIA32)),
		arm("programs for all", with("a", 1, fallbackIA32, fallbackX64, fallbackARM64)),
		arm("a program for x64 under the name of arm64's", put(foreign)).smoke(),
		arm("program cut short", put(mark.Bytes()[:len(mark.Bytes())-700])),
		arm("program is a text", put([]byte("This is no program, whatever its name says.\r\n"))),
		arm("entry matches", behind).entries(at(nil)),
		arm("entry with another GUID", behind).entries(stale),
		arm("stale entry, then the fallback", both).entries(stale),
		arm("no entries, vendor's path only", behind),
		once,
		{Name: "unsigned program under secure boot", Firmware: AAVMFSecure, Drives: []Drive{both.on("nvme")}},
	}
}

// armPairs attach two drives.
func armPairs() []Scenario {
	a, b, twin := original(armGood("a", 1)), armGood("b", 2), armGood("b", 1)
	leads := entry(1, a.Disk, 1, vendorARM64)
	order := func(s Scenario, names ...string) Scenario { s.Order = names; return s }
	return []Scenario{
		arm("two drives, the first is found first", a, b),
		arm("two drives, entry to the clone", a, b).entries(entry(2, b.Disk, 1, vendorARM64)),
		arm("raw copy beside the original, entry", a, twin).entries(leads),
		arm("raw copy alone, entry", a.unplugged(), twin).entries(leads),
		arm("new identifiers, entry to the original that is gone", a.unplugged(), b).entries(leads),
		arm("new identifiers, entry to the original, no fallback", a.unplugged(), with("b", 2, vendorARM64)).entries(leads),
		arm("first drive blank", original(Drive{Name: "a", Disk: diskmaker.Disk{Sectors: diskSize / 512}}), b),
		arm("NVMe and USB", a, b.on("usb")),
		order(arm("USB and NVMe", a.on("usb"), b), "b", "a"),
		arm("virtio and NVMe", a.on("virtio"), b),
	}
}
