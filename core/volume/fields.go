package volume

import "latchkey/core/disk"

// fatFields names the bytes of a FAT boot sector. FAT specification 1.03,
// sections 3.1 to 3.3.
func fatFields(kind Kind) []disk.Field {
	fields := []disk.Field{
		{Name: "BS_jmpBoot", Offset: 0, Length: 3, Form: disk.Raw}, {Name: "BS_OEMName", Offset: 3, Length: 8,
			Form: disk.Text},
		{Name: "BPB_BytsPerSec", Offset: 11, Length: 2, Form: disk.Number}, {Name: "BPB_SecPerClus", Offset: 13, Length: 1,
			Form: disk.Number},
		{Name: "BPB_RsvdSecCnt", Offset: 14, Length: 2, Form: disk.Number}, {Name: "BPB_NumFATs", Offset: 16, Length: 1,
			Form: disk.Number},
		{Name: "BPB_RootEntCnt", Offset: 17, Length: 2, Form: disk.Number}, {Name: "BPB_TotSec16", Offset: 19, Length: 2,
			Form: disk.Number},
		{Name: "BPB_Media", Offset: 21, Length: 1, Form: disk.Number}, {Name: "BPB_FATSz16", Offset: 22, Length: 2,
			Form: disk.Number},
		{Name: "BPB_HiddSec", Offset: 28, Length: 4, Form: disk.Number}, {Name: "BPB_TotSec32", Offset: 32, Length: 4,
			Form: disk.Number},
	}
	if kind == KindFAT32 {
		return append(fields, disk.Field{Name: "BPB_FATSz32", Offset: 36, Length: 4, Form: disk.Number},
			disk.Field{Name: "BPB_RootClus", Offset: 44, Length: 4, Form: disk.Number},
			disk.Field{Name: "BS_VolID", Offset: 67, Length: 4, Form: disk.Hex},
			disk.Field{Name: "BS_VolLab", Offset: 71, Length: 11, Form: disk.Text}, disk.Field{Name: "BS_FilSysType",
				Offset: 82, Length: 8,
				Form: disk.Text},
			disk.Field{Name: "Signature_word", Offset: 510, Length: 2, Form: disk.Raw})
	}
	return append(fields, disk.Field{Name: "BS_VolID", Offset: 39, Length: 4, Form: disk.Hex},
		disk.Field{Name: "BS_VolLab", Offset: 43, Length: 11, Form: disk.Text},
		disk.Field{Name: "BS_FilSysType", Offset: 54, Length: 8, Form: disk.Text}, disk.Field{Name: "Signature_word",
			Offset: 510, Length: 2,
			Form: disk.Raw})
}

// ntfsFields names the bytes of an NTFS boot sector; see readNTFS.
func ntfsFields() []disk.Field {
	return []disk.Field{
		{Name: "jump", Offset: 0, Length: 3, Form: disk.Raw}, {Name: "OEM identifier", Offset: 3, Length: 8, Form: disk.Text},
		{Name: "bytes per sector", Offset: 11, Length: 2, Form: disk.Number}, {Name: "sectors per cluster", Offset: 13,
			Length: 1, Form: disk.Number},
		{Name: "hidden sectors", Offset: 28, Length: 4, Form: disk.Number}, {Name: "total sectors", Offset: 40, Length: 8,
			Form: disk.Number},
		{Name: "$MFT cluster", Offset: 48, Length: 8, Form: disk.Number}, {Name: "$MFTMirr cluster", Offset: 56, Length: 8,
			Form: disk.Number},
		{Name: "serial number", Offset: 72, Length: 8, Form: disk.Hex}, {Name: "signature", Offset: 510, Length: 2,
			Form: disk.Raw},
	}
}

// extFields names the bytes of an ext superblock. Linux kernel documentation,
// filesystems/ext4, "Super Block".
func extFields() []disk.Field {
	return []disk.Field{
		{Name: "s_inodes_count", Offset: 0, Length: 4, Form: disk.Number}, {Name: "s_blocks_count_lo", Offset: 4, Length: 4,
			Form: disk.Number},
		{Name: "s_free_blocks_count_lo", Offset: 0xC, Length: 4, Form: disk.Number}, {Name: "s_log_block_size",
			Offset: 0x18, Length: 4, Form: disk.Number},
		{Name: "s_magic", Offset: 0x38, Length: 2, Form: disk.Hex},
		{Name: "s_state", Offset: 0x3A, Length: 2, Form: disk.Number}, {Name: "s_feature_incompat", Offset: 0x60, Length: 4,
			Form: disk.Hex},
		{Name: "s_uuid", Offset: 0x68, Length: 16, Form: disk.Raw},
		{Name: "s_volume_name", Offset: 0x78, Length: 16, Form: disk.Text},
	}
}

// direntFields names the bytes of a FAT directory entry. FAT specification 1.03,
// section 6.
func direntFields() []disk.Field {
	return []disk.Field{
		{Name: "DIR_Name", Offset: 0, Length: 11, Form: disk.Text}, {Name: "DIR_Attr", Offset: 11, Length: 1, Form: disk.Hex},
		{Name: "DIR_FstClusHI", Offset: 20, Length: 2, Form: disk.Number}, {Name: "DIR_FstClusLO", Offset: 26, Length: 2,
			Form: disk.Number},
		{Name: "DIR_FileSize", Offset: 28, Length: 4, Form: disk.Number},
	}
}

// exfatFields names the bytes of an exFAT boot sector. exFAT file system
// specification 1.00, section 3.1.
func exfatFields() []disk.Field {
	return []disk.Field{
		{Name: "FileSystemName", Offset: 3, Length: 8, Form: disk.Text}, {Name: "PartitionOffset", Offset: 64, Length: 8,
			Form: disk.Number},
		{Name: "VolumeLength", Offset: 72, Length: 8, Form: disk.Number}, {Name: "VolumeSerialNumber", Offset: 100,
			Length: 4, Form: disk.Hex},
		{Name: "BootSignature", Offset: 510, Length: 2, Form: disk.Raw},
	}
}

// mftFields names the first bytes of a record of the master file table; ntfs-3g's
// layout.h.
func mftFields() []disk.Field {
	return []disk.Field{
		{Name: "magic", Offset: 0, Length: 4, Form: disk.Text}, {Name: "update sequence offset", Offset: 4, Length: 2,
			Form: disk.Number},
		{Name: "update sequence count", Offset: 6, Length: 2, Form: disk.Number}, {Name: "sequence number", Offset: 16,
			Length: 2, Form: disk.Number},
		{Name: "link count", Offset: 18, Length: 2, Form: disk.Number}, {Name: "first attribute", Offset: 20, Length: 2,
			Form: disk.Number},
		{Name: "flags", Offset: 22, Length: 2, Form: disk.Hex}, {Name: "bytes in use", Offset: 24, Length: 4,
			Form: disk.Number},
	}
}

// inodeFields names the bytes of an ext index node. Linux kernel documentation,
// filesystems/ext4, "Index Nodes".
func inodeFields() []disk.Field {
	return []disk.Field{
		{Name: "i_mode", Offset: 0, Length: 2, Form: disk.Hex}, {Name: "i_size_lo", Offset: 4, Length: 4, Form: disk.Number},
		{Name: "i_flags", Offset: 0x20, Length: 4, Form: disk.Hex}, {Name: "i_block", Offset: 0x28, Length: 60,
			Form: disk.Raw},
	}
}

// xfsInodeFields names the bytes of an index node of an XFS, which are big-endian. XFS Filesystem Structure, 3rd
// edition, "Inode Core".
func xfsInodeFields() []disk.Field {
	return []disk.Field{
		{Name: "di_magic", Offset: 0, Length: 2, Form: disk.Text}, {Name: "di_mode", Offset: 2, Length: 2, Form: disk.Raw},
		{Name: "di_version", Offset: 4, Length: 1, Form: disk.Number}, {Name: "di_format", Offset: 5, Length: 1, Form: disk.Number},
		{Name: "di_size", Offset: 56, Length: 8, Form: disk.Raw}, {Name: "di_nblocks", Offset: 64, Length: 8, Form: disk.Raw},
	}
}

// btrfsInodeFields names the bytes of an index node of a Btrfs. Linux' include/uapi/linux/btrfs_tree.h,
// btrfs_inode_item.
func btrfsInodeFields() []disk.Field {
	return []disk.Field{
		{Name: "generation", Offset: 0, Length: 8, Form: disk.Number}, {Name: "transid", Offset: 8, Length: 8, Form: disk.Number},
		{Name: "size", Offset: 16, Length: 8, Form: disk.Number}, {Name: "nbytes", Offset: 24, Length: 8, Form: disk.Number},
		{Name: "nlink", Offset: 40, Length: 4, Form: disk.Number}, {Name: "mode", Offset: 52, Length: 4, Form: disk.Hex},
		{Name: "flags", Offset: 64, Length: 8, Form: disk.Hex},
	}
}

func mark(structure string, offset, length int64, fields []disk.Field) []disk.Region {
	return []disk.Region{{Structure: structure, Offset: offset, Length: length, Fields: fields}}
}

// Regions lists the volume's structures at their places; base is the byte offset
// of the partition.
func (v *Volume) Regions(base int64) []disk.Region {
	regions := append([]disk.Region{}, v.marks...)
	for i := range regions {
		regions[i].Offset += base
	}
	return regions
}

// Region returns the structure that tells of the file; base is the byte offset of
// the partition.
func (f File) Region(base int64) disk.Region {
	fields := map[string]func() []disk.Field{direntRecord: direntFields, mftRecord: mftFields,
		inodeRecord: inodeFields, xfsInodeRecord: xfsInodeFields, btrfsInodeRecord: btrfsInodeFields}[f.Record]
	region := disk.Region{Structure: f.Record, Offset: base + f.Offset, Length: f.Length}
	if fields != nil {
		region.Fields = fields()
	}
	return region
}
