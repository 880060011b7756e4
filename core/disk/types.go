package disk

import (
	"cmp"
	"fmt"
	"slices"
)

// Role is what a partition does in the start of a machine, whatever its file
// system.
type Role string

// The roles, in the order in which they matter to a start.
const (
	RoleBoot     Role = "boot"     // the firmware or its boot code looks here
	RoleSystem   Role = "system"   // an operating system may live here
	RoleReserved Role = "reserved" // kept for the system's own bookkeeping
	RoleRecovery Role = "recovery" // recovery environment or tools
	RoleData     Role = "data"     // swap, volumes of other kinds
	RoleOther    Role = "other"    // none that a start begins on; which, is not told
	RoleUnknown  Role = "unknown"  // not told
)

// KnownType names a partition type and its role.
type KnownType struct {
	Name string
	Role Role
}

// Partition type GUIDs that decide a start.
var (
	TypeESP        = MustGUID("C12A7328-F81F-11D2-BA4B-00A0C93EC93B") // UEFI 2.10, table 5.7
	TypeMSReserved = MustGUID("E3C9E316-0B5C-4DB8-817D-F92DF00215AE")
	TypeBasicData  = MustGUID("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7")
	TypeWinRE      = MustGUID("DE94BBA4-06D1-4D40-A16A-BFD50179D6AC")
	TypeBIOSBoot   = MustGUID("21686148-6449-6E6F-744E-656564454649") // GRUB manual, "BIOS installation"
	typeDynamic    = MustGUID("AF9B60A0-1431-4F62-BC68-3311714A69AD")
	TypeLinuxData  = MustGUID("0FC63DAF-8483-4772-8E79-3D69D8477DE4")
	TypeHFS        = MustGUID("48465300-0000-11AA-AA11-00306543ECAC")
	TypeAPFS       = MustGUID("7C3457EF-0000-11AA-AA11-00306543ECAC")
)

// gptTypes names type GUIDs. The EFI ones are of the UEFI Specification 2.10,
// table 5.7; the Windows ones of its maker's PARTITION_INFORMATION_GPT page; the
// Linux ones of the UAPI Discoverable Partitions Specification; the Mac ones of
// its maker's technical note TN2166 and, for APFS, its file system reference.
var gptTypes = map[GUID]KnownType{
	TypeESP:        {"EFI system partition", RoleBoot},
	TypeMSReserved: {"Microsoft reserved", RoleReserved},
	TypeBasicData:  {"Basic data", RoleSystem},
	TypeWinRE:      {"Windows recovery environment", RoleRecovery},
	TypeBIOSBoot:   {"BIOS boot partition", RoleBoot},
	TypeLinuxData:  {"Linux file system", RoleSystem},
	MustGUID("024DEE41-33E7-11D3-9D69-0008C781F39F"): {"MBR partition scheme", RoleReserved},
	MustGUID("5808C8AA-7E8F-42E0-85D2-E1E90434CFB3"): {"Windows dynamic disk database", RoleReserved},
	typeDynamic: {"Windows dynamic disk data", RoleSystem},
	MustGUID("E75CAF8F-F680-4CEE-AFA3-B001E56EFC2D"): {"Windows storage pool", RoleData},
	MustGUID("4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709"): {"Linux root (x86-64)", RoleSystem},
	MustGUID("44479540-F297-41B2-9AF7-D131D5F0458A"): {"Linux root (x86)", RoleSystem},
	MustGUID("B921B045-1DF0-41C3-AF44-4C6F280D3FAE"): {"Linux root (ARM 64-bit)", RoleSystem},
	MustGUID("BC13C2FF-59E6-4262-A352-B275FD6F7172"): {"Linux extended boot", RoleBoot},
	MustGUID("933AC7E1-2EB4-4F13-B844-0E14E2AEF915"): {"Linux home", RoleData},
	MustGUID("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F"): {"Linux swap", RoleData},
	MustGUID("E6D6D379-F507-44C2-A23C-238F2A3DF928"): {"Linux LVM", RoleSystem},
	MustGUID("A19D880F-05FC-4D3B-A006-743F0F84911E"): {"Linux RAID", RoleSystem},
	MustGUID("CA7D7CCB-63ED-4C53-861C-1742536059CC"): {"Linux LUKS", RoleSystem},
	TypeHFS:  {"HFS+", RoleSystem},
	TypeAPFS: {"APFS container", RoleSystem},
	MustGUID("426F6F74-0000-11AA-AA11-00306543ECAC"): {"Mac boot partition", RoleRecovery},
}

// GPTType names a partition type GUID.
func GPTType(g GUID) KnownType {
	if t, ok := gptTypes[g]; ok {
		return t
	}
	return KnownType{"Type " + g.String(), RoleData}
}

// MBR partition types that decide a start. UEFI Specification 2.10, section
// 5.2.2 defines 0xEE and 0xEF; the others are common practice, no source.
const (
	MBRTypeProtective byte = 0xEE
	MBRTypeESP        byte = 0xEF
	mbrTypeDynamic    byte = 0x42
)

var mbrTypes = map[byte]KnownType{
	0x01: {"FAT12", RoleSystem}, 0x04: {"FAT16 under 32 MB", RoleSystem},
	0x05: {"Extended", RoleReserved}, 0x06: {"FAT16", RoleSystem},
	0x07: {"NTFS or exFAT", RoleSystem}, 0x0B: {"FAT32", RoleSystem},
	0x0C: {"FAT32 (LBA)", RoleSystem}, 0x0E: {"FAT16 (LBA)", RoleSystem},
	0x0F: {"Extended (LBA)", RoleReserved}, 0x11: {"Hidden FAT12", RoleData},
	0x12: {"Service partition", RoleRecovery}, 0x14: {"Hidden FAT16 under 32 MB", RoleData},
	0x16: {"Hidden FAT16", RoleData}, 0x17: {"Hidden NTFS", RoleRecovery},
	0x1B: {"Hidden FAT32", RoleData}, 0x1C: {"Hidden FAT32 (LBA)", RoleData},
	0x1E: {"Hidden FAT16 (LBA)", RoleData}, 0x27: {"Windows recovery environment", RoleRecovery},
	mbrTypeDynamic: {"Windows dynamic disk", RoleSystem}, 0x82: {"Linux swap", RoleData},
	0x83: {"Linux file system", RoleSystem}, 0x85: {"Linux extended", RoleReserved},
	0x8E: {"Linux LVM", RoleSystem}, 0xAF: {"HFS+", RoleSystem},
	MBRTypeProtective: {"GPT protective", RoleReserved}, MBRTypeESP: {"EFI system partition", RoleBoot},
	0xFD: {"Linux RAID", RoleSystem},
}

// MBRType names a partition type byte.
func MBRType(b byte) KnownType {
	if t, ok := mbrTypes[b]; ok {
		return t
	}
	return KnownType{fmt.Sprintf("Type 0x%02X", b), RoleData}
}

func isExtended(t byte) bool { return t == 0x05 || t == 0x0F || t == extendedLinux }

// extendedLinux is an extended partition to Linux alone: edk2 follows no link of that type, from
// memory.
const extendedLinux = 0x85

// TypeRow is a partition type as a table lists it.
type TypeRow struct {
	Code string `json:"code"` // type GUID of a GPT entry, or two hexadecimal digits of an MBR record
	Name string `json:"name"`
	Role Role   `json:"role"`
}

// Types lists the known partition types: those of MBR records, then those of GPT
// entries, each by name.
func Types() []TypeRow {
	var mbr, gpt []TypeRow
	for b, t := range mbrTypes {
		mbr = append(mbr, TypeRow{fmt.Sprintf("%02X", b), t.Name, t.Role})
	}
	for g, t := range gptTypes {
		gpt = append(gpt, TypeRow{g.String(), t.Name, t.Role})
	}
	byName := func(a, b TypeRow) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Code, b.Code)) }
	slices.SortFunc(mbr, byName)
	slices.SortFunc(gpt, byName)
	return append(mbr, gpt...)
}
