// Package terminal keeps what a terminal of 80 columns shows: enough of a VT100 to read what a
// program drew on a serial line. ECMA-48, 5th edition, section 8.3: CUP, ED, EL, SGR.
package terminal

import (
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// The size of the terminal, in characters.
const (
	Columns = 80
	Rows    = 25
)

// Cell is a character with the number of its colour, from 0; Reverse is set where ink and
// ground are exchanged.
type Cell struct {
	Rune          rune
	Color         int
	Bold, Reverse bool
}

// Terminal is what is shown.
type Terminal struct {
	cells [Rows][Columns]Cell
	x, y  int
	pen   Cell
	rest  []byte // of a sequence that has not come to its end
}

// New is an empty terminal.
func New() *Terminal {
	t := &Terminal{pen: Cell{Rune: ' ', Color: 7}}
	t.clear(0, 0)
	return t
}

func (t *Terminal) clear(y, x int) {
	for ; y < Rows; y, x = y+1, 0 {
		for ; x < Columns; x++ {
			t.cells[y][x] = Cell{Rune: ' ', Color: 7}
		}
	}
}

var sequence = regexp.MustCompile(`^\x1b(?:\[([0-9;?]*)([A-Za-z@])|[()][A-Z0-9]|[=>78cDEHM])`)

// Write takes in what was sent.
func (t *Terminal) Write(p []byte) (int, error) {
	b := append(t.rest, p...)
	t.rest = nil
	for len(b) > 0 {
		if b[0] == 0x1b {
			m := sequence.FindSubmatch(b)
			switch {
			case m != nil:
				t.control(string(m[1]), string(m[2]))
				b = b[len(m[0]):]
			case len(b) < 24:
				t.rest = append([]byte{}, b...)
				return len(p), nil
			default:
				b = b[1:]
			}
			continue
		}
		if !utf8.FullRune(b) {
			t.rest = append([]byte{}, b...)
			return len(p), nil
		}
		r, n := utf8.DecodeRune(b)
		b = b[n:]
		t.put(r)
	}
	return len(p), nil
}

func (t *Terminal) put(r rune) {
	switch {
	case r == '\r':
		t.x = 0
	case r == '\n':
		t.down()
	case r == '\b':
		t.x = max(0, t.x-1)
	case r >= ' ':
		if t.x == Columns {
			t.x = 0
			t.down()
		}
		cell := t.pen
		cell.Rune = r
		t.cells[t.y][t.x] = cell
		t.x++
	}
}

func (t *Terminal) down() {
	if t.y++; t.y < Rows {
		return
	}
	t.y = Rows - 1
	copy(t.cells[:], t.cells[1:])
	t.clear(Rows-1, 0)
}

func (t *Terminal) control(args, final string) {
	var n []int
	for a := range strings.SplitSeq(strings.TrimPrefix(args, "?"), ";") {
		v, _ := strconv.Atoi(a)
		n = append(n, v)
	}
	at := func(i, least int) int {
		if i < len(n) {
			return max(least, n[i])
		}
		return least
	}
	switch final {
	case "H", "f":
		t.y, t.x = min(at(0, 1), Rows)-1, min(at(1, 1), Columns)-1
	case "J":
		if at(0, 0) == 2 {
			t.clear(0, 0)
		} else {
			t.clear(t.y, min(t.x, Columns-1))
		}
	case "K":
		for x := min(t.x, Columns-1); x < Columns; x++ {
			t.cells[t.y][x] = Cell{Rune: ' ', Color: 7}
		}
	case "A":
		t.y = max(0, t.y-at(0, 1))
	case "B":
		t.y = min(Rows-1, t.y+at(0, 1))
	case "C":
		t.x = min(Columns-1, t.x+at(0, 1))
	case "D":
		t.x = max(0, t.x-at(0, 1))
	case "m":
		t.paint(n)
	}
}

// paint sets the pen: SGR.
func (t *Terminal) paint(n []int) {
	for _, v := range n {
		switch {
		case v == 0:
			t.pen = Cell{Color: 7}
		case v == 1:
			t.pen.Bold = true
		case v == 7:
			t.pen.Reverse = true
		case v >= 30 && v <= 37:
			t.pen.Color = v - 30
		case v == 39:
			t.pen.Color = 7
		}
	}
}

// Cells are the rows from the top.
func (t *Terminal) Cells() [Rows][Columns]Cell { return t.cells }

// String is what is shown, row by row.
func (t *Terminal) String() string {
	var b strings.Builder
	for _, row := range t.cells {
		var line strings.Builder
		for _, c := range row {
			line.WriteRune(c.Rune)
		}
		b.WriteString(strings.TrimRight(line.String(), " ") + "\n")
	}
	return b.String()
}
