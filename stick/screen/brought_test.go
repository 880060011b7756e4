package screen_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/gdamore/tcell/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/planfile"
	"latchkey/core/machine"
)

// A plan that lies on the stick is shown with what it is for; one for another machine is
// refused with a sentence, and nothing of it is done.
func TestAPlanIsShownOrRefused(t *testing.T) {
	root := t.TempDir()
	put := func(f planfile.File) {
		raw, err := f.Encode()
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(root, planfile.Name), raw, 0o600))
	}
	leave := func(p *person, done chan error) {
		p.press(tcell.KeyUp, tcell.KeyEnter)
		p.sees("take the stick out")
		p.press(tcell.KeyEnter)
		require.NoError(t, <-done)
	}
	put(
		planfile.File{
			Case:   "The hall\x1b[2J",
			Drives: []planfile.Drive{{Role: machine.RoleClone, Bytes: 7e9, ID: "x", Serial: "S7"}},
			Steps:  []planfile.Step{{Key: "first", Title: "Put the clone first"}},
		},
	)
	p, s, done := ledFrom(t, root, "north", "sda", "sdb")
	page := strings.Join(strings.Fields(p.sees("It is not carried out")), " ")
	assert.Contains(t, page, "for another machine")
	assert.Contains(t, page, "serial number S7")
	p.press(tcell.KeyEnter)
	p.sees("Which drive is which?")
	assert.False(t, s.ByBrought())
	p.press(tcell.KeyEnter)
	p.sees("The start, without the stick")
	clone := s.ByRole(machine.RoleClone)
	id, _ := clone.Contents.Layout.DiskID().Get()
	leave(p, done)

	put(
		planfile.File{
			Case:   "The hall\x1b[2J",
			Drives: []planfile.Drive{{Role: machine.RoleClone, Bytes: clone.Size, ID: id}},
			Steps:  []planfile.Step{{Key: "gone", Title: "A step that is none here"}},
		},
	)
	p, _, done = ledFrom(t, root, "north", "sda", "sdb")
	page = p.sees("A plan lies on the stick")
	assert.Contains(t, page, "The hall")
	assert.NotContains(t, page, "\x1b")
	assert.Contains(t, page, "1. A step that is none here")
	p.press(tcell.KeyEnter)
	p.sees("Which drive is which?")
	p.press(tcell.KeyEnter)
	p.sees("The plan of the case is left")
	leave(p, done)

	p, s, done = ledFrom(t, root, "north", "sda", "sdb")
	p.sees("A plan lies on the stick")
	p.press(tcell.KeyDown, tcell.KeyEnter)
	p.sees("Which drive is which?")
	assert.False(t, s.ByBrought())
	p.press(tcell.KeyEnter)
	assert.NotContains(t, p.sees("The start, without the stick"), "plan of the case")
	leave(p, done)
}
