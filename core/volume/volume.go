// Package volume recognises file systems by their first sectors, compares their
// own idea of where they lie with the partition table, and reads files of FAT
// volumes.
package volume

import (
	"bytes"
	"encoding/binary"
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/fact"
)

// Kind is what a volume holds.
type Kind string

// The kinds of volume that are recognised.
const (
	FAT12       Kind = "FAT12"
	FAT16       Kind = "FAT16"
	FAT32       Kind = "FAT32"
	ExFAT       Kind = "exFAT"
	NTFS        Kind = "NTFS"
	Ext         Kind = "ext"
	BitLocker   Kind = "BitLocker" // the system's own volume encryption
	Empty       Kind = "empty"     // the first sectors are zeros
	Unknown     Kind = "not recognised"
	NotCaptured Kind = "not in the evidence"
)

// Volume is what stands at the start of a partition.
type Volume struct {
	Kind   Kind
	Label  string
	Serial string // volume serial number or UUID, as the systems print it
	// HiddenSectors is the volume's own idea of its first sector on the disk.
	HiddenSectors fact.Of[uint64]
	// TotalSectors is the volume's own idea of its length, in disk sectors.
	TotalSectors fact.Of[uint64]
	BootCode     bool // sector 0 of the volume ends in 55 AA and holds code
	FAT          *FAT // an open volume, nil unless the kind is a FAT
	Problems     []disk.Problem
}

// IsFAT reports whether firmware following the UEFI Specification 2.10, section
// 13.3, can read the volume.
func (v Volume) IsFAT() bool { return v.FAT != nil }

func src(structure, field string, offset, length int64) fact.Source {
	return fact.Source{Origin: fact.Bytes, Structure: structure, Field: field, Offset: offset, Length: length}
}

func trouble(code string, s fact.Source, want, got any, format string, args ...any) disk.Problem {
	return disk.Problem{Code: code, Text: fmt.Sprintf(format, args...), Want: fmt.Sprint(want), Got: fmt.Sprint(got), Source: s}
}

// Examine recognises the volume in a partition. Partitions that begin beyond
// the end of the disk are reported as not recognised.
func Examine(d *disk.Disk, p disk.Partition) Volume {
	base := int64(p.Start) * int64(d.SectorSize())
	if p.Start >= d.Sectors() || base < 0 {
		return Volume{Kind: Unknown}
	}
	boot, err := d.Read(base, 512)
	if disk.IsNotCaptured(err) {
		return Volume{Kind: NotCaptured}
	}
	if err != nil {
		return Volume{Kind: Unknown, Problems: []disk.Problem{
			trouble("boot-sector-unreadable", src("Boot sector", "", base, 512), "512 bytes", err, "The first sector of partition %d cannot be read.", p.Number)}}
	}
	v := recognise(d, p, boot, base)
	v.BootCode = boot[510] == 0x55 && boot[511] == 0xAA && (boot[0] == 0xEB || boot[0] == 0xE9 || !zero(boot[:64]))
	v.compare(p, base)
	return v
}

func recognise(d *disk.Disk, p disk.Partition, boot []byte, base int64) Volume {
	oem := string(boot[3:11])
	switch {
	case oem == "NTFS    ":
		return readNTFS(d, boot, base)
	case oem == "-FVE-FS-":
		return Volume{Kind: BitLocker}
	case oem == "EXFAT   ":
		return Volume{Kind: ExFAT}
	}
	length := int64(p.Length) * int64(d.SectorSize())
	fat, err := OpenFAT(d.Section(base, length))
	if err == nil {
		v := Volume{Kind: fat.Kind, FAT: fat, Label: fat.Label, Serial: fat.Serial}
		v.HiddenSectors = fact.Known(uint64(fat.HiddenSectors), src("FAT boot sector", "BPB_HiddSec", base+28, 4))
		total := fat.TotalSectors * uint64(fat.BytesPerSector) / uint64(d.SectorSize())
		field, rel, n := "BPB_TotSec32", int64(32), int64(4)
		if fat.totalIn16 {
			field, rel, n = "BPB_TotSec16", 19, 2
		}
		v.TotalSectors = fact.Known(total, src("FAT boot sector", field, base+rel, n))
		if fat.BytesPerSector != d.SectorSize() {
			v.Problems = append(v.Problems, trouble("fat-sector-size", src("FAT boot sector", "BPB_BytsPerSec", base+11, 2),
				d.SectorSize(), fat.BytesPerSector,
				"The FAT volume in partition %d was made for %d-byte sectors; the disk has %d-byte sectors.",
				p.Number, fat.BytesPerSector, d.SectorSize()))
		}
		if fat.FewClusters {
			v.Problems = append(v.Problems, trouble("fat-few-clusters", src("FAT boot sector", "BPB_TotSec32", base+32, 4),
				fmt.Sprintf("at least %d", minFAT32), fat.Clusters,
				"The FAT32 volume in partition %d has %d clusters, fewer than FAT32 asks for: most firmware reads it, Windows may not.", p.Number, fat.Clusters))
		}
		return v
	}
	if v, ok := readExt(d, base); ok {
		return v
	}
	v := Volume{Kind: Unknown}
	if zero(boot) {
		v.Kind = Empty
	}
	if looksFAT(boot) {
		v.Problems = append(v.Problems, trouble("fat-damaged", src("FAT boot sector", "BPB", base+11, 25), "a sound BIOS parameter block", err,
			"Partition %d looks like a FAT volume, but its boot sector is damaged: %v.", p.Number, err))
	}
	return v
}

// compare holds the volume's own figures against the partition table.
func (v *Volume) compare(p disk.Partition, base int64) {
	if hidden, ok := v.HiddenSectors.Get(); ok && hidden != p.Start {
		v.Problems = append(v.Problems, trouble("hidden-sectors", v.HiddenSectors.Source(), p.Start, hidden,
			"The volume in partition %d believes that it starts at sector %d; the table puts it at %d.", p.Number, hidden, p.Start))
	}
	if total, ok := v.TotalSectors.Get(); ok && total > p.Length {
		v.Problems = append(v.Problems, trouble("volume-too-long", v.TotalSectors.Source(), fmt.Sprintf("at most %d", p.Length), total,
			"The volume in partition %d is %d sectors long; the partition has only %d.", p.Number, total, p.Length))
	}
}

func zero(b []byte) bool { return len(bytes.TrimLeft(b, "\x00")) == 0 }

// Offsets in the NTFS boot sector: common practice, as ntfs-3g's layout.h and
// the maker's "How NTFS Works" list them.
func readNTFS(d *disk.Disk, boot []byte, base int64) Volume {
	le := binary.LittleEndian
	v := Volume{Kind: NTFS, Serial: fmt.Sprintf("%016X", le.Uint64(boot[72:]))}
	v.HiddenSectors = fact.Known(uint64(le.Uint32(boot[28:])), src("NTFS boot sector", "hidden sectors", base+28, 4))
	bytesPerSector := uint64(le.Uint16(boot[11:]))
	at := src("NTFS boot sector", "bytes per sector", base+11, 2)
	if bytesPerSector < 256 || bytesPerSector > 4096 || bytesPerSector&(bytesPerSector-1) != 0 {
		v.Problems = append(v.Problems, trouble("ntfs-bytes-per-sector", at, "256 to 4096, a power of two", bytesPerSector,
			"The NTFS boot sector gives %d bytes a sector.", bytesPerSector))
		return v
	}
	// The volume's figure leaves out the backup boot sector that follows it.
	total := (le.Uint64(boot[40:]) + 1) * bytesPerSector / uint64(d.SectorSize())
	v.TotalSectors = fact.Known(total, src("NTFS boot sector", "total sectors", base+40, 8))
	return v
}

// readExt reads the ext2/3/4 superblock, 1024 bytes into the volume. Linux
// kernel documentation, filesystems/ext4/super.
func readExt(d *disk.Disk, base int64) (Volume, bool) {
	le := binary.LittleEndian
	sb, err := d.Read(base+1024, 264)
	if err != nil || le.Uint16(sb[0x38:]) != 0xEF53 {
		return Volume{}, false
	}
	v := Volume{Kind: Ext, Label: cString(sb[0x78:0x88])}
	u := sb[0x68:0x78]
	v.Serial = fmt.Sprintf("%x-%x-%x-%x-%x", u[0:4], u[4:6], u[6:8], u[8:10], u[10:16])
	blocks := uint64(le.Uint32(sb[0x4:]))
	if le.Uint32(sb[0x60:])&0x80 != 0 { // INCOMPAT_64BIT: s_blocks_count_hi counts
		hi, err := d.Read(base+1024+0x150, 4)
		if err == nil {
			blocks |= uint64(le.Uint32(hi)) << 32
		}
	}
	if shift := le.Uint32(sb[0x18:]); shift <= 6 {
		v.TotalSectors = fact.Known(blocks<<(10+shift)/uint64(d.SectorSize()), src("ext superblock", "s_blocks_count", base+1024+4, 4))
	}
	return v, true
}

func cString(b []byte) string {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return string(b)
}
