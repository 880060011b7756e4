package truth

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"latchkey/core/disk"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// damage is something that is done to a machine, with what it is called.
type damage struct {
	name string
	do   func(s *Scenario)
}

// chance makes choices, and keeps what they are called.
type chance struct {
	*rand.Rand
	said []string
}

func (c *chance) of(n int) bool { return c.IntN(n) == 0 }

// pick takes one of some named things.
func pick[T any](c *chance, names []string, things []T) T {
	i := c.IntN(len(things))
	c.said = append(c.said, names[i])
	return things[i]
}

// Random is the machine of a seed, at random within what layouts are made of, with up to
// three damages. Those whose places are named are left out, so that what differs can be
// made small.
func Random(seed uint64, without ...int) Scenario {
	c := &chance{Rand: rand.New(rand.NewPCG(seed, 16))}
	make, damages := c.legacy, c.legacyDamages
	if seed%4 == 0 { // a start of UEFI firmware takes longer
		make, damages = c.uefi, c.uefiDamages
	}
	s := make()
	for i := range c.IntN(4) {
		do := damages
		if c.of(2) {
			do = c.bytesDamage
		}
		d := do(&s)
		if !slices.Contains(without, i) {
			c.said = append(c.said, d.name)
			d.do(&s)
		}
	}
	s.Name = fmt.Sprintf("random %d: %s", seed, strings.Join(c.said, ", "))
	return s
}

var buses = []string{"sata", "nvme", "usb", "virtio"}

// volumes are what partitions of a legacy disk hold.
func (c *chance) partition(mibs uint64) diskmaker.Partition {
	type of struct {
		kind  string
		types []byte
	}
	v := pick(c, []string{"NTFS", "FAT32", "ext4", "nothing"}, []of{{"ntfs", []byte{7, 0x27, 0x17}}, {"fat32", []byte{0x0C, 0x0B, 0x1C, 0xEF}},
		{"ext4", []byte{0x83}}, {"", []byte{7, 0x83, 0xEE, 0x82}}})
	return diskmaker.Partition{MBRType: v.types[c.IntN(len(v.types))], Type: disk.TypeBasicData, MiB: mibs,
		Volume: diskmaker.Volume{Kind: v.kind}}
}

// legacyDrive is a disk for legacy firmware: its table, the code of sector 0, and what
// stands in the partitions' first sectors.
func (c *chance) legacyDrive(name string, id byte) Drive {
	var parts []diskmaker.Partition
	for i := range 1 + c.IntN(3) {
		p := c.partition(uint64([]int{40, 33, 64}[i%3]))
		if c.of(2) {
			p.Active = true
			c.said = append(c.said, "active")
		}
		parts = append(parts, p)
	}
	d := Drive{Name: name, Disk: mbrDisk(id, parts...), Bus: buses[c.IntN(len(buses))]}
	if c.of(6) {
		c.said = append(c.said, "GPT")
		d.Disk = gptDisk(id, parts...)
		for i := range d.Disk.Partitions {
			d.Disk.Partitions[i].Attributes = uint64(c.IntN(2)) << 2
		}
		if c.of(2) {
			d = c.hybrid(d)
		}
	}
	var chain *logical
	if d.Disk.Style != diskmaker.GPT && c.of(4) {
		var l logical
		from := c.IntN(len(parts))
		c.said = append(c.said, fmt.Sprintf("from %d on logical", from+1))
		d, l = chained(d, extendedTypes[c.IntN(3)], from)
		chain = &l
		if c.of(4) {
			c.said = append(c.said, "the extended one active")
			d.Disk.Extended.Active = true
		}
		if c.of(3) {
			d = c.chainDamage(&l)(d)
		}
	}
	d = pick(c, []string{"classic code", "free code", "free code for GPT", "code that names its partition", "no code", "a marker", "noise"},
		[]func(Drive) Drive{
			func(d Drive) Drive { return d.spoiled(code("")) }, func(d Drive) Drive { return d.spoiled(code("mbr.bin")) },
			func(d Drive) Drive { return d.spoiled(code("gptmbr.bin")) },
			func(d Drive) Drive {
				n := byte(1 + c.IntN(6))
				return d.spoiled(code("altmbr.bin")).spoiled(func(m *diskmaker.Image) { write(m, 439, n) })
			},
			func(d Drive) Drive { return d }, func(d Drive) Drive { return d.spoiled(sector0(name)) },
			func(d Drive) Drive {
				noise := make([]byte, 440)
				for i := range noise {
					noise[i] = byte(c.IntN(256))
				}
				noise[0], noise[1] = 0xEB, 0xFE // goes round: what noise does else is chance
				return d.spoiled(func(m *diskmaker.Image) { write(m, 0, noise...) })
			},
		})(d)
	at := int64(2048)
	for i, p := range parts {
		number := i + 1
		if chain != nil && i >= chain.number-1 {
			number = 5 + i - (chain.number - 1)
			at = chain.starts[number-5] / 512
		}
		// What a boot sector of Windows starts is judged behind the loader.
		if p.Volume.Kind == "ntfs" || !c.of(3) {
			c.said = append(c.said, fmt.Sprintf("marker in %d", number))
			d = d.spoiled(bootSector(name, number, at))
		}
		at += int64(p.MiB) * 2048
	}
	return d
}

// code is the boot code of a file of Debian's, or our own.
func code(file string) func(*diskmaker.Image) {
	return func(m *diskmaker.Image) {
		if file == "" {
			src := mbrDisk(1)
			src.BootCode = "classic"
			write(m, 0, read(src.MustBuild(), 0, 440)...)
			return
		}
		raw, err := os.ReadFile(recordsFolder + file)
		if err != nil {
			panic(err)
		}
		write(m, 0, raw[:min(len(raw), 440)]...)
	}
}

func (c *chance) legacy() Scenario {
	s := Scenario{Firmware: SeaBIOS, Limit: 5 * time.Second, Drives: []Drive{c.legacyDrive("a", 1)}}
	if c.of(3) {
		c.said = append(c.said, "beside it:")
		s.Drives[0].Role = "original"
		s.Drives = append(s.Drives, c.legacyDrive("b", 2))
		if c.of(2) {
			c.said = append(c.said, "which is first")
			s.Order = []string{"b", "a"}
		}
	}
	return s
}

// legacyDamages is one thing that happens to a legacy machine.
func (c *chance) legacyDamages(s *Scenario) damage {
	i := c.IntN(len(s.Drives))
	on := func(name string, f func(*diskmaker.Image)) damage {
		return damage{name, func(s *Scenario) { s.Drives[i] = s.Drives[i].spoiled(f) }}
	}
	record := int64(446 + 16*c.IntN(4))
	value := byte(c.IntN(256))
	switch c.IntN(13) {
	case 9:
		return on("two records that overlap", func(m *diskmaker.Image) { write(m, record+12, 0, 0, 0x10, 0) })
	case 10:
		return on("a boot sector of noise", func(m *diskmaker.Image) {
			write(m, mib, append([]byte{0xEB, 0xFE}, make([]byte, 508)...)...)
			write(m, mib+510, 0x55, 0xAA)
		})
	case 11:
		return on("no table", func(m *diskmaker.Image) { write(m, 446, make([]byte, 64)...) })
	case 12:
		return on("a record of zeros", func(m *diskmaker.Image) { write(m, record, make([]byte, 16)...) })
	case 0:
		return on("no 55 AA", func(m *diskmaker.Image) { write(m, 510, 0, 0) })
	case 1:
		return on("a boot sector without 55 AA", func(m *diskmaker.Image) { write(m, mib+510, 0, 0) })
	case 2:
		return on(fmt.Sprintf("status %02X", value), func(m *diskmaker.Image) { write(m, record, value) })
	case 3:
		return on("another start", func(m *diskmaker.Image) { write(m, record+8, read(m, record+8, 1)[0]+1) })
	case 4:
		return on("type 0", func(m *diskmaker.Image) { write(m, record+4, 0) })
	case 5:
		return on("length 0", func(m *diskmaker.Image) { write(m, record+12, 0, 0, 0, 0) })
	case 6:
		return on("active", func(m *diskmaker.Image) { write(m, record, 0x80) })
	case 7:
		return on("a boot sector of zeros", func(m *diskmaker.Image) { write(m, mib, make([]byte, 512)...) })
	}
	return on("start beyond the end", func(m *diskmaker.Image) { write(m, record+8, 0, 0, 0, 0x10) })
}

// uefiDrive is a disk for UEFI firmware.
func (c *chance) uefiDrive(name string, id byte) Drive {
	kind := pick(c, []string{"FAT32", "FAT16", "FAT12"}, []string{"fat32", "fat16", "fat12"})
	paths := pick(c, []string{"both programs", "the fallback", "the vendor's", "none", "for ia32"},
		[][]string{{fallbackX64, vendorPath}, {fallbackX64}, {vendorPath}, {}, {fallbackIA32}})
	boot := esp(diskmaker.Volume{Kind: kind, Files: place{name, 1}.programs(paths...)})
	if kind != "fat32" {
		boot.MiB = map[string]uint64{"fat16": 32, "fat12": 8}[kind]
	}
	parts := []diskmaker.Partition{boot, data()}
	if c.of(4) {
		c.said = append(c.said, "a second boot partition")
		second := esp(diskmaker.Volume{Kind: "fat32", Files: place{name, 2}.programs(fallbackX64)})
		parts = []diskmaker.Partition{boot, second, data()}
	}
	d := Drive{Name: name, Disk: gptDisk(id, parts...), Bus: buses[c.IntN(len(buses))]}
	switch c.IntN(8) {
	case 0:
		c.said = append(c.said, "MBR")
		d.Disk = mbrDisk(id, parts...)
	case 1:
		boot.Volume.Files = place{name, 5}.programs(paths...)
		within := data()
		within.MiB = 48
		d.Disk = mbrDisk(id, boot, within)
		d = c.inChain(d, 0)
	case 2:
		d = c.hybrid(d)
	}
	return d
}

func (c *chance) uefi() Scenario {
	s := Scenario{Firmware: OVMF, Limit: 40 * time.Second, Drives: []Drive{c.uefiDrive("a", 1)}}
	if c.of(3) {
		c.said = append(c.said, "beside it:")
		s.Drives[0].Role = "original"
		s.Drives = append(s.Drives, c.uefiDrive("b", 2))
		s.Drives[1].Bus = s.Drives[0].Bus // among buses it is the firmware that has an order of its own
	}
	for n := range uint16(c.IntN(3)) {
		d := s.Drives[c.IntN(len(s.Drives))]
		path := pick(c, []string{"an entry to the vendor's", "an entry to the fallback", "an entry to nothing"}, []string{vendorPath, fallbackX64, `\EFI\gone\x.efi`})
		e := entry(3+n, d.Disk, 1, path)
		switch c.IntN(6) {
		case 0:
			c.said = append(c.said, "by the path alone")
			e.Path = diskmaker.FileNode(path)
		case 1:
			c.said = append(c.said, "inactive")
			e.Inactive = true
		}
		s.Entries = append(s.Entries, e)
	}
	return s
}

// uefiDamages is one thing that happens to a UEFI machine.
func (c *chance) uefiDamages(s *Scenario) damage {
	i := c.IntN(len(s.Drives))
	gpt := s.Drives[i].Disk.Style == diskmaker.GPT
	on := func(name string, f func(*diskmaker.Image)) damage {
		return damage{name, func(s *Scenario) { s.Drives[i] = s.Drives[i].spoiled(f) }}
	}
	last := int64(diskSize - 512)
	byteOf := int64(c.IntN(92))
	shift := int64(c.IntN(3) - 1)
	switch n := c.IntN(16); {
	case n == 10 && gpt:
		return on(fmt.Sprintf("a boot partition moved by %d", shift), bothHeaders(func(_, e []byte) { moved(e, shift, 0) }))
	case n == 11 && gpt:
		return on("a boot partition over the next", bothHeaders(func(_, e []byte) { moved(e, 0, 4096) }))
	case n == 12 && gpt:
		return on("no boot partition's entry", bothHeaders(func(_, e []byte) { clear(e[:128]) }))
	case n == 13 && gpt:
		return on("a boot partition beyond the end", bothHeaders(func(_, e []byte) { moved(e, 0, 1<<40) }))
	case n == 14:
		return on("the first FAT of zeros", func(m *diskmaker.Image) {
			at := int64(binary.LittleEndian.Uint16(read(m, mib+14, 2))) * 512
			write(m, mib+at, make([]byte, 2048)...)
		})
	case n == 15 && gpt:
		return on("no type", bothHeaders(func(_, e []byte) { clear(e[:16]) }))
	case n == 0 && gpt:
		return on(fmt.Sprintf("byte %d of the header", byteOf), flip(512+byteOf))
	case n == 1 && gpt:
		return on(fmt.Sprintf("byte %d of the backup's header", byteOf), flip(last+byteOf))
	case n == 2 && gpt:
		return on("a byte of the entries", flip(1024+byteOf))
	case n == 3:
		return on("no 55 AA", func(m *diskmaker.Image) { write(m, 510, 0, 0) })
	case n == 4:
		return on("sector 0 of zeros", func(m *diskmaker.Image) { write(m, 0, make([]byte, 512)...) })
	case n == 5 && gpt:
		return on("a hidden boot partition", bothHeaders(func(_, e []byte) { e[48] |= 2 }))
	case n == 6 && gpt:
		return on("another type", bothHeaders(func(_, e []byte) { copy(e, disk.TypeBasicData[:]) }))
	case n == 7:
		return on("a boot sector without 55 AA", func(m *diskmaker.Image) { write(m, mib+510, 0, 0) })
	case n == 8:
		return on("a boot sector of zeros", func(m *diskmaker.Image) { write(m, mib, make([]byte, 512)...) })
	}
	return damage{"unplugged", func(s *Scenario) { s.Drives[i].Detached = true }}
}

// moved moves the ends of the first entry.
func moved(e []byte, first, last int64) {
	le := binary.LittleEndian
	le.PutUint64(e[32:], uint64(int64(le.Uint64(e[32:]))+first))
	le.PutUint64(e[40:], uint64(int64(le.Uint64(e[40:]))+last))
}

// Tried is what became of a random machine.
type Tried struct {
	Report
	Open bool // the check says that it depends
}

// TryRandom starts a random machine; where it differs, it is made as small as it goes.
func TryRandom(seed uint64) Tried {
	r := tried(Random(seed))
	if r.Differs == "" || r.Open || r.Err != nil {
		return r
	}
	var without []int
	for i := range 3 {
		if less := tried(Random(seed, append(slices.Clone(without), i)...)); less.Differs != "" && !less.Open &&
			less.Err == nil {
			without = append(without, i)
			r = less
		}
	}
	return r
}

func tried(s Scenario) Tried {
	r := Run(s)
	return Tried{r, r.Trace.Verdict == startup.Depends}
}

// TryAll tries machines of seeds in a row, workers at a time: those whose firmware and name match.
func TryAll(from, count uint64, pattern *regexp.Regexp, workers int, each func(seed uint64, t Tried)) {
	seeds := slices.DeleteFunc(seedsFrom(from, count), func(seed uint64) bool {
		s := Random(seed)
		return !pattern.MatchString(s.Called())
	})
	sideBySide(seeds, workers, TryRandom, func(i int, t Tried) { each(seeds[i], t) })
}

func seedsFrom(from, count uint64) []uint64 {
	seeds := make([]uint64, count)
	for i := range seeds {
		seeds[i] = from + uint64(i)
	}
	return seeds
}
