package volume

import (
	"bytes"
	"encoding/binary"
	"slices"

	"latchkey/core/disk"
)

// Bounds of a search for volumes: bytes that are read, and volumes.
const (
	maxSearched = 8 << 20
	maxHits     = 32
)

// Hit is a volume that was found where no table tells of one.
type Hit struct {
	Start  uint64 // sectors
	Length uint64 // sectors, by the volume's own figures; 0 is not known
}

// Search looks for volumes at the places where partitions begin: behind the tables, at
// multiples of 1 MiB and, on disks that are laid out by cylinders, of 63 and 16,065
// sectors. What lies within a volume that was found is passed over. It says up to which
// sector it looked, and whether the evidence lacked some of that.
func Search(d *disk.Disk) (hits []Hit, upTo uint64, lacks bool) {
	s := &search{d: d, size: uint64(d.SectorSize()), left: maxSearched}
	for at := uint64(0); ; {
		next, ok := s.next(at)
		if !ok {
			return s.hits, d.Sectors(), s.lacks
		}
		if s.left <= 0 || len(s.hits) == maxHits {
			return s.hits, next, s.lacks
		}
		at = s.probe(next)
	}
}

// SearchAt looks for volumes at some places alone, in their order.
func SearchAt(d *disk.Disk, places []uint64) (hits []Hit, lacks bool) {
	s := &search{d: d, size: uint64(d.SectorSize()), left: maxSearched}
	for _, at := range places {
		if at > 0 && at < d.Sectors() && s.left > 0 && len(s.hits) < maxHits {
			s.probe(at)
		}
	}
	return s.hits, s.lacks
}

type search struct {
	d         *disk.Disk
	size      uint64
	left      int64
	hits      []Hit
	cylinders bool
	lacks     bool
}

// First are where the first partition begins before 1 MiB, in sectors: behind the tables, a
// track.
var First = []uint64{34, 40, 63, 64}

const cylinder = 16065 // sectors of 255 heads and 63 sectors a track, common practice

// next is the first place behind a sector at which a partition may begin.
func (s *search) next(behind uint64) (at uint64, ok bool) {
	for _, f := range First {
		if f > behind {
			return f, f < s.d.Sectors()
		}
	}
	per := uint64(1<<20) / s.size
	at = (behind/per + 1) * per
	if s.cylinders {
		for _, shift := range []uint64{0, 63} {
			n := behind + 1 - min(behind+1, shift)
			at = min(at, (n+cylinder-1)/cylinder*cylinder+shift)
		}
	}
	return at, at < s.d.Sectors()
}

// probe looks at one place, and returns the last sector that need not be looked at again.
func (s *search) probe(at uint64) uint64 {
	base := disk.Span(at, int(s.size))
	b, err := s.d.Read(base, 4096)
	s.left -= 4096
	s.lacks = s.lacks || disk.IsNotCaptured(err)
	if err != nil || !s.promises(b, base) {
		return at
	}
	v := Examine(s.d, disk.Partition{Start: at, Length: s.d.Sectors() - at})
	switch v.Kind {
	case Unknown, Empty, NotCaptured:
		return at
	}
	length := s.own(v.Volume, b, base) / s.size
	if length > s.d.Sectors()-at {
		length = s.d.Sectors() - at // cut off by the end of the disk
	}
	s.hits = append(s.hits, Hit{at, length})
	s.cylinders = s.cylinders || at == 63
	if length == 0 {
		return at
	}
	return at + length - 1
}

// promises reports whether a place may hold a volume, before it is read any further.
func (s *search) promises(b []byte, base int64) bool {
	if zero(b) {
		return s.deep(base)
	}
	ext := binary.LittleEndian.Uint16(b[1024+56:]) == 0xEF53 && binary.LittleEndian.Uint16(b[1024+90:]) == 0
	boot := b[510] == 0x55 && b[511] == 0xAA && (b[0] == 0xEB || b[0] == 0xE9)
	known := slices.ContainsFunc(signatures, func(g signature) bool {
		from := int(g.at) + g.magicAt
		return from+len(g.magic) <= len(b) && bytes.Equal(b[from:from+len(g.magic)], []byte(g.magic))
	})
	return ext || boot || known || s.deep(base)
}

// deep looks for the magics that stand further in: those at 64 KiB.
func (s *search) deep(base int64) bool {
	b, err := s.d.Read(base+64<<10, 128)
	s.left -= 128
	return err == nil && (bytes.Equal(b[64:72], []byte("_BHRfS_M")) || bytes.HasPrefix(b[52:], []byte("ReIsEr")))
}

// own is a volume's length in bytes by its own figures; 0 where it tells none. The sources
// are those of the signatures; exFAT specification 1.00, section 3.1, VolumeLength.
func (s *search) own(v Volume, b []byte, base int64) uint64 {
	le, be := binary.LittleEndian, binary.BigEndian
	limit := func(n, unit uint64) uint64 {
		if unit == 0 || n > 1<<62/unit {
			return 0
		}
		return n * unit
	}
	switch v.Kind {
	case KindExFAT:
		return limit(le.Uint64(b[72:]), 1<<min(b[108], 12))
	case KindXFS:
		return limit(be.Uint64(b[8:]), uint64(be.Uint32(b[4:])))
	case KindSwap:
		return limit(uint64(le.Uint32(b[1024+4:]))+1, 4096)
	case KindLVM:
		at := 512 + int(min(le.Uint32(b[512+20:]), 256))
		return le.Uint64(b[at+32:])
	case KindHFS:
		return limit(uint64(be.Uint32(b[1024+44:])), uint64(be.Uint32(b[1024+40:])))
	case KindAPFS:
		return limit(le.Uint64(b[40:]), uint64(le.Uint32(b[36:])))
	case KindBtrfs:
		super, err := s.d.Read(base+64<<10, 512)
		if err != nil {
			return 0
		}
		return le.Uint64(super[201+8:]) // dev_item.total_bytes
	}
	total, _ := v.TotalSectors.Get()
	return limit(total, s.size)
}
