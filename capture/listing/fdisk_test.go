package listing_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
)

// A drive whose physical sectors are larger than its logical ones: its units of transfer stand
// in a line that looks like that of its sectors. Forms of util-linux 2.38 and, with blocks in
// the place of sectors, of 2.20; from memory.
func TestPhysicalSectorsAreNoUnitOfPlaces(t *testing.T) {
	head := "Disk /dev/sda: 931.51 GiB, 1000204886016 bytes, 1953525168 sectors\nDisk model: Corvane S210\nUnits: sectors of 1 * 512 = 512 bytes\n" +
		"Sector size (logical/physical): 512 bytes / 4096 bytes\nI/O size (minimum/optimal): 4096 bytes / 33553920 bytes\n"
	l := read(t, head+"Disklabel type: gpt\nDisk identifier: 0F0A3C0E-7B2D-4F0E-9C11-7B3C6A6E0001\n\n"+
		"Device       Start        End    Sectors   Size Type\n/dev/sda1     2048    1050623    1048576   512M EFI System\n")
	d := l.Disks[0]
	assert.Equal(t, 512, d.SectorSize)
	assert.EqualValues(t, 1<<20, d.Partitions[0].Start)
	assert.EqualValues(t, 512<<20, d.Partitions[0].Length)

	l = read(t,
		"\nDisk /dev/sda: 500.1 GB, 500107862016 bytes\n255 heads, 63 sectors/track, 60801 cylinders, total 976773168 sectors\nUnits = sectors of 1 * 512 = 512 bytes\n"+
			"Sector size (logical/physical): 512 bytes / 4096 bytes\nI/O size (minimum/optimal): 4096 bytes / 4096 bytes\nDisk identifier: 0x0009c0de\n\n"+
			"   Device Boot      Start         End      Blocks   Id  System\n/dev/sda1   *        2048      206847      102400    7  HPFS/NTFS/exFAT\n"+
			"/dev/sda2          206848   976771071   488282112   83  Linux\n/dev/sda3       976771072   976773119        1024+   c  W95 FAT32 (LBA)\n")
	d = l.Disks[0]
	require.Len(t, d.Partitions, 3)
	assert.EqualValues(t, 500107862016, d.Size)
	var got []any
	for _, p := range d.Partitions {
		got = append(got, p.Start/512, p.Length/512, p.MBRType)
	}
	assert.Equal(t, []any{int64(2048), int64(204800), byte(7), int64(206848), int64(976564224), byte(0x83),
		int64(976771072), int64(2048), byte(0xC)}, got)
	active, told := d.Partitions[0].Active.Get()
	assert.True(t, active && told)

	l = read(t,
		"Disk /dev/sda: 256 MB, 268435456 bytes, 524288 sectors\n522 cylinders, 255 heads, 63 sectors/track\nUnits: sectors of 1 * 512 = 512 bytes\n\n"+
			"Device  Boot StartCHS    EndCHS        StartLBA     EndLBA    Sectors  Size Id Type\n/dev/sda1 *  0,32,33     12,223,19         2048     206847     204800  100M  7 HPFS/NTFS\n")
	d = l.Disks[0]
	assert.Equal(t, disk.StyleMBR, d.Style)
	assert.Equal(t, []any{int64(2048), int64(204800), byte(7)}, []any{d.Partitions[0].Start / 512,
		d.Partitions[0].Length / 512, d.Partitions[0].MBRType})

	l = read(t,
		"Disk /dev/sda: 500.1 GB, 500107862016 bytes\nDisk identifier: 0x00000000\n   Device Boot      Start         End      Blocks   Id  System\n"+
			"/dev/sda1               1   976773167   488386583+  ee  GPT\n")
	d = l.Disks[0]
	assert.Equal(t, disk.StyleGPT, d.Style)
	assert.Empty(t, d.Partitions)
	assert.False(t, d.Whole)

	l = read(t,
		"Number  Start (sector)    End (sector)  Size       Code  Name\n   1            2048         1050623   512.0 MiB   EF00  EFI\n"+
			"Disk /dev/sdb: 1953525168 sectors, 931.5 GiB\nSector size (logical/physical): 512/4096 bytes\n")
	assert.NotEqual(t, 4096, l.Disks[0].SectorSize)
}

// What the kernel calls the partitions by tells the style and an MBR's signature, in lsblk as in
// blkid.
func TestThePartitionsOwnNamesTellTheStyle(t *testing.T) {
	l := read(t,
		"NAME   FSTYPE PARTUUID                             SIZE\nsda                                              119.2G\n├─sda1 vfat   5c1b6a1e-0000-4c4c-8c8c-000000000001 100M\n└─sda2 ntfs   5c1b6a1e-0000-4c4c-8c8c-000000000002 119G\n")
	assert.Equal(t, disk.StyleGPT, l.Disks[0].Style)
	assert.Equal(t, "5C1B6A1E-0000-4C4C-8C8C-000000000002", l.Disks[0].Partitions[1].GUID.String())
	l = read(t,
		"NAME   FSTYPE PARTUUID    SIZE\nsda                     119.2G\n├─sda1 ntfs   1a2b3c4d-01 100M\n└─sda2 ntfs   1a2b3c4d-02 119G\n")
	assert.Equal(t, disk.StyleMBR, l.Disks[0].Style)
	assert.Equal(t, "1A2B3C4D", strings.ToUpper(l.Disks[0].ID))
}

// A GUID that a window cut off is no signature of an MBR, at whatever sign it was cut.
func TestACutNameOfAPartitionTellsNothing(t *testing.T) {
	const guid = "5c1b6a1e-0100-4c4c-8c8c-000000000001"
	for n := range len(guid) {
		text := "NAME   PARTUUID                             FSTYPE SIZE\nsda                                                119.2G\n" +
			fmt.Sprintf("└─sda2 %-36s vfat   100M\n", guid[:n])
		assert.NotEqual(t, disk.StyleMBR, read(t, text).Disks[0].Style, guid[:n])
	}
}

// Cylinders, as fdisk told places by default up to util-linux 2.16, are no sectors. From memory.
func TestPlacesInCylindersAreNotTaken(t *testing.T) {
	l := read(t,
		"Disk /dev/sda: 80.0 GB, 80026361856 bytes\n255 heads, 63 sectors/track, 9729 cylinders\nUnits = cylinders of 16065 * 512 = 8225280 bytes\n\n"+
			"   Device Boot      Start         End      Blocks   Id  System\n/dev/sda1   *           1          13      104391   83  Linux\n")
	for _, p := range l.Disks[0].Partitions {
		assert.EqualValues(t, -1, p.Start, "its place is not known")
		assert.Zero(t, p.Length)
	}
}
