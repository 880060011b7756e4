package screen_test

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gdamore/tcell/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/repair"
	"latchkey/demo"
	"latchkey/stick"
	"latchkey/stick/screen"
)

// person reads the screen and presses keys.
type person struct {
	t  *testing.T
	on *still
}

// still is a screen that is not read while it is drawn: what it holds is not copied.
type still struct {
	tcell.SimulationScreen
	mu sync.Mutex
}

func (s *still) Show() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.SimulationScreen.Show()
}

func (s *still) Sync() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.SimulationScreen.Sync()
}

func newScreen(t *testing.T) *still {
	on := &still{SimulationScreen: tcell.NewSimulationScreen("UTF-8")}
	require.NoError(t, on.Init())
	return on
}

func (p *person) shown() string {
	p.on.mu.Lock()
	defer p.on.mu.Unlock()
	cells, width, _ := p.on.GetContents()
	var b strings.Builder
	for i, c := range cells {
		if len(c.Runes) > 0 {
			b.WriteRune(c.Runes[0])
		} else {
			b.WriteByte(' ')
		}
		if (i+1)%width == 0 {
			b.WriteByte('\n')
		}
	}
	return b.String()
}

// sees waits for words, which may go over lines.
func (p *person) sees(words string) string {
	p.t.Helper()
	for until := time.Now().Add(time.Minute); time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
		if strings.Contains(strings.Join(strings.Fields(p.shown()), " "), words) {
			return p.shown()
		}
	}
	require.Fail(p.t, "not shown: "+words, p.shown())
	return ""
}

func (p *person) press(keys ...tcell.Key) {
	for _, k := range keys {
		p.on.InjectKey(k, 0, tcell.ModNone)
	}
}

func (p *person) types(text string) {
	for _, r := range text {
		p.on.InjectKey(tcell.KeyRune, r, tcell.ModNone)
	}
}

// led is a session over a case of the demo world, led by a person.
func led(t *testing.T, name string, drives ...string) (*person, *stick.Session, chan error) {
	t.Helper()
	return ledFrom(t, t.TempDir(), name, drives...)
}

// ledFrom is led with what lies on the stick.
func ledFrom(t *testing.T, root, name string, drives ...string) (*person, *stick.Session, chan error) {
	t.Helper()
	off := false
	system := stick.System{Mode: "uefi", Arch: "x64", SecureBoot: &off, Model: "Fenmark D4"}
	if name == "booking" {
		system = stick.System{Mode: "legacy", Model: "Brisling B1"}
	}
	s, err := stick.Begin(root, system, time.Now)
	require.NoError(t, err)
	var found []capture.Found
	open := map[string]*capture.Device{}
	for _, c := range demo.Cases() {
		if !strings.Contains(c.Name, name) {
			continue
		}
		for i, d := range []demo.Drive{c.Original, c.Clone} {
			if i >= len(drives) || drives[i] == "-" || d.Disk == nil {
				continue
			}
			image, err := d.Disk()
			require.NoError(t, err)
			found = append(
				found,
				capture.Found{Path: "/dev/" + drives[i], Size: image.Size, Bus: "sata", Model: "Drive"},
			)
			open["/dev/"+drives[i]] = &capture.Device{
				ReaderAt:          image,
				Closer:            nothing{},
				Size:              image.Size,
				LogicalSectorSize: 512,
			}
		}
	}
	s.Replace(
		func() ([]capture.Found, error) { return found, nil },
		func(path string) (*capture.Device, error) {
			if d := open[path]; d != nil {
				return d, nil
			}
			return nil, os.ErrNotExist
		},
		func(_, _ string) ([]byte, error) {
			return []byte("a line\nand what went wrong"), os.ErrDeadlineExceeded
		},
		t.TempDir(),
	)
	on := newScreen(t)
	on.SetSize(80, 25)
	done := make(chan error, 1)
	go func() { done <- screen.Run(t.Context(), on, s, root, "/dev/sdz") }()
	return &person{t, on}, s, done
}

// What a drive or a firmware is called does not act on the screen.
func TestNamesDoNotAct(t *testing.T) {
	p, s, done := led(t, "north")
	p.sees("sees no drive but itself")
	found := []capture.Found{{Path: "/dev/sdq", Model: "a\x1b[2Jb\u202ec", Size: 1}}
	s.Replace(func() ([]capture.Found, error) { return found, nil },
		func(string) (*capture.Device, error) { return nil, os.ErrClosed }, nil, t.TempDir())
	p.press(tcell.KeyEnter)
	page := p.sees("other: sdq")
	assert.Contains(t, page, "a?[2Jb?c")
	assert.NotContains(t, page, "judge the start", "which is the clone is to be said first")
	p.on.InjectKey(tcell.KeyRune, '1', tcell.ModNone)
	p.sees("clone: sdq")
	p.on.InjectKey(tcell.KeyRune, '1', tcell.ModNone)
	p.sees("The start, without the stick")
	p.press(tcell.KeyUp, tcell.KeyEnter)
	p.sees("take the stick out")
	p.press(tcell.KeyEnter)
	require.NoError(t, <-done)
}

type nothing struct{}

func (nothing) Close() error { return nil }

// Arrow keys and Enter lead through everything at 80 columns; nothing is written over the edge.
func TestAWayThroughTheStick(t *testing.T) {
	p, s, done := led(t, "north", "sda", "sdb")
	page := p.sees("Which drive is which?")
	assert.Contains(t, page, "original: sda")
	assert.Contains(t, page, "clone: sdb")
	assert.Contains(t, page, "Started in UEFI mode, secure boot is off.")
	assert.Contains(t, page, "2 sda is the clone")
	p.press(tcell.KeyDown, tcell.KeyEnter)
	assert.Contains(t, p.sees("clone: sda"), "other: sdb", "two drives are never the same")
	p.press(tcell.KeyDown, tcell.KeyEnter)
	assert.NotContains(t, p.sees("other: sda"), "judge the start")
	p.press(tcell.KeyDown, tcell.KeyEnter) // the second of two
	p.sees("clone: sdb")
	p.press(tcell.KeyDown, tcell.KeyEnter)
	p.sees("original: sda")
	p.press(tcell.KeyEnter)
	page = p.sees("The start, without the stick")
	assert.Contains(t, page, "1 Drive")
	assert.Contains(t, page, "clone ──")
	for _, line := range strings.Split(page, "\n") {
		assert.LessOrEqual(t, len([]rune(line)), 80)
	}
	p.press(tcell.KeyUp, tcell.KeyEnter)
	p.sees("take the stick out")
	p.press(tcell.KeyEnter)
	require.NoError(t, <-done)
	record, err := os.ReadFile(filepath.Join(s.Folder, "record.txt"))
	require.NoError(t, err)
	assert.Contains(t, string(record), "finished: ")
}

// comesToTheRepair goes to the page that offers the repair: what is asked is answered by the first of
// the answers.
func (p *person) comesToTheRepair() {
	p.t.Helper()
	p.sees("clone: sdb")
	p.press(tcell.KeyEnter)
	for range 6 {
		if page := p.sees("The start, without the stick"); strings.Contains(page, "> 1 Repair it, in") {
			break
		}
		p.press(tcell.KeyEnter)
		time.Sleep(300 * time.Millisecond)
	}
	p.sees("> 1 Repair it, in")
}

// A step is done only when the capacity of its drive was typed; a command that fails is shown
// with what it said.
func TestAStepIsConfirmedAndAFailureShown(t *testing.T) {
	p, s, done := led(t, "booking", "-", "sdb")
	p.comesToTheRepair()
	step, ok := s.Next()
	require.True(t, ok, s.Plan.Reason)
	p.press(tcell.KeyEnter)
	p.sees("type its capacity")
	p.types("1")
	p.press(tcell.KeyEnter)
	p.sees("is not the capacity")
	p.press(tcell.KeyEnter)
	page := strings.Join(strings.Fields(p.sees("type its capacity")), " ")
	_, asked, _ := strings.Cut(page, "type its capacity, ")
	number, _, _ := strings.Cut(asked, " ")
	assert.True(t, s.Confirms(step, number))
	p.types(number + "9")
	p.press(tcell.KeyBackspace, tcell.KeyEnter)
	p.sees("and what went wrong")
	p.press(tcell.KeyEnter)
	without := strings.Join(strings.Fields(p.sees("Left out, as it failed here: "+step.Title)), " ")
	assert.NotContains(t, without, "Repair it, in one step: "+step.Title)
	p.press(tcell.KeyUp, tcell.KeyUp, tcell.KeyUp, tcell.KeyUp, tcell.KeyEnter) // before: roles, look again, finish
	again := p.sees("Repair it, in")
	assert.NotContains(t, again, "Left out")
	assert.NotContains(t, again, "Offer what failed again")
	p.press(tcell.KeyUp, tcell.KeyEnter)
	p.sees("take the stick out")
	p.press(tcell.KeyEnter)
	require.NoError(t, <-done)
}

// What is done by hand comes with what it is followed by: the stick is needed again.
func TestAStepByHandBeforeOneOfTheSticks(t *testing.T) {
	p, s, done := led(t, "booking", "-", "sdb")
	p.comesToTheRepair()
	unplug := repair.PlanStep{Action: "detach-original", Title: "Unplug it", Form: repair.Form{Toolbox: repair.Firmware,
		Commands: []repair.Command{{Text: "Power off, and unplug it."}}}}
	one := s.Plan.Steps[0]
	s.Plan.Steps = []repair.PlanStep{unplug, one}
	byHand, then := s.ByHandFirst()
	assert.Equal(t, []repair.PlanStep{unplug}, byHand)
	assert.Equal(t, 1, then)
	p.press(tcell.KeyEnter)
	p.sees("This is done by hand, once the stick is out. Then start from the stick again, for one step more.")
	p.press(tcell.KeyEnter)
	p.sees("Still to be done by hand: Unplug it Power off, and unplug it.")
	p.sees("take the stick out. Then start from the stick again, for one step more.")
	p.press(tcell.KeyEnter)
	require.NoError(t, <-done)

	s.Plan.Steps = []repair.PlanStep{one, unplug}
	byHand, _ = s.ByHandFirst()
	assert.Empty(t, byHand)
	s.Plan.Steps = []repair.PlanStep{unplug}
	byHand, then = s.ByHandFirst()
	assert.Len(t, byHand, 1)
	assert.Zero(t, then)
}

// At the next start the step that did not end is asked about.
func TestAnInterruptedStepIsAskedAbout(t *testing.T) {
	p, s, done := led(t, "north")
	p.sees("sees no drive but itself")
	root := filepath.Dir(filepath.Dir(s.Folder))
	begun := filepath.Join(s.Folder, "step-1")
	require.NoError(t, os.Mkdir(begun, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(begun, "begun.txt"), []byte("Write a table\r\n"), 0o600))
	p.press(tcell.KeyDown, tcell.KeyEnter)
	p.sees("take the stick out")
	p.press(tcell.KeyEnter)
	require.NoError(t, <-done)
	on := newScreen(t)
	go func() { done <- screen.Run(t.Context(), on, s, root, "/dev/sdz") }()
	next := &person{t, on}
	next.sees("did not end, as when the power is cut: Write a table")
	next.press(tcell.KeyEnter)
	next.sees("sees no drive but itself")
	next.press(tcell.KeyDown, tcell.KeyEnter)
	next.sees("take the stick out")
	next.press(tcell.KeyEnter)
	require.NoError(t, <-done)
	_, _, found := stick.Interrupted(root)
	assert.False(t, found)
}
