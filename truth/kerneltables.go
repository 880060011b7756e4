package truth

import (
	"encoding/binary"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// tableScenarios start a small Linux from tables that firmware and boot loader go by, and of which the
// kernel takes no partitions, or does all the same.
func tableScenarios() (all []Scenario) {
	field := func(at int, value uint64) func(h, _ []byte) {
		return func(h, _ []byte) { binary.LittleEndian.PutUint64(h[at:], value) }
	}
	shorter := func(_, e []byte) { // the root's entry, by one sector
		binary.LittleEndian.PutUint64(e[128+40:], binary.LittleEndian.Uint64(e[128+40:])-1)
	}
	const alternate, first, last = 32, 40, 48 // UEFI Specification 2.10, table 5.5
	gpt := map[string]func(*diskmaker.Image){
		"written for a larger disk":           bothHeaders(field(last, diskSize/512+5000)),
		"its last usable sector the last one": bothHeaders(field(last, diskSize/512-1)),
		"its last usable sector one beyond":   bothHeaders(field(last, diskSize/512)),
		"its first usable sector 0":           bothHeaders(field(first, 0)),
		"its copy looked for beyond the end":  header(1, field(alternate, diskSize/512+5000)),
		"entries of 256 bytes":                bothHeaders(wideEntries),
		"the primary's sum wrong":             put(512+16, 0xFF),
		"the primary's entries wrong":         put(1024+128+60, 0xFF),
		"the root one sector too short":       bothHeaders(shorter),
		"no primary":                          zeros(512, 512),
		"no backup":                           zeros(-512, 512),
		"beside an ordinary record":           inSector0(478, disk.MBREntry{Type: 0x83, Start: 2048, Length: 2048}),
		"its protective record too short":     inSector0(446, disk.MBREntry{Type: 0xEE, Start: 1, Length: 99}),
		"its protective record active":        inSector0(446, disk.MBREntry{Status: 0x80, Type: 0xEE, Start: 1, Length: diskSize/512 - 1}),
		"its protective record the third":     inSector0(478, disk.MBREntry{Type: 0xEE, Start: 1, Length: diskSize/512 - 1}, 446),
	}
	mbr := map[string]func(*diskmaker.Image){
		"an empty record of status 5C":   put(446+32, 0x5C),
		"the root one sector too short":  inSector0(446+16, disk.MBREntry{Type: 0x83, Start: 2048 + 64*2048, Length: 64*2048 - 1}),
		"the root's record of status 5C": put(446+16, 0x5C),
		"the first record of status 80":  put(446, 0x80),
		"two records active":             both(put(446, 0x80), put(446+16, 0x80)),
		"a record of type EE beside":     inSector0(446+32, disk.MBREntry{Type: 0xEE, Start: 1, Length: 99}),
		"a record of type EE far behind": inSector0(446+32, disk.MBREntry{Type: 0xEE, Start: 300000, Length: 99}),
		"a record beyond the end":        inSector0(446+32, disk.MBREntry{Type: 0x83, Start: 1 << 30, Length: 99}),
		"a record over the root":         inSector0(446+32, disk.MBREntry{Type: 0x83, Start: 140000, Length: 99}),
		"two extended records without chain": both(inSector0(446+32, disk.MBREntry{Type: 5, Start: 300000, Length: 99}),
			inSector0(446+48, disk.MBREntry{Type: 5, Start: 301000, Length: 99})),
	}
	for _, f := range []Firmware{OVMF, SeaBIOS} {
		for _, name := range slices.Sorted(maps.Keys(gpt)) {
			s := linuxScenario(f, "table: GPT, "+name, names{})
			if !f.UEFI() {
				s.Drives[1] = legacyGPT()
			}
			s.Drives[1].Spoil = spoiling(gpt[name])
			all = append(all, s)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(mbr)) {
		s := linuxScenario(SeaBIOS, "table: MBR, "+name, names{})
		s.Drives[1].Spoil = spoiling(mbr[name])
		all = append(all, s)
	}
	return all
}

func spoiling(spoil func(*diskmaker.Image)) func(*diskmaker.Image) *diskmaker.Image {
	return func(m *diskmaker.Image) *diskmaker.Image { spoil(m); return m }
}

func both(a, b func(*diskmaker.Image)) func(*diskmaker.Image) {
	return func(m *diskmaker.Image) { a(m); b(m) }
}

// inSector0 puts a record into sector 0, and takes others out.
func inSector0(at int64, e disk.MBREntry, out ...int64) func(*diskmaker.Image) {
	return func(m *diskmaker.Image) {
		for _, o := range out {
			write(m, o, make([]byte, 16)...)
		}
		write(m, at, e.Record()...)
	}
}

// wideEntries has a table give each entry twice the usual room.
func wideEntries(h, entries []byte) {
	const step = 128
	for i := 63; i >= 0; i-- {
		e := append([]byte{}, entries[i*step:][:step]...)
		clear(entries[2*i*step:][:2*step])
		copy(entries[2*i*step:], e)
	}
	binary.LittleEndian.PutUint32(h[80:], 64)
	binary.LittleEndian.PutUint32(h[84:], 2*step)
}

// legacyGPT is a Linux that legacy firmware starts from a GPT: GRUB's core image lies in a partition of
// its own. GNU GRUB Manual, "BIOS installation".
func legacyGPT() Drive {
	boot := diskmaker.Partition{Type: disk.TypeBIOSBoot, Start: coreAt, MiB: 1}
	root := diskmaker.Partition{Type: disk.TypeLinuxData, MiB: 64,
		Volume: diskmaker.Volume{Kind: "raw", Raw: make([]byte, 512)}}
	declared := gptDisk(9, boot, root)
	n := names{}.filled()
	d := Drive{Name: n.drive, Bus: "nvme", Disk: declared}
	d.Make = func(dir string) (*diskmaker.Image, error) {
		dir = filepath.Join(dir, "of-"+n.drive)
		other := mbrDisk(9, diskmaker.Partition{MBRType: 0x83, MiB: 64}, root) // its core image and its root are taken
		if _, err := makeLinux(dir, SeaBIOS, other, n); err != nil {
			return nil, err
		}
		raw, err := os.ReadFile(filepath.Join(dir, "root.ext4"))
		if err != nil {
			return nil, err
		}
		core, err := os.ReadFile(filepath.Join(dir, "core.img"))
		if err != nil {
			return nil, err
		}
		code, err := os.ReadFile("/usr/lib/grub/i386-pc/boot.img")
		if err != nil {
			return nil, err
		}
		declared.Partitions[1].Volume.Raw = raw
		m, err := declared.Build()
		if err != nil {
			return nil, err
		}
		embedded(m, code, core, coreAt)
		return m, nil
	}
	return d
}

// coreAt is where the core image of such a Linux lies, in sectors.
const coreAt = 2048

// embedded puts GRUB's code into sector 0 and its core image to a sector, and tells each where the next
// lies. GRUB's boot/i386/pc/boot.S (kernel_sector) and diskboot.S (firstlist).
func embedded(m *diskmaker.Image, code, core []byte, at uint64) {
	const kernelSector, firstList = 0x5C, 512 - 12
	binary.LittleEndian.PutUint64(code[kernelSector:], at)
	binary.LittleEndian.PutUint64(core[firstList:], at+1)
	binary.LittleEndian.PutUint16(core[firstList+8:], uint16((len(core)+511)/512-1))
	write(m, 0, code[:440]...)
	write(m, int64(at)*512, core...)
}

// shortened makes the root's partition another length; nil where it is not to be.
func (l layout) shortened(declared diskmaker.Disk) func(*diskmaker.Image) *diskmaker.Image {
	if l.partMiB == 0 {
		return nil
	}
	return spoiling(bothHeaders(func(_, e []byte) {
		root, le := e[128*(len(declared.Partitions)-1):], binary.LittleEndian
		le.PutUint64(root[40:], le.Uint64(root[32:])+l.partMiB*2048-1)
	}))
}
