package disk

// The layout of a GPT, which reader, checks and byte view share.

// The fields of a header. UEFI Specification 2.10, table 5.5.
var (
	headerSignature    = Field{"Signature", 0, 8, Text}
	headerRevision     = Field{"Revision", 8, 4, Hex}
	headerSize         = Field{"HeaderSize", 12, 4, Number}
	headerCRC32        = Field{"HeaderCRC32", 16, 4, Hex}
	headerReserved     = Field{"Reserved", 20, 4, Raw}
	headerMyLBA        = Field{"MyLBA", 24, 8, Number}
	headerAlternateLBA = Field{"AlternateLBA", 32, 8, Number}
	headerFirstUsable  = Field{"FirstUsableLBA", 40, 8, Number}
	headerLastUsable   = Field{"LastUsableLBA", 48, 8, Number}
	headerDiskGUID     = Field{"DiskGUID", 56, 16, UUID}
	headerArrayLBA     = Field{"PartitionEntryLBA", 72, 8, Number}
	headerArrayEntries = Field{"NumberOfPartitionEntries", 80, 4, Number}
	headerArrayStep    = Field{"SizeOfPartitionEntry", 84, 4, Number}
	headerArrayCRC32   = Field{"PartitionEntryArrayCRC32", 88, 4, Hex}
	gptHeaderFields    = []Field{headerSignature, headerRevision, headerSize, headerCRC32, headerReserved,
		headerMyLBA, headerAlternateLBA,
		headerFirstUsable, headerLastUsable, headerDiskGUID, headerArrayLBA, headerArrayEntries, headerArrayStep,
		headerArrayCRC32}
)

// The fields of an entry. UEFI Specification 2.10, table 5.6.
var (
	entryType       = Field{"PartitionTypeGUID", 0, 16, UUID}
	entryGUID       = Field{"UniquePartitionGUID", 16, 16, UUID}
	entryFirst      = Field{"StartingLBA", 32, 8, Number}
	entryLast       = Field{"EndingLBA", 40, 8, Number}
	entryAttributes = Field{"Attributes", 48, 8, Hex}
	entryName       = Field{"PartitionName", 56, 72, Wide}
	gptEntryFields  = []Field{entryType, entryGUID, entryFirst, entryLast, entryAttributes, entryName}
)
