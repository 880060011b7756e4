package stick

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/internal/reference"
)

type nothing struct{}

func (nothing) Close() error { return nil }

// lsblk tells the serial number that was put down, where no udev runs.
func TestSerialNumbersArePutDown(t *testing.T) {
	device := reference.Loop(t, reference.Image(t, 1<<20))
	dir := t.TempDir()
	s := &Session{Folder: dir, now: nil}
	s.world.serials = filepath.Join(dir, "data")
	s.world.disks = func() ([]capture.Found, error) { return []capture.Found{{Path: device}, {Path: "/dev/none"}}, nil }
	serial := "QM 00007"
	s.world.open = func(path string) (*capture.Device, error) {
		if path != device {
			return nil, errors.New("not there")
		}
		return &capture.Device{Closer: nothing{}, Serial: serial}, nil
	}
	s.putSerialsDown()
	files, err := os.ReadDir(s.world.serials)
	require.NoError(t, err)
	require.Len(t, files, 1)
	raw, err := os.ReadFile(filepath.Join(s.world.serials, files[0].Name()))
	require.NoError(t, err)
	assert.Equal(t, "E:ID_SERIAL_SHORT=QM 00007\n", string(raw))

	serial = "QM\nE:ID_FS_TYPE=x" // what a drive says never acts
	require.NoError(t, os.RemoveAll(s.world.serials))
	s.putSerialsDown()
	assert.NoDirExists(t, s.world.serials)

	if _, err := os.Stat("/run/udev/control"); err == nil {
		t.Skip("a udev runs here, whose knowledge is left alone")
	}
	serial, s.world.serials = "QM00007", serialsFolder
	s.putSerialsDown()
	t.Cleanup(func() { _ = os.Remove(filepath.Join(serialsFolder, files[0].Name())) })
	assert.Equal(t, "QM00007", strings.TrimSpace(reference.Run(t, "", "lsblk", "-dnro", "SERIAL", device)))
}
