package fit

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// Answer is whether the original fits onto the drive at all.
type Answer struct {
	// Fits is "as-it-is", "smaller" where a partition must be made smaller, "no", or
	// "unknown".
	Fits string
	// Short is how much must go, in bytes.
	Short int64
	Says  string
	// Spare are the numbers of partitions that could stay behind without harm to the
	// start.
	Spare []int
	// Trap is set where both drives are sold as the same size and the new one has a few
	// sectors less.
	Trap string
}

// nearly is how much smaller a drive of the same nominal size may be: no two capacities
// that drives are sold with lie as near.
const nearly = 100

// Judge answers whether the original fits. A capacity that was read off a label or a
// screen may be less by a hundredth: where that decides, the answer is not known.
func Judge(c *machine.Contents, parts []Part, t Target) Answer {
	a := judge(c, parts, t)
	if beyond := t.Bytes - disk.Span(MBRLimit, t.SectorSize); c.Layout.Style == disk.StyleMBR && beyond > 0 {
		a.Says += fmt.Sprintf(" %s of the new drive lie beyond what an MBR can tell of: a GPT and UEFI reach them.", disk.Binary(beyond))
	}
	if !t.Rounded {
		return a
	}
	less := t
	less.Bytes -= t.Bytes / nearly
	if b := judge(c, parts, less); b.Fits != a.Fits {
		a.Fits, a.Short = "unknown", 0
		a.Says = "It hangs on the new drive's exact capacity: drives that are sold as the same size differ by some sectors. A capture of it, or a listing in bytes, tells."
	}
	return a
}

func judge(c *machine.Contents, parts []Part, t Target) Answer {
	a := Answer{Spare: []int{}}
	for _, p := range parts {
		if !p.Needed {
			a.Spare = append(a.Spare, p.Number)
		}
	}
	size, known := c.Size()
	if less := size - t.Bytes; known && !c.Rounded && !t.Rounded && less > 0 && less < size/nearly {
		a.Trap = fmt.Sprintf("The new drive is %d sectors smaller than the original, although both are sold as %s.",
			less/int64(t.SectorSize), disk.Label(t.Bytes))
	}
	style := c.Layout.Style
	keep := Lay(parts, style, t, Keep, nil)
	switch {
	case known && !c.Rounded && size <= t.Bytes:
		a.Fits, a.Says = "as-it-is", "The new drive is as large as the original, or larger."
		if len(parts) > 0 && !c.Layout.Open && keep.Fits == "yes" {
			a.Says = fmt.Sprintf("%s stay free.", disk.Binary(keep.Free))
		}
		return a
	case !c.TableKnown() || len(parts) == 0:
		a.Fits, a.Says = "unknown", "The original's partitions are not in evidence."
		return a
	case c.Layout.Open:
		a.Fits, a.Says = "unknown", "The list of the original's partitions may have been cut off."
		return a
	case keep.Fits == "yes" && len(keep.Moved) == 0:
		a.Fits, a.Says = "as-it-is", fmt.Sprintf("%s stay free.", disk.Binary(keep.Free))
		return a
	}
	return a.shrunk(parts, style, t)
}

// shrunk answers by what the partitions can be brought to.
func (a Answer) shrunk(parts []Part, style disk.Style, t Target) Answer {
	main := Lay(parts, style, t, Main, nil)
	all := Lay(parts, style, t, Proportion, nil)
	switch {
	case main.Fits == "yes":
		a.Fits, a.Says = "smaller", main.change(parts)
	case all.Fits == "yes":
		a.Fits, a.Says = "smaller", all.change(parts)
	case main.Fits == "unknown" || all.Fits == "unknown":
		a.Fits, a.Says = "unknown", main.Says
		if main.Fits != "unknown" {
			a.Says = all.Says
		}
	default:
		a.Fits, a.Short = "no", leastShort(parts, style, t)
		a.Says = fmt.Sprintf("%s must go, or a larger drive.", disk.Binary(a.Short))
	}
	return a
}

// change says which partitions are brought to which size.
func (l *Layout) change(parts []Part) string {
	var list []string
	for _, p := range l.Placed {
		part := parts[p.Part]
		switch now, then := disk.Binary(part.Size), disk.Binary(p.Size); {
		case now == then && p.Size < part.Size:
			list = append(list, fmt.Sprintf("partition %d by %s", part.Number, disk.Binary(part.Size-p.Size)))
		case p.Size != part.Size:
			list = append(list, fmt.Sprintf("partition %d from %s to %s", part.Number, now, then))
		}
	}
	if len(list) == 0 {
		return "No partition changes its size."
	}
	return strings.ToUpper(list[0][:1]) + strings.Join(list, ", ")[1:] + "."
}

// leastShort is what is missing when every partition is brought to its least size.
func leastShort(parts []Part, style disk.Style, t Target) int64 {
	r := roomOf(style, t)
	sizes := make([]int64, len(parts))
	for i, p := range parts {
		if sizes[i], _ = p.Least.Get(); sizes[i] == 0 {
			sizes[i] = p.Size
		}
	}
	return max(taken(parts, orderOf(parts), sizes, r)-r.to, 0)
}
