package truth

import (
	"encoding/binary"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// uefiTables damage or misplace a GPT.
func uefiTables() []Scenario {
	g := good("a", 1)
	last := int64(diskSize - 512)
	le := binary.LittleEndian
	beyond := gptDisk(1, esp(fat(place{"a", 1}.programs(fallbackX64))), data())
	far := Drive{Name: "a", Disk: gptDisk(1, diskmaker.Partition{Type: disk.TypeBasicData, MiB: 110},
		esp(fat(place{"a", 2}.programs(fallbackX64))))}
	large := good("a", 1).large().on("nvme")
	large.Presents = 512
	smallOn4096 := good("a", 1).on("nvme")
	smallOn4096.Presents = 4096
	first := data()
	first.MiB = 40
	second := Drive{Name: "a", Disk: gptDisk(1, first, esp(fat(place{"a", 2}.programs(fallbackX64))))}
	raw := func(change func(h, entries []byte)) Scenario { return uefi("", g.spoiled(bothHeaders(change))) }
	named := func(name string, s Scenario) Scenario { s.Name = name; return s }
	return []Scenario{
		uefi("primary header's checksum wrong", g.spoiled(flip(512+16))).smoke(),
		uefi("primary header gone", g.spoiled(func(m *diskmaker.Image) { write(m, 512, make([]byte, 512)...) })),
		uefi("primary entries damaged", g.spoiled(flip(1024+200))),
		uefi("backup header damaged", g.spoiled(flip(last+56))),
		uefi("backup entries damaged", g.spoiled(flip(last-32*512+3))),
		uefi("both headers damaged", g.spoiled(flip(512+56)).spoiled(flip(last+56))).smoke(),
		uefi("both arrays damaged", g.spoiled(flip(1024)).spoiled(flip(last-32*512))),
		uefi("primary entries and backup header damaged", g.spoiled(flip(1024)).spoiled(flip(last+56))),
		uefi("raw copy to a larger disk", g.resized(2*diskSize)),
		uefi("raw copy to a larger disk, primary damaged", g.spoiled(flip(512+16)).resized(2*diskSize)),
		uefi("raw copy to a smaller disk", g.resized(diskSize-32*mib)),
		uefi("raw copy to a smaller disk, primary damaged", g.spoiled(flip(512+16)).resized(diskSize-32*mib)),
		uefi("boot partition beyond the end", far.resized(100*mib)),
		uefi("boot partition cut by the end", far.resized(140*mib)),
		uefi("no protective MBR", g.spoiled(func(m *diskmaker.Image) { write(m, 446, make([]byte, 66)...) })),
		uefi("protective MBR without 55 AA", g.spoiled(func(m *diskmaker.Image) { write(m, 510, 0, 0) })),
		uefi("protective record second", g.spoiled(func(m *diskmaker.Image) {
			write(m, 462, read(m, 446, 16)...)
			write(m, 446, make([]byte, 16)...)
		})),
		uefi("protective record starts at 2", g.spoiled(func(m *diskmaker.Image) { write(m, 454, 2) })),
		uefi("protective record marked active", g.spoiled(func(m *diskmaker.Image) { write(m, 446, 0x80) })),
		uefi("protective record of another length", g.spoiled(func(m *diskmaker.Image) { write(m, 458, 0xFF, 0xFF, 0, 0) })),
		uefi("hybrid MBR", g.spoiled(func(m *diskmaker.Image) {
			write(m, 462, 0x80, 0xFE, 0xFF, 0xFF, 0x0C, 0xFE, 0xFF, 0xFF, 0, 8, 0, 0, 0, 0, 2, 0)
			write(m, 458, 0xFF, 7, 0, 0)
		})),
		uefi("MBR beside a GPT, no protective record", g.spoiled(func(m *diskmaker.Image) {
			write(m, 446, 0x80, 0xFE, 0xFF, 0xFF, 0x0C, 0xFE, 0xFF, 0xFF, 0, 8, 0, 0, 0, 0, 2, 0)
		})),
		named("overlapping partitions", raw(func(_, e []byte) { le.PutUint64(e[128+32:], 4096) })),
		named("a second partition beyond the end over the boot partition", raw(func(_, e []byte) {
			le.PutUint64(e[128+32:], 40)
			le.PutUint64(e[128+40:], 1<<40)
		})),
		uefi("a first partition beyond the end over the boot partition", second.spoiled(bothHeaders(func(_, e []byte) {
			le.PutUint64(e[32:], 40)
			le.PutUint64(e[40:], 1<<40)
		}))),
		named("boot partition outside the usable range", raw(func(h, _ []byte) { le.PutUint64(h[40:], 4096) })),
		named("boot partition past the last usable sector", raw(func(h, _ []byte) { le.PutUint64(h[48:], 100000) })),
		named("boot partition marked as no block device", raw(func(_, e []byte) { e[48] |= 2 })),
		named("boot partition's last sector before its first", raw(func(_, e []byte) { le.PutUint64(e[40:], 2000) })),
		named("wrong own sector in both headers", raw(func(h, _ []byte) { h[24] += 5 })),
		named("revision 2.0 in both headers", raw(func(h, _ []byte) { le.PutUint32(h[8:], 0x00020000) })),
		named("64 entries", raw(func(h, _ []byte) { le.PutUint32(h[80:], 64) })),
		named("entries of 256 bytes", raw(func(h, e []byte) {
			le.PutUint32(h[84:], 256)
			le.PutUint32(h[80:], 64)
			copy(e[256:384], e[128:256])
			clear(e[128:256])
		})),
		named("two boot partitions of one GUID", uefi("", Drive{Name: "a",
			Disk: gptDisk(1, esp(fat(nil)), esp(fat(place{"a", 2}.programs(fallbackX64))))}.spoiled(bothHeaders(func(_,
			e []byte) {
			copy(e[128+16:128+32], e[16:32])
		})))),
		uefi("table for 4096-byte sectors on a 512-byte port", large).smoke(),
		uefi("table for 512-byte sectors on a 4096-byte port", smallOn4096),
		uefi("entry while the primary is damaged", Drive{Name: "a", Disk: beyond}.spoiled(flip(512+16))).entries(entry(3, beyond, 1, fallbackX64)),
	}
}

// uefiMBRs damage an MBR.
func uefiMBRs() []Scenario {
	g := Drive{Name: "a", Disk: mbrDisk(1, esp(fat(place{"a", 1}.programs(fallbackX64))), data())}
	le := binary.LittleEndian
	chain := func(kind byte) Drive {
		boot := esp(fat(place{"a", 5}.programs(fallbackX64)))
		d, _ := chained(Drive{Name: "a", Disk: mbrDisk(1, diskmaker.Partition{MBRType: 7, MiB: 64}, boot)}, kind, 1)
		return d
	}
	// pair is a chain of two, the second or the first of which is the boot partition, with bytes
	// of one of its records changed.
	pair := func(first bool, i int, off int64, b ...byte) Drive {
		boot := esp(fat(place{"a", 6}.programs(fallbackX64)))
		parts := []diskmaker.Partition{{MBRType: 7, MiB: 8}, {MBRType: 7, MiB: 8}, boot}
		if first {
			parts[1], parts[2] = esp(fat(place{"a", 5}.programs(fallbackX64))), parts[1]
		}
		d, l := chained(Drive{Name: "a", Disk: mbrDisk(1, parts...)}, 0x0F, 1)
		return d.spoiled(func(m *diskmaker.Image) { write(m, l.tables[i]+off, b...) })
	}
	record := func(i int64, change func(r []byte)) Drive {
		return g.spoiled(func(m *diskmaker.Image) {
			r := read(m, 446+16*i, 16)
			change(r)
			write(m, 446+16*i, r...)
		})
	}
	return []Scenario{
		uefi("MBR without 55 AA", g.spoiled(func(m *diskmaker.Image) { write(m, 510, 0, 0) })),
		uefi("MBR, second partition beyond the end", record(1, func(r []byte) { le.PutUint32(r[12:], 1<<30) })),
		uefi("MBR, boot partition beyond the end", record(0, func(r []byte) { le.PutUint32(r[12:], 1<<30) })),
		uefi("MBR, overlapping partitions", record(1, func(r []byte) { le.PutUint32(r[8:], 4096) })),
		uefi("MBR, invalid status byte", record(0, func(r []byte) { r[0] = 0x3A })),
		uefi("MBR, boot partition of type 0", record(0, func(r []byte) { r[4] = 0 })),
		uefi("MBR, boot partition of length 0", record(0, func(r []byte) { le.PutUint32(r[12:], 0) })),
		uefi("MBR, partition of length 0 beside", record(1, func(r []byte) { le.PutUint32(r[12:], 0) })),
		uefi("MBR raw copy to a smaller disk", g.resized(diskSize-64*mib)),
		uefi("MBR, boot partition logical in 05", chain(0x05)),
		uefi("MBR, boot partition logical in 0F", chain(0x0F)),
		uefi("MBR, boot partition logical in 85", chain(0x85)),
		uefi("MBR, the first record of a chain links beyond its end", pair(true, 0, 474, 0, 0, 0, 0x10)),
		uefi("MBR, a record without a partition before the logical boot partition", pair(false, 0, 458, 0, 0, 0, 0)),
		uefi("MBR, a link of no extended type before the logical boot partition", pair(false, 0, 466, 7)),
		uefi("MBR, a logical partition beyond the extended one before the boot partition", pair(false, 0, 458, 0, 0, 0, 0x10)),
		uefi("MBR, a later record of a chain beyond the end of the disk", pair(true, 1, 454, 0, 0, 0, 0x10)),
	}
}

// uefiVolumes vary the boot partition.
func uefiVolumes() []Scenario {
	p1 := place{"a", 1}
	files := p1.programs(fallbackX64)
	one := func(p ...diskmaker.Partition) Drive { return Drive{Name: "a", Disk: gptDisk(1, p...)} }
	typed := func(t disk.GUID) diskmaker.Partition { p := esp(fat(files)); p.Type = t; return p }
	boot := int64(mib)
	bpb := func(off int64, b ...byte) Drive {
		return one(esp(fat(files)), data()).spoiled(func(m *diskmaker.Image) { write(m, boot+off, b...) })
	}
	return []Scenario{
		uefi("FAT32 of too few clusters", one(func() diskmaker.Partition { p := esp(fat(files)); p.MiB = 20; return p }(), data())),
		uefi("FAT32 of too few clusters, 4096-byte sectors", func() Drive {
			d := one(esp(fat(files)), data()).large().on("nvme")
			d.Disk.Partitions[0].MiB = 64
			return d
		}()),
		uefi("boot partition is NTFS", one(esp(diskmaker.Volume{Kind: "ntfs"}), data())),
		uefi("boot partition is empty", one(esp(diskmaker.Volume{}), data())),
		uefi("boot partition has no files", one(esp(fat(nil)), data())),
		uefi("no boot partition", one(data())).smoke(),
		uefi("a volume of a Mac alone", one(func() diskmaker.Partition { // an APFS container: "NXSB" at byte 32
			p := data()
			p.Volume = diskmaker.Volume{Kind: "raw",
				Raw: append(make([]byte, 32), append([]byte("NXSB"), make([]byte, 4060)...)...)}
			return p
		}())),
		uefi("boot partition typed basic data", one(typed(disk.TypeBasicData), data())),
		uefi("boot partition typed recovery", one(typed(disk.MustGUID("DE94BBA4-06D1-4D40-A16A-BFD50179D6AC")), data())),
		uefi("first boot partition empty, second good", one(esp(fat(nil)), esp(fat(place{"a", 2}.programs(fallbackX64))))),
		uefi("first boot partition unformatted, second good", one(esp(diskmaker.Volume{}), esp(fat(place{"a", 2}.programs(fallbackX64))))),
		uefi("two good boot partitions", one(esp(fat(files)), esp(fat(place{"a", 2}.programs(fallbackX64))))),
		uefi("basic data first, then the boot partition, both good", one(typed(disk.TypeBasicData), esp(fat(place{"a", 2}.programs(fallbackX64))))),
		uefi("FAT without 55 AA", bpb(510, 0, 0)),
		uefi("FAT with media byte 00", bpb(21, 0)),
		uefi("FAT with media byte F0", bpb(21, 0xF0)),
		uefi("FAT with a wrong jump", bpb(0, 0, 0, 0)),
		uefi("FAT with wrong hidden sectors", bpb(28, 0x11, 0x22, 0x33, 0)),
		uefi("FAT that says 4096-byte sectors", bpb(11, 0x00, 0x10)),
		uefi("FAT with 0 sectors a cluster", bpb(13, 0)),
		uefi("FAT with 3 sectors a cluster", bpb(13, 3)),
		uefi("FAT with 0 reserved sectors", bpb(14, 0, 0)),
		uefi("FAT with 0 tables", bpb(16, 0)),
		uefi("FAT with a medium that is none", bpb(21, 0x29)),
		uefi("FAT32 with entries in a root of its own", bpb(17, 0, 2)),
		uefi("FAT32 of another version", bpb(42, 0, 1)),
		uefi("FAT32 with one table alone in use", bpb(40, 0x80)),
		uefi("FAT32 with more sectors than it can number", bpb(32, 0, 0, 0, 0x29)),
		uefi("FAT larger than its partition", bpb(32, 0, 0, 4, 0)),
		uefi("FAT much larger than the disk", bpb(32, 0, 0, 0, 1)),
		uefi("FAT boot sector gone", one(esp(fat(files)), data()).spoiled(func(m *diskmaker.Image) {
			write(m, boot,
				make([]byte, 512)...)
		})),
		uefi("FAT's first table gone", one(esp(fat(files)), data()).spoiled(func(m *diskmaker.Image) {
			write(m, boot+int64(binary.LittleEndian.Uint16(read(m, boot+14, 2)))*512, make([]byte, 512)...)
		})),
	}
}
