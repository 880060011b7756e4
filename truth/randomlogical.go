package truth

import (
	"encoding/binary"
	"fmt"
	"slices"

	"latchkey/internal/diskmaker"
)

// extendedTypes are the record types that logical partitions lie in.
var extendedTypes = []byte{0x05, 0x0F, 0x85}

// logical are partitions in a chain of records.
type logical struct {
	number int // of the extended partition's record, from 1
	at     int64
	ends   int64
	starts []int64 // bytes from the start of the disk
	tables []int64 // of the records before them
}

// chained puts partitions of an MBR from an index on into a chain within an extended
// partition of a type. Their boot sectors tell their place from their record on, as systems
// write them. Common practice, no source.
func chained(d Drive, kind byte, from int) (Drive, logical) {
	l := logical{number: from + 1}
	d.Disk.Partitions = slices.Clone(d.Disk.Partitions)
	d.Disk.Extended.Type = kind
	for i := range d.Disk.Partitions[from:] {
		p := &d.Disk.Partitions[from+i]
		p.Logical, p.Hidden = true, mib/512
	}
	laid, err := d.Disk.Placed()
	if err != nil {
		panic(err)
	}
	for _, p := range laid.Partitions[from:] {
		at := int64(p.Start) * 512
		l.tables, l.starts, l.ends = append(l.tables, at-mib), append(l.starts, at), at+int64(p.MiB)*mib
	}
	l.at = l.tables[0]
	return d, l
}

// inChain puts the last partitions of an MBR into a chain, and may damage that.
func (c *chance) inChain(d Drive, from int) Drive {
	d, l := chained(d, extendedTypes[c.IntN(3)], from)
	c.said = append(c.said, fmt.Sprintf("from %d on logical", from+1))
	if c.of(3) {
		d = c.chainDamage(&l)(d)
	}
	return d
}

// chainDamage is one thing that happens to a chain.
func (c *chance) chainDamage(l *logical) func(Drive) Drive {
	i := c.IntN(len(l.tables))
	at, value := l.tables[i], byte(c.IntN(256))
	on := func(name string, off int64, b ...byte) func(Drive) Drive {
		c.said = append(c.said, fmt.Sprintf("%s of logical %d", name, 5+i))
		return func(d Drive) Drive { return d.spoiled(func(m *diskmaker.Image) { write(m, at+off, b...) }) }
	}
	switch c.IntN(9) {
	case 0:
		return on("no 55 AA", 510, 0, 0)
	case 1:
		return on("zeros in the table", 446, make([]byte, 66)...)
	case 2:
		return on("active", 446, 0x80)
	case 3:
		return on(fmt.Sprintf("status %02X", value), 446, value)
	case 4:
		return on(fmt.Sprintf("type %02X", value), 450, value)
	case 5:
		return on("a start beyond the end", 454, 0, 0, 0, 0x10)
	case 6:
		return on("a link to itself", 462, 0, 0, 0, 0, 5, 0, 0, 0, 0, 0, 0, 0, 0, 8, 0, 0)
	case 7:
		return on("a link beyond the end", 462, 0, 0, 0, 0, 5, 0, 0, 0, 0, 0, 0, 0x10, 0, 8, 0, 0)
	}
	return on("length 0", 458, 0, 0, 0, 0)
}

// hybrid puts ordinary records beside a protective one, and may take the GPT away.
func (c *chance) hybrid(d Drive) Drive {
	c.said = append(c.said, "hybrid")
	kind := []byte{0x0C, 0x07, 0x83, 0xEF}[c.IntN(4)]
	status, first := byte(c.IntN(2))*0x80, c.of(2)
	parts := d.Disk.Partitions
	guard := c.IntN(3)
	d = d.spoiled(func(m *diskmaker.Image) {
		r := make([]byte, 16)
		r[0], r[4] = status, kind
		binary.LittleEndian.PutUint32(r[8:], 2048)
		binary.LittleEndian.PutUint32(r[12:], uint32(parts[0].MiB)*2048)
		p := read(m, 446, 16)
		switch guard { // how long the protective record is, by the programs that write hybrids
		case 0:
			binary.LittleEndian.PutUint32(p[12:], 2047)
		case 1:
			binary.LittleEndian.PutUint32(p[12:], 33)
		}
		if first {
			p, r = r, p
		}
		write(m, 446, p...)
		write(m, 462, r...)
	})
	last := int64(diskSize - 512)
	switch c.IntN(4) {
	case 0:
		c.said = append(c.said, "both headers gone")
		first = true // the record then has the number that the marker says
		d = d.spoiled(func(m *diskmaker.Image) {
			write(m, 512, make([]byte, 512)...)
			write(m, last, make([]byte, 512)...)
		})
	case 1:
		c.said = append(c.said, "the first header gone")
		d = d.spoiled(func(m *diskmaker.Image) { write(m, 512, make([]byte, 512)...) })
	}
	return d
}

// uefiLogicalEntries are entries that name a logical partition, the extended one that it lies
// in, or a file alone.
func uefiLogicalEntries() []Scenario {
	boot := esp(fat(place{"a", 5}.programs(vendorPath)))
	second := esp(fat(place{"a", 6}.programs(vendorPath)))
	second.MiB = 48
	d, l := chained(Drive{Name: "a", Disk: mbrDisk(1, boot, second)}, 0x0F, 0)
	to := func(number uint32, start, size uint64) diskmaker.Entry {
		node := diskmaker.HardDriveNode(number, start, size, nil, d.Disk.Signature)
		return diskmaker.Entry{Number: 3, Description: "Ferry", Path: append(node, diskmaker.FileNode(vendorPath)...)}
	}
	at := func(i int) uint64 { return uint64(l.starts[i] / 512) }
	alone := diskmaker.Entry{Number: 3, Description: "Ferry", Path: diskmaker.FileNode(vendorPath)}
	old := with("a", 1, vendorPath)
	old.Role = "original"
	gone := diskmaker.Entry{Number: 3, Description: "Ferry", Path: diskmaker.FileNode(`\EFI\gone\x.efi`)}
	return []Scenario{
		uefi("MBR entry to a logical partition", d).entries(to(5, at(0), boot.MiB*2048)),
		uefi("MBR entry to the second logical partition", d).entries(to(6, at(1), second.MiB*2048)),
		uefi("MBR entry to a logical partition, counted from the first", d).entries(to(1, at(0), boot.MiB*2048)),
		uefi("MBR entry to the extended partition", d).entries(to(1, uint64(l.at/512), uint64(l.ends-l.at)/512)),
		uefi("entry by a path alone", with("a", 1, vendorPath)).entries(alone).smoke(),
		uefi("entry by a path alone to what is nowhere", with("a", 1, vendorPath)).entries(gone),
		uefi("entry by a path alone, two drives", old, with("b", 2, vendorPath)).entries(alone),
		uefi("entry by a path alone, a fixed drive and one on USB", old, with("b", 2, vendorPath).on("usb")).
			entries(alone),
	}
}
