package truth

import (
	"fmt"
	"regexp"
	"time"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// structure is a part of a disk of which every byte is changed in turn. The machine has nothing
// else to start from, so that a byte that matters is seen.
type structure struct {
	name     string
	firmware Firmware
	drive    func(name string, m Marker) Drive
	length   int64
	// change gives the byte at a place of the structure, from 0, another value: what f makes of it.
	change func(at int64, f func(byte) byte) func(*diskmaker.Image)
}

// values are what a byte becomes: the ends, its neighbour, and its highest bit turned.
var values = []struct {
	name string
	of   func(byte) byte
}{
	{"00", func(byte) byte { return 0 }}, {"FF", func(byte) byte { return 0xFF }},
	{"one more", func(b byte) byte { return b + 1 }}, {"its highest bit turned", func(b byte) byte { return b ^ 0x80 }},
}

// spoiltByte is one machine of a sweep.
type spoiltByte struct {
	structure
	at int64
	of func(byte) byte
	is string
}

func (b spoiltByte) on(name string, m Marker) Drive {
	return b.drive(name, m).spoiled(b.change(b.at, b.of))
}

// scenario is the machine by itself.
func (b spoiltByte) scenario() Scenario {
	s := Scenario{Name: fmt.Sprintf("%s, byte %d: %s", b.name, b.at, b.is), Firmware: b.firmware, Limit: 40 * time.Second,
		Drives: []Drive{b.on("a", MarkX64)}}
	if !b.firmware.UEFI() {
		s.Limit = 5 * time.Second
	}
	return s
}

// Sweep starts machines of the structures that a pattern names, one for each byte and value,
// and hands over each. UEFI firmware, whose start takes longer, is given many of the drives at
// once, with programs that leave it to go on to the next; those of which it says other than
// the check are started by themselves.
func Sweep(pattern *regexp.Regexp, workers int, each func(Tried)) {
	var alone []Scenario
	var batches [][]spoiltByte
	for _, t := range structures() {
		if !pattern.MatchString(string(t.firmware) + ": " + t.name) {
			continue
		}
		for at := range t.length {
			for _, v := range values {
				b := spoiltByte{t, at, v.of, v.name}
				switch last := len(batches) - 1; {
				case !t.firmware.UEFI():
					alone = append(alone, b.scenario())
				case last < 0 || len(batches[last]) == batchSize:
					batches = append(batches, []spoiltByte{b})
				default:
					batches[last] = append(batches[last], b)
				}
			}
		}
	}
	sideBySide(batches, workers, tryBatch, func(_ int, all []Tried) {
		for _, t := range all {
			if t.Differs != "" && t.Err == nil {
				alone = append(alone, t.Scenario)
				continue
			}
			each(t)
		}
	})
	sideBySide(alone, workers, tried, func(_ int, t Tried) { each(t) })
}

func structures() []structure {
	return append(uefiStructures(), legacyStructures()...)
}

func uefiStructures() []structure {
	sized := func(kind string) func(string, Marker) Drive {
		return func(name string, m Marker) Drive {
			boot := esp(diskmaker.Volume{Kind: kind,
				Files: map[string][]byte{fallbackX64: m.Program(tag(name, 1, fallbackX64)).Bytes()}})
			boot.MiB = map[string]uint64{"fat32": 64, "fat16": 32, "fat12": 8}[kind]
			return Drive{Name: name, Disk: gptDisk(1, boot, data())}
		}
	}
	uefi := sized("fat32")
	record := func(name string, m Marker) Drive {
		d := uefi(name, m)
		d.Disk = mbrDisk(1, d.Disk.Partitions...)
		return d
	}
	backup := func(name string, m Marker) Drive { return uefi(name, m).spoiled(flip(512)) }
	all := []structure{
		{"sector 0 beside a GPT", OVMF, uefi, 72, straight(440)},
		{"sector 0 of an MBR", OVMF, record, 72, straight(440)},
		{"header", OVMF, uefi, 92, straight(512)},
		{"both headers", OVMF, uefi, 92, inGPT(func(h, _ []byte) []byte { return h })},
		{"backup's header", OVMF, backup, 92, straight(diskSize - 512)},
		{"first entry of both", OVMF, uefi, 128, inGPT(func(_, e []byte) []byte { return e })},
		{"third entry of both", OVMF, uefi, 128, inGPT(func(_, e []byte) []byte { return e[256:] })},
	}
	for _, kind := range []string{"fat32", "fat16", "fat12"} {
		root := func(v fatPlaces) int64 { return v.root }
		if kind == "fat32" {
			root = func(v fatPlaces) int64 { return v.data }
		}
		all = append(all,
			structure{kind + " boot sector", OVMF, sized(kind), 92, within(func(fatPlaces) int64 { return 0 })},
			structure{kind + " boot sector's end", OVMF, sized(kind), 2, within(func(fatPlaces) int64 { return 510 })},
			structure{kind + " table", OVMF, sized(kind), 32, within(func(v fatPlaces) int64 { return v.fat })},
			structure{kind + " root folder", OVMF, sized(kind), 96, within(root)},
			structure{kind + " folder", OVMF, sized(kind), 160, within(func(v fatPlaces) int64 { return v.data + v.cluster })})
	}
	return append(all, structure{"fat32 information sector's end", OVMF, uefi, 28,
		within(func(fatPlaces) int64 { return 512 + 484 })})
}

// straight is a structure that lies at a fixed place.
func straight(from int64) func(int64, func(byte) byte) func(*diskmaker.Image) {
	return within(func(fatPlaces) int64 { return from - mib })
}

// within is a structure that lies in the FAT volume a MiB behind the disk's start.
func within(from func(fatPlaces) int64) func(int64, func(byte) byte) func(*diskmaker.Image) {
	return func(at int64, f func(byte) byte) func(*diskmaker.Image) {
		return func(m *diskmaker.Image) {
			place := mib + from(placesOf(m)) + at
			write(m, place, f(read(m, place, 1)[0]))
		}
	}
}

// inGPT is a structure of both headers or both arrays of entries, whose checksums are right.
func inGPT(part func(h, e []byte) []byte) func(int64, func(byte) byte) func(*diskmaker.Image) {
	return func(at int64, f func(byte) byte) func(*diskmaker.Image) {
		return bothHeaders(func(h, e []byte) {
			b := part(h, e)
			b[at] = f(b[at])
		})
	}
}

// legacyStructures are those that legacy firmware and the code behind it read.
func legacyStructures() []structure {
	ntfs := diskmaker.Partition{MBRType: 7, Type: disk.TypeBasicData, MiB: 40, Active: true, Attributes: 1 << 2,
		Volume: diskmaker.Volume{Kind: "ntfs"}}
	other := ntfs
	other.Active, other.Attributes = false, 0
	on := func(d diskmaker.Disk, change func(*diskmaker.Image)) func(string, Marker) Drive {
		return func(name string, _ Marker) Drive {
			return Drive{Name: name, Disk: d}.spoiled(bootSector(name, 1, 2048)).spoiled(change)
		}
	}
	naming := func(m *diskmaker.Image) { code("altmbr.bin")(m); write(m, 439, 1) }
	record, gpt := mbrDisk(1, ntfs, other), on(gptDisk(1, ntfs, other), code("gptmbr.bin"))
	return []structure{
		{"table behind classic code", SeaBIOS, on(record, code("")), 72, straight(440)},
		{"table behind free code", SeaBIOS, on(record, code("mbr.bin")), 72, straight(440)},
		{"classic code", SeaBIOS, on(record, code("")), 440, straight(0)},
		{"free code", SeaBIOS, on(record, code("mbr.bin")), 440, straight(0)},
		{"free code that names its partition", SeaBIOS, on(record, naming), 440, straight(0)},
		{"free code for GPT", SeaBIOS, gpt, 440, straight(0)},
		{"header behind code for GPT", SeaBIOS, gpt, 92, straight(512)},
		{"both headers behind code for GPT", SeaBIOS, gpt, 92, inGPT(func(h, _ []byte) []byte { return h })},
		{"first entry behind code for GPT", SeaBIOS, gpt, 128, inGPT(func(_, e []byte) []byte { return e })},
	}
}
