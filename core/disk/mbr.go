package disk

import (
	"encoding/binary"
	"fmt"
)

// Byte offsets within sector 0. UEFI Specification 2.10, table 5.1 (legacy MBR).
const (
	mbrBootCodeLen  = 440
	mbrDiskSigOff   = 440 // UniqueMBRDiskSignature
	mbrEntriesOff   = 446 // PartitionRecord[4]
	mbrEntryLen     = 16
	mbrSignatureOff = 510 // 0xAA55, stored 55 AA
)

// MBR is the master boot record and its chain of logical partitions.
type MBR struct {
	Signature     bool   // 55 AA at byte 510
	BootCode      []byte // the 440 bytes before the disk signature
	DiskSignature uint32 // at byte 440
	Entries       [4]MBREntry
	Logical       []MBREntry // in chain order
	LogicalOpen   bool       // the evidence lacks a record of the chain
	Hollow        []MBREntry // records of the chain with a type and no length
	GoesOn        bool       // edk2 follows the chain over the record at which it ends
}

// MBREntry is one 16-byte partition record. UEFI Specification 2.10, table 5.2.
type MBREntry struct {
	Number int    // 1 to 4; logical ones from 5, as Linux counts
	Status byte   // BootIndicator: 0x80 active, 0x00 not
	Type   byte   // OSIndicator
	Start  uint64 // absolute, in sectors
	Length uint64 // in sectors
	Offset int64  // byte offset of the record on the disk
	Passed bool   // see Partition
}

// Record is the record as it stands on a disk. Its place by cylinder, head and sector is
// beyond what those reach, as for large disks.
func (e MBREntry) Record() []byte {
	b := []byte{e.Status, 0xFE, 0xFF, 0xFF, e.Type, 0xFE, 0xFF, 0xFF}
	b = binary.LittleEndian.AppendUint32(b, uint32(e.Start))
	return binary.LittleEndian.AppendUint32(b, uint32(e.Length))
}

// Used reports whether the record describes a partition.
func (e MBREntry) Used() bool { return e.Type != 0 && e.Length != 0 }

// Active reports the classic active flag.
func (e MBREntry) Active() bool { return e.Status == 0x80 }

// Extended reports whether the record holds logical partitions.
func (e MBREntry) Extended() bool { return isExtended(e.Type) }

// Partition is the partition that a record tells of, on a disk of a sector size in bytes.
func (e MBREntry) Partition(sectorSize int) Partition {
	p := Partition{Number: e.Number, Type: MBRType(e.Type), MBRType: e.Type, Start: e.Start, Length: e.Length,
		Active: e.Active(), Source: at("MBR", fmt.Sprintf("record %d", e.Number), e.Offset, mbrEntryLen)}
	p.Passed = e.Passed
	if p.Logical = e.Number > 4; p.Logical {
		p.EBR = uint64(e.Offset) / uint64(sectorSize)
	}
	return p
}

// Protective reports whether the record only guards a GPT: one 0xEE record and
// nothing else. UEFI Specification 2.10, section 5.2.3.
func (m *MBR) Protective() bool { return m.count(true) == 1 && !m.Ordinary() }

// Ordinary reports whether a record stands there that is no protective one.
func (m *MBR) Ordinary() bool { return m.count(false) > 0 }

// Hybrid reports whether a 0xEE record stands beside ordinary ones.
func (m *MBR) Hybrid() bool { return m.count(true) >= 1 && m.Ordinary() }

// guards reports whether a protective record stands where the standard wants it.
// UEFI Specification 2.10, table 5.4: StartingLBA is 1.
func (m *MBR) guards() bool {
	for _, e := range m.Entries {
		if e.Type == MBRTypeProtective && e.Start == 1 {
			return true
		}
	}
	return false
}

func (m *MBR) count(protective bool) int {
	n := 0
	for _, e := range m.Entries {
		if e.Type != 0 && (e.Type == MBRTypeProtective) == protective {
			n++
		}
	}
	return n
}

func decodeMBREntry(raw []byte, number int, base uint64, offset int64) MBREntry {
	return MBREntry{
		Number: number, Status: raw[0], Type: raw[4],
		Start:  base + uint64(binary.LittleEndian.Uint32(raw[8:])),
		Length: uint64(binary.LittleEndian.Uint32(raw[12:])),
		Offset: offset,
	}
}

// readMBR decodes sector 0. It returns nil without an error only when there is
// no signature there at all.
func readMBR(d *Disk) (*MBR, []Problem, error) {
	raw, err := d.Read(0, 512)
	if err != nil {
		return nil, nil, fmt.Errorf("sector 0: %w", err)
	}
	m := &MBR{
		Signature:     raw[mbrSignatureOff] == 0x55 && raw[mbrSignatureOff+1] == 0xAA,
		BootCode:      raw[:mbrBootCodeLen],
		DiskSignature: binary.LittleEndian.Uint32(raw[mbrDiskSigOff:]),
	}
	for i := range m.Entries {
		off := int64(mbrEntriesOff + i*mbrEntryLen)
		m.Entries[i] = decodeMBREntry(raw[off:], i+1, 0, off)
	}
	if !m.Signature {
		if m.plausible() {
			m.readChains(d) // where they lead may be confirmed by the file systems there
		}
		src := at("MBR", "signature", mbrSignatureOff, 2)
		return m, []Problem{problem(CodeMBRSignature, src, "Sector 0 does not end in 55 AA: it holds no boot record.").
			wanted("55 AA", fmt.Sprintf("%02X %02X", raw[510], raw[511]))}, nil
	}
	var problems []Problem
	// A file system without a table ends in 55 AA too, and its "records" are
	// code: more than one of them then has a status that no table has.
	if !m.plausible() {
		return m, []Problem{problem(CodeMBRNoTable, at("MBR", "partition records", mbrEntriesOff, 64),
			"Sector 0 ends in 55 AA, but its four partition records are not a table: status bytes are neither 00 nor 80.")}, nil
	}
	problems = append(problems, m.readChains(d)...)
	return m, append(problems, m.check(d)...), nil
}

// readChains walks the chains that the records lead to.
func (m *MBR) readChains(d *Disk) (problems []Problem) {
	for _, e := range m.Entries {
		if e.Extended() {
			logical, chain, whole := m.readLogical(d, e)
			m.Logical = append(m.Logical, logical...)
			m.LogicalOpen = m.LogicalOpen || !whole
			problems = append(problems, chain...)
		}
	}
	return problems
}

func (m *MBR) plausible() bool {
	odd := 0
	for _, e := range m.Entries {
		if e.Status&0x7F != 0 {
			odd++
		}
	}
	return odd <= 1
}

// Active lists the records that are marked active, empty ones too: boot code looks at the
// marks of all four. Common practice, no source.
func (m *MBR) Active() []MBREntry {
	var list []MBREntry
	for _, e := range m.Entries {
		if e.Active() {
			list = append(list, e)
		}
	}
	return list
}

// check reports what is wrong with the records themselves.
func (m *MBR) check(d *Disk) []Problem {
	var problems []Problem
	active := 0
	for _, e := range append(m.Entries[:], m.Logical...) {
		name := fmt.Sprintf("record %d", e.Number)
		if e.Status != 0 && e.Status != 0x80 {
			problems = append(problems, problem(CodeMBRStatus, at("MBR", name+" status", e.Offset, 1),
				"Record %d has status 0x%02X.", e.Number, e.Status).wanted("80 or 00", fmt.Sprintf("%02X", e.Status)))
		}
		if e.Type == 0 {
			continue
		}
		if e.Active() && e.Number <= 4 {
			active++
		}
		if e.Type != MBRTypeProtective && e.Start+e.Length > d.Sectors() {
			problems = append(problems, problem(CodeBeyondEnd, at("MBR", name+" length", e.Offset+8, 8),
				"Partition %d ends at sector %d; the disk ends at %d.", e.Number, e.Start+e.Length-1, d.Sectors()-1))
		}
	}
	if active > 1 {
		problems = append(problems, problem(CodeMBRTwoActive, at("MBR", "partition records", mbrEntriesOff, 64),
			"%d partitions are marked active; boot code accepts one.", active))
	}
	return problems
}
