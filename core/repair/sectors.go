package repair

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// espMiB is the size of a new EFI system partition: FAT32 on 4,096-byte sectors
// wants about 260 MB; common practice.
const espMiB = 300

func savedFirst(saves []Sectors) string {
	if len(saves) == 0 {
		return "Nothing: no sector of the disk's tables is overwritten."
	}
	var runs []string
	for _, r := range saves {
		if r.Count == 1 {
			runs = append(runs, fmt.Sprint("sector ", r.First))
		} else {
			runs = append(runs, fmt.Sprintf("sectors %d to %d", r.First, r.First+r.Count-1))
		}
	}
	text := strings.Join(runs, ", ")
	return strings.ToUpper(text[:1]) + text[1:] + ": the commands do so."
}

// tableSectors are the sectors of a disk's partition tables: the GPT at both
// ends, or sector 0.
func tableSectors(c *machine.Contents) []Sectors {
	if c.Layout.Style != disk.StyleGPT {
		return []Sectors{{0, 1}}
	}
	entries := uint64(0)
	if g := c.Layout.GPT.Valid(); g != nil {
		entries = uint64(g.Header.NumberOfPartitionEntries) * uint64(g.Header.SizeOfPartitionEntry)
	}
	return gptSectors(c, entries)
}

// gptSectors are what a GPT takes at both ends of a disk, by the bytes of its
// entries: at least 16,384. UEFI Specification 2.10, section 5.3.1.
func gptSectors(c *machine.Contents, entries uint64) []Sectors {
	entries = max(entries, 16384)
	table := 1 + (entries+uint64(c.Layout.SectorSize)-1)/uint64(c.Layout.SectorSize) // with the header
	return []Sectors{{0, 1 + table}, {c.Layout.Sectors - table, table}}
}

// bootSectors are the first sectors of a partition, which its file system's boot
// code takes: eight kibibytes.
func bootSectors(c *machine.Contents, p disk.Partition) Sectors {
	return Sectors{p.Start, min(p.Length, 8192/uint64(c.Layout.SectorSize))}
}

// formatted are the sectors that a new FAT may take: eight mebibytes hold the
// tables of up to 4 GiB.
func formatted(c *machine.Contents, p disk.Partition) Sectors {
	return Sectors{p.Start, min(p.Length, 8<<20/uint64(c.Layout.SectorSize))}
}

// embedded are the sectors that GRUB's boot code and core image take.
func embedded(c *machine.Contents) []Sectors {
	for _, p := range c.Layout.Partitions {
		if c.Layout.Style == disk.StyleGPT && p.TypeGUID == disk.TypeBIOSBoot {
			return []Sectors{{0, 1}, {p.Start, p.Length}}
		}
	}
	return []Sectors{{0, gapAfterTable(c)}}
}

// gapAfterTable is how many sectors lie before the first partition, sector 0 among
// them: GRUB's core image goes there.
func gapAfterTable(c *machine.Contents) uint64 {
	gap := uint64(2048)
	for _, p := range c.Layout.Partitions {
		gap = min(gap, p.Start)
	}
	return gap
}

// freeGap finds room for sectors between and behind the partitions, aligned to a
// mebibyte.
func freeGap(c *machine.Contents, length uint64) (start uint64, found bool) {
	align := uint64(1<<20) / uint64(c.Layout.SectorSize)
	end := c.Layout.Sectors - 34
	for at := align; at+length < end; {
		blocked := false
		for _, p := range c.Layout.Partitions {
			if at < p.End() && p.Start < at+length {
				at, blocked = (p.End()+align-1)/align*align, true
			}
		}
		if !blocked {
			return at, true
		}
	}
	return 0, false
}

// roomAtEnd finds the largest system partition that can give sectors at its end:
// its used space must be known to leave them free.
func roomAtEnd(c *machine.Contents, length uint64) (start uint64, shrunk int, found bool) {
	align := uint64(1<<20) / uint64(c.Layout.SectorSize)
	for i, p := range c.Layout.Partitions {
		used, known := c.Volumes[i].Used.Get()
		if !c.Volumes[i].HasWindows() || !known || c.Lost(p) {
			continue
		}
		if free := disk.Span(p.Length, c.Layout.SectorSize) - int64(used); free > 2*disk.Span(length,
			c.Layout.SectorSize) {
			return (min(p.End(), c.Layout.Sectors-34) - length) / align * align, i, true
		}
	}
	return 0, -1, false
}
