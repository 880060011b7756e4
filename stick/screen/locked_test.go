package screen_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/gdamore/tcell/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
	"latchkey/stick"
	"latchkey/stick/screen"
)

// lockedStick leads over a machine with an encrypted clone, whose scripts say and end as told.
func lockedStick(t *testing.T, d diskmaker.Disk, said string, ends error) (*person, *stick.Session, *[]string,
	chan error) {
	t.Helper()
	image := d.MustBuild()
	off := false
	system := stick.System{Mode: "uefi", Arch: "x64", SecureBoot: &off, Model: "Fenmark D4"}
	s, err := stick.Begin(t.TempDir(), system, time.Now)
	require.NoError(t, err)
	typed := &[]string{}
	s.Replace(
		func() ([]capture.Found, error) {
			return []capture.Found{{Path: "/dev/sda", Size: image.Size, Bus: "sata", Model: "Drive"}}, nil
		},
		func(string) (*capture.Device, error) {
			return &capture.Device{ReaderAt: image, Closer: nothing{}, Size: image.Size, LogicalSectorSize: 512}, nil
		},
		func(_, line string) ([]byte, error) {
			*typed = append(*typed, line)
			return []byte(said), ends
		}, t.TempDir())
	on := newScreen(t)
	on.SetSize(80, 25)
	done := make(chan error, 1)
	go func() { done <- screen.Run(t.Context(), on, s, filepath.Dir(filepath.Dir(s.Folder)), "/dev/sdz") }()
	p := &person{t, on}
	if !strings.Contains(p.sees(": sda"), "clone: sda") {
		p.types("1") // it is the clone
	}
	p.sees("clone: sda")
	p.on.InjectKey(tcell.KeyRune, '1', tcell.ModNone)
	return p, s, typed, done
}

// confirms types the capacity that a step asks for, and comes to the passphrase.
func (p *person) confirms() {
	page := strings.Join(strings.Fields(p.sees("type its capacity")), " ")
	_, asked, _ := strings.Cut(page, "type its capacity, ")
	number, _, _ := strings.Cut(asked, " ")
	p.types(number)
	p.press(tcell.KeyEnter)
	p.sees("Type its passphrase")
}

// finishes switches the machine off.
func (p *person) finishes(done chan error) {
	p.sees("The start, without the stick")
	p.press(tcell.KeyUp, tcell.KeyEnter)
	p.sees("take the stick out")
	p.press(tcell.KeyEnter)
	require.NoError(p.t, <-done)
}

// A step that opens what is encrypted asks for its passphrase, which is shown nowhere, goes to
// the commands alone, and is in no file of the stick.
func TestThePassphraseOfAStep(t *testing.T) {
	d := sample.With(sample.EncryptedLinuxDisk("/dev/mapper/kiosk--vg-root"), 0, sample.FallbackPath, "")
	p, s, typed, done := lockedStick(t, d, "No key available with this passphrase.", os.ErrInvalid)
	for range 8 {
		if strings.Contains(p.sees("The start, without the stick"), "> 1 Repair it, in") {
			break
		}
		p.press(tcell.KeyEnter)
		time.Sleep(300 * time.Millisecond)
	}
	p.sees("> 1 Repair it, in")
	p.press(tcell.KeyEnter)
	p.confirms()
	p.types("Geh heim!")
	page := p.sees("> *********_")
	assert.Contains(t, page, "partition 3 of")
	assert.NotContains(t, page, "Geh")
	p.press(tcell.KeyEnter)
	p.sees("No key available")
	assert.Equal(t, []string{"Geh heim!\n"}, *typed)
	p.press(tcell.KeyEnter)
	p.finishes(done)
	files, err := filepath.Glob(filepath.Join(s.Folder, "*"))
	require.NoError(t, err)
	inside, err := filepath.Glob(filepath.Join(s.Folder, "*", "*"))
	require.NoError(t, err)
	for _, name := range append(files, inside...) {
		if raw, err := os.ReadFile(name); err == nil {
			assert.NotContains(t, string(raw), "Geh heim", name)
		}
	}
}

// What a step that only looks has said is shown: a person answers by it.
func TestWhatALookInsideSays(t *testing.T) {
	p, _, _, done := lockedStick(t, sample.EncryptedLinuxDisk("/dev/mapper/kiosk--vg-root"), "kiosk--vg-root ext4", nil)
	p.sees("The start, without the stick")
	p.sees("may lie in partition 3")
	for range 4 {
		if strings.Contains(p.shown(), "> 3 Repair it") {
			break
		}
		p.press(tcell.KeyDown)
		time.Sleep(200 * time.Millisecond)
	}
	p.sees("> 3 Repair it")
	p.press(tcell.KeyEnter)
	p.confirms()
	p.types("x")
	p.press(tcell.KeyEnter)
	page := p.sees("Done. What it said:")
	assert.Contains(t, page, "kiosk--vg-root ext4")
	p.press(tcell.KeyEnter)
	p.finishes(done)
}
