package truth

import (
	"encoding/binary"
	"os"

	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

func legacy(name string, drives ...Drive) Scenario {
	return Scenario{Name: name, Firmware: SeaBIOS, Drives: drives}
}

// legacyScenarios are those of legacy firmware.
func legacyScenarios() []Scenario {
	var all []Scenario
	for _, group := range [][]Scenario{legacySectors(), legacyActive(), legacyTools(), legacyDrives(), legacyPairs()} {
		all = append(all, group...)
	}
	return all
}

// marked is an MBR drive whose sector 0 is a marker.
func marked(name string, id byte) Drive {
	return Drive{Name: name, Disk: mbrDisk(id, data())}.spoiled(sector0(name))
}

// classic is an MBR drive with the classic boot code and two partitions whose
// first sectors are markers.
func classic(name string, id byte, active ...int) Drive {
	d := mbrDisk(id, diskmaker.Partition{MBRType: 7, MiB: 64, Volume: diskmaker.Volume{Kind: "ntfs"}}, data())
	d.BootCode = "classic"
	for _, i := range active {
		d.Partitions[i-1].Active = true
	}
	return Drive{Name: name, Disk: d}.spoiled(bootSector(name, 1, 2048)).spoiled(bootSector(name, 2, 2048+64*2048))
}

func legacySectors() []Scenario {
	g := Drive{Name: "a", Disk: gptDisk(1, esp(fat(nil)), data())}
	codeless := Drive{Name: "a", Disk: mbrDisk(1, diskmaker.Partition{MBRType: 7, Active: true,
		Volume: diskmaker.Volume{Kind: "ntfs"}})}
	return []Scenario{
		legacy("code in sector 0", marked("a", 1)).smoke(),
		legacy("code in sector 0, no 55 AA", marked("a", 1).spoiled(func(m *diskmaker.Image) { write(m, 510, 0, 0) })).smoke(),
		legacy("code in sector 0, AA 55", marked("a", 1).spoiled(func(m *diskmaker.Image) { write(m, 510, 0xAA, 0x55) })),
		legacy("code in sector 0 of a GPT", g.spoiled(sector0("a"))),
		legacy("code in sector 0, no table", Drive{Name: "a", Disk: diskmaker.Disk{Sectors: diskSize / 512}}.spoiled(sector0("a"))),
		legacy("GPT without code", g),
		legacy("MBR without code", codeless.spoiled(bootSector("a", 1, 2048))),
		legacy("blank", Drive{Name: "a", Disk: diskmaker.Disk{Sectors: diskSize / 512}}),
		legacy("a volume without a table", Drive{Name: "a", Disk: diskmaker.Disk{Sectors: diskSize / 512},
			Spoil: func(*diskmaker.Image) *diskmaker.Image {
				m := diskmaker.NewImage(diskSize, 512)
				src := mbrDisk(1, diskmaker.Partition{MBRType: 0x0C, MiB: 64, Volume: fat(nil)}).MustBuild()
				write(m, 0, read(src, mib, 4096)...)
				code := MarkSector.Code(tag("a", 0, startup.LoaderBootCode))
				write(m, 0, code[:3]...)
				write(m, 90, code[90:]...)
				return m
			}}),
	}
}

// legacyActive vary the active partition under the classic boot code.
func legacyActive() []Scenario {
	record := func(d Drive, i int64, at int64, b ...byte) Drive {
		return d.spoiled(func(m *diskmaker.Image) { write(m, 446+16*i+at, b...) })
	}
	one := classic("a", 1, 1)
	le := binary.LittleEndian
	logical := func() Drive {
		d := mbrDisk(1, diskmaker.Partition{MBRType: 7, MiB: 16}, diskmaker.Partition{MBRType: 0x0F, MiB: 100,
			Active: true})
		d.BootCode = "classic"
		return Drive{Name: "a", Disk: d}.spoiled(func(m *diskmaker.Image) {
			at := int64(17 * mib)
			r := make([]byte, 16)
			r[4] = 7
			le.PutUint32(r[8:], 2048)
			le.PutUint32(r[12:], 2048)
			write(m, at+446, r...)
			write(m, at+510, 0x55, 0xAA)
		})
	}
	gpt := func(code bool) Drive {
		d := Drive{Name: "a", Disk: gptDisk(1, esp(fat(nil)), data())}
		return d.spoiled(func(m *diskmaker.Image) {
			src := mbrDisk(1)
			src.BootCode = "classic"
			write(m, 0, read(src.MustBuild(), 0, 440)...)
			if code {
				write(m, 446, 0x80)
			}
		})
	}
	return []Scenario{
		legacy("active partition 1", one).smoke(),
		legacy("active partition 2", classic("a", 1, 2)),
		legacy("no active partition", classic("a", 1)).smoke(),
		legacy("two active partitions", classic("a", 1, 1, 2)),
		legacy("invalid status byte", record(one, 1, 0, 0x7F)),
		legacy("active partition's boot sector without 55 AA", one.spoiled(func(m *diskmaker.Image) { write(m, mib+510, 0, 0) })),
		legacy("active partition starts one sector later", record(one, 0, 8, 1, 8, 0, 0)),
		legacy("active partition lies beyond the end", record(one, 0, 8, 0, 0, 0, 0x10)),
		legacy("active partition of type 0", record(one, 0, 4, 0)),
		legacy("active partition of length 0", record(one, 0, 12, 0, 0, 0, 0)),
		legacy("active partition is the third record", classic("a", 1).spoiled(bootSector("a", 3, 2048)).spoiled(func(m *diskmaker.Image) {
			r := read(m, 446, 16)
			r[0] = 0x80
			write(m, 446+32, r...)
			write(m, 446, make([]byte, 16)...)
		})),
		legacy("active partition is an extended one", logical()),
		legacy("classic code on a GPT", gpt(false)),
		legacy("classic code on a GPT, protective record active", gpt(true)),
		legacy("hybrid MBR with an active record", gpt(false).spoiled(func(m *diskmaker.Image) {
			write(m, 462, 0x80, 0xFE, 0xFF, 0xFF, 7, 0xFE, 0xFF, 0xFF, 0, 8, 2, 0, 0, 8, 0, 0)
		}).spoiled(bootSector("a", 2, 2048+64*2048))),
		legacy("raw copy to a smaller disk", one.resized(diskSize-64*mib)),
		legacy("raw copy to a smaller disk, active partition lost", classic("a", 1, 2).resized(40*mib)),
		legacy("classic code on NVMe", one.on("nvme")),
		legacy("classic code on USB", one.on("usb")),
		legacy("classic code on virtio", one.on("virtio")),
		legacy("classic code on SCSI", one.on("scsi")),
	}
}

// Boot records from Debian's syslinux-common.
const recordsFolder = "/usr/lib/syslinux/mbr/"

// legacyTools use boot records that others wrote.
func legacyTools() []Scenario {
	from := func(d Drive, file string) Drive {
		return d.spoiled(func(m *diskmaker.Image) {
			code, err := os.ReadFile(recordsFolder + file)
			if err != nil {
				panic(err)
			}
			write(m, 0, code[:min(len(code), 440)]...)
		})
	}
	bare := func(active ...int) Drive {
		d := classic("a", 1, active...)
		d.Disk.BootCode = ""
		return d
	}
	gpt := func(attributes uint64) Drive {
		d := Drive{Name: "a", Disk: gptDisk(1, esp(fat(nil)), data())}
		d.Disk.Partitions[0].Attributes = attributes
		return from(d.spoiled(bootSector("a", 1, 2048)), "gptmbr.bin")
	}
	alt := from(bare(), "altmbr.bin")
	return []Scenario{
		legacy("free boot record, active partition 1", from(bare(1), "mbr.bin")),
		legacy("free boot record, active partition 2", from(bare(2), "mbr.bin")),
		legacy("free boot record, none active", from(bare(), "mbr.bin")),
		legacy("free boot record, two active", from(bare(1, 2), "mbr.bin")),
		legacy("free boot record, boot sector without 55 AA", from(bare(1), "mbr.bin").spoiled(func(m *diskmaker.Image) { write(m, mib+510, 0, 0) })),
		legacy("free boot record on NVMe", from(bare(1), "mbr.bin").on("nvme")),
		legacy("free boot record for GPT, legacy-bootable partition", gpt(4)),
		legacy("free boot record for GPT, none bootable", gpt(0)),
		legacy("free boot record that names its partition", alt.spoiled(func(m *diskmaker.Image) { write(m, 439, 2) })),
	}
}

// legacyDrives vary the port.
func legacyDrives() []Scenario {
	large := func(bus string) Drive {
		d := Drive{Name: "a", Bus: bus, Disk: mbrDisk(1, data())}.large()
		return d.spoiled(sector0("a"))
	}
	return []Scenario{
		legacy("SATA", marked("a", 1)),
		legacy("NVMe", marked("a", 1).on("nvme")),
		legacy("USB", marked("a", 1).on("usb")),
		legacy("virtio", marked("a", 1).on("virtio")),
		legacy("SCSI", marked("a", 1).on("scsi")),
		legacy("SCSI, 4096-byte sectors", large("scsi")),
		legacy("NVMe, 4096-byte sectors", large("nvme")),
		legacy("virtio, 4096-byte sectors", large("virtio")),
		legacy("USB, 4096-byte sectors", large("usb")),
		legacy("no drive", marked("a", 1).unplugged()),
		legacy("nothing is left of the clone, the original unplugged", original(classic("a", 1, 1)).unplugged(),
			Drive{Name: "b", Disk: mbrDisk(2, diskmaker.Partition{MBRType: 0x83})}.roomier()),
	}
}

// legacyPairs attach two drives.
func legacyPairs() []Scenario {
	a, b := original(marked("a", 1)), marked("b", 2)
	order := func(s Scenario, names ...string) Scenario { s.Order = names; return s }
	blank := original(Drive{Name: "a", Disk: diskmaker.Disk{Sectors: diskSize / 512}})
	unsigned := original(marked("a", 1)).spoiled(func(m *diskmaker.Image) { write(m, 510, 0, 0) })
	inactive := original(classic("a", 1))
	codeless := original(Drive{Name: "a", Disk: mbrDisk(1, data())})
	gone := a
	gone.Detached = true
	large := original(Drive{Name: "a", Bus: "nvme", Disk: mbrDisk(1, data())}.large()).spoiled(sector0("a"))
	return []Scenario{
		legacy("two drives, the first has its turn", a, b).smoke(),
		order(legacy("two drives, the second is first in the order", a, b), "b", "a"),
		legacy("first drive blank", blank, b),
		legacy("first drive without 55 AA", unsigned, b),
		legacy("first drive without an active partition", inactive, b),
		legacy("first drive without code", codeless, b),
		legacy("first drive stops with a message", original(classic("a", 1, 1, 2)), b),
		legacy("clone alone", gone, b),
		legacy("first drive with 4096-byte sectors", large, b),
		order(legacy("NVMe before SATA", a, b.on("nvme")), "b", "a"),
		order(legacy("USB before SATA", a, b.on("usb")), "b", "a"),
		legacy("first drive is a GPT without code", original(Drive{Name: "a", Disk: gptDisk(1, data())}), b),
		legacy("raw copy beside the original", original(classic("a", 1, 1)), classic("b", 1, 1)),
		order(legacy("raw copy first in the order", original(classic("a", 1, 1)), classic("b", 1, 1)), "b", "a"),
	}
}
