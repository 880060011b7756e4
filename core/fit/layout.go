package fit

import (
	"cmp"
	"fmt"
	"slices"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// Target is the drive that is copied to.
type Target struct {
	Bytes      int64
	SectorSize int // logical
	Physical   int // of a physical sector; 0 is unknown
	Rounded    bool
}

// Sold is the capacity of a drive by what it is sold as, in decimal gigabytes, in bytes:
// IDEMA LBA1-03 gives the sectors. 0 for one that is smaller than the standard goes.
func Sold(gigabytes int64) int64 {
	if gigabytes < 50 || gigabytes > disk.MaxSize/1_000_000_000 {
		return 0
	}
	return disk.AdvertisedSectors(gigabytes) * 512
}

// Strategy is how sizes are given to partitions.
type Strategy string

// The strategies.
const (
	Keep       Strategy = "keep"       // sizes kept, the rest stays free
	Proportion Strategy = "proportion" // what can change its size changes in proportion
	Main       Strategy = "main"       // the main partition takes the rest
	Hand       Strategy = "hand"       // as a person says
)

// Strategies lists them in the order in which they are shown.
var Strategies = []Strategy{Keep, Proportion, Main, Hand}

// Placed is a partition on the new drive, in bytes.
type Placed struct {
	Part  int // index into the parts
	Start int64
	Size  int64
}

// Layout is how the partitions would lie on the new drive.
type Layout struct {
	Strategy Strategy
	Placed   []Placed
	// Free is what no partition takes, Short what is missing, in bytes.
	Free, Short int64
	// Fits is "yes", "no", or "unknown" where it hangs on what is not known.
	Fits string
	Says string
	// Moved lists the numbers of partitions that lie elsewhere than on the original.
	Moved []int
}

// MBRLimit is where what an MBR can tell of ends, in sectors: its fields have 32 bits.
// UEFI Specification 2.10, table 5.2.
const MBRLimit = 1 << 32

// room is what of the drive partitions may take: from the first to behind the last byte,
// and what they are aligned to.
type room struct{ from, to, align int64 }

func roomOf(style disk.Style, t Target) room {
	r := room{align: max(MiB, int64(t.Physical))}
	r.from = r.align
	sectors := uint64(t.Bytes / int64(t.SectorSize))
	if style == disk.StyleMBR {
		r.to = disk.Span(min(sectors, MBRLimit), t.SectorSize)
	} else {
		r.to = disk.Span(disk.LastUsable(sectors, t.SectorSize)+1, t.SectorSize)
	}
	r.to = max(r.to, 0)
	return r
}

// MainPart is the partition that takes the rest: the largest that can change its size
// and holds a system, else the largest that can.
func MainPart(parts []Part) int {
	best := -1
	better := func(a, b Part) bool {
		if as, bs := a.Role == disk.RoleSystem, b.Role == disk.RoleSystem; as != bs {
			return as
		}
		return a.Size > b.Size
	}
	for i, p := range parts {
		if !p.Fixed && (best < 0 || better(p, parts[best])) {
			best = i
		}
	}
	return best
}

// Lay lays the parts out on a drive. Hand gives sizes in bytes by partition number, for
// Hand alone; it is snapped to the alignment.
func Lay(parts []Part, style disk.Style, t Target, s Strategy, hand map[int]int64) Layout {
	l := Layout{Strategy: s, Moved: []int{}}
	r := roomOf(style, t)
	order, sizes := orderOf(parts), make([]int64, len(parts))
	for i, p := range parts {
		sizes[i] = p.Size
	}
	switch s {
	case Keep:
		if l.asTheyLie(parts, order, r) {
			return l.finish(parts, r)
		}
	case Main:
		giveRest(parts, order, sizes, r)
	case Proportion:
		share(parts, sizes, r)
	case Hand:
		for i, p := range parts {
			if n, told := hand[p.Number]; told {
				sizes[i] = max(down(n+r.align/2, r.align), r.align)
			}
		}
	}
	l.inOrder(parts, order, sizes, r)
	return l.finish(parts, r)
}

// asTheyLie leaves every partition where it is, when the drive has the room.
func (l *Layout) asTheyLie(parts []Part, order []int, r room) bool {
	for _, i := range order {
		if parts[i].Start+parts[i].Size > r.to {
			return false
		}
	}
	for _, i := range order {
		l.Placed = append(l.Placed, Placed{i, parts[i].Start, parts[i].Size})
	}
	return true
}

// inOrder puts the parts one behind the other, aligned. What lies where it lay and is as
// long keeps its very place.
func (l *Layout) inOrder(parts []Part, order []int, sizes []int64, r room) {
	at, same := r.from, true
	for _, i := range order {
		start := up(at, r.align)
		if p := parts[i]; same && p.Start >= at {
			start = p.Start
		}
		l.Placed = append(l.Placed, Placed{i, start, sizes[i]})
		same = same && sizes[i] == parts[i].Size
		at = start + sizes[i]
	}
}

// taken is where the layout ends when one part has a size.
func taken(parts []Part, order []int, sizes []int64, r room) int64 {
	var l Layout
	l.inOrder(parts, order, sizes, r)
	end := r.from
	for _, p := range l.Placed {
		end = max(end, p.Start+p.Size)
	}
	return end
}

// orderOf lists the parts as they lie.
func orderOf(parts []Part) []int {
	order := make([]int, len(parts))
	for i := range parts {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(parts[a].Start, parts[b].Start) })
	return order
}

// giveRest gives the main partition what the others leave.
func giveRest(parts []Part, order []int, sizes []int64, r room) {
	main := MainPart(parts)
	if main < 0 {
		return
	}
	sizes[main] = r.align // changed at all: what lies behind it is put in order
	rest := r.to - taken(parts, order, sizes, r) + r.align
	least, known := parts[main].Least.Get()
	if !known {
		least = r.align
	}
	sizes[main] = max(down(rest, r.align), least, r.align)
}

// share changes what can change in proportion: none below its least size.
func share(parts []Part, sizes []int64, r room) {
	var fixed, open int64
	for _, p := range parts {
		if p.Fixed {
			fixed += up(p.Size, r.align)
		} else {
			open += p.Size
		}
	}
	have := r.to - r.from - fixed
	if open == 0 || have <= 0 {
		return
	}
	held := map[int]bool{}
	for range parts { // what would fall below its least size is held there, and the others share again
		again := false
		for i, p := range parts {
			if p.Fixed || held[i] {
				continue
			}
			sizes[i] = max(down(int64(float64(p.Size)*(float64(have)/float64(open))), r.align), r.align)
			if least, known := p.Least.Get(); known && sizes[i] < least {
				sizes[i], held[i], again = least, true, true
				have, open = have-least, open-p.Size
			}
		}
		if !again || open <= 0 || have <= 0 {
			return
		}
	}
}

// finish says whether the layout fits, and what is left or missing.
func (l *Layout) finish(parts []Part, r room) Layout {
	end, used := r.from, int64(0)
	l.Fits = "yes"
	for _, p := range l.Placed {
		part := parts[p.Part]
		end, used = max(end, p.Start+p.Size), used+p.Size
		if p.Start != part.Start {
			l.Moved = append(l.Moved, part.Number)
		}
		least, known := part.Least.Get()
		switch {
		case p.Size >= part.Size:
		case !known && l.Fits == "yes":
			l.Fits, l.Says = "unknown", fmt.Sprintf("How much of partition %d is in use is not known.", part.Number)
		case known && p.Size < least:
			l.Fits, l.Short = "no", l.Short+least-p.Size
			l.Says = fmt.Sprintf("Partition %d needs at least %s.", part.Number, disk.Binary(least))
		}
	}
	if end > r.to {
		l.Fits, l.Short = "no", max(l.Short, end-r.to)
		l.Says = fmt.Sprintf("%s more are needed than the drive has for partitions.", disk.Binary(end-r.to))
	}
	l.Free = max(r.to-r.from-used, 0)
	return *l
}

// Places are the layout's partitions for the copy, in sectors of the drive.
func (l *Layout) Places(parts []Part, t Target) []machine.Place {
	var out []machine.Place
	for _, p := range l.Placed {
		out = append(out, machine.Place{Partition: parts[p.Part].Index, Start: uint64(p.Start) / uint64(t.SectorSize),
			Length: uint64(p.Size) / uint64(t.SectorSize)})
	}
	return out
}
