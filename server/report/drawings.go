package report

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"codeberg.org/go-pdf/fpdf"

	"latchkey/core/compare"
	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/startup"
	"latchkey/server/judge"
)

// The pins and the strata, drawn as the screens draw them; lengths in the screens' pixels,
// of which one is px millimetres.
const px = 0.2

func pt(x, y float64) fpdf.PointType { return fpdf.PointType{X: x, Y: y} }

// pins draws the start as a pin-tumbler lock: original above, clone with its key below.
func (p *page) pins(drives []judge.Drive) {
	const left, high = 84 * px, 156 * px
	top := p.GetY()
	step := (inner - left - 12*px) / float64(len(course.Stages))
	x := func(i int) float64 { return margin + left + step*(float64(i)+0.5) }
	lines := map[string]float64{"original": top + 34*px, "clone": top + 112*px}
	for _, d := range drives {
		line, drawn := lines[string(d.Role)]
		if !drawn {
			continue
		}
		p.font("B", 9, "ink")
		p.Text(margin, line-0.6, string(d.Role))
		p.draw("ink")
		p.SetLineWidth(0.25)
		p.Line(margin+left-1, line, width-margin, line)
		if d.Role == "clone" {
			p.blade(d.Pins, x, line, margin+left-4.4)
		}
		for i, pin := range d.Pins {
			p.pin(pin.State, x(i), line, cuts[i%len(cuts)]*px)
		}
	}
	p.font("", 8, "quiet")
	for i, s := range course.Stages {
		t := s.Title()
		p.Text(x(i)-p.GetStringWidth(t)/2, top+80*px, t)
	}
	p.SetXY(margin, top+high+2)
}

// cuts are how deep the key is cut under each pin.
var cuts = []float64{12, 20, 10, 16, 22, 11, 18, 14}

const hang = 27 * px

// keyPin is a key pin with its point.
func keyPin(x, top, bottom float64) []fpdf.PointType {
	const half, point = 9 * px, 6 * px
	return []fpdf.PointType{pt(x-half, top), pt(x+half, top), pt(x+half, bottom-point), pt(x, bottom),
		pt(x-half, bottom-point)}
}

// pin parts at the shear line when it passes, hangs when it blocks, is hollow when it is
// unproven.
func (p *page) pin(state course.State, x, line, cut float64) {
	p.SetLineWidth(0.35)
	switch state {
	case course.Passes:
		p.fill("solid")
		p.Rect(x-9*px, line-22*px, 18*px, 20*px, "F")
		p.fill("sea")
		p.Polygon(keyPin(x, line+1.5*px, line+cut+px), "F")
	case course.Blocks:
		p.draw("rust")
		p.SetDashPattern([]float64{0.4, 0.6}, 0)
		p.Line(x, line-26*px, x, line+4*px)
		p.SetDashPattern([]float64{}, 0)
		p.fill("rust")
		p.Polygon(keyPin(x, line+5*px, line+hang), "F")
	case course.Wrong:
		p.draw("plum")
		p.SetLineWidth(0.5)
		p.Circle(x-6*px, line+7*px, 6*px, "D")
		p.Line(x-2*px, line+3*px, x+12*px, line-12*px)
		p.Line(x+8*px, line-8*px, x+12*px, line-4*px)
		p.Line(x+4*px, line-4*px, x+7*px, line-1*px)
	case course.Unproven:
		p.draw("brass")
		p.Polygon(keyPin(x, line-14*px, line+cut), "D")
	default:
		p.draw("line")
		p.Polygon(keyPin(x, line-10*px, line+10*px), "D")
	}
}

// blade is the key beneath the clone's pins.
func (p *page) blade(pins []startup.Pin, x func(int) float64, line, left float64) {
	ridge, right := line+7*px, width-margin
	edge := []fpdf.PointType{pt(left, ridge)}
	for i, pin := range pins {
		deep := cuts[i%len(cuts)] * px
		switch pin.State {
		case course.Blocks:
			deep = hang
		case course.Behind:
			deep = 10 * px
		}
		at := line + deep + 2*px
		edge = append(edge, pt(x(i)-16*px, ridge), pt(x(i)-8*px, at-px*5), pt(x(i), at), pt(x(i)+8*px, at-px*5),
			pt(x(i)+16*px, ridge))
	}
	edge = append(edge, pt(right-14*px, ridge), pt(right, line+22*px), pt(right-10*px, line+36*px),
		pt(left, line+36*px))
	p.fill("tint")
	p.draw("brass")
	p.SetLineWidth(0.2)
	p.Polygon(edge, "DF")
	p.Circle(left-5, line+22*px, 3, "DF")
	p.fill("paper")
	p.Circle(left-5.6, line+22*px, 1, "DF")
}

// layer is a partition or a gap in its column.
type layer struct {
	index   int // of the partition; -1 for a gap
	bytes   int64
	y, tall float64
}

// layers places a disk's partitions and gaps in a column, small ones larger than they are:
// as web/src/check/strataLayout.ts does.
func layers(d *judge.Disk, high float64) []layer {
	if d == nil {
		return nil
	}
	var out []layer
	order := make([]int, len(d.Partitions))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(d.Partitions[a].Start, d.Partitions[b].Start) })
	placed, sectors := true, d.Sectors
	for _, q := range d.Partitions {
		placed = placed && q.Placed
		if d.Sectors == 0 {
			sectors = max(sectors, q.Start+q.Length)
		}
	}
	at := uint64(0)
	gap := func(to uint64) {
		if bytes := disk.Span(to-min(at, to), d.SectorSize); placed && bytes >= 8<<20 {
			out = append(out, layer{index: -1, bytes: bytes})
		}
	}
	for _, i := range order {
		q := d.Partitions[i]
		gap(min(q.Start, sectors))
		end := min(q.Start+q.Length, sectors)
		out = append(out, layer{index: i, bytes: disk.Span(end-min(q.Start, end), d.SectorSize)})
		at = max(at, q.Start+q.Length)
	}
	gap(sectors)
	least := math.Min(6, high/float64(max(len(out), 1)))
	total := 0.0
	for _, l := range out {
		total += math.Sqrt(float64(l.bytes))
	}
	y := 0.0
	for i := range out {
		out[i].y, out[i].tall = y, least
		if total > 0 {
			out[i].tall += (high - least*float64(len(out))) * math.Sqrt(float64(out[i].bytes)) / total
		}
		y += out[i].tall
	}
	return out
}

const (
	strataHigh = 58.0
	barWide    = 16.0
)

// strata draws both disks as columns of layers, tied to each other by ribbons.
func (p *page) strata(drives []judge.Drive, pairs []compare.Pair) {
	if p.GetY()+strataHigh+14 > 297-20 {
		p.AddPage()
	}
	top := p.GetY() + 6
	columns := map[string][]layer{}
	xs := map[string]float64{"original": margin + 52, "clone": width - margin - 52 - barWide}
	for _, d := range drives {
		columns[string(d.Role)] = layers(d.Disk, strataHigh)
	}
	for _, pair := range pairs {
		p.ribbon(find(columns["original"], pair.Original), find(columns["clone"], pair.Clone), xs, top)
	}
	for _, d := range drives {
		if x, drawn := xs[string(d.Role)]; drawn {
			p.column(&d, columns[string(d.Role)], x, top)
		}
	}
	p.font("", 7.5, "quiet")
	note := "not to scale: small partitions are drawn larger"
	p.Text(width/2-p.GetStringWidth(note)/2, top+strataHigh+5, note)
	p.SetXY(margin, top+strataHigh+8)
}

func find(all []layer, index int) *layer {
	for i := range all {
		if all[i].index == index && index >= 0 {
			return &all[i]
		}
	}
	return nil
}

func (p *page) ribbon(from, to *layer, xs map[string]float64, top float64) {
	x0, x1 := xs["original"]+barWide, xs["clone"]
	if from == nil {
		return
	}
	if to == nil {
		mid := top + from.y + from.tall/2
		p.font("", 8, "rust")
		p.Text(x0+2, mid+1, "left behind")
		return
	}
	c := (x1 - x0) / 2
	p.fill("tint")
	p.MoveTo(x0, top+from.y)
	p.CurveBezierCubicTo(x0+c, top+from.y, x1-c, top+to.y, x1, top+to.y)
	p.LineTo(x1, top+to.y+to.tall)
	p.CurveBezierCubicTo(x1-c, top+to.y+to.tall, x0+c, top+from.y+from.tall, x0, top+from.y+from.tall)
	p.ClosePath()
	p.DrawPath("F")
}

func (p *page) column(d *judge.Drive, all []layer, x, top float64) {
	p.font("B", 9, "ink")
	p.Text(x+barWide/2-p.GetStringWidth(string(d.Role))/2, top-2, string(d.Role))
	p.draw("ink")
	p.SetLineWidth(0.2)
	if d.Disk == nil {
		p.SetDashPattern([]float64{1, 1}, 0)
		p.Rect(x, top, barWide, strataHigh, "D")
		p.SetDashPattern([]float64{}, 0)
		return
	}
	labels := make([]float64, len(all))
	for i, l := range all {
		labels[i] = top + l.y + l.tall/2
		if i > 0 {
			labels[i] = max(labels[i], labels[i-1]+5.4)
		}
	}
	for i := len(labels) - 1; i >= 0; i-- {
		limit := top + strataHigh
		if i+1 < len(labels) {
			limit = labels[i+1] - 5.4
		}
		labels[i] = min(labels[i], limit)
	}
	for i, l := range all {
		role := disk.Role("free")
		name, size := "free", disk.Binary(l.bytes)
		if l.index >= 0 {
			q := d.Disk.Partitions[l.index]
			role, name, size = q.Role, fmt.Sprintf("%d · %s", q.Number, q.Type), q.Size.Binary
			if q.Lost {
				size = "cut off"
			}
		}
		p.layerFill(role, x, top+l.y, l.tall)
		p.draw("ink")
		p.SetLineWidth(0.2)
		p.Rect(x, top+l.y, barWide, l.tall, "D")
		p.label(string(d.Role), x, labels[i], p.text(name), size)
	}
}

// label writes a layer's name and size beside its column.
func (p *page) label(role string, x, y float64, name, size string) {
	for n, s := range []string{name, size} {
		p.font("", 7.5, map[int]string{0: "ink", 1: "quiet"}[n])
		if r := []rune(s); p.GetStringWidth(s) > 48 {
			s = string(r[:p.fitting(r, 46)]) + "…"
		}
		at := x + barWide + 2
		if role == "original" {
			at = x - 2 - p.GetStringWidth(s)
		}
		p.Text(at, y-0.2+float64(n)*2.8, s)
	}
}

// layerFill fills by the role in starting: brass hatch, solid ink, dots, diagonal lines,
// plain; free stays open.
func (p *page) layerFill(role disk.Role, x, y, tall float64) {
	switch role {
	case disk.RoleSystem:
		p.fill("solid")
		p.Rect(x, y, barWide, tall, "F")
	case disk.RoleBoot:
		p.hatch("brass", 0.5, 1.2, -1, x, y, tall)
	case disk.RoleRecovery:
		p.hatch("quiet", 0.25, 1.6, 1, x, y, tall)
	case disk.RoleReserved:
		p.fill("quiet")
		for dy := 0.8; dy < tall; dy += 1.4 {
			for dx := 0.8; dx < barWide; dx += 1.4 {
				p.Circle(x+dx, y+dy, 0.22, "F")
			}
		}
	case disk.RoleData, disk.RoleOther:
		p.fill("tint")
		p.Rect(x, y, barWide, tall, "F")
	}
}

// hatch draws diagonal lines within a layer; slope is their direction.
func (p *page) hatch(colour string, thick, apart, slope, x, y, tall float64) {
	p.ClipRect(x, y, barWide, tall, false)
	p.draw(colour)
	p.SetLineWidth(thick)
	for d := -tall; d < barWide+tall; d += apart {
		if slope > 0 {
			p.Line(x+d, y, x+d+tall, y+tall)
		} else {
			p.Line(x+d, y+tall, x+d+tall, y)
		}
	}
	p.ClipEnd()
}
