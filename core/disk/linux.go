package disk

// UsualEntry is how many bytes an entry takes in the tables that tools write.
const UsualEntry = gptEntryLen

// RefusedByLinux is what keeps Linux from taking the partitions of a table that firmware and boot
// loaders may go by. Linux 6.1, block/partitions/efi.c (is_gpt_valid, is_pmbr_valid) and msdos.c
// (msdos_partition). Whether the primary copy of a GPT is damaged is another matter: Linux does not go
// by the backup, and firmware may have written the primary anew before.
func (l *Layout) RefusedByLinux() (p Problem, refused bool) {
	switch {
	case l.Style == StyleGPT && l.GPT != nil:
		return l.gptRefused()
	case l.Style == StyleMBR && l.MBR != nil:
		return l.mbrRefused()
	}
	return Problem{}, false
}

// NoneForTools is RefusedByLinux but for a GPT that lacks a sound protective record alone, which some of
// the tools read: the others see no table at all where it holds. blkid(8), sfdisk(8), as they are seen
// to do.
func (l *Layout) NoneForTools() (p Problem, none bool) {
	p, none = l.RefusedByLinux()
	guard := p.Code == CodeGPTUnprotected || p.Code == CodeGPTProtectiveUnsigned
	return p, none && !(guard && l.Style == StyleGPT)
}

func (l *Layout) gptRefused() (p Problem, refused bool) {
	for _, code := range []ProblemCode{CodeGPTUnprotected, CodeGPTProtectiveUnsigned, CodeGPTLargerDisk} {
		if p, found := l.Find(code); found {
			return p, true
		}
	}
	use := l.GPT.Valid()
	if use == nil || l.GPT.Told() {
		return p, false
	}
	switch h := use.Header; {
	case h.LastUsableLBA < h.FirstUsableLBA:
		return problem(CodeGPTEntryOutside, use.field(headerLastUsable, l.SectorSize),
			"The last usable sector of the table, %d, comes before its first, %d.", h.LastUsableLBA, h.FirstUsableLBA), true
	case h.SizeOfPartitionEntry != gptEntryLen:
		return problem(CodeGPTEntrySize, use.field(headerArrayStep, l.SectorSize), "Each entry of the table takes %d bytes.",
			h.SizeOfPartitionEntry).wanted(gptEntryLen, h.SizeOfPartitionEntry), true
	}
	return p, false
}

func (l *Layout) mbrRefused() (p Problem, refused bool) {
	for _, e := range l.MBR.Entries {
		switch {
		case e.Status&0x7F != 0:
			return problem(CodeMBRStatus, at("MBR", "record status", e.Offset, 1), "Record %d has status 0x%02X.",
				e.Number, e.Status).wanted("80 or 00", e.Status), true
		case e.Type == MBRTypeProtective:
			return problem(CodeGPTUnprotected, at("MBR", "record type", e.Offset+4, 1),
				"Record %d is of type EE, by which a table stands for a GPT, and no sound GPT stands beside it.", e.Number), true
		}
	}
	return p, false
}
