package disk

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"unicode/utf16"

	"latchkey/core/fact"
)

// Sizes from the UEFI Specification 2.10, section 5.3.2.
const (
	gptHeaderLen   = 92
	gptEntryLen    = 128
	gptRevision    = 0x00010000
	gptMinArrayLen = 16384
)

// maxArray bounds the entry array that is read, in bytes. A table as systems
// write it takes 16 KiB; this allows 8,192 entries.
const maxArray = 1 << 20

var gptSignature = []byte("EFI PART")

// CopyState says how far one copy of the GPT can be trusted.
type CopyState string

// The states of a GPT copy.
const (
	CopyGood        CopyState = "good"
	CopyDamaged     CopyState = "damaged"      // a signature is there, a check fails
	CopyAbsent      CopyState = "absent"       // no signature where it should be
	CopyNotCaptured CopyState = "not captured" // the evidence lacks those bytes
	CopyTold        CopyState = "told"         // a system listed partitions from one of the copies
)

// GPT is both copies of a GUID partition table.
type GPT struct {
	Primary GPTCopy
	Backup  GPTCopy
}

// Valid returns the copy that conforming firmware uses (the primary, else the
// backup), or nil. UEFI Specification 2.10, section 5.3.2.
func (g *GPT) Valid() *GPTCopy {
	if g == nil {
		return nil
	}
	if g.Primary.State == CopyGood {
		return &g.Primary
	}
	if g.Backup.State == CopyGood {
		return &g.Backup
	}
	return nil
}

// Told reports whether the partitions are known from what a system or a tool listed of one of the
// copies, and not from their bytes. Where it says that one is damaged, it read the other.
func (g *GPT) Told() bool {
	return g != nil && (g.Primary.State == CopyTold || g.Backup.State == CopyTold)
}

// differing is the number of the first entry in which two good copies differ; 0 for none.
func (g *GPT) differing() int {
	if g.Primary.State != CopyGood || g.Backup.State != CopyGood {
		return 0
	}
	same := func(a, b GPTEntry) bool {
		a.Offset, b.Offset = 0, 0
		return a == b
	}
	a, b := g.Primary.Entries, g.Backup.Entries
	for i := range max(len(a), len(b)) {
		switch {
		case i >= len(a):
			return b[i].Number
		case i >= len(b):
			return a[i].Number
		case !same(a[i], b[i]):
			return min(a[i].Number, b[i].Number)
		}
	}
	return 0
}

// FirstUsable is the first sector that partitions may take: behind the header and an entry array of 16
// KiB. UEFI Specification 2.10, section 5.3.2.
func FirstUsable(sectorSize int) uint64 { return 2 + uint64(gptMinArrayLen/sectorSize) }

// LastUsable is the last sector that partitions may take on a disk of so many sectors:
// the backup header stands in the last one, its entry array of 16 KiB before it. UEFI
// Specification 2.10, section 5.3.1.
func LastUsable(sectors uint64, sectorSize int) uint64 {
	array := uint64(gptMinArrayLen / sectorSize)
	if sectors < array+3 {
		return 0
	}
	return sectors - 2 - array
}

// Lost reports whether the copy is known to be of no use.
func (c *GPTCopy) Lost() bool { return c.State == CopyDamaged || c.State == CopyAbsent }

// GPTCopy is one header with its entry array.
type GPTCopy struct {
	Which   string // "primary" or "backup"
	State   CopyState
	Header  GPTHeader
	Entries []GPTEntry // used entries only
}

// GPTHeader holds the fields of the UEFI Specification 2.10, table 5.5.
type GPTHeader struct {
	LBA                      uint64 // where it was found, in sectors
	Revision                 uint32
	HeaderSize               uint32 // bytes
	HeaderCRC32              uint32
	MyLBA                    uint64
	AlternateLBA             uint64
	FirstUsableLBA           uint64
	LastUsableLBA            uint64
	DiskGUID                 GUID
	PartitionEntryLBA        uint64
	NumberOfPartitionEntries uint32
	SizeOfPartitionEntry     uint32 // bytes
	PartitionEntryArrayCRC32 uint32
}

// GPTEntry holds the fields of the UEFI Specification 2.10, table 5.6.
type GPTEntry struct {
	Number     int // position in the array, from 1
	Type       GUID
	GUID       GUID
	First      uint64 // sectors
	Last       uint64 // sectors, inclusive
	Attributes uint64
	Name       string
	Offset     int64 // byte offset on the disk
}

func (c *GPTCopy) structure() string { return "GPT header (" + c.Which + ")" }

// readGPTCopy decodes the header at lba and its entry array.
func readGPTCopy(d *Disk, which string, lba uint64) (GPTCopy, []Problem) {
	c := GPTCopy{Which: which, Header: GPTHeader{LBA: lba}}
	off := Span(lba, d.sectorSize)
	raw, err := d.Read(off, d.sectorSize)
	if err != nil {
		c.State = CopyNotCaptured
		if !IsNotCaptured(err) {
			c.State = CopyAbsent
			return c, []Problem{problem(CodeGPTUnreadable, at(c.structure(), "", off, int64(d.sectorSize)),
				"The %s GPT header at sector %d cannot be read: %v.", which, lba, err)}
		}
		return c, nil
	}
	if !bytes.HasPrefix(raw, gptSignature) {
		c.State = CopyAbsent
		return c, nil
	}
	c.Header = decodeGPTHeader(raw, lba)
	problems := checkGPTHeader(&c, raw)
	array, arrayProblems := readGPTArray(d, &c)
	c.Entries = decodeGPTEntries(array, c.Header, d.sectorSize)
	problems = append(problems, arrayProblems...)
	c.State = CopyGood
	for _, p := range problems {
		switch {
		case p.Code == CodeGPTRevision: // firmware goes by the checksums
		case p.Code != CodeGPTArrayNotCaptured:
			c.State = CopyDamaged
			return c, problems
		default:
			c.State = CopyNotCaptured
		}
	}
	if c.State == CopyNotCaptured {
		problems = nil
	}
	return c, problems
}

func decodeGPTHeader(raw []byte, lba uint64) GPTHeader {
	return GPTHeader{
		LBA: lba, Revision: uint32(headerRevision.Uint(raw)), HeaderSize: uint32(headerSize.Uint(raw)),
		HeaderCRC32: uint32(headerCRC32.Uint(raw)),
		MyLBA:       headerMyLBA.Uint(raw), AlternateLBA: headerAlternateLBA.Uint(raw),
		FirstUsableLBA: headerFirstUsable.Uint(raw), LastUsableLBA: headerLastUsable.Uint(raw),
		DiskGUID:          headerDiskGUID.GUID(raw),
		PartitionEntryLBA: headerArrayLBA.Uint(raw), NumberOfPartitionEntries: uint32(headerArrayEntries.Uint(raw)),
		SizeOfPartitionEntry:     uint32(headerArrayStep.Uint(raw)),
		PartitionEntryArrayCRC32: uint32(headerArrayCRC32.Uint(raw)),
	}
}

// field cites a field of the header.
func (c *GPTCopy) field(f Field, sectorSize int) fact.Source {
	return at(c.structure(), f.Name, Span(c.Header.LBA, sectorSize)+f.Offset, f.Length)
}

// checkGPTHeader applies the checks of the UEFI Specification 2.10, section
// 5.3.2, to one header.
func checkGPTHeader(c *GPTCopy, raw []byte) []Problem {
	var problems []Problem
	h := c.Header
	add := func(code ProblemCode, f Field, text string, want, got any) {
		problems = append(problems, problem(code, c.field(f, len(raw)), "%s", text).wanted(want, got))
	}
	if h.HeaderSize < gptHeaderLen || int(h.HeaderSize) > len(raw) {
		add(CodeGPTHeaderSize, headerSize,
			fmt.Sprintf("The %s GPT header gives its own size as %d bytes.", c.Which, h.HeaderSize),
			fmt.Sprintf("%d to %d", gptHeaderLen, len(raw)), h.HeaderSize)
	} else if got := headerCRC(raw[:h.HeaderSize]); got != h.HeaderCRC32 {
		add(CodeGPTHeaderCRC, headerCRC32,
			fmt.Sprintf("The %s GPT header's checksum does not match its contents.", c.Which),
			fmt.Sprintf("%08X", got), fmt.Sprintf("%08X", h.HeaderCRC32))
	}
	if h.Revision != gptRevision {
		add(CodeGPTRevision, headerRevision, fmt.Sprintf("The %s GPT header has revision %08X.", c.Which, h.Revision),
			"00010000", fmt.Sprintf("%08X", h.Revision))
	}
	if h.MyLBA != h.LBA {
		add(CodeGPTMyLBA, headerMyLBA,
			fmt.Sprintf("The %s GPT header says that it stands at sector %d, but stands at %d.", c.Which, h.MyLBA, h.LBA),
			h.LBA, h.MyLBA)
	}
	if h.SizeOfPartitionEntry < gptEntryLen || h.SizeOfPartitionEntry&(h.SizeOfPartitionEntry-1) != 0 {
		add(CodeGPTEntrySize, headerArrayStep,
			fmt.Sprintf("The %s GPT header gives %d bytes an entry.", c.Which, h.SizeOfPartitionEntry),
			"128 times a power of two", h.SizeOfPartitionEntry)
	}
	return problems
}

func headerCRC(header []byte) uint32 {
	field := append([]byte(nil), header...)
	clear(field[headerCRC32.Offset : headerCRC32.Offset+headerCRC32.Length]) // counts as zero
	return crc32.ChecksumIEEE(field)
}

func readGPTArray(d *Disk, c *GPTCopy) ([]byte, []Problem) {
	h := c.Header
	src := c.field(headerArrayLBA, d.sectorSize)
	length := uint64(h.NumberOfPartitionEntries) * uint64(h.SizeOfPartitionEntry)
	if h.PartitionEntryLBA >= d.Sectors() || length > uint64(d.size)-h.PartitionEntryLBA*uint64(d.sectorSize) {
		if c.wraps(d, length) {
			return nil, []Problem{problem(CodeGPTArrayWraps, src, "The %s entry array (sector %d) lies beyond the end of the disk; who reckons its byte in 64 bits without looking at the carry comes to sector %d, where it stands.",
				c.Which, h.PartitionEntryLBA, h.PartitionEntryLBA*uint64(d.sectorSize)/uint64(d.sectorSize))}
		}
		return nil, []Problem{problem(CodeGPTArrayOutside, src,
			"The %s entry array (sector %d, %d bytes) lies beyond the end of the disk.", c.Which, h.PartitionEntryLBA, length)}
	}
	off := Span(h.PartitionEntryLBA, d.sectorSize)
	if length > maxArray {
		raw, _ := d.Read(off, gptMinArrayLen)
		return raw, []Problem{problem(CodeGPTArrayLarge, c.field(headerArrayEntries, d.sectorSize),
			"The %s GPT header claims %d entries of %d bytes; only the first 16 KiB were read.",
			c.Which, h.NumberOfPartitionEntries, h.SizeOfPartitionEntry).
			wanted("at most 1 MiB", fmt.Sprintf("%d bytes", length))}
	}
	raw, err := d.Read(off, int(length))
	if IsNotCaptured(err) {
		return nil, []Problem{problem(CodeGPTArrayNotCaptured, src, "The %s entry array is not in the evidence.", c.Which)}
	}
	if err != nil {
		return nil, []Problem{problem(CodeGPTArrayUnreadable, src, "The %s entry array cannot be read: %v.", c.Which, err)}
	}
	if got := crc32.ChecksumIEEE(raw); got != h.PartitionEntryArrayCRC32 {
		return raw, []Problem{problem(CodeGPTArrayCRC, c.field(headerArrayCRC32, d.sectorSize), "The %s entry array's checksum does not match its contents.", c.Which).
			wanted(fmt.Sprintf("%08X", got), fmt.Sprintf("%08X", h.PartitionEntryArrayCRC32))}
	}
	return raw, nil
}

// wraps reports whether the entries stand where the header's sector, made bytes in 64 bits and
// without the carry, leads: edk2 reads them there (seen, by a machine at random).
func (c *GPTCopy) wraps(d *Disk, length uint64) bool {
	off := c.Header.PartitionEntryLBA * uint64(d.sectorSize)
	outside := off > uint64(d.size) || length > uint64(d.size)-off
	if c.Header.PartitionEntryLBA < d.Sectors() || length > maxArray || outside {
		return false
	}
	raw, err := d.Read(int64(off), int(length))
	return err == nil && crc32.ChecksumIEEE(raw) == c.Header.PartitionEntryArrayCRC32
}

func decodeGPTEntries(array []byte, h GPTHeader, sectorSize int) []GPTEntry {
	var entries []GPTEntry
	step := int(h.SizeOfPartitionEntry)
	if step < gptEntryLen || step > maxArray {
		return nil
	}
	for n := 1; len(array) >= gptEntryLen; n++ {
		raw := array[:gptEntryLen]
		e := GPTEntry{Type: entryType.GUID(raw)}
		if !e.Type.IsZero() {
			e.Number, e.GUID, e.First, e.Last = n, entryGUID.GUID(raw), entryFirst.Uint(raw), entryLast.Uint(raw)
			e.Attributes, e.Name = entryAttributes.Uint(raw),
				partitionName(raw[entryName.Offset:entryName.Offset+entryName.Length])
			e.Offset = Span(h.PartitionEntryLBA, sectorSize) + int64(n-1)*int64(step)
			entries = append(entries, e)
		}
		array = array[min(step, len(array)):]
	}
	return entries
}

func partitionName(raw []byte) string {
	var units []uint16
	for i := 0; i+1 < len(raw); i += 2 {
		u := binary.LittleEndian.Uint16(raw[i:])
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units))
}
