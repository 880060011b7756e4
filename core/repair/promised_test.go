package repair_test

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/repair"
	"latchkey/internal/reference"
	"latchkey/truth"
)

// promised are the actions that put back the very bytes which were there: a copy that the disk
// keeps, a mark, a figure.
var promised = map[string]bool{"copy-boot-sector": true, "copy-fat": true, "set-active": true, "hidden-sectors": true,
	"restore-primary": true, "unhide": true}

// What a repair puts back is the undamaged disk, byte by byte: its commands are carried out on
// the damaged one.
func TestARepairedDiskIsTheUndamagedOne(t *testing.T) {
	reference.Need(t, "sfdisk")
	held := map[string]bool{}
	for i, s := range systems {
		if testing.Short() && i == 1 {
			continue // as the first is laid out
		}
		for _, d := range s.damages {
			image, whole := s.disk.MustBuild(), s.disk.MustBuild()
			d.spoil(image)
			plan := repair.Find(s.machine(t, image, false), repair.Linux)
			if len(plan.Steps) != 1 || !promised[plan.Steps[0].Action] || !truth.OnDiskAlone(plan) {
				continue
			}
			folder := reference.Folder(t)
			was, path := filepath.Join(folder, "was.img"), filepath.Join(folder, "clone.img")
			require.NoError(t, whole.WriteFile(was))
			require.NoError(t, image.WriteFile(path))
			answer, err := truth.CarryOut(path, plan)
			require.NoError(t, err, answer)
			assert.Equal(t, int64(-1), firstDifference(t, was, path), "%s: %s, by %s", s.name, d.name, plan.Steps[0].Action)
			held[plan.Steps[0].Action] = true
			require.NoError(t, os.Remove(was))
			require.NoError(t, os.Remove(path))
		}
	}
	assert.GreaterOrEqual(t, len(held), 4, "%v", held)
}

// firstDifference is the first byte, rounded to 64 KiB, in which two files differ; -1 for none.
func firstDifference(t *testing.T, a, b string) int64 {
	t.Helper()
	var files [2]*os.File
	for i, path := range []string{a, b} {
		f, err := os.Open(path)
		require.NoError(t, err)
		defer f.Close()
		files[i] = f
	}
	x, y := make([]byte, 64<<10), make([]byte, 64<<10)
	for at := int64(0); ; at += int64(len(x)) {
		n, errA := io.ReadFull(files[0], x)
		m, errB := io.ReadFull(files[1], y)
		if !bytes.Equal(x[:n], y[:m]) {
			return at
		}
		if errA != nil || errB != nil {
			return -1
		}
	}
}
