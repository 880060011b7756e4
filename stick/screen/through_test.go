package screen_test

import (
	"io"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gdamore/tcell/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
	"latchkey/stick"
	"latchkey/stick/screen"
)

// slow is a drive that waits, once it shall, until somebody lets it go on.
type slow struct {
	io.ReaderAt
	from int64
	wait chan struct{}
	held sync.Once
	at   chan struct{} // closed once a read waits
}

func (s *slow) ReadAt(b []byte, off int64) (int, error) {
	if s.wait != nil && off > s.from && off < 60<<30 {
		s.held.Do(func() { close(s.at) })
		<-s.wait
	}
	return s.ReaderAt.ReadAt(b, off)
}

// ledOver is a session, led by a person, over drives of which each holds the same.
func ledOver(t *testing.T, holds io.ReaderAt, size int64, there func() []string) (*person, *stick.Session, chan error) {
	t.Helper()
	root := t.TempDir()
	s, err := stick.Begin(root, stick.System{Mode: "uefi", Arch: "x64", Model: "Fenmark D4"}, time.Now)
	require.NoError(t, err)
	s.Replace(func() (found []capture.Found, err error) {
		for _, path := range there() {
			found = append(found, capture.Found{Path: path, Size: size, Bus: "sata"})
		}
		return found, nil
	}, func(string) (*capture.Device, error) {
		return &capture.Device{ReaderAt: holds, Closer: nothing{}, Size: size, LogicalSectorSize: 512}, nil
	}, nil, t.TempDir())
	on := newScreen(t)
	on.SetSize(80, 25)
	done := make(chan error, 1)
	go func() { done <- screen.Run(t.Context(), on, s, root, "/dev/sdz") }()
	return &person{t, on}, s, done
}

// A drive without a table may be looked through to its end; that goes on until it is done, or
// until a person ends it.
func TestLookingThroughADrive(t *testing.T) {
	m := diskmaker.Disk{Sectors: 64 << 30 / 512, Style: diskmaker.GPT, Partitions: []diskmaker.Partition{
		{Type: disk.TypeLinuxData, MiB: 50 << 10, Volume: diskmaker.Volume{}},
		{Type: disk.TypeLinuxData, MiB: 64, Volume: diskmaker.Volume{Kind: "ext4", UUID: [16]byte{1}}},
	}}.MustBuild()
	for _, at := range []int64{0, m.Size - 34*512} {
		_, err := m.WriteAt(make([]byte, 34*512), at)
		require.NoError(t, err)
	}
	drive := &slow{ReaderAt: m, from: 30 << 30}
	p, s, done := ledOver(t, drive, m.Size, func() []string { return []string{"/dev/sda"} })

	page := strings.Join(strings.Fields(p.sees("Which drive is which?")), " ")
	assert.Contains(t, page, "Its table tells of no partition. Volumes were looked for up to 7.75 GiB: 0 found.")
	assert.Contains(t, page, "Look through all of sda for volumes")
	wait := make(chan struct{})
	drive.wait, drive.at = wait, make(chan struct{})
	p.types("3")
	p.sees("30 GiB of 64 GiB, 0 found")
	<-drive.at // else it would end before anybody saw that it is to
	p.press(tcell.KeyEnter)
	p.sees("It ends as soon as the drive has answered.")
	close(wait)
	p.sees("looked for up to 30 GiB: 0 found")
	p.types("3")
	require.Eventually(t, func() bool {
		now := p.shown()
		return strings.Contains(now, "Which drive is which?") && !strings.Contains(now, "Look through")
	}, time.Minute, 20*time.Millisecond)
	require.Len(t, s.Drives[0].Contents.Found, 1)
	files, err := os.ReadDir(s.Folder)
	require.NoError(t, err)
	captures := 0
	for _, f := range files {
		if strings.HasSuffix(f.Name(), ".lkcap") || strings.HasPrefix(f.Name(), "taking-") {
			captures++
		}
	}
	assert.Equal(t, 1, captures, "%v", files)
	p.types("1")
	p.sees("The start, without the stick")
	p.press(tcell.KeyUp, tcell.KeyEnter)
	p.sees("take the stick out")
	p.press(tcell.KeyEnter)
	require.NoError(t, <-done)
}

// A drive that comes late is there after looking again, and which is which is asked anew.
func TestADriveThatComesLate(t *testing.T) {
	image := diskmaker.Disk{Sectors: 64 << 20 / 512, Style: diskmaker.GPT, Partitions: []diskmaker.Partition{
		{Type: disk.TypeLinuxData, MiB: 16, Volume: diskmaker.Volume{}}}}.MustBuild()
	there := []string{"/dev/sda"}
	p, _, done := ledOver(t, image, image.Size, func() []string {
		now := there
		there = []string{"/dev/sda", "/dev/sdb"}
		return now
	})
	assert.NotContains(t, p.sees("Which drive is which?"), "sdb")
	p.press(tcell.KeyUp, tcell.KeyEnter)
	page := p.sees(": sdb")
	assert.Contains(t, page, "Which drive is which?")
	assert.NotContains(t, page, "clone: sda", "what was guessed of one drive alone is not kept")
	assert.Contains(t, strings.Join(strings.Fields(page), " "), "sda and sdb carry the same identifier")
	p.types("2")
	p.sees("clone: sdb")
	p.types("1")
	p.sees("The start, without the stick")
	p.press(tcell.KeyUp, tcell.KeyEnter)
	p.sees("take the stick out")
	p.press(tcell.KeyEnter)
	require.NoError(t, <-done)
}
