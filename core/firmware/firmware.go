// Package firmware holds what is known of a machine's firmware: its settings,
// its boot entries, and the choices that the standards leave to it.
package firmware

import "latchkey/core/fact"

// Mode is how the firmware starts an operating system.
type Mode string

// The firmware modes.
const (
	UEFI    Mode = "uefi"
	Legacy  Mode = "legacy"
	UEFICSM Mode = "uefi-csm" // UEFI with compatibility support: both kinds of start
)

// Arch is the architecture the firmware runs programs of.
type Arch string

// The architectures.
const (
	X64   Arch = "x64"
	IA32  Arch = "ia32"
	ARM64 Arch = "arm64"
)

// Settings are what the firmware's screens tell, each perhaps unknown.
type Settings struct {
	Mode       fact.Of[Mode]
	Arch       fact.Of[Arch]
	SecureBoot fact.Of[bool]
	// StorageMode is how the storage controller works now, StorageModeBefore how it
	// worked when the system last ran: "ahci" or "raid".
	StorageMode       fact.Of[string]
	StorageModeBefore fact.Of[string]
	Behaviour         Behaviour
	Entries           *Entries // nil when nothing is known of the boot entries
}

// Behaviour names the choices that the standards leave to the firmware.
type Behaviour struct {
	// FallbackOnFixedDisks: the removable-media path is tried on fixed disks.
	FallbackOnFixedDisks fact.Of[bool]
	// UsesBackupGPT: a damaged primary table is replaced by the backup.
	UsesBackupGPT fact.Of[bool]
	// StartsAnyFATPartition: a FAT partition of another type than EFI system
	// partition is started from.
	StartsAnyFATPartition fact.Of[bool]
	// NeedsProtectiveMBR: a GPT without a protective MBR is not recognised.
	NeedsProtectiveMBR fact.Of[bool]
	// NeedsProtectiveSignature: a protective MBR that does not end in 55 AA is none.
	NeedsProtectiveSignature fact.Of[bool]
	// EntryMatchesByGUIDAlone: an entry finds its partition by its signature even
	// when its number in the table differs.
	EntryMatchesByGUIDAlone fact.Of[bool]
	// EntryMatchesMoved: an entry finds its partition even when its start or size
	// differ.
	EntryMatchesMoved fact.Of[bool]
	// SkipsMisplacedPartitions: GPT partitions that overlap or lie outside the
	// usable range are not there for the firmware.
	SkipsMisplacedPartitions fact.Of[bool]
	// RefusesInconsistentMBR: an MBR with a record that overlaps another one or
	// ends beyond the disk is no table for the firmware.
	RefusesInconsistentMBR fact.Of[bool]
	// StartsSmallFAT32: a FAT32 volume with fewer clusters than the FAT
	// specification asks for is read.
	StartsSmallFAT32 fact.Of[bool]
	// ReadsUnsignedFAT: a FAT volume whose boot sector does not end in 55 AA is read.
	ReadsUnsignedFAT fact.Of[bool]
	// StartsFromNVMe and StartsFromUSB: the firmware has a driver for the bus.
	StartsFromNVMe fact.Of[bool]
	StartsFromUSB  fact.Of[bool]
	// ReadsMacVolumes: the firmware has drivers of its own for APFS and HFS+, and
	// starts the system that the start-up disk setting names, as a Mac's does.
	ReadsMacVolumes fact.Of[bool]
	// TriesNextDisk: when the first disk of a legacy order cannot be started, the
	// next one is tried.
	TriesNextDisk fact.Of[bool]
	// StartsLargeUSB and StartsLargeVirtio: a drive with sectors of 4,096 bytes is
	// read on the bus, by UEFI firmware and by legacy firmware.
	StartsLargeUSB    fact.Of[bool]
	StartsLargeVirtio fact.Of[bool]
	// RunsEmptyBootCode: legacy firmware runs sector 0 for its signature alone,
	// even when it holds no code, and hangs there.
	RunsEmptyBootCode fact.Of[bool]
}

// Named returns the behaviour of a firmware by name. "generic" knows nothing;
// "edk2" and "seabios" are those of the general-purpose open-source firmware, as
// Debian 12's builds of them (2022.11, 1.16.2) were seen to do in QEMU: package
// truth starts machines in them.
func Named(name string) (Behaviour, bool) {
	set := func(v bool) fact.Of[bool] { return fact.Known(v, fact.Source{Origin: fact.Assumed, Structure: name}) }
	switch name {
	case "generic", "":
		return Behaviour{}, true
	case "edk2":
		return Behaviour{
			FallbackOnFixedDisks: set(true), UsesBackupGPT: set(true), StartsAnyFATPartition: set(true),
			NeedsProtectiveMBR: set(true), NeedsProtectiveSignature: set(false), ReadsMacVolumes: set(false),
			EntryMatchesByGUIDAlone: set(false), EntryMatchesMoved: set(true), SkipsMisplacedPartitions: set(true),
			RefusesInconsistentMBR: set(true), StartsSmallFAT32: set(false), ReadsUnsignedFAT: set(true), StartsLargeUSB: set(false), StartsFromNVMe: set(true), StartsFromUSB: set(true),
		}, true
	case "seabios":
		return Behaviour{StartsFromNVMe: set(true), StartsFromUSB: set(true), TriesNextDisk: set(false), StartsLargeVirtio: set(false), RunsEmptyBootCode: set(true)}, true
	}
	return Behaviour{}, false
}
