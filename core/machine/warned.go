package machine

import "latchkey/core/disk"

// Warning is what the tool that listed a disk says of its tables, on a line of the listing.
type Warning struct {
	Code disk.ProblemCode
	Line int
}

var warnings = map[disk.ProblemCode]string{
	disk.CodeGPTPrimaryToldDamaged: "The tool that listed the partitions found the primary table damaged, and listed the backup.",
	disk.CodeGPTBackupToldDamaged:  "The tool that listed the partitions found the backup table damaged.",
	disk.CodeGPTBackupMisplaced:    "The tool that listed the partitions found the backup table not in the last sector: the disk is larger than the one that the table was written for.",
	disk.CodeMBRToldDamaged:        "The tool that listed the partitions found no valid MBR before the GPT: without a protective record, or without 55 AA, firmware may not look for the GPT.",
	disk.CodeMBRHybrid:             "The tool that listed the partitions found a hybrid MBR: ordinary records stand beside the protective one.",
}

// warn has the tables be as the tool that listed them says. One that finds a copy damaged goes by
// the other.
func (d *Described) warn(l *disk.Layout) {
	for _, w := range d.Warned {
		if _, said := l.Find(w.Code); said {
			continue
		}
		src := d.at(w.Line)
		l.Problems = append(l.Problems, disk.Problem{Code: w.Code, Text: warnings[w.Code], Source: src})
		switch w.Code {
		case disk.CodeGPTPrimaryToldDamaged:
			l.GPT.Primary.State = disk.CopyDamaged
		case disk.CodeGPTBackupToldDamaged:
			l.GPT.Backup.State = disk.CopyDamaged
		case disk.CodeGPTBackupMisplaced:
			l.GPT.Backup.State = disk.CopyAbsent
		case disk.CodeMBRToldDamaged:
			l.MBR = nil // which of the two it lacks is not told
		}
	}
	if !l.GPT.Told() { // it contradicts itself
		l.GPT.Primary.State, l.GPT.Backup.State = disk.CopyNotCaptured, disk.CopyNotCaptured
	}
}
