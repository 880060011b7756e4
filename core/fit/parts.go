// Package fit computes, before anything is copied, whether a disk fits onto a drive, how
// its partitions would lie there, how long the copy takes, what the machine would do with
// it, and what must be ready.
package fit

import (
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// Part is a partition of the original with what it needs on another drive. Sizes and
// places are in bytes.
type Part struct {
	Index  int // into the original's Layout.Partitions
	Number int
	Name   string
	Role   disk.Role
	Kind   volume.Kind
	Start  int64
	Size   int64
	Used   fact.Of[int64]
	// Least is the least size to which it can be brought; the size itself for one that
	// keeps it.
	Least fact.Of[int64]
	// Fixed is set for one that keeps its size; Why says why, or what Least comes from.
	Fixed bool
	Why   string
	// Needed is set where the machine does not start without it, or where that is not
	// known.
	Needed bool
	Rough  bool // its size was read off a screen
}

// Reserves for what the tools that make file systems smaller need beside what is in use.
// What an NTFS volume cannot move is not known, so that a tenth is added; common
// practice, no source. ext's tool counts a whole flexible group of 16 times 128 MiB as
// used. Tests hold them above what ntfsresize(8) and resize2fs(8) say.
const (
	ntfsReserve = 512 << 20
	extReserve  = 2<<30 + 128<<20
	fatLeast    = 40 << 20 // FAT32 has at least 65,525 clusters: Microsoft's FAT specification
)

// Parts tells what each partition of the original needs.
func Parts(c *machine.Contents) []Part {
	var out []Part
	for i, p := range c.Layout.Partitions {
		v := &c.Volumes[i]
		part := Part{Index: i, Number: p.Number, Name: p.Type.Name, Role: p.Type.Role, Kind: v.Kind, Rough: p.Rough,
			Start: disk.Span(p.Start, c.Layout.SectorSize), Size: disk.Span(p.Length, c.Layout.SectorSize)}
		if p.Active {
			part.Role = disk.RoleBoot
		}
		if used, known := v.Used.Get(); known {
			part.Used = fact.Known(int64(used), v.Used.Source())
		}
		part.Needed = part.Role == disk.RoleBoot || part.Role == disk.RoleUnknown || c.IsSystem(i) || v.HasLinux()
		part.least()
		out = append(out, part)
	}
	return out
}

// least settles to which size a partition can be brought.
func (p *Part) least() {
	keeps := func(format string, args ...any) {
		p.Fixed, p.Why, p.Least = true, fmt.Sprintf(format, args...),
			fact.Known(p.Size, fact.Source{Origin: fact.Computed})
	}
	var share, reserve int64
	switch p.Role {
	case disk.RoleBoot, disk.RoleReserved, disk.RoleRecovery:
		keeps("it belongs to the start or to the system's upkeep, and keeps its size")
		return
	}
	switch p.Kind {
	case volume.KindNTFS:
		share, reserve = 10, ntfsReserve
	case volume.KindExt:
		share, reserve = 10, extReserve
	case volume.KindFAT, volume.KindFAT16, volume.KindFAT32, volume.KindExFAT:
		share, reserve = 20, fatLeast
	case volume.KindBtrfs, volume.KindAPFS, volume.KindHFS:
		share, reserve = 5, 1<<30
	case volume.KindXFS:
		keeps("XFS cannot be made smaller") // xfs_growfs(8)
		return
	case volume.KindBitLocker, volume.KindLUKS:
		keeps("it is encrypted: its size is changed from the inside, before the copy")
		return
	case volume.KindLVM, volume.KindRAID:
		keeps("it is part of something larger: its size is changed there, before the copy")
		return
	case volume.KindSwap:
		keeps("swap space keeps its size")
		return
	default:
		keeps("what it holds is not known, so that it keeps its size")
		return
	}
	used, known := p.Used.Get()
	if !known {
		p.Why = "how much of it is in use is not known"
		return
	}
	least := min(used+used*share/100+reserve, p.Size)
	p.Least = fact.Known(up(least, MiB), fact.Source{Origin: fact.Computed})
	p.Why = fmt.Sprintf("%s in use, and %s as room to work in", disk.Binary(used), disk.Binary(least-min(used, least)))
}

// MiB is what partitions are aligned to.
const MiB = 1 << 20

func up(n, to int64) int64   { return (n + to - 1) / to * to }
func down(n, to int64) int64 { return n / to * to }

func firmwareMode(m machine.Machine) firmware.Mode {
	mode, _ := m.Firmware.Mode.Get()
	return mode
}
