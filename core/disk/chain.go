package disk

import (
	"encoding/binary"
	"fmt"
	"slices"
)

// maxLogical bounds the walk of an extended chain. Linux stops at 256
// partitions of a disk; no system offers more.
const maxLogical = 256

// readLogical walks the chain of extended boot records. Each record's first
// entry is relative to that record, its second to the start of the extended
// partition. Common practice, as the Linux kernel reads it (block/partitions).
// It is whole unless the evidence lacks a record.
func (m *MBR) readLogical(d *Disk, ext MBREntry) (list []MBREntry, chain []Problem, whole bool) {
	var found []MBREntry
	var problems []Problem
	passed := false
	seen := map[uint64]bool{}
	for at0 := ext.Start; ; {
		off := Span(at0, d.sectorSize)
		src := at("Extended boot record", "signature", off+mbrSignatureOff, 2)
		if seen[at0] {
			return found, append(problems, problem(CodeEBRLoop, src,
				"The chain of logical partitions returns to sector %d: it loops.", at0)), true
		}
		if len(found) >= maxLogical {
			return found, append(problems, problem(CodeEBRLong, src,
				"The chain of logical partitions has more than %d links.", maxLogical)), true
		}
		seen[at0] = true
		raw, err := d.Read(off, 512)
		if IsNotCaptured(err) {
			return found, problems, false
		}
		if err != nil {
			return found, append(problems, problem(CodeEBRUnreadable, src,
				"The extended boot record at sector %d cannot be read: %v.", at0, err)), true
		}
		first := at0 == ext.Start
		if raw[510] != 0x55 || raw[511] != 0xAA {
			m.GoesOn = m.GoesOn || !first && !passed && binary.LittleEndian.Uint32(raw[mbrEntriesOff+12:]) != 0
			return found, append(problems, problem(CodeEBRSignature, src,
				"The extended boot record at sector %d does not end in 55 AA.", at0).
				wanted("55 AA", fmt.Sprintf("%02X %02X", raw[510], raw[511]))), true
		}
		part := decodeMBREntry(raw[mbrEntriesOff:], 5+len(found), at0, off+mbrEntriesOff)
		link := decodeMBREntry(raw[mbrEntriesOff+mbrEntryLen:], 0, ext.Start, off+mbrEntriesOff+mbrEntryLen)
		passed = passed || part.Length == 0 || part.Start+part.Length > ext.Start+ext.Length ||
			first && !consistent(tableOf(raw, off), ext.Length)
		part.Passed = passed
		switch {
		case part.Used() && part.Extended():
			m.GoesOn = m.GoesOn || !passed && part.Type == extendedLinux && link.Extended()
			link = decodeMBREntry(raw[mbrEntriesOff:], 0, ext.Start, off+mbrEntriesOff)
		case part.Used():
			found = append(found, part)
		case part.Type != 0:
			m.Hollow = append(m.Hollow, part)
		}
		if !link.Extended() || link.Length == 0 {
			return found, problems, true
		}
		passed = passed || link.Type == extendedLinux
		if link.Start < ext.Start || link.Start >= ext.Start+ext.Length {
			return found, append(problems, problem(CodeEBROutside,
				at("Extended boot record", "link", link.Offset, mbrEntryLen),
				"The link to sector %d leads outside the extended partition (%d to %d).",
				link.Start, ext.Start, ext.Start+ext.Length-1)), true
		}
		at0 = link.Start
	}
}

// tableOf are the four records of a sector, counted from where it stands itself.
func tableOf(raw []byte, off int64) (entries [4]MBREntry) {
	for i := range entries {
		entries[i] = decodeMBREntry(raw[mbrEntriesOff+i*mbrEntryLen:], i+1, 0, off+int64(mbrEntriesOff+i*mbrEntryLen))
	}
	return entries
}

// consistent reports whether edk2 takes four records for a table of so many sectors: there is
// one, none ends beyond the end, and none overlaps another. PartitionValidMbr, from memory, held
// against real firmware (package truth).
func consistent(entries [4]MBREntry, sectors uint64) bool {
	any := false
	for i, e := range entries {
		if !e.Used() {
			continue
		}
		any = true
		if e.Start+e.Length > sectors {
			return false
		}
		for _, o := range entries[i+1:] {
			if o.Used() && e.Start < o.Start+o.Length && o.Start < e.Start+e.Length {
				return false
			}
		}
	}
	return any
}

// Consistent reports whether the four records of sector 0 fit a disk of so many sectors and
// each other, whatever the chain says.
func (m *MBR) Consistent(sectors uint64) bool { return consistent(m.Entries, sectors) }

// Chain is the extended boot record of a logical partition as it stands on a disk: the
// partition, counted from its own sector, and the next record, counted from the start of the
// extended partition; with 55 AA. Common practice, as the Linux kernel reads it
// (block/partitions).
func (e MBREntry) Chain(at uint64, next *MBREntry) []byte {
	e.Start -= at
	b := e.Record()
	if next != nil {
		b = append(b, next.Record()...)
	}
	b = append(b, make([]byte, 64-len(b))...)
	return append(b, 0x55, 0xAA)
}

// BeforeLogical is how many sectors before a logical partition its record stands: a MiB, a
// track or one. Common practice, no source.
func BeforeLogical(sectorSize int) [3]uint64 { return [3]uint64{1 << 20 / uint64(sectorSize), 63, 1} }

// ChainBroken reports whether a chain of logical partitions ends where it should not, or does so
// for some of its readers.
func (l *Layout) ChainBroken() bool {
	if slices.ContainsFunc(l.Partitions, func(p Partition) bool { return p.Passed }) {
		return true
	}
	for _, code := range []ProblemCode{CodeEBRLoop, CodeEBRSignature, CodeEBROutside} {
		if _, broken := l.Find(code); broken {
			return true
		}
	}
	return false
}

// RecordBefore finds the extended boot record that tells of what begins at a sector. The error
// is that of the evidence, where it lacks one of the places where it may stand.
func RecordBefore(d *Disk, start uint64) (e MBREntry, found bool, err error) {
	for _, back := range BeforeLogical(d.sectorSize) {
		if start <= back {
			continue
		}
		off := Span(start-back, d.sectorSize)
		raw, failed := d.Read(off, 512)
		if failed != nil {
			err = failed
			continue
		}
		e = decodeMBREntry(raw[mbrEntriesOff:], 0, start-back, off+mbrEntriesOff)
		next := decodeMBREntry(raw[mbrEntriesOff+mbrEntryLen:], 0, 0, 0)
		if raw[510] == 0x55 && raw[511] == 0xAA && e.Used() && e.Start == start && e.Status&0x7F == 0 &&
			(next.Type == 0 || next.Extended()) && binary.LittleEndian.Uint64(raw[mbrEntriesOff+2*mbrEntryLen:]) == 0 {
			return e, true, nil
		}
	}
	return MBREntry{}, false, err
}
