package terminal_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/internal/terminal"
)

// What stands where after control functions; ECMA-48, 5th edition, section 8.3.
func TestWhatATerminalShows(t *testing.T) {
	term := terminal.New()
	write := func(s string) { _, _ = term.Write([]byte(s)) }
	rows := func() []string { return strings.Split(term.String(), "\n") }
	write("one\r\ntwo\x1b[5;3Hfive\x1b[1mbold\x1b[0m")
	assert.Equal(t, "one", rows()[0])
	assert.Equal(t, "two", rows()[1])
	assert.Equal(t, "  fivebold", rows()[4])
	assert.True(t, term.Cells()[4][6].Bold)
	write("\x1b[5;3H\x1b[K") // the rest of the line
	assert.Empty(t, rows()[4])
	for _, b := range []byte("\x1b[2;1H\xE2\x94\xB4─") { // byte for byte, as over a line
		write(string([]byte{b}))
	}
	assert.Equal(t, "┴─o", rows()[1])
	write("\x1b[25;1Hlast\r\nafter")
	assert.Equal(t, "after", rows()[24])
	assert.Equal(t, "last", rows()[23], "it rolls up")
	write("\x1b[2J")
	assert.Empty(t, strings.TrimSpace(term.String()))
	write("\x1b[999;999Hx\x1b[A\x1b[200Dy\x1b[33mz")
	assert.Equal(t, "yz", rows()[23])
	assert.Equal(t, 3, term.Cells()[23][1].Color)
}

// Whatever comes, nothing breaks.
func FuzzTerminal(f *testing.F) {
	f.Add([]byte("\x1b[5;3Hx\x1b[K\x1b(B\x1b[?25l\x1b["))
	f.Fuzz(func(_ *testing.T, raw []byte) {
		term := terminal.New()
		for len(raw) > 0 {
			n := min(7, len(raw))
			_, _ = term.Write(raw[:n])
			raw = raw[n:]
		}
		_ = term.String()
	})
}
