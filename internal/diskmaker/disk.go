package diskmaker

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"unicode/utf16"

	"latchkey/core/disk"
)

// Style is the partition style of a declared disk.
type Style string

// The styles a disk can be declared with.
const (
	GPT   Style = "GPT"
	MBR   Style = "MBR"
	Blank Style = ""
)

// Disk declares a disk.
type Disk struct {
	Sectors    uint64 // capacity in logical sectors
	SectorSize int    // bytes; 0 is 512
	Style      Style
	GUID       disk.GUID   // GPT disk GUID
	Signature  uint32      // MBR disk signature
	BootCode   string      // "classic", "grub" or ""
	GRUBPrefix string      // the folder that GRUB's core image names
	Partitions []Partition // logical ones at the end
	Extended   Extended
}

// Extended declares the partition that the logical ones of an MBR lie in.
type Extended struct {
	Type   byte // 0 is 0F
	Active bool
}

// Partition declares a partition.
type Partition struct {
	Type       disk.GUID // GPT
	MBRType    byte      // MBR
	GUID       disk.GUID // GPT; derived from the disk's GUID when zero
	Name       string    // GPT
	Start      uint64    // sectors; 0 is the next MiB after the partition before
	MiB        uint64    // length; 0 takes what is left
	Active     bool      // MBR
	Logical    bool      // MBR: in the extended partition, a MiB behind its record
	Attributes uint64    // GPT
	Volume     Volume
	// Hidden overrides the volume's own idea of its first sector; 0 is the truth.
	Hidden uint32
}

// Volume declares what a partition holds.
type Volume struct {
	Kind    string // "fat12", "fat16", "fat32", "ntfs", "ext4", "lvm", "luks", "raw", "laid" or ""
	Label   string
	Serial  uint64
	UUID    [16]byte
	Files   map[string][]byte // paths with either separator
	UsedMiB uint64            // marked as in use (NTFS, ext4)
	Unclean bool              // not closed cleanly (NTFS)
	Raw     []byte            // the volume's first bytes ("raw")
	Laid    *Image            // the whole volume ("laid")
	Group   string            // the volume group ("lvm")
	Logical []Logical         // what lies on it ("lvm")
}

const mib = 1 << 20

// Build makes the disk.
func (d Disk) Build() (*Image, error) {
	if d.SectorSize == 0 {
		d.SectorSize = 512
	}
	m := NewImage(int64(d.Sectors)*int64(d.SectorSize), d.SectorSize)
	if d.Style == Blank {
		return m, nil
	}
	parts, err := d.place()
	if err != nil {
		return nil, err
	}
	if d.Style == GPT {
		err = m.WriteGPT(d.GUID, parts)
	} else {
		err = m.writeMBR(d, parts)
	}
	for i := 0; i < len(parts) && err == nil; i++ {
		if err = m.writeVolume(parts[i]); err != nil {
			err = fmt.Errorf("partition %d: %w", i+1, err)
		}
	}
	return m, err
}

// MustBuild is Build for declarations that are known to be sound.
func (d Disk) MustBuild() *Image {
	m, err := d.Build()
	if err != nil {
		panic(err)
	}
	return m
}

// PartitionGUID is the unique GUID that a GPT partition gets, by its index.
func (d Disk) PartitionGUID(i int) disk.GUID {
	if g := d.Partitions[i].GUID; !g.IsZero() {
		return g
	}
	g := d.GUID
	g[15] += byte(i + 1)
	return g
}

// Place names a partition as a boot configuration store does.
func (d Disk) Place(i int) (Place, error) {
	if d.SectorSize == 0 {
		d.SectorSize = 512
	}
	if d.Style == GPT {
		return Place{Partition: d.PartitionGUID(i), Disk: d.GUID}, nil
	}
	parts, err := d.place()
	if err != nil {
		return Place{}, err
	}
	return Place{Start: parts[i].first * uint64(d.SectorSize), Signature: d.Signature}, nil
}

// Placed is the disk with every partition's start, length and GUID settled.
func (d Disk) Placed() (Disk, error) {
	if d.SectorSize == 0 {
		d.SectorSize = 512
	}
	parts, err := d.place()
	if err != nil {
		return d, err
	}
	d.Partitions = nil
	for _, p := range parts {
		p.Start, p.MiB = p.first, p.count*uint64(d.SectorSize)/mib
		d.Partitions = append(d.Partitions, p.Partition)
	}
	return d, nil
}

// placed is a partition with its sectors settled.
type placed struct {
	Partition
	first, count uint64
}

func (d Disk) place() ([]placed, error) {
	perMiB := uint64(mib / d.SectorSize)
	end := d.Sectors
	if d.Style == GPT {
		end = d.Sectors - 1 - uint64(arrayLen/d.SectorSize)
	}
	next := perMiB
	var parts []placed
	for i, p := range d.Partitions {
		first := p.Start
		if first == 0 {
			first = next
			if p.Logical {
				first += perMiB
			}
		}
		count := p.MiB * perMiB
		if p.MiB == 0 {
			count = end - first
			for _, q := range d.Partitions[i+1:] {
				count -= q.MiB * perMiB
				if q.Logical {
					count -= perMiB
				}
			}
			count -= count % perMiB
		}
		if first+count > end {
			return nil, fmt.Errorf("partition %d ends at sector %d: the disk has room up to %d", i+1, first+count, end)
		}
		p.GUID = d.PartitionGUID(i)
		parts = append(parts, placed{p, first, count})
		next = first + count
	}
	return parts, nil
}

// arrayLen is the length of the entry array in bytes: 128 entries of 128 bytes.
const arrayLen = 128 * 128

// WriteGPT writes the protective MBR and both copies of a GPT. UEFI
// Specification 2.10, sections 5.2.3 and 5.3.
func (m *Image) WriteGPT(guid disk.GUID, parts []placed) error {
	le := binary.LittleEndian
	last := uint64(m.Size/int64(m.SectorSize)) - 1
	arraySectors := uint64(arrayLen / m.SectorSize)
	array := make([]byte, arrayLen)
	for i, p := range parts {
		e := array[i*128:]
		copy(e[0:], p.Type[:])
		copy(e[16:], p.GUID[:])
		le.PutUint64(e[32:], p.first)
		le.PutUint64(e[40:], p.first+p.count-1)
		le.PutUint64(e[48:], p.Attributes)
		for j, u := range utf16.Encode([]rune(p.Name)) {
			if j < 36 {
				le.PutUint16(e[56+2*j:], u)
			}
		}
	}
	mbr := make([]byte, 512)
	copy(mbr[446:], []byte{0, 0, 2, 0, disk.MBRTypeProtective, 0xFF, 0xFF, 0xFF, 1, 0, 0, 0})
	le.PutUint32(mbr[458:], uint32(min(last, 0xFFFFFFFF)))
	mbr[510], mbr[511] = 0x55, 0xAA
	header := func(my, alt, entries uint64) []byte {
		h := make([]byte, m.SectorSize)
		copy(h, "EFI PART")
		le.PutUint32(h[8:], 0x00010000)
		le.PutUint32(h[12:], 92)
		le.PutUint64(h[24:], my)
		le.PutUint64(h[32:], alt)
		le.PutUint64(h[40:], 2+arraySectors)
		le.PutUint64(h[48:], last-arraySectors-1)
		copy(h[56:], guid[:])
		le.PutUint64(h[72:], entries)
		le.PutUint32(h[80:], 128)
		le.PutUint32(h[84:], 128)
		le.PutUint32(h[88:], crc32.ChecksumIEEE(array))
		le.PutUint32(h[16:], crc32.ChecksumIEEE(h[:92]))
		return h
	}
	return m.writeSectors(map[uint64][]byte{
		0: mbr, 1: header(1, last, 2), 2: array,
		last - arraySectors: array, last: header(last, 1, last-arraySectors),
	})
}

func (m *Image) writeSectors(at map[uint64][]byte) error {
	for lba, b := range at {
		if _, err := m.WriteAt(b, int64(lba)*int64(m.SectorSize)); err != nil {
			return err
		}
	}
	return nil
}

func (m *Image) writeVolume(p placed) error {
	hidden := p.Hidden
	if hidden == 0 {
		hidden = uint32(p.first)
	}
	start, size := int64(p.first)*int64(m.SectorSize), int64(p.count)*int64(m.SectorSize)
	v := p.Volume
	switch v.Kind {
	case "":
		return nil
	case "fat12", "fat16", "fat32":
		bits := map[string]int{"fat12": 12, "fat16": 16, "fat32": 32}[v.Kind]
		return m.writeFAT(bits, start, size, v.Label, uint32(v.Serial), hidden, v.Files)
	case "ntfs":
		return m.writeNTFS(p, hidden)
	case "ext4":
		return m.writeExt(p)
	case "lvm":
		return m.writeLVM(p)
	case "luks":
		_, err := m.WriteAt(luksHeader(v.UUID), start)
		return err
	case "laid":
		return v.Laid.Pages(func(off int64, page []byte) error {
			_, err := m.WriteAt(page, start+off)
			return err
		})
	case "raw":
		_, err := m.WriteAt(v.Raw, start)
		return err
	}
	return fmt.Errorf("volume kind %q: expected fat12, fat16, fat32, ntfs, ext4, lvm, luks, raw or none", v.Kind)
}
