package machine

import (
	"fmt"
	"slices"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// What a repair does to a disk, on a copy of what is known of it. Each method
// leaves the receiver as it is.

// repaired is the source of what a repair is going to write.
var repaired = fact.Source{Origin: fact.Computed, Structure: "after the repair"}

func (c *Contents) edited() *Contents {
	copied := c.clone()
	copied.Layout.Problems = append([]disk.Problem{}, c.Layout.Problems...)
	for i := range copied.Volumes {
		v := &copied.Volumes[i]
		v.own()
		v.Inner = slices.Clone(v.Inner)
		for j := range v.Inner {
			v.Inner[j].Volume.own()
		}
	}
	return copied
}

// own has lists that no other copy of the volume shares.
func (v *Volume) own() {
	v.Loaders = append([]loader.Found{}, v.Loaders...)
	v.Configs = append([]Config{}, v.Configs...)
	v.Problems = append([]disk.Problem{}, v.Problems...)
}

func (c *Contents) drop(codes ...disk.ProblemCode) {
	var kept []disk.Problem
	for _, p := range c.Layout.Problems {
		if !slices.Contains(codes, p.Code) {
			kept = append(kept, p)
		}
	}
	c.Layout.Problems = kept
}

// WithPrimaryRestored has a primary GPT that is written anew from the backup.
func (c *Contents) WithPrimaryRestored() *Contents {
	e := c.edited()
	g := *c.Layout.GPT
	g.Primary, g.Primary.Which, g.Primary.State = g.Backup, "primary", disk.CopyGood
	g.Primary.Header.LBA, g.Primary.Header.MyLBA = 1, 1
	e.Layout.GPT = &g
	e.drop(disk.CodeGPTHeaderSize, disk.CodeGPTHeaderCRC, disk.CodeGPTArrayCRC, disk.CodeGPTArrayLarge,
		disk.CodeGPTArrayNotCaptured,
		disk.CodeGPTArrayOutside, disk.CodeGPTArrayUnreadable, disk.CodeGPTArrayWraps,
		disk.CodeGPTPrimaryAbsent, disk.CodeGPTMyLBA,
		disk.CodeGPTEntrySize)
	return e.WithProtectiveMBR()
}

// WithProtectiveMBR has a protective MBR in sector 0.
func (c *Contents) WithProtectiveMBR() *Contents {
	e := c.edited()
	mbr := disk.MBR{Signature: true}
	if c.Layout.MBR != nil {
		mbr.BootCode, mbr.DiskSignature = c.Layout.MBR.BootCode, c.Layout.MBR.DiskSignature
	}
	mbr.Entries[0] = disk.MBREntry{Number: 1, Type: disk.MBRTypeProtective, Start: 1, Length: e.Layout.Sectors - 1}
	e.Layout.MBR = &mbr
	e.drop(disk.CodeGPTUnprotected, disk.CodeGPTProtectiveUnsigned, disk.CodeMBRHybrid)
	return e
}

// WithType has a partition of another GPT type.
func (c *Contents) WithType(i int, t disk.GUID) *Contents {
	e := c.edited()
	p := &e.Layout.Partitions[i]
	p.TypeGUID, p.Type = t, disk.GPTType(t)
	return e
}

// WithActive has exactly one active partition; none for an index below zero.
func (c *Contents) WithActive(i int) *Contents {
	e := c.edited()
	for j := range e.Layout.Partitions {
		e.Layout.Partitions[j].Active = j == i
	}
	mbr := *c.Layout.MBR
	for j := range mbr.Entries {
		mbr.Entries[j].Status = 0
		if i >= 0 && mbr.Entries[j].Number == e.Layout.Partitions[i].Number {
			mbr.Entries[j].Status = 0x80
		}
	}
	e.Layout.MBR = &mbr
	e.drop(disk.CodeMBRTwoActive, disk.CodeMBRStatus)
	e.rerun()
	return e
}

// WithBootCode has the standard boot code in sector 0, which runs the active
// partition.
func (c *Contents) WithBootCode() *Contents {
	e := c.edited()
	mbr := *c.Layout.MBR
	mbr.Signature = true
	e.Layout.MBR = &mbr
	e.standardCode()
	return e
}

// standardCode has the standard code in sector 0, and runs it.
func (c *Contents) standardCode() {
	c.Code = loader.CodeClassic
	if c.Layout.MBR != nil && c.Layout.MBR.BootCode != nil {
		mbr := *c.Layout.MBR
		mbr.BootCode = loader.StandardCode[:440]
		c.Layout.MBR = &mbr
	}
	c.rerun()
}

// WithHiddenSectors has a boot sector that knows where its partition lies.
func (c *Contents) WithHiddenSectors(i int) *Contents {
	e := c.edited()
	v := &e.Volumes[i]
	v.dropProblem(volume.CodeHiddenSectors)
	v.HiddenSectors = fact.Known(e.Layout.Partitions[i].Start, repaired)
	v.Alone, v.AloneCorrected = v.AloneCorrected, nil
	return e
}

func (v *Volume) dropProblem(code disk.ProblemCode) {
	var kept []disk.Problem
	for _, p := range v.Problems {
		if p.Code != code {
			kept = append(kept, p)
		}
	}
	v.Problems = kept
}

// WithFAT has an empty FAT32 volume in a partition.
func (c *Contents) WithFAT(i int) *Contents {
	e := c.edited()
	// The serial number is a new one, which is not known yet.
	e.Volumes[i] = Volume{Volume: volume.Volume{Kind: volume.KindFAT32, Serial: fmt.Sprintf("NEW-%d", i), BootCode: true},
		looked: map[string]error{}}
	return e
}

// WithESP has a new EFI system partition of sectors from start, formatted and
// empty; its index is returned too. When shrunk is not negative that partition
// gives the room at its end.
func (c *Contents) WithESP(start, length uint64, shrunk int) (*Contents, int) {
	e := c.edited()
	if shrunk >= 0 {
		e.Layout.Partitions[shrunk].Length = start - e.Layout.Partitions[shrunk].Start
	}
	number := 1
	for _, p := range e.Layout.Partitions {
		number = max(number, p.Number+1)
	}
	p := disk.Partition{Number: number, TypeGUID: disk.TypeESP, Type: disk.GPTType(disk.TypeESP), Start: start,
		Length: length, Source: repaired}
	p.GUID[0], p.GUID[15] = 0xFF, byte(number) // a new one, which is not known yet
	e.Layout.Partitions = append(e.Layout.Partitions, p)
	e.Volumes = append(e.Volumes, Volume{})
	i := len(e.Volumes) - 1
	return e.WithFAT(i), i
}

// WithGPT has the partitions of an MBR disk in a GPT, and a new EFI system
// partition of sectors from start; its index is returned too.
func (c *Contents) WithGPT(start, length uint64, shrunk int) (*Contents, int) {
	e := c.edited()
	e.Layout.Style = disk.StyleGPT
	good := disk.GPTCopy{Which: "primary", State: disk.CopyGood}
	good.Header.LBA, good.Header.MyLBA, good.Header.FirstUsableLBA, good.Header.LastUsableLBA = 1, 1, 34,
		e.Layout.Sectors-34
	good.Header.SizeOfPartitionEntry = disk.UsualEntry
	e.Layout.GPT = &disk.GPT{Primary: good, Backup: good}
	e.Layout.Problems = nil
	for i := range e.Layout.Partitions {
		p := &e.Layout.Partitions[i]
		p.TypeGUID, p.MBRType, p.Active = disk.TypeBasicData, 0, false
		p.Type = disk.GPTType(p.TypeGUID)
		p.GUID[0], p.GUID[15] = 0xFE, byte(p.Number)
	}
	return e.WithProtectiveMBR().WithESP(start, length, shrunk)
}
