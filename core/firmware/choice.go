package firmware

import (
	"maps"

	"latchkey/core/fact"
)

// Choice is something that the standards leave to the firmware, with all that is said
// of it anywhere: descriptions, forms, questions and documentation go by these rows.
type Choice struct {
	Key      string // names it in descriptions and interfaces
	Label    string // what a firmware does whose choice is yes
	Means    string // the same at length
	Question string // asked when it decides
	How      string // how to find out, or to do without
}

// Choices lists every choice in the order of a form: what most machines are asked
// first. It is filled by the declarations below.
var Choices []*Choice

func choice(key, label, means, question, how string) *Choice {
	c := &Choice{key, label, means, question, how}
	Choices = append(Choices, c)
	return c
}

// ChoiceOf returns the choice of a key, nil for none.
func ChoiceOf(key string) *Choice {
	for _, c := range Choices {
		if c.Key == key {
			return c
		}
	}
	return nil
}

// The choices.
var (
	FallbackOnFixedDisks = choice("fallbackOnFixedDisks", "Tries the fallback loader on fixed disks",
		"the removable-media path is tried on fixed disks",
		"Does the firmware try the fallback loader on fixed disks?",
		"Start once with the clone alone and no boot entry for it. Most firmware made since 2012 does; the machine's handbook rarely says.")
	StartsFromNVMe = choice("startsFromNVMe", "Starts from NVMe drives",
		"the firmware has a driver for NVMe drives",
		"Does the firmware show a drive on NVMe in its boot list?",
		"In the firmware's setup, look for the drive's model under boot order, not only under the list of drives.")
	StartsFromUSB = choice("startsFromUSB", "Starts from USB drives",
		"the firmware starts from drives on USB",
		"Does the firmware show a drive on USB in its boot list?",
		"In the firmware's setup, look for the drive's model under boot order, not only under the list of drives.")
	UsesBackupGPT = choice("usesBackupGPT", "Uses the backup partition table",
		"the backup table is used when the primary is damaged",
		"Does the firmware use the backup partition table when the primary is damaged?",
		"The standard asks for it, some firmware does not. Restoring the primary from the backup settles it either way.")
	RestoresGPT = choice("restoresGPT", "Writes a damaged primary partition table anew",
		"a damaged primary table is written anew from the backup before anything is started",
		"Does the firmware write a damaged primary partition table anew from the backup before it starts anything?",
		"Some firmware does at power-on, and no handbook says so. Restoring the primary from the backup settles it either way.")
	ReadsMacVolumes = choice("readsMacVolumes", "Is a Mac: reads APFS and HFS+",
		"a Mac: APFS and HFS+ are read by the firmware itself, and the system is started that the start-up disk setting names",
		"Is the machine a Mac, whose firmware reads APFS and HFS+ itself?",
		"A Mac offers the disk when Option is held at power-on. Older ones know APFS only after a system update was run once.")
	StartsAnyFATPartition = choice("startsAnyFATPartition", "Starts from any FAT partition",
		"FAT partitions of other types than EFI system partition are started from",
		"Does the firmware start from a FAT partition that is not typed as EFI system partition?",
		"Much firmware does. Correcting the partition's type settles it either way.")
	EntryMatchesByGUIDAlone = choice("entryMatchesByGUIDAlone", "Finds a partition by its GUID though its number differs",
		"an entry finds a partition by its signature although its number in the table differs",
		"Does the firmware find a partition by its unique GUID, although its number in the table is another?",
		"Some firmware does. Writing the boot entry anew settles it either way.")
	EntryMatchesMoved = choice("entryMatchesMoved", "Finds a partition that was moved or resized",
		"an entry finds a partition although its start or size differ",
		"Does the firmware find a partition by its unique GUID, although it was moved or resized?",
		"Most firmware does. Writing the boot entry anew settles it either way.")
	EntryNamesExtended = choice("entryNamesExtended", "Finds a logical partition by the extended one's number",
		"an entry finds a logical partition by the number of the extended one that it lies in, and not by its own",
		"Does a boot entry find a logical partition by the number of the extended one that it lies in, and not by its own?",
		"Give the boot partition a primary place in the table, or go by the fallback loader: it no longer matters then.")
	LooksForPathAlone = choice("looksForPathAlone", "Looks on every drive for an entry that names a file alone",
		"an entry that names a program and no partition is looked for on every drive",
		"Does the firmware look on every drive for an entry that names a program and no partition?",
		"The standard asks for it, and some firmware does not. Writing the boot entry anew settles it either way.")
	NeedsProtectiveMBR = choice("needsProtectiveMBR", "Refuses a GPT without protective MBR",
		"a GPT without protective MBR is not recognised",
		"Does the firmware refuse a GPT that has no protective MBR?",
		"Writing a protective MBR settles it either way.")
	NeedsProtectiveSignature = choice("needsProtectiveSignature", "Refuses a protective MBR without 55 AA",
		"a protective MBR that does not end in 55 AA is none",
		"Does the firmware refuse a GPT whose protective MBR does not end in 55 AA?",
		"Writing a protective MBR settles it either way.")
	SkipsMisplacedPartitions = choice("skipsMisplacedPartitions", "Passes over misplaced partitions",
		"GPT partitions that overlap or lie outside the usable range are not there for the firmware",
		"Does the firmware pass over partitions that overlap or lie outside the usable range of the table?",
		"Correcting the table settles it either way.")
	RefusesInconsistentMBR = choice("refusesInconsistentMBR", "Refuses an inconsistent MBR",
		"an MBR with records that overlap or end beyond the disk is no table",
		"Does the firmware refuse an MBR whose partitions overlap or end beyond the disk?",
		"Correcting the table settles it either way.")
	ChecksChainAtFirst = choice("checksChainAtFirst", "Checks a chain of logical partitions at its first record",
		"of a chain of logical partitions the first record alone must be sound, and one without a partition, or with one that does not fit, ends it",
		"Does the firmware check only the first record of a chain of logical partitions, and end at one without a partition or with one that does not fit?",
		"Correcting the chain settles it either way.")
	StartsSmallFAT32 = choice("startsSmallFAT32", "Reads FAT32 volumes of too few clusters",
		"a FAT32 volume with fewer than 65,525 clusters is read",
		"Does the firmware read a FAT32 volume that has too few clusters for one?",
		"Some firmware does. Formatting the partition as FAT16, or making it larger, settles it either way.")
	ReadsUnsignedFAT = choice("readsUnsignedFAT", "Reads FAT volumes without 55 AA",
		"a FAT volume whose boot sector does not end in 55 AA is read",
		"Does the firmware read a FAT volume whose boot sector does not end in 55 AA?",
		"Some firmware does. Writing the boot sector anew settles it either way.")
	StartsLargeUSB = choice("startsLargeUSB", "Reads 4,096-byte sectors on USB",
		"a USB drive with sectors of 4,096 bytes is read",
		"Does the firmware read a USB drive with sectors of 4,096 bytes?",
		"Attach the drive to another bus, or in an enclosure that presents 512-byte sectors.")
	TriesNextDisk = choice("triesNextDisk", "Legacy: tries the next disk after a dead one",
		"legacy: when the first disk cannot be started the next one is tried",
		"Does the firmware try the next disk when the first one cannot be started?",
		"Some firmware tries every disk of its list, some the first alone. Putting the other disk first settles it either way.")
	RunsEmptyBootCode = choice("runsEmptyBootCode", "Legacy: runs an empty sector 0",
		"legacy: sector 0 is run for its signature alone, and an empty one hangs",
		"Does the firmware run sector 0 although it holds no code, and hang there?",
		"Put the other drive first in the boot order.")
	StartsLargeVirtio = choice("startsLargeVirtio", "Legacy: reads 4,096-byte sectors on virtio",
		"legacy: a virtio drive with sectors of 4,096 bytes is read",
		"Does the firmware read a virtio drive with sectors of 4,096 bytes?",
		"Attach the drive to another bus, or in an enclosure that presents 512-byte sectors.")
	StartsLargeSCSI = choice("startsLargeSCSI", "Legacy: reads 4,096-byte sectors on SCSI",
		"legacy: a SCSI drive with sectors of 4,096 bytes is read",
		"Does the firmware read a SCSI drive with sectors of 4,096 bytes in legacy mode?",
		"Attach the drive to another bus, or in an enclosure that presents 512-byte sectors.")
)

// Behaviour is what is known of a firmware's choices; the zero value knows nothing.
type Behaviour struct{ known map[*Choice]fact.Of[bool] }

// Of returns how a choice was made, which may be unknown.
func (b Behaviour) Of(c *Choice) fact.Of[bool] { return b.known[c] }

// With returns the behaviour with a choice settled, or unsettled; the receiver stays
// as it is.
func (b Behaviour) With(c *Choice, made fact.Of[bool]) Behaviour {
	known := maps.Clone(b.known)
	if known == nil {
		known = map[*Choice]fact.Of[bool]{}
	}
	known[c] = made
	return Behaviour{known}
}

// Tell returns the behaviour with the choices that a person tells of, by their keys;
// each wins over what was known. Keys of no choice are passed over.
func (b Behaviour) Tell(told map[string]bool) Behaviour {
	for key, made := range told {
		if c := ChoiceOf(key); c != nil {
			b = b.With(c, fact.Tell(made))
		}
	}
	return b
}

// behaviours are those of the general-purpose open-source firmware, as Debian 12's
// builds of them (2022.11, 1.16.2) were seen to do in QEMU: package truth starts
// machines in them.
var behaviours = map[string]map[*Choice]bool{
	"generic": {},
	"edk2": {
		FallbackOnFixedDisks: true, UsesBackupGPT: true, RestoresGPT: true, StartsAnyFATPartition: true,
		NeedsProtectiveMBR: true, NeedsProtectiveSignature: false, ReadsMacVolumes: false,
		EntryMatchesByGUIDAlone: false, EntryMatchesMoved: true, EntryNamesExtended: true, LooksForPathAlone: true,
		SkipsMisplacedPartitions: true,
		RefusesInconsistentMBR:   true, ChecksChainAtFirst: true,
		StartsSmallFAT32: false, ReadsUnsignedFAT: true, StartsLargeUSB: false,
		StartsFromNVMe: true, StartsFromUSB: true,
	},
	"seabios": {StartsFromNVMe: true, StartsFromUSB: true, TriesNextDisk: false, StartsLargeVirtio: false,
		StartsLargeSCSI: false, RunsEmptyBootCode: true},
}

// Named returns the behaviour of a firmware by name: "edk2", "seabios", or "generic",
// which knows nothing, as "" does.
func Named(name string) (Behaviour, bool) {
	var b Behaviour
	made, ok := behaviours[name]
	for c, v := range made {
		b = b.With(c, fact.Known(v, fact.Source{Origin: fact.Assumed, Structure: name}))
	}
	return b, ok || name == ""
}
