package volume

import (
	"bytes"
	"encoding/binary"
	"math"
	"slices"

	"latchkey/core/disk"
)

// Bounds of a search for volumes: bytes that are read, volumes, and places that the drive
// does not give.
const (
	maxSearched = 32 << 20
	maxHits     = 32
	maxFailed   = 16
)

// Bounds of one that is thorough.
const maxThorough = 128

// The figures of a search that a capture carries, so that it need not hold what was looked at
// in vain: up to which byte, and where volumes were found.
const (
	searchedCount = "searched for volumes"
	foundCount    = "volume found"
)

// Hit is a volume that was found where no table tells of one.
type Hit struct {
	Start  uint64 // sectors
	Length uint64 // sectors, by the volume's own figures; 0 is not known
}

// Searching is how far a search for volumes got.
type Searching struct {
	UpTo   uint64 // sectors
	Places int    // that were looked at
	Found  int    // volumes
}

// Left is how many places between two sectors a thorough search looks at, and how many bytes it
// reads there, where it finds nothing that it may pass over.
func Left(d *disk.Disk, from, to uint64) (places, bytes int64) {
	places = disk.Span(to-min(from, to), d.SectorSize()) >> 20
	return places, places * perPlace
}

// perPlace is how many bytes are read at a place that holds no volume.
const perPlace = 4096 + 128

// Search looks for volumes at the places where partitions begin: behind the tables, at
// multiples of 1 MiB and, on disks that are laid out by cylinders, of 63 and 16,065
// sectors. What lies within a volume that was found is passed over. It says up to which
// sector it looked, and whether the evidence lacked some of that. A disk that was searched
// where it was captured is not searched again.
func Search(d *disk.Disk) (hits []Hit, upTo uint64, lacks bool) {
	if starts, upTo, was := Searched(d); was {
		hits, lacks = SearchAt(d, starts)
		return hits, upTo, lacks
	}
	s := newSearch(aside(d), maxSearched, maxHits)
	upTo = s.through(0, d.Sectors(), nil)
	if s.d == d {
		return s.hits, upTo, s.lacks
	}
	s.keep(d, upTo)
	hits, lacks = SearchAt(d, starts(s.hits))
	return hits, upTo, lacks || s.lacks
}

// SearchThoroughly looks at all places from one sector to another, without a bound of bytes, and
// keeps what it finds with the disk, whose next examination takes it from there. It goes on
// as long as report, which it asks at every place, wants it to.
func SearchThoroughly(d *disk.Disk, from, to uint64, report func(Searching) (goOn bool)) Searching {
	s := newSearch(aside(d), math.MaxInt64, maxThorough)
	known, _, _ := Searched(d)
	upTo := s.through(from, to, func(at uint64) bool {
		return report(Searching{UpTo: at, Places: s.places, Found: len(known) + len(s.hits)})
	})
	for _, at := range known {
		s.hits = append(s.hits, Hit{Start: at})
	}
	s.keep(d, upTo)
	return Searching{UpTo: upTo, Places: s.places, Found: len(s.hits)}
}

// aside is the disk without its recording.
func aside(d *disk.Disk) *disk.Disk {
	if on, err := disk.New(d.Aside(), d.Size(), d.SectorSize()); err == nil && d.Recorded() {
		return on
	}
	return d
}

// Searched returns where volumes were found on a disk that was searched before, and up to which
// sector, in sectors.
func Searched(d *disk.Disk) (starts []uint64, upTo uint64, was bool) {
	size := uint64(d.SectorSize())
	for _, c := range d.Counts() {
		switch {
		case c.Name == searchedCount && c.Offset == 0:
			upTo, was = min(c.Value/size, d.Sectors()), true
		case c.Name == foundCount && c.Offset > 0 && len(starts) < maxThorough:
			starts = append(starts, uint64(c.Offset)/size)
		}
	}
	slices.Sort(starts)
	return slices.Compact(starts), upTo, was
}

// keep keeps with a disk what was found.
func (s *search) keep(d *disk.Disk, upTo uint64) {
	others := slices.DeleteFunc(slices.Clone(d.Counts()), func(c disk.Count) bool {
		return c.Name == searchedCount || c.Name == foundCount
	})
	d.SetCounts(append(others, disk.Count{Name: searchedCount, Value: upTo * s.size}))
	for _, h := range s.hits {
		d.SetCount(disk.Count{Name: foundCount, Offset: int64(h.Start * s.size), Value: h.Length * s.size})
	}
}

func starts(hits []Hit) (all []uint64) {
	for _, h := range hits {
		all = append(all, h.Start)
	}
	return all
}

// SearchAt looks for volumes at some places alone, in their order.
func SearchAt(d *disk.Disk, places []uint64) (hits []Hit, lacks bool) {
	s := newSearch(d, maxSearched, max(maxHits, len(places)))
	for _, at := range places {
		if at > 0 && at < d.Sectors() && !s.spent() {
			s.probe(at)
		}
	}
	return s.hits, s.lacks
}

type search struct {
	d         *disk.Disk
	size      uint64
	left      int64 // bytes
	most      int   // volumes
	places    int
	failed    int
	hits      []Hit
	cylinders bool
	lacks     bool
}

func newSearch(d *disk.Disk, bytes int64, volumes int) *search {
	return &search{d: d, size: uint64(d.SectorSize()), left: bytes, most: volumes}
}

func (s *search) spent() bool { return s.left <= 0 || len(s.hits) >= s.most || s.failed >= maxFailed }

// through looks from one sector to another, and returns up to which it came.
func (s *search) through(from, to uint64, goOn func(at uint64) bool) (upTo uint64) {
	for at := from - min(from, 1); ; {
		next, ok := s.next(at)
		switch {
		case !ok || next >= to:
			return to
		case s.spent() || goOn != nil && !goOn(next):
			return next
		}
		at = s.probe(next)
	}
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
	s.left, s.places = s.left-4096, s.places+1
	s.lacks = s.lacks || disk.IsNotCaptured(err)
	if err != nil && !disk.IsNotCaptured(err) {
		s.failed++
	}
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
