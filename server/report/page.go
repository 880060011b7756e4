package report

import (
	"bytes"
	"strconv"
	"strings"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/sfnt"

	"latchkey/core/command"
)

// The page, in millimetres, and the palette of the light theme.
const (
	margin = 18.0
	width  = 210.0
	inner  = width - 2*margin
)

var palette = map[string][3]int{
	"ink": hex("16232e"), "quiet": hex("53616a"), "line": hex("d8d2c4"), "brass": hex("80591a"), "sea": hex("1d6f5c"),
	"rust": hex("a03a1b"), "plum": hex("6b3a74"), "solid": hex("2b3c49"), "tint": hex("efe9db"), "paper": {255, 255, 255},
}

func hex(s string) [3]int {
	n, _ := strconv.ParseUint(s, 16, 32)
	return [3]int{int(n >> 16), int(n >> 8 & 255), int(n & 255)}
}

// page is a document in the making.
type page struct {
	*fpdf.Fpdf
	known *sfnt.Font // tells which signs can be shown
	buf   sfnt.Buffer
}

func newPage(title string) (*page, error) {
	known, err := sfnt.Parse(goregular.TTF)
	if err != nil {
		return nil, err
	}
	p := &page{Fpdf: fpdf.New("P", "mm", "A4", ""), known: known}
	p.AddUTF8FontFromBytes("sans", "", goregular.TTF)
	p.AddUTF8FontFromBytes("sans", "B", gobold.TTF)
	p.AddUTF8FontFromBytes("mono", "", gomono.TTF)
	p.SetMargins(margin, 16, margin)
	p.SetAutoPageBreak(true, 18)
	p.SetTitle(p.text(title), true)
	p.SetCreator("Latchkey", true)
	p.SetLang("en")
	p.AliasNbPages("{pages}")
	p.SetFooterFunc(func() {
		p.SetY(-12)
		p.font("", 8, "quiet")
		p.CellFormat(inner/2, 5, p.text(title), "", 0, "L", false, 0, "")
		p.CellFormat(inner/2, 5, strconv.Itoa(p.PageNo())+" of {pages}", "", 0, "R", false, 0, "")
	})
	return p, nil
}

// bytes ends the document.
func (p *page) bytes() ([]byte, error) {
	var b bytes.Buffer
	err := p.Output(&b)
	return b.Bytes(), err
}

// text is a value as the fonts can show it: a sign that they lack is a box.
func (p *page) text(s string) string {
	s = strings.NewReplacer("\u2006", " ", "\u2060", "", "{pages}", "{ pages }").Replace(command.Clean(s))
	return strings.Map(func(r rune) rune {
		if i, err := p.known.GlyphIndex(&p.buf, r); err != nil || i == 0 || r > 0xFFFF {
			return '\u25a1'
		}
		return r
	}, s)
}

func (p *page) font(style string, size float64, colour string) {
	p.SetFont("sans", style, size)
	c := palette[colour]
	p.SetTextColor(c[0], c[1], c[2])
}

func (p *page) fill(colour string) { c := palette[colour]; p.SetFillColor(c[0], c[1], c[2]) }
func (p *page) draw(colour string) { c := palette[colour]; p.SetDrawColor(c[0], c[1], c[2]) }

func (p *page) para(style string, size float64, colour, s string) {
	p.font(style, size, colour)
	p.MultiCell(inner, size*0.5, p.text(s), "", "L", false)
}

func (p *page) gap(mm float64) { p.Ln(mm) }

// title begins a section, with room for what follows it.
func (p *page) title(s string, room float64) {
	if p.GetY()+room > 297-20 {
		p.AddPage()
	}
	p.gap(2.5)
	p.para("B", 11, "ink", s)
	p.draw("line")
	p.SetLineWidth(0.2)
	p.Line(margin, p.GetY()+0.5, width-margin, p.GetY()+0.5)
	p.gap(1.8)
}

func (p *page) bullets(items []string) {
	for _, i := range items {
		p.font("", 10, "ink")
		p.SetX(margin)
		p.CellFormat(5, 5, "·", "", 0, "C", false, 0, "")
		p.MultiCell(inner-5, 5, p.text(i), "", "L", false)
	}
}

// column is a column of a table: its head and its share of the width.
type column struct {
	head  string
	share float64
}

const most = 1200 // signs of a cell: a note can be long

// table draws rows under heads, which stand again on each page.
func (p *page) table(columns []column, rows [][]string) {
	const size, high = 8.0, 3.7
	heads := func() {
		p.font("B", size, "quiet")
		for _, c := range columns {
			p.CellFormat(c.share*inner, 5, c.head, "B", 0, "L", false, 0, "")
		}
		p.Ln(5.6)
	}
	heads()
	for _, row := range rows {
		lines, tall := make([][]string, len(row)), 1
		p.font("", size, "ink")
		for i, cell := range row {
			if r := []rune(cell); len(r) > most {
				cell = string(r[:most]) + " …"
			}
			lines[i] = p.wrapped(p.text(cell), columns[i].share*inner-1.5)
			tall = max(tall, len(lines[i]))
		}
		if p.GetY()+float64(tall)*high > 297-20 {
			p.AddPage()
			heads()
			p.font("", size, "ink")
		}
		y, x := p.GetY(), margin
		for i := range row {
			for n, l := range lines[i] {
				p.Text(x+1, y+2.9+float64(n)*high, l)
			}
			x += columns[i].share * inner
		}
		y += float64(tall)*high + 0.8
		p.draw("line")
		p.SetLineWidth(0.1)
		p.Line(margin, y, width-margin, y)
		p.SetXY(margin, y+0.6)
	}
	if len(rows) == 0 {
		p.para("", 9, "quiet", "Nothing.")
	}
}

// wrapped breaks a text into lines of a width; a word that is longer is broken, too.
func (p *page) wrapped(s string, mm float64) []string {
	var out []string
	line := ""
	for _, w := range strings.Fields(s) {
		for p.GetStringWidth(w) > mm {
			if line != "" {
				out, line = append(out, line), ""
			}
			n := p.fitting([]rune(w), mm)
			out, w = append(out, string([]rune(w)[:n])), string([]rune(w)[n:])
		}
		switch next := strings.TrimSpace(line + " " + w); {
		case p.GetStringWidth(next) <= mm:
			line = next
		default:
			out, line = append(out, line), w
		}
	}
	return append(out, line)
}

// fitting is how many signs of a word fit into a width, at least one.
func (p *page) fitting(word []rune, mm float64) int {
	wide := 0.0
	for i, r := range word {
		if wide += p.GetStringWidth(string(r)); wide > mm {
			return max(i, 1)
		}
	}
	return len(word)
}
