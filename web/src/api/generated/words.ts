// Made by make openapi of the tables of the rules: do not edit.

/** The stages of a start, in order, with their names. */
export const stages = [
  [
    "drive",
    "Drive"
  ],
  [
    "mode",
    "Mode"
  ],
  [
    "order",
    "Order"
  ],
  [
    "table",
    "Table"
  ],
  [
    "boot-partition",
    "Boot partition"
  ],
  [
    "loader",
    "Loader"
  ],
  [
    "configuration",
    "Configuration"
  ],
  [
    "system",
    "System"
  ]
] as const;

/** What a risk means. */
export const riskWord = {
  "low": "only what starts the system changes",
  "none": "nothing on a disk changes",
  "real": "a risk to the data: save it first"
} as const;

/** What the standards leave to a firmware, in the order of a form. */
export const choices = [
  {
    "how": "Start once with the clone alone and no boot entry for it. Most firmware made since 2012 does; the machine's handbook rarely says.",
    "key": "fallbackOnFixedDisks",
    "label": "Tries the fallback loader on fixed disks"
  },
  {
    "how": "In the firmware's setup, look for the drive's model under boot order, not only under the list of drives.",
    "key": "startsFromNVMe",
    "label": "Starts from NVMe drives"
  },
  {
    "how": "In the firmware's setup, look for the drive's model under boot order, not only under the list of drives.",
    "key": "startsFromUSB",
    "label": "Starts from USB drives"
  },
  {
    "how": "The standard asks for it, some firmware does not. Restoring the primary from the backup settles it either way.",
    "key": "usesBackupGPT",
    "label": "Uses the backup partition table"
  },
  {
    "how": "Some firmware does at power-on, and no handbook says so. Restoring the primary from the backup settles it either way.",
    "key": "restoresGPT",
    "label": "Writes a damaged primary partition table anew"
  },
  {
    "how": "A Mac offers the disk when Option is held at power-on. Older ones know APFS only after a system update was run once.",
    "key": "readsMacVolumes",
    "label": "Is a Mac: reads APFS and HFS+"
  },
  {
    "how": "Much firmware does. Correcting the partition's type settles it either way.",
    "key": "startsAnyFATPartition",
    "label": "Starts from any FAT partition"
  },
  {
    "how": "Some firmware does. Writing the boot entry anew settles it either way.",
    "key": "entryMatchesByGUIDAlone",
    "label": "Finds a partition by its GUID though its number differs"
  },
  {
    "how": "Most firmware does. Writing the boot entry anew settles it either way.",
    "key": "entryMatchesMoved",
    "label": "Finds a partition that was moved or resized"
  },
  {
    "how": "Give the boot partition a primary place in the table, or go by the fallback loader: it no longer matters then.",
    "key": "entryNamesExtended",
    "label": "Finds a logical partition by the extended one's number"
  },
  {
    "how": "The standard asks for it, and some firmware does not. Writing the boot entry anew settles it either way.",
    "key": "looksForPathAlone",
    "label": "Looks on every drive for an entry that names a file alone"
  },
  {
    "how": "Writing a protective MBR settles it either way.",
    "key": "needsProtectiveMBR",
    "label": "Refuses a GPT without protective MBR"
  },
  {
    "how": "Writing a protective MBR settles it either way.",
    "key": "needsProtectiveSignature",
    "label": "Refuses a protective MBR without 55 AA"
  },
  {
    "how": "Correcting the table settles it either way.",
    "key": "skipsMisplacedPartitions",
    "label": "Passes over misplaced partitions"
  },
  {
    "how": "Correcting the table settles it either way.",
    "key": "refusesInconsistentMBR",
    "label": "Refuses an inconsistent MBR"
  },
  {
    "how": "Correcting the chain settles it either way.",
    "key": "checksChainAtFirst",
    "label": "Checks a chain of logical partitions at its first record"
  },
  {
    "how": "Some firmware does. Formatting the partition as FAT16, or making it larger, settles it either way.",
    "key": "startsSmallFAT32",
    "label": "Reads FAT32 volumes of too few clusters"
  },
  {
    "how": "Some firmware does. Writing the boot sector anew settles it either way.",
    "key": "readsUnsignedFAT",
    "label": "Reads FAT volumes without 55 AA"
  },
  {
    "how": "Attach the drive to another bus, or in an enclosure that presents 512-byte sectors.",
    "key": "startsLargeUSB",
    "label": "Reads 4,096-byte sectors on USB"
  },
  {
    "how": "Some firmware tries every disk of its list, some the first alone. Putting the other disk first settles it either way.",
    "key": "triesNextDisk",
    "label": "Legacy: tries the next disk after a dead one"
  },
  {
    "how": "Put the other drive first in the boot order.",
    "key": "runsEmptyBootCode",
    "label": "Legacy: runs an empty sector 0"
  },
  {
    "how": "Attach the drive to another bus, or in an enclosure that presents 512-byte sectors.",
    "key": "startsLargeVirtio",
    "label": "Legacy: reads 4,096-byte sectors on virtio"
  },
  {
    "how": "Attach the drive to another bus, or in an enclosure that presents 512-byte sectors.",
    "key": "startsLargeSCSI",
    "label": "Legacy: reads 4,096-byte sectors on SCSI"
  }
] as const;
