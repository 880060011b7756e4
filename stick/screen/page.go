// Package screen draws the stick's pages in a terminal, at 80×25 and on a serial line. Arrow
// keys and Enter are enough for everything.
package screen

import (
	"fmt"
	"strings"
	"unicode"

	"github.com/gdamore/tcell/v2"
	"github.com/rivo/uniseg"
)

// Styles: ink on the terminal's own ground, brass for what is selected or to be pressed.
var (
	plain = tcell.StyleDefault
	quiet = plain.Dim(true)
	title = plain.Bold(true)
	brass = plain.Foreground(tcell.ColorOlive).Bold(true)
	press = plain.Foreground(tcell.ColorOlive).Reverse(true)
	rust  = plain.Foreground(tcell.ColorMaroon).Bold(true)
	green = plain.Foreground(tcell.ColorGreen).Bold(true)
)

// line is a line of a page.
type line struct {
	text  string
	style tcell.Style
}

// option is something that can be chosen.
type option struct {
	key   string // what it is to the program
	label string
}

// page is what is shown: its title, its lines, and what can be chosen below them.
type page struct {
	title   string
	lines   []line
	options []option
	field   bool // a line is typed before one is chosen
	secret  bool // and is not shown
}

func (p *page) say(style tcell.Style, text string) {
	for part := range strings.SplitSeq(text, "\n") {
		p.lines = append(p.lines, line{part, style})
	}
}

func (p *page) gap() { p.lines = append(p.lines, line{}) }

// terminal is the screen with what is typed into it.
type terminal struct {
	screen tcell.Screen
	from   int // the first line of the page that is shown
}

// wrap breaks a text into lines of at most so many characters, between words.
func wrap(text string, width int) []string {
	var out []string
	current := ""
	for _, word := range strings.Fields(text) {
		for len([]rune(word)) > width {
			if current != "" {
				out, current = append(out, current), ""
			}
			out, word = append(out, string([]rune(word)[:width])), string([]rune(word)[width:])
		}
		switch {
		case current == "":
			current = word
		case len([]rune(current))+1+len([]rune(word)) <= width:
			current += " " + word
		default:
			out, current = append(out, current), word
		}
	}
	if current != "" || len(out) == 0 {
		out = append(out, current)
	}
	return out
}

// folded are a page's lines as they fit into a width; drawings, which begin with a blank, are
// cut and not wrapped.
func (p *page) folded(width int) []line {
	var out []line
	for _, l := range p.lines {
		if strings.HasPrefix(l.text, " ") {
			out = append(out, l)
			continue
		}
		for _, s := range wrap(l.text, width) {
			out = append(out, line{s, l.style})
		}
	}
	return out
}

// put writes a text; signs that would act in a terminal, as names on a disk can hold them, are
// question marks.
func (t *terminal) put(x, y int, text string, style tcell.Style, width int) {
	for _, r := range text {
		if x >= width {
			return
		}
		if !unicode.IsPrint(r) {
			r = '?'
		}
		t.screen.SetContent(x, y, r, nil, style)
		x += max(1, uniseg.StringWidth(string(r)))
	}
}

// draw shows a page with an option selected.
func (t *terminal) draw(p *page, selected int, typed string) {
	width, height := t.screen.Size()
	t.screen.Clear()
	top := t.drawHead(p, width)
	options := p.marked(selected, width-2)
	y := height - 1 - len(options)
	if p.field {
		y--
	}
	t.drawLines(p, top, y-1, width)
	t.put(0, y-1, strings.Repeat("─", width), quiet, width)
	hint := "Arrow keys choose, Enter takes; so does a number."
	if p.field {
		if p.secret {
			typed = strings.Repeat("*", len([]rune(typed)))
		}
		t.put(1, y, "> "+typed+"_", title, width)
		y++
		hint = "Type it; arrow keys choose, Enter takes."
	}
	for i, o := range options {
		t.put(1, y+i, o.text, o.style, width)
	}
	t.put(1, height-1, hint, quiet, width)
	t.screen.Show()
}

// drawHead shows the title, and returns the first line below it.
func (t *terminal) drawHead(p *page, width int) (y int) {
	t.put(1, 0, "Latchkey", brass, width)
	for _, s := range wrap(p.title, width-12) {
		t.put(11, y, s, title, width)
		y++
	}
	t.put(0, y, strings.Repeat("─", width), quiet, width)
	return y + 1
}

// drawLines shows as many of a page's lines as there is room for, from a line to before another.
func (t *terminal) drawLines(p *page, from, to, width int) {
	room := max(1, to-from)
	lines := p.folded(width - 2)
	t.from = max(0, min(t.from, len(lines)-room))
	for i, l := range lines[t.from:min(len(lines), t.from+room)] {
		t.put(1, from+i, l.text, l.style, width-1)
	}
	if len(lines) > room {
		t.put(width-24, from-1, " PgUp, PgDn: more ", quiet, width)
	}
}

// marked are the options as lines of at most so many signs: the selected one with its mark, each
// with its number, and what does not fit below it.
func (p *page) marked(selected, width int) (lines []line) {
	for i, o := range p.options {
		style, mark := plain, "  "
		if i == selected {
			style, mark = press, "> "
		}
		if !p.field && o.key != "" {
			mark += fmt.Sprint(i+1, " ")
		}
		for _, s := range wrap(o.label, width-len(mark)) {
			lines = append(lines, line{mark + s + " ", style})
			mark = strings.Repeat(" ", len(mark))
		}
	}
	return lines
}

// mostTyped is how long a line may be, in bytes: what a passphrase may be. cryptsetup(8),
// "Notes on passphrase processing".
const mostTyped = 512

// choose shows a page until one of its options is taken; typed is what was typed before.
func (t *terminal) choose(p *page) (key, typed string) {
	selected := 0
	t.from = 0
	for {
		t.draw(p, selected, typed)
		e, ok := t.screen.PollEvent().(*tcell.EventKey)
		if !ok {
			if t.screen.HasPendingEvent() {
				continue
			}
			t.screen.Sync()
			continue
		}
		switch e.Key() {
		case tcell.KeyUp:
			selected = (selected + len(p.options) - 1) % len(p.options)
		case tcell.KeyDown, tcell.KeyTab:
			selected = (selected + 1) % len(p.options)
		case tcell.KeyPgUp:
			t.from -= 8
		case tcell.KeyPgDn:
			t.from += 8
		case tcell.KeyBackspace, tcell.KeyBackspace2:
			if r := []rune(typed); len(r) > 0 {
				typed = string(r[:len(r)-1])
			}
		case tcell.KeyEnter:
			return p.options[selected].key, typed
		case tcell.KeyRune:
			// A number takes its option: an arrow may come in pieces over a slow line.
			if n := int(e.Rune() - '1'); !p.field && n >= 0 && n < len(p.options) {
				return p.options[n].key, typed
			}
			if p.field && len(typed) < mostTyped {
				typed += string(e.Rune())
			}
		}
	}
}
