package disk

import (
	"fmt"
	"math"
	"sort"

	"latchkey/core/fact"
)

// Style is a partition style.
type Style string

// The styles a disk can have.
const (
	StyleGPT     Style = "GPT"
	StyleMBR     Style = "MBR"
	StyleNone    Style = "none"    // readable, and no table there
	StyleUnknown Style = "unknown" // the deciding sectors are not in the evidence
)

// Layout is a disk's partition tables as found and the partitions they describe.
type Layout struct {
	SectorSize int
	SectorOpen bool // the sector size is not told; 512 stands for it
	Sectors    uint64
	Style      Style
	MBR        *MBR // nil when sector 0 is not in the evidence
	GPT        *GPT // nil when the style is neither GPT nor damaged GPT
	Partitions []Partition
	// Stale is a GPT whose copy or copies are good, beside an MBR that is in force; nil for
	// none.
	Stale *GPT
	// Open is set where what tells of the partitions may leave some of them out, as a
	// listing does that was cut off.
	Open     bool
	Problems []Problem
	// WrittenFor is the other logical sector size when the table was written
	// for a disk of that size; 0 otherwise.
	WrittenFor int
	// DiskIDTold is the disk identifier as a listing or a person gives it, when the
	// tables themselves are not in the evidence.
	DiskIDTold fact.Of[string]
	// tables holds the sectors that the layout was read from.
	tables []page
}

// Told reports whether the tables are known from a listing or a person, and not from their
// bytes.
func (l *Layout) Told() bool {
	return (l.MBR == nil || l.MBR.BootCode == nil) && (l.GPT == nil || l.GPT.Told())
}

// SectorsUnknown stands for the capacity of a disk of which nobody told it.
const SectorsUnknown = math.MaxUint64

// Bytes is the disk's capacity; 0 when it is not known.
func (l *Layout) Bytes() int64 {
	if l.Sectors == SectorsUnknown {
		return 0
	}
	return Span(l.Sectors, l.SectorSize)
}

// Partition is a partition of either style.
type Partition struct {
	Number     int // as the table and the operating systems count
	Type       KnownType
	TypeOpen   bool // the type is not told
	TypeGUID   GUID // GPT only
	MBRType    byte // MBR only
	GUID       GUID // GPT unique partition GUID
	Name       string
	Start      uint64 // sectors
	Length     uint64 // sectors
	Attributes uint64 // GPT
	Active     bool   // MBR
	ActiveOpen bool   // whether it is marked active is not told
	Logical    bool   // MBR
	EBR        uint64 // the sector of a logical partition's extended boot record
	// Passed is whether a reader that checks the first record of a chain alone, and ends at one
	// without a partition or with one that does not fit, does not come to it.
	Passed   bool
	Unplaced bool // where it starts is not known; Start only keeps the order
	Rough    bool // place and length were rounded, as on a screen
	Source   fact.Source
}

// End returns the first sector after the partition; a damaged entry's end stays
// at the largest number.
func (p Partition) End() uint64 {
	if p.Length > math.MaxUint64-p.Start {
		return math.MaxUint64
	}
	return p.Start + p.Length
}

// attributeNoBlockIO keeps firmware from offering the partition. UEFI
// Specification 2.10, table 5.8, bit 1.
const attributeNoBlockIO = 1 << 1

// Hidden reports whether the table forbids firmware to offer the partition.
func (p Partition) Hidden() bool { return p.Attributes&attributeNoBlockIO != 0 }

// IsESP reports whether the partition is typed as an EFI system partition.
func (p Partition) IsESP() bool { return p.TypeGUID == TypeESP || p.MBRType == MBRTypeESP }

// Dynamic reports whether a partition belongs to a dynamic disk of Windows, of which a database on the disk tells
// what it holds. Microsoft's "Windows and GPT FAQ" for GPT; MBR types, common practice, no source.
func (p Partition) Dynamic() bool { return p.TypeGUID == typeDynamic || p.MBRType == mbrTypeDynamic }

// ReadLayout reads the tables of a disk. It never fails: what cannot be read is
// said in the problems, and what is not in the evidence stays unknown.
func ReadLayout(d *Disk) Layout {
	d, kept := d.keep()
	l := Layout{SectorSize: d.sectorSize, Sectors: d.Sectors(), Style: StyleUnknown}
	mbr, mbrProblems, err := readMBR(d)
	if err != nil && !IsNotCaptured(err) {
		l.Problems = append(l.Problems, problem(CodeMBRUnreadable, at("MBR", "", 0, 512), "Sector 0 cannot be read: %v.", err))
	}
	l.MBR = mbr
	gpt, gptProblems := readGPT(d)
	l.decideStyle(d, mbr, gpt)
	switch l.Style {
	case StyleGPT:
		l.GPT = gpt
		l.Problems = append(l.Problems, gptProblems...)
		l.fromGPT()
		l.checkProtective()
	case StyleMBR:
		l.Problems = append(l.Problems, mbrProblems...)
		l.fromMBR()
		l.noteStaleGPT(gpt)
	default:
		l.Problems = append(l.Problems, mbrProblems...)
		l.fromBareVolume(d)
	}
	l.checkRanges()
	l.tables = kept.pages
	return l
}

func (l *Layout) decideStyle(d *Disk, mbr *MBR, gpt *GPT) {
	if other := foreignTable(d); other != 0 && gpt.Primary.State == CopyAbsent {
		l.WrittenFor = other
		l.Problems = append(l.Problems, problem(CodeSectorSize, primarySignature(other),
			"The partition table was written for %d-byte sectors; this disk has %d-byte sectors.", other, d.sectorSize).
			wanted(fmt.Sprintf("EFI PART at byte %d", d.sectorSize), fmt.Sprintf("EFI PART at byte %d", other)))
	}
	guarded := mbr != nil && mbr.Signature && (mbr.Protective() || mbr.Hybrid())
	hasGPT := gpt.Primary.State == CopyGood || gpt.Primary.State == CopyDamaged ||
		gpt.Backup.State == CopyGood || gpt.Backup.State == CopyDamaged
	switch {
	case guarded, l.WrittenFor != 0, mbr == nil && hasGPT:
		l.Style = StyleGPT
	case mbr == nil:
		l.Style = StyleUnknown
	case mbr.Signature && mbr.plausible() && mbr.count(false) > 0:
		l.Style = StyleMBR
	case hasGPT: // no protective record: firmware may refuse it, and it is said
		l.Style = StyleGPT
	case mbr.Signature && mbr.plausible() && !bareVolume(d):
		l.Style = StyleMBR
	default:
		l.Style = StyleNone
	}
	// Without a record in sector 0 it is the copies of a GPT that tell of partitions.
	lacks := gpt.Primary.State == CopyNotCaptured || gpt.Backup.State == CopyNotCaptured
	l.Open = lacks && (l.Style == StyleNone || l.Style == StyleMBR && mbr.count(false) == 0)
}

// foreignTable returns the other sector size when a GPT header stands where
// that size would put it.
func foreignTable(d *Disk) int {
	other := 512
	if d.sectorSize == 512 {
		other = 4096
	}
	raw, err := d.Read(int64(other), 8)
	if err != nil || string(raw) != string(gptSignature) {
		return 0
	}
	return other
}

// primarySignature cites where a primary header begins.
func primarySignature(sectorSize int) fact.Source {
	c := GPTCopy{Which: "primary", Header: GPTHeader{LBA: 1}}
	return c.field(headerSignature, sectorSize)
}

func readGPT(d *Disk) (*GPT, []Problem) {
	g := &GPT{}
	var problems, more []Problem
	if d.Sectors() < 2 {
		g.Primary.State, g.Backup.State = CopyAbsent, CopyAbsent
		return g, nil
	}
	g.Primary, problems = readGPTCopy(d, "primary", 1)
	last := d.Sectors() - 1
	g.Backup, more = readGPTCopy(d, "backup", last)
	problems = append(problems, more...)
	if g.Backup.State != CopyAbsent {
		return g, problems
	}
	// A raw copy to a larger disk leaves the backup where the old disk ended.
	if alt := g.Primary.Header.AlternateLBA; g.Primary.State == CopyGood && alt > 1 && alt < last {
		misplaced, more := readGPTCopy(d, "backup", alt)
		if misplaced.State == CopyGood {
			problems = append(problems, more...)
			g.Backup = misplaced
			problems = append(problems, problem(CodeGPTBackupMisplaced,
				misplaced.field(headerMyLBA, d.sectorSize),
				"The backup table stands at sector %d, not in the last sector %d: the disk is larger than the one it was written for.",
				alt, last).wanted(last, alt))
		}
	}
	return g, problems
}

func (l *Layout) fromGPT() {
	use := l.GPT.Valid()
	if use == nil {
		l.Problems = append(l.Problems, l.noValidCopy()...)
		_, wraps := l.Find(CodeGPTArrayWraps)
		l.Open = l.Open || wraps
		return
	}
	l.Open = l.Open || l.GPT.Primary.State == CopyNotCaptured // it may tell of others
	if use.Which == "backup" && l.GPT.Primary.State == CopyAbsent {
		l.Problems = append(l.Problems, problem(CodeGPTPrimaryAbsent,
			primarySignature(l.SectorSize),
			"There is no primary GPT header in sector 1; the backup is good.").wanted("EFI PART", "something else"))
	}
	if l.GPT.Backup.State == CopyAbsent {
		l.Problems = append(l.Problems, problem(CodeGPTBackupAbsent,
			at("GPT header (backup)", "Signature", Span(l.Sectors-1, l.SectorSize), 8),
			"There is no backup GPT header in the last sector %d.", l.Sectors-1).wanted("EFI PART", "something else"))
	}
	if n := l.GPT.differing(); n > 0 {
		l.Problems = append(l.Problems, problem(CodeGPTCopiesDiffer, l.GPT.Backup.field(headerArrayCRC32, l.SectorSize),
			"Both copies of the table are sound, and differ in partition %d: firmware goes by the primary, a program that checks by the backup may not.", n))
	}
	if last := use.Header.LastUsableLBA; last >= l.Sectors {
		l.Problems = append(l.Problems, problem(CodeGPTLargerDisk, use.field(headerLastUsable, l.SectorSize),
			"The table was written for a larger disk: its last usable sector is %d, the disk ends at %d.", last, l.Sectors-1).
			wanted(fmt.Sprintf("below %d", l.Sectors), last))
	}
	for _, e := range use.Entries {
		if len(l.Partitions) == maxPartitions {
			l.Problems = append(l.Problems, problem(CodeGPTManyPartitions, use.field(headerArrayEntries, l.SectorSize),
				"The table has more than %d partitions: those from number %d on were not looked at.", maxPartitions, e.Number).wanted(fmt.Sprint("at most ", maxPartitions), len(use.Entries)))
			break
		}
		l.Partitions = append(l.Partitions, gptPartition(e))
		l.Problems = append(l.Problems, l.checkGPTEntry(use, e)...)
	}
}

// maxPartitions bounds the partitions of a table that are looked at: twice as many as
// systems make room for.
const maxPartitions = 256

func (l *Layout) noValidCopy() []Problem {
	if l.WrittenFor != 0 || l.GPT.Primary.State == CopyNotCaptured || l.GPT.Backup.State == CopyNotCaptured {
		return nil
	}
	return []Problem{problem(CodeGPTNoneValid, primarySignature(l.SectorSize),
		"Neither copy of the partition table is valid (primary %s, backup %s).", l.GPT.Primary.State, l.GPT.Backup.State)}
}

func gptPartition(e GPTEntry) Partition {
	p := Partition{
		Number: e.Number, Type: GPTType(e.Type), TypeGUID: e.Type, GUID: e.GUID, Name: e.Name,
		Start: e.First, Attributes: e.Attributes,
		Source: at("GPT entry", fmt.Sprintf("entry %d", e.Number), e.Offset, gptEntryLen),
	}
	if e.Last >= e.First {
		p.Length = max(e.Last-e.First+1, e.Last-e.First) // a full range does not fit
	}
	return p
}

func (l *Layout) checkGPTEntry(use *GPTCopy, e GPTEntry) []Problem {
	h := use.Header
	src := at("GPT entry", fmt.Sprintf("entry %d StartingLBA, EndingLBA", e.Number), e.Offset+entryFirst.Offset, entryFirst.Length+entryLast.Length)
	switch {
	case e.Last < e.First:
		return []Problem{problem(CodeGPTEntryBackwards, src, "Partition %d ends (%d) before it starts (%d).", e.Number, e.Last, e.First)}
	case e.Last >= l.Sectors:
		return []Problem{problem(CodeBeyondEnd, src, "Partition %d ends at sector %d; the disk ends at %d.", e.Number, e.Last, l.Sectors-1).
			wanted(fmt.Sprintf("at most %d", l.Sectors-1), e.Last)}
	case e.First < h.FirstUsableLBA || e.Last > h.LastUsableLBA:
		return []Problem{problem(CodeGPTEntryOutside, src, "Partition %d (%d to %d) lies outside the usable range %d to %d.",
			e.Number, e.First, e.Last, h.FirstUsableLBA, h.LastUsableLBA)}
	}
	return nil
}

func (l *Layout) fromMBR() {
	l.Open = l.Open || l.MBR.LogicalOpen
	for _, e := range append(append([]MBREntry{}, l.MBR.Entries[:]...), l.MBR.Logical...) {
		if !e.Used() || isExtended(e.Type) {
			continue
		}
		l.Partitions = append(l.Partitions, e.Partition(l.SectorSize))
	}
}

// bareVolume reports whether sector 0 is the boot sector of a volume that takes
// the whole disk, as many sticks have it: a jump, and a sane sector size where a
// BIOS parameter block has one.
func bareVolume(d *Disk) bool {
	raw, err := d.Read(0, 512)
	if err != nil || raw[0] != 0xEB && raw[0] != 0xE9 {
		return false
	}
	size := int(raw[11]) | int(raw[12])<<8
	return size == 512 || size == 1024 || size == 2048 || size == 4096
}

// fromBareVolume lists the whole disk as partition 0 when it is one volume.
func (l *Layout) fromBareVolume(d *Disk) {
	if l.Style == StyleNone && l.MBR.Signature && bareVolume(d) {
		l.Partitions = []Partition{{Type: KnownType{"Whole disk, no table", RoleBoot}, Length: l.Sectors, Source: at("Boot sector", "", 0, 512)}}
	}
}

func (l *Layout) checkProtective() {
	records := at("MBR", "partition records", mbrEntriesOff, 64)
	switch {
	case l.MBR == nil:
	case !l.MBR.guards():
		l.Problems = append(l.Problems, problem(CodeGPTUnprotected, records,
			"The GPT has no protective MBR; firmware may not look for it.").wanted("a record of type EE that starts at sector 1", "none"))
	case !l.MBR.Signature:
		l.Problems = append(l.Problems, problem(CodeGPTProtectiveUnsigned, at("MBR", "signature", mbrSignatureOff, 2),
			"The protective MBR does not end in 55 AA; firmware may not look for the GPT.").wanted("55 AA", "something else"))
	case l.MBR.Hybrid():
		l.Problems = append(l.Problems, problem(CodeMBRHybrid, records,
			"Sector 0 is a hybrid MBR: ordinary records stand beside the protective one. UEFI goes by the GPT, legacy boot code by the MBR."))
	}
}

// noteStaleGPT says when an MBR disk still carries a GPT that nothing guards.
func (l *Layout) noteStaleGPT(gpt *GPT) {
	if gpt.Primary.State == CopyGood || gpt.Backup.State == CopyGood {
		l.Stale = gpt
		l.Problems = append(l.Problems, problem(CodeGPTStale, primarySignature(l.SectorSize),
			"An MBR is in force, but the remains of a GPT stand beside it."))
	}
}

// checkRanges reports overlaps and duplicated partition GUIDs.
func (l *Layout) checkRanges() {
	byStart := append([]Partition{}, l.Partitions...)
	sort.SliceStable(byStart, func(i, j int) bool { return byStart[i].Start < byStart[j].Start })
	for i := 1; i < len(byStart); i++ {
		if a, b := byStart[i-1], byStart[i]; a.End() > b.Start && b.Length > 0 {
			l.Problems = append(l.Problems, problem(CodeOverlap, b.Source,
				"Partitions %d and %d overlap: %d to %d and %d to %d.", a.Number, b.Number, a.Start, a.End()-1, b.Start, b.End()-1))
		}
	}
	seen := map[GUID]int{}
	for _, p := range l.Partitions {
		if first, twice := seen[p.GUID]; twice && !p.GUID.IsZero() {
			l.Problems = append(l.Problems, problem(CodeDuplicateGUID, p.Source,
				"Partitions %d and %d carry the same unique GUID %s.", first, p.Number, p.GUID))
		}
		seen[p.GUID] = p.Number
	}
}

// DiskID returns the disk GUID or the disk signature as text, with its source;
// unknown when the table does not tell.
func (l *Layout) DiskID() fact.Of[string] {
	if _, told := l.DiskIDTold.Get(); told {
		return l.DiskIDTold
	}
	switch {
	case l.Style == StyleGPT && l.GPT != nil && l.GPT.Valid() != nil:
		c := l.GPT.Valid()
		return fact.Known(c.Header.DiskGUID.String(), at(c.structure(), "DiskGUID", Span(c.Header.LBA, l.SectorSize)+56, 16))
	case l.Style == StyleMBR && l.MBR != nil && l.MBR.BootCode != nil:
		return fact.Known(fmt.Sprintf("%08X", l.MBR.DiskSignature), at("MBR", "UniqueMBRDiskSignature", mbrDiskSigOff, 4))
	}
	return fact.Unknown[string]()
}

// Find returns the first problem with the code.
func (l *Layout) Find(code ProblemCode) (Problem, bool) {
	for _, p := range l.Problems {
		if p.Code == code {
			return p, true
		}
	}
	return Problem{}, false
}
