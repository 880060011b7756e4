package machine

import (
	"fmt"
	"slices"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// What a copy leaves on the drive that it is made on, before it is made.

// asCopied is the source of what a copy is going to write.
var asCopied = fact.Source{Origin: fact.Computed, Structure: "the copy as computed"}

// Place is where a copy puts a partition, in sectors.
type Place struct {
	Partition     int // index into the original's Layout.Partitions
	Start, Length uint64
}

// CopiedByPartition is the disk's partitions put on a drive of so many sectors, under a
// table of the same style that is written anew: numbers, types, identifiers, boot code
// and what lies before the first partition come along, what has no place stays behind.
// A volume holds what it held; one that was resized knows its new length.
func (c *Contents) CopiedByPartition(places []Place, sectors uint64) *Contents {
	e := c.edited()
	e.Capacity, e.Rounded = asCopied, false
	e.Layout.Sectors, e.Layout.Partitions, e.Volumes = sectors, nil, nil
	e.Layout.Problems = slices.DeleteFunc(e.Layout.Problems, func(p disk.Problem) bool {
		return p.Code != disk.CodeNotReadToItsEnd
	})
	changed := len(places) != len(c.Layout.Partitions)
	for _, place := range places {
		p, v := c.Layout.Partitions[place.Partition], c.Volumes[place.Partition]
		changed = changed || p.Start != place.Start || p.Length != place.Length
		if p.Start != place.Start {
			v.Spares, v.Alone = nil, nil
		}
		if p.Length != place.Length {
			v.dropProblem(volume.CodeVolumeTooLong)
			v.TotalSectors = fact.Known(place.Length, asCopied)
		}
		p.Start, p.Length, p.Unplaced = place.Start, place.Length, p.Unplaced && p.Start == place.Start
		e.Layout.Partitions, e.Volumes = append(e.Layout.Partitions, p), append(e.Volumes, v)
	}
	e.tablesAnew(sectors)
	if changed {
		e.rerun()
	}
	return e
}

// tablesAnew has tables that fit the partitions.
func (e *Contents) tablesAnew(sectors uint64) {
	e.Layout.WrittenFor = 0
	if g := e.Layout.GPT; g != nil {
		fresh := *g
		use := g.Valid()
		if use == nil {
			use = &g.Primary
		}
		fresh.Primary, fresh.Backup = *use, *use
		for _, copied := range []*disk.GPTCopy{&fresh.Primary, &fresh.Backup} {
			if copied.State != disk.CopyTold {
				copied.State = disk.CopyGood
			}
			copied.Header.LastUsableLBA = disk.LastUsable(sectors, e.Layout.SectorSize)
			copied.Header.SizeOfPartitionEntry = disk.UsualEntry
		}
		fresh.Primary.Which, fresh.Backup.Which = "primary", "backup"
		fresh.Primary.Header.LBA, fresh.Primary.Header.MyLBA, fresh.Primary.Header.AlternateLBA = 1, 1, sectors-1
		fresh.Backup.Header.LBA, fresh.Backup.Header.MyLBA, fresh.Backup.Header.AlternateLBA = sectors-1, sectors-1, 1
		e.Layout.GPT = &fresh
		if e.Layout.MBR != nil {
			mbr := *e.Layout.MBR
			mbr.Signature, mbr.Logical, mbr.Entries = true, nil, [4]disk.MBREntry{}
			mbr.Entries[0] = disk.MBREntry{Number: 1, Type: disk.MBRTypeProtective, Start: 1,
				Length: min(sectors-1, 1<<32-1)}
			e.Layout.MBR = &mbr
		}
		return
	}
	if e.Layout.MBR == nil {
		return
	}
	mbr := *e.Layout.MBR
	mbr.Signature, mbr.Logical = true, slices.Clone(mbr.Logical)
	for _, list := range [][]disk.MBREntry{mbr.Entries[:], mbr.Logical} {
		for i := range list {
			e.placeRecord(&list[i])
		}
	}
	e.Layout.MBR = &mbr
}

// placeRecord brings a record of an MBR to where its partition is put; the record of one
// that stays behind is empty. The extended partition keeps its record.
func (e *Contents) placeRecord(r *disk.MBREntry) {
	if !r.Used() || r.Extended() {
		return
	}
	for _, p := range e.Layout.Partitions {
		if p.Number == r.Number {
			r.Start, r.Length = p.Start, p.Length
			return
		}
	}
	*r = disk.MBREntry{Number: r.Number, Offset: r.Offset}
}

// WithNewIdentifiers has a disk identifier and, in a GPT, partition identifiers that
// nobody has yet.
func (c *Contents) WithNewIdentifiers() *Contents {
	e := c.edited()
	id := disk.GUID{0: 0xFD, 15: 0xFD}
	switch e.Layout.Style {
	case disk.StyleGPT:
		for i := range e.Layout.Partitions {
			p := &e.Layout.Partitions[i]
			p.GUID = disk.GUID{0: 0xFD, 14: byte(p.Number >> 8), 15: byte(p.Number)}
		}
		if g := e.Layout.GPT; g != nil {
			fresh := *g
			fresh.Primary.Header.DiskGUID, fresh.Backup.Header.DiskGUID = id, id
			e.Layout.GPT = &fresh
		}
		if _, told := e.Layout.DiskIDTold.Get(); told {
			e.Layout.DiskIDTold = fact.Known(id.String(), asCopied)
		}
	case disk.StyleMBR:
		if e.Layout.MBR != nil {
			mbr := *e.Layout.MBR
			mbr.DiskSignature = ^mbr.DiskSignature
			e.Layout.MBR = &mbr
			if _, told := e.Layout.DiskIDTold.Get(); told {
				e.Layout.DiskIDTold = fact.Known(fmt.Sprintf("%08X", mbr.DiskSignature), asCopied)
			}
		}
	}
	return e
}

// WithoutBootRecord has a sector 0 without code and nothing in the gap behind it, as a
// table that was made on an empty drive has.
func (c *Contents) WithoutBootRecord() *Contents {
	e := c.edited()
	e.Code, e.Run, e.Core = loader.CodeNone, nil, GRUBCore{}
	if e.Layout.MBR != nil {
		mbr := *e.Layout.MBR
		mbr.BootCode = make([]byte, 440)
		e.Layout.MBR = &mbr
	}
	return e
}

// WithFilesCopied has the files of a volume in a file system that was made anew: its
// serial number is another one, its boot sector is the file system's own, and of a
// partition nothing is marked active.
func (c *Contents) WithFilesCopied(i int) *Contents {
	e := c.edited()
	v := &e.Volumes[i]
	v.Serial, v.SystemCode, v.BootCode, v.Spares, v.Alone = fmt.Sprintf("NEW-%d", i), false, false, nil, nil
	v.Problems, v.Apple = nil, nil
	if v.Kind == volume.KindBitLocker || v.Kind == volume.KindLUKS {
		v.Kind = volume.NotCaptured // an opened volume's files, in what is not known
	}
	e.Layout.Partitions[i].Active, e.Layout.Partitions[i].ActiveOpen = false, false
	if e.Layout.MBR != nil && e.Layout.Style == disk.StyleMBR {
		mbr := *e.Layout.MBR
		for j := range mbr.Entries {
			if mbr.Entries[j].Number == e.Layout.Partitions[i].Number {
				mbr.Entries[j].Status = 0
			}
		}
		e.Layout.MBR = &mbr
	}
	e.rerun()
	return e
}

// WithHiddenSectorsKept has boot sectors that tell where their volumes lay on the
// original: a copy of blocks does not touch them. Reports whether any of them is one
// that a start reads its place from.
func (c *Contents) WithHiddenSectorsKept() (kept *Contents, any bool) {
	e := c.edited()
	for i := range e.Volumes {
		v, p := &e.Volumes[i], e.Layout.Partitions[i]
		was, known := v.HiddenSectors.Get()
		if _, there := v.Problem(volume.CodeHiddenSectors); !known || was == p.Start || there || !v.SystemCode {
			continue
		}
		v.Problems = append(v.Problems, disk.Problem{Code: volume.CodeHiddenSectors, Source: asCopied,
			Text: fmt.Sprintf("The boot sector of partition %d says that it begins at sector %d, where it lay on the original; it begins at %d.",
				p.Number, was, p.Start), Want: fmt.Sprint(p.Start), Got: fmt.Sprint(was)})
		any = true
	}
	return e, any
}

// IsSystem reports whether a partition holds an operating system, by what is on it or by
// what its type says.
func (c *Contents) IsSystem(i int) bool {
	v, p := &c.Volumes[i], c.Layout.Partitions[i]
	return v.HasWindows() || v.HasLinuxRoot() || p.Type.Role == disk.RoleSystem
}
