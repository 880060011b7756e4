// Package volume recognises file systems by their first sectors, compares their
// own idea of where they lie with the partition table, and reads files of FAT,
// NTFS and ext volumes.
package volume

import (
	"bytes"
	"fmt"
	"io"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
)

// Kind is what a volume holds.
type Kind string

// The kinds of volume that are recognised.
const (
	KindFAT       Kind = "FAT" // of a width that a listing does not tell
	KindFAT12     Kind = "FAT12"
	KindFAT16     Kind = "FAT16"
	KindFAT32     Kind = "FAT32"
	KindExFAT     Kind = "exFAT"
	KindNTFS      Kind = "NTFS"
	KindExt       Kind = "ext"
	KindBitLocker Kind = "BitLocker" // Windows' own volume encryption
	KindSwap      Kind = "swap"
	KindLUKS      Kind = "LUKS"
	KindLVM       Kind = "LVM"
	KindRAID      Kind = "Linux RAID"
	KindBtrfs     Kind = "Btrfs"
	KindXFS       Kind = "XFS"
	KindF2FS      Kind = "F2FS"
	KindJFS       Kind = "JFS"
	KindReiser    Kind = "ReiserFS"
	KindBcachefs  Kind = "bcachefs"
	KindBcache    Kind = "bcache"
	KindZFS       Kind = "ZFS"
	KindHFS       Kind = "HFS+"
	KindAPFS      Kind = "APFS"
	Empty         Kind = "empty" // the first sectors are zeros
	Unknown       Kind = "not recognised"
	NotCaptured   Kind = "not in the evidence"
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
	// Used is how much of the volume is in use, in bytes.
	Used fact.Of[uint64]
	// Apple is what a volume of a Mac tells of the systems on it; nil for any other.
	Apple *Apple
	// Unclean: the file system was not closed cleanly and is checked or repaired
	// at its next use.
	Unclean  fact.Of[bool]
	BootCode bool // sector 0 of the volume ends in 55 AA and holds code
	// Readable: its files could be read. They cannot when the kind's files are not
	// read, and when FilesErr says why.
	Readable bool
	FilesErr error
	// ExtFeatures are the incompatible features of an ext volume, s_feature_incompat of its
	// superblock. The kernel's filesystems/ext4/super.
	ExtFeatures uint32
	// Newer: it has features that some readers of its kind do not know yet.
	Newer    bool
	Problems []disk.Problem
	// Spares is where copies of a boot sector stand that was overwritten in its own
	// place, in bytes from the start of the disk.
	Spares []int64
	// SecondFAT is where the second file allocation table stands, where it differs from the
	// first and is sound at its beginning; nil for none.
	SecondFAT *SecondFAT
	// CopiesOpen: it is damaged, and the evidence does not hold where a copy of what is damaged
	// may lie.
	CopiesOpen bool
	// KindOpen: no kind is recognised, and not all places could be read where a kind that is known has
	// its mark.
	KindOpen bool
	// Container is the set that it belongs to; nil for a volume that stands for itself.
	Container *Container
	marks     []disk.Region // its structures, relative to the partition
}

// Opened is a volume with the files on it, as long as its disk can be read.
type Opened struct {
	Volume
	Files Files // nil unless Readable
	FAT   *FAT  // nil unless the kind is a FAT
	Btrfs *Btrfs
}

// KindUnseen reports whether it may be of any kind, for want of what would tell.
func (v Volume) KindUnseen() bool { return v.Kind == NotCaptured || v.KindOpen }

// IsFAT reports whether firmware following the UEFI Specification 2.10, section
// 13.3, can read the volume.
func (v Volume) IsFAT() bool {
	switch v.Kind {
	case KindFAT, KindFAT12, KindFAT16, KindFAT32:
		return true
	}
	return false
}

func src(structure, field string, offset, length int64) fact.Source {
	return fact.Source{Origin: fact.Bytes, Structure: structure, Field: field, Offset: offset, Length: length}
}

// The problems of volumes.
const (
	CodeBootSectorUnreadable disk.ProblemCode = "boot-sector-unreadable"
	CodeExtErrors            disk.ProblemCode = "ext-errors"
	CodeFATDamaged           disk.ProblemCode = "fat-damaged"
	CodeFATTable             disk.ProblemCode = "fat-table"
	CodeFATFewClusters       disk.ProblemCode = "fat-few-clusters"
	CodeFATOnlyBackup        disk.ProblemCode = "fat-only-backup"
	CodeFATSectorSize        disk.ProblemCode = "fat-sector-size"
	CodeFATSignature         disk.ProblemCode = "fat-signature"
	CodeHiddenSectors        disk.ProblemCode = "hidden-sectors"
	CodeNTFSBackup           disk.ProblemCode = "ntfs-backup"
	CodeNTFSBytesPerSector   disk.ProblemCode = "ntfs-bytes-per-sector"
	CodeNTFSCluster          disk.ProblemCode = "ntfs-cluster"
	CodeNTFSDamaged          disk.ProblemCode = "ntfs-damaged"
	CodeNTFSOnlyBackup       disk.ProblemCode = "ntfs-only-backup"
	CodeVolumeTooLong        disk.ProblemCode = "volume-too-long"
)

func trouble(code disk.ProblemCode, s fact.Source, want, got any, format string, args ...any) disk.Problem {
	return disk.Problem{Code: code, Text: fmt.Sprintf(format, args...), Want: fmt.Sprint(want), Got: fmt.Sprint(got),
		Source: s}
}

// Examine recognises the volume in a partition. Partitions that begin beyond
// the end of the disk are reported as not recognised.
func Examine(d *disk.Disk, p disk.Partition) Opened {
	base := disk.Span(p.Start, d.SectorSize())
	if p.Start >= d.Sectors() || base < 0 {
		return Opened{Volume: Volume{Kind: Unknown}}
	}
	boot, err := d.Read(base, 512)
	if disk.IsNotCaptured(err) {
		return Opened{Volume: Volume{Kind: NotCaptured}}
	}
	if err != nil {
		return Opened{Volume: Volume{Kind: Unknown, KindOpen: true, Problems: []disk.Problem{
			trouble(CodeBootSectorUnreadable, src("Boot sector", "", base, 512), "512 bytes", err,
				"The first sector of partition %d cannot be read.", p.Number)}}}
	}
	v := recognise(d, p, boot, base)
	v.BootCode = boot[510] == 0x55 && boot[511] == 0xAA && (boot[0] == 0xEB || boot[0] == 0xE9 || !zero(boot[:64]))
	v.compare(p, base)
	section := d.Section(base, disk.Span(p.Length, d.SectorSize()))
	v.contain(section)
	v.apple(section)
	v.Readable = v.Files != nil
	return v
}

func recognise(d *disk.Disk, p disk.Partition, boot []byte, base int64) Opened {
	switch string(boot[3:11]) {
	case "NTFS    ":
		return readNTFS(d, p, boot, base)
	case "-FVE-FS-":
		return Opened{Volume: Volume{Kind: KindBitLocker, marks: mark("NTFS boot sector", 0, 512, ntfsFields())}}
	case "EXFAT   ":
		return Opened{Volume: Volume{Kind: KindExFAT, Serial: serial32(boot[100:]),
			marks: mark("exFAT boot sector", 0, 512, exfatFields())}}
	}
	section := d.Section(base, disk.Span(p.Length, d.SectorSize()))
	fat, fatErr := OpenFAT(section)
	if fatErr == nil {
		return readFAT(d, p, fat, base)
	}
	if v, ok := readExt(d, section, base); ok {
		return v
	}
	v, ok := identify(section)
	if ok {
		return readFiles(Opened{Volume: v}, d, section, base)
	}
	return unrecognised(d, p, section, boot, v, fatErr)
}

func readFAT(d *disk.Disk, p disk.Partition, fat *FAT, base int64) Opened {
	v := Opened{FAT: fat, Files: fat, Volume: Volume{Kind: fat.Kind, Label: fat.Label, Serial: fat.Serial,
		marks: mark("FAT boot sector", 0, 512, fatFields(fat.Kind))}}
	v.HiddenSectors = fact.Known(uint64(fat.HiddenSectors), src("FAT boot sector", "BPB_HiddSec", base+28, 4))
	total := fat.TotalSectors * uint64(fat.BytesPerSector) / uint64(d.SectorSize())
	field, rel, n := "BPB_TotSec32", int64(32), int64(4)
	if fat.totalIn16 {
		field, rel, n = "BPB_TotSec16", 19, 2
	}
	v.TotalSectors = fact.Known(total, src("FAT boot sector", field, base+rel, n))
	if fat.BytesPerSector != d.SectorSize() {
		v.Problems = append(v.Problems, trouble(CodeFATSectorSize, src("FAT boot sector", "BPB_BytsPerSec", base+11, 2),
			d.SectorSize(), fat.BytesPerSector,
			"The FAT volume in partition %d was made for %d-byte sectors; the disk has %d-byte sectors.",
			p.Number, fat.BytesPerSector, d.SectorSize()))
	}
	if fat.Unsigned {
		v.Problems = append(v.Problems, trouble(CodeFATSignature, src("FAT boot sector", "Signature_word", base+510, 2),
			"55 AA", "something else",
			"The boot sector of partition %d does not end in 55 AA.", p.Number))
	}
	if fat.FewClusters {
		v.Problems = append(v.Problems, trouble(CodeFATFewClusters, src("FAT boot sector", "BPB_TotSec32", base+32, 4),
			fmt.Sprintf("at least %d", minFAT32), fat.Clusters,
			"The FAT32 volume in partition %d has %d clusters, fewer than FAT32 asks for: some firmware does not read it, and Windows may not.", p.Number, fat.Clusters))
	}
	if err := fat.unsound(0); err != nil && !disk.IsNotCaptured(err) {
		v.CopiesOpen = disk.IsNotCaptured(fat.unsound(1))
		v.Problems = append(v.Problems, trouble(CodeFATTable, src("File allocation table", "entry 0", base+fat.fatStart, 4),
			"F0 to FF, then FF, and a chain of the root directory", err,
			"The first file allocation table in partition %d is damaged: %v.", p.Number, err))
	}
	v.SecondFAT = fat.second(base)
	if spare := base + 6*int64(fat.BytesPerSector); fat.Kind == KindFAT32 {
		copied, err := d.Read(spare, 512)
		same := err == nil && looksFAT(copied) && bytes.Equal(copied[11:28], fat.boot[11:28])
		if same && otherwise(fat.boot, copied) {
			v.Spares = append(v.Spares, spare)
		}
	}
	return v
}

// unrecognised tells an empty partition from a damaged volume: a FAT boot sector
// that makes no sense, or an NTFS volume of which only the copy of the boot
// sector at its end is left.
func unrecognised(d *disk.Disk, p disk.Partition, section *io.SectionReader, boot []byte, none Volume,
	fatErr error) Opened {
	v, base := Opened{Volume: none}, disk.Span(p.Start, d.SectorSize())
	if zero(boot) && !v.KindOpen {
		v.Kind = Empty
	}
	if looksFAT(boot) {
		v.Problems = append(v.Problems, trouble(CodeFATDamaged, src("FAT boot sector", "BPB", base+11, 25),
			"a sound BIOS parameter block", fatErr,
			"Partition %d looks like a FAT volume, but its boot sector is damaged: %v.", p.Number, fatErr))
	}
	at, ok, lacks := fatBackup(section)
	v.CopiesOpen = lacks
	if ok {
		v.Spares = append(v.Spares, base+at)
		v.Problems = append(v.Problems, trouble(CodeFATOnlyBackup, src("FAT boot sector (backup)", "BPB", base+at, 512),
			"a FAT boot sector", "none",
			"The first sector of partition %d is no sound FAT boot sector, but the copy behind it is: the boot sector was overwritten.", p.Number))
	}
	last := base + disk.Span(p.Length, d.SectorSize()) - int64(d.SectorSize())
	copied, err := d.Read(last, 512)
	v.CopiesOpen = v.CopiesOpen || disk.IsNotCaptured(err)
	if err == nil && string(copied[3:11]) == "NTFS    " {
		v.Spares = append(v.Spares, last)
		v.Problems = append(v.Problems, trouble(CodeNTFSOnlyBackup, src("NTFS boot sector (backup)", "OEM identifier",
			last+3, 8), "NTFS",
			strings.TrimSpace(string(boot[3:11])),
			"The first sector of partition %d is no NTFS boot sector, but the copy at its end is: the boot sector was overwritten.", p.Number))
	}
	return v
}

// fatBackup is where the copy of a FAT32 boot sector lies in a partition, in
// bytes: in its sector 6. FAT specification 1.03, section 3.3, BPB_BkBootSec. It lacks what the
// evidence does not hold.
func fatBackup(section *io.SectionReader) (offset int64, found, lacks bool) {
	for _, size := range []int64{512, 1024, 2048, 4096} {
		at := 6 * size
		fat, err := OpenFAT(io.NewSectionReader(section, at, section.Size()-at))
		if err == nil && fat.Kind == KindFAT32 && int64(fat.BytesPerSector) == size {
			return at, true, lacks
		}
		lacks = lacks || disk.IsNotCaptured(err)
	}
	return 0, false, lacks
}

// compare holds the volume's own figures against the partition table.
func (v *Volume) compare(p disk.Partition, base int64) {
	if hidden, ok := v.HiddenSectors.Get(); ok && hidden != p.Start {
		v.Problems = append(v.Problems, trouble(CodeHiddenSectors, v.HiddenSectors.Source(), p.Start, hidden,
			"The volume in partition %d believes that it starts at sector %d; the table puts it at %d.", p.Number, hidden, p.Start))
	}
	if total, ok := v.TotalSectors.Get(); ok && total > p.Length {
		v.Problems = append(v.Problems, trouble(CodeVolumeTooLong, v.TotalSectors.Source(),
			fmt.Sprintf("at most %d", p.Length), total,
			"The volume in partition %d is %d sectors long; the partition has only %d.", p.Number, total, p.Length))
	}
}

func zero(b []byte) bool { return len(bytes.TrimLeft(b, "\x00")) == 0 }

func cString(b []byte) string {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return string(b)
}
