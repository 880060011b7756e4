package volume

import "latchkey/core/disk"

// fatFields names the bytes of a FAT boot sector. FAT specification 1.03,
// sections 3.1 to 3.3.
func fatFields(kind Kind) []disk.Field {
	fields := []disk.Field{
		{Name: "BS_jmpBoot", Offset: 0, Length: 3, Form: disk.Raw}, {Name: "BS_OEMName", Offset: 3, Length: 8, Form: disk.Text},
		{Name: "BPB_BytsPerSec", Offset: 11, Length: 2, Form: disk.Number}, {Name: "BPB_SecPerClus", Offset: 13, Length: 1, Form: disk.Number},
		{Name: "BPB_RsvdSecCnt", Offset: 14, Length: 2, Form: disk.Number}, {Name: "BPB_NumFATs", Offset: 16, Length: 1, Form: disk.Number},
		{Name: "BPB_RootEntCnt", Offset: 17, Length: 2, Form: disk.Number}, {Name: "BPB_TotSec16", Offset: 19, Length: 2, Form: disk.Number},
		{Name: "BPB_Media", Offset: 21, Length: 1, Form: disk.Number}, {Name: "BPB_FATSz16", Offset: 22, Length: 2, Form: disk.Number},
		{Name: "BPB_HiddSec", Offset: 28, Length: 4, Form: disk.Number}, {Name: "BPB_TotSec32", Offset: 32, Length: 4, Form: disk.Number},
	}
	if kind == FAT32 {
		return append(fields, disk.Field{Name: "BPB_FATSz32", Offset: 36, Length: 4, Form: disk.Number},
			disk.Field{Name: "BPB_RootClus", Offset: 44, Length: 4, Form: disk.Number}, disk.Field{Name: "BS_VolID", Offset: 67, Length: 4, Form: disk.Hex},
			disk.Field{Name: "BS_VolLab", Offset: 71, Length: 11, Form: disk.Text}, disk.Field{Name: "BS_FilSysType", Offset: 82, Length: 8, Form: disk.Text},
			disk.Field{Name: "Signature_word", Offset: 510, Length: 2, Form: disk.Raw})
	}
	return append(fields, disk.Field{Name: "BS_VolID", Offset: 39, Length: 4, Form: disk.Hex}, disk.Field{Name: "BS_VolLab", Offset: 43, Length: 11, Form: disk.Text},
		disk.Field{Name: "BS_FilSysType", Offset: 54, Length: 8, Form: disk.Text}, disk.Field{Name: "Signature_word", Offset: 510, Length: 2, Form: disk.Raw})
}

// ntfsFields names the bytes of an NTFS boot sector; see readNTFS.
func ntfsFields() []disk.Field {
	return []disk.Field{
		{Name: "jump", Offset: 0, Length: 3, Form: disk.Raw}, {Name: "OEM identifier", Offset: 3, Length: 8, Form: disk.Text},
		{Name: "bytes per sector", Offset: 11, Length: 2, Form: disk.Number}, {Name: "sectors per cluster", Offset: 13, Length: 1, Form: disk.Number},
		{Name: "hidden sectors", Offset: 28, Length: 4, Form: disk.Number}, {Name: "total sectors", Offset: 40, Length: 8, Form: disk.Number},
		{Name: "$MFT cluster", Offset: 48, Length: 8, Form: disk.Number}, {Name: "$MFTMirr cluster", Offset: 56, Length: 8, Form: disk.Number},
		{Name: "serial number", Offset: 72, Length: 8, Form: disk.Hex}, {Name: "signature", Offset: 510, Length: 2, Form: disk.Raw},
	}
}

// extFields names the bytes of an ext superblock; see readExt.
func extFields() []disk.Field {
	return []disk.Field{
		{Name: "s_inodes_count", Offset: 0, Length: 4, Form: disk.Number}, {Name: "s_blocks_count_lo", Offset: 4, Length: 4, Form: disk.Number},
		{Name: "s_log_block_size", Offset: 0x18, Length: 4, Form: disk.Number}, {Name: "s_magic", Offset: 0x38, Length: 2, Form: disk.Hex},
		{Name: "s_state", Offset: 0x3A, Length: 2, Form: disk.Number}, {Name: "s_uuid", Offset: 0x68, Length: 16, Form: disk.Raw},
		{Name: "s_volume_name", Offset: 0x78, Length: 16, Form: disk.Text},
	}
}

// direntFields names the bytes of a FAT directory entry. FAT specification 1.03,
// section 6.
func direntFields() []disk.Field {
	return []disk.Field{
		{Name: "DIR_Name", Offset: 0, Length: 11, Form: disk.Text}, {Name: "DIR_Attr", Offset: 11, Length: 1, Form: disk.Hex},
		{Name: "DIR_FstClusHI", Offset: 20, Length: 2, Form: disk.Number}, {Name: "DIR_FstClusLO", Offset: 26, Length: 2, Form: disk.Number},
		{Name: "DIR_FileSize", Offset: 28, Length: 4, Form: disk.Number},
	}
}

// Regions lists the volume's structures at their places; base is the byte offset
// of the partition.
func (v *Volume) Regions(base int64) []disk.Region {
	switch v.Kind {
	case FAT12, FAT16, FAT32:
		return []disk.Region{{Structure: "FAT boot sector", Offset: base, Length: 512, Fields: fatFields(v.Kind)}}
	case NTFS:
		return []disk.Region{{Structure: "NTFS boot sector", Offset: base, Length: 512, Fields: ntfsFields()}}
	case Ext:
		return []disk.Region{{Structure: "ext superblock", Offset: base + 1024, Length: 1024, Fields: extFields()}}
	}
	return nil
}

// Region returns the file's directory entry; base is the byte offset of the
// partition.
func (f File) Region(base int64) disk.Region {
	return disk.Region{Structure: "FAT directory entry", Offset: base + f.Offset, Length: direntLen, Fields: direntFields()}
}
