package tables

import (
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/volume"
)

// What a checker of tables notes beside the problems that a start can meet.
const (
	codeAlignment  disk.ProblemCode = "alignment"
	codeProtective disk.ProblemCode = "protective-length"
	codeAlternate  disk.ProblemCode = "alternate-lba"
)

// means says what a problem means for a start. The sources are those of the rules that it
// bears on.
var means = map[disk.ProblemCode]string{
	disk.CodeBeyondEnd:             "The firmware refuses such a partition, and some refuse the whole table; a system in it is cut off.",
	disk.CodeDuplicateGUID:         "A boot entry or a configuration that names the identifier means either of the two.",
	disk.CodeEBRLong:               "The partitions behind the bound were not looked at; boot code starts from none of them.",
	disk.CodeEBRLoop:               "Systems see the logical partitions up to there; boot code starts from none of them.",
	disk.CodeEBROutside:            "Systems see the logical partitions up to there; boot code starts from none of them.",
	disk.CodeEBRSignature:          "Systems see the logical partitions up to there; boot code starts from none of them.",
	disk.CodeEBRUnreadable:         "Systems see the logical partitions up to there; boot code starts from none of them.",
	disk.CodeGPTArrayCRC:           "The firmware passes this copy over and takes the other, where that is sound.",
	disk.CodeGPTArrayLarge:         "More entries than any system writes: this copy is passed over.",
	disk.CodeGPTArrayNotCaptured:   "What the evidence lacks may be sound or not.",
	disk.CodeGPTArrayOutside:       "The firmware passes this copy over and takes the other, where that is sound.",
	disk.CodeGPTArrayWraps:         "Some firmware reads this copy, other firmware and the systems pass it over.",
	disk.CodeGPTArrayUnreadable:    "The firmware passes this copy over and takes the other, where that is sound.",
	disk.CodeGPTBackupAbsent:       "It starts by the primary alone; a damaged primary would then be the end of it.",
	disk.CodeGPTBackupMisplaced:    "It starts by the primary alone: firmware looks for the backup in the last sector.",
	disk.CodeGPTCopiesDiffer:       "The firmware goes by the primary; it changes if the primary is ever restored from the backup.",
	disk.CodeGPTEntryBackwards:     "The firmware refuses such an entry, and some refuse the whole table.",
	disk.CodeGPTEntryOutside:       "The firmware refuses such a partition, and some refuse the whole table.",
	disk.CodeGPTEntrySize:          "The firmware passes this copy over and takes the other, where that is sound.",
	disk.CodeGPTHeaderCRC:          "The firmware passes this copy over and takes the other, where that is sound.",
	disk.CodeGPTHeaderSize:         "The firmware passes this copy over and takes the other, where that is sound.",
	disk.CodeGPTLargerDisk:         "What lies behind the end of this disk was not copied.",
	disk.CodeGPTManyPartitions:     "Those behind the bound were not looked at.",
	disk.CodeGPTMyLBA:              "The firmware passes this copy over and takes the other, where that is sound.",
	disk.CodeGPTNoneValid:          "The firmware sees no partitions: it does not start.",
	disk.CodeGPTPrimaryToldDamaged: "Firmware that takes the backup starts; boot code and some firmware read the primary alone.",
	disk.CodeGPTBackupToldDamaged:  "It starts by the primary alone; a damaged primary would then be the end of it.",
	disk.CodeGPTPrimaryAbsent:      "Firmware that takes the backup starts; boot code and some firmware read the primary alone.",
	disk.CodeGPTProtectiveUnsigned: "Some firmware looks for the GPT only behind a signed record, and boot code is run by none.",
	disk.CodeGPTRevision:           "Firmware goes by the checksums; programs may refuse it.",
	disk.CodeGPTStale:              "The MBR is in force. A program may take the remains for the table.",
	disk.CodeGPTUnprotected:        "Much firmware looks for a GPT only behind the record, and systems' tools do, too.",
	disk.CodeGPTUnreadable:         "The firmware passes this copy over and takes the other, where that is sound.",
	disk.CodeMBRHybrid:             "UEFI goes by the GPT and legacy boot code by the MBR: what one of them changes the other does not see.",
	disk.CodeMBRNoTable:            "Neither kind of firmware finds a partition.",
	disk.CodeMBRSignature:          "Legacy firmware does not run sector 0, and no table is seen.",
	disk.CodeMBRStatus:             "Boot code refuses the table, and tools take it for none.",
	disk.CodeMBRTwoActive:          "Boot code refuses the table.",
	disk.CodeMBRToldDamaged:        "Much firmware looks for a GPT only behind the record, some only where it is signed.",
	disk.CodeMBRUnreadable:         "Nothing is known of the table; the drive may be failing.",
	disk.CodeNotReadToItsEnd:       "What was not read is not known.",
	disk.CodeUnreadable:            "The drive may be failing: copy what is needed before anything else.",
	disk.CodeOverlap:               "UEFI firmware offers none of the partitions that overlap, and tools refuse to write the table.",
	disk.CodeSectorSize:            "The table stands where nothing on this disk looks for it.",
	volume.CodeHiddenSectors:       "Boot code of the volume that reads its place from there reads from the wrong one.",
	volume.CodeVolumeTooLong:       "A system may refuse the file system, or read beyond its partition.",
	codeAlignment:                  "Nothing for the start; the drive writes more slowly.",
	codeProtective:                 "Nothing for the start: firmware takes it; some tools offer to correct it.",
	codeAlternate:                  "Nothing for the start while the primary is sound; a program looks for the backup there.",
}

// Means says what a problem of a table means for a start; "" for one that is none of a
// table's.
func Means(code disk.ProblemCode) string { return means[code] }

// notes are what checkers say beside: a start that is no multiple of 2,048 sectors, a
// protective record that does not reach to the end, a primary that does not name the last
// sector. UEFI Specification 2.10, tables 5.4 and 5.5.
func notes(l *disk.Layout) (list []disk.Problem) {
	add := func(code disk.ProblemCode, source fact.Source, want, got any, format string, args ...any) {
		list = append(list, disk.Problem{Code: code, Text: fmt.Sprintf(format, args...), Source: source,
			Want: fmt.Sprint(want), Got: fmt.Sprint(got)})
	}
	per := uint64(1<<20) / uint64(l.SectorSize)
	for _, p := range l.Partitions {
		if !p.Unplaced && !p.Rough && p.Start%per != 0 {
			add(codeAlignment, p.Source, fmt.Sprintf("a multiple of %d", per), p.Start,
				"Partition %d begins at sector %d, which is no multiple of 1 MiB.", p.Number, p.Start)
		}
	}
	if l.Style != disk.StyleGPT || l.Sectors == disk.SectorsUnknown || l.Told() {
		return list
	}
	if l.MBR != nil {
		for _, e := range l.MBR.Entries {
			whole := min(l.Sectors-1, 1<<32-1)
			if e.Type == disk.MBRTypeProtective && e.Start == 1 && e.Length != whole && e.Length != 1<<32-1 {
				add(codeProtective, fact.Source{Origin: fact.Bytes, Structure: "MBR", Field: fmt.Sprintf("record %d length", e.Number),
					Offset: e.Offset + 12, Length: 4}, whole, e.Length,
					"The protective record covers %d sectors of %d.", e.Length, whole)
			}
		}
	}
	if g := l.GPT; g != nil && g.Primary.State == disk.CopyGood && g.Primary.Header.AlternateLBA != l.Sectors-1 {
		add(codeAlternate, fact.Source{Origin: fact.Bytes, Structure: "GPT header (primary)", Field: "AlternateLBA",
			Offset: int64(l.SectorSize) + 32, Length: 8}, l.Sectors-1, g.Primary.Header.AlternateLBA,
			"The primary names sector %d as the place of the backup; the disk ends at %d.", g.Primary.Header.AlternateLBA, l.Sectors-1)
	}
	return list
}
