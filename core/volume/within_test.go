package volume_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/volume"
	"latchkey/internal/reference"
)

// A folder that stands for a root is where its links begin, and they lead nowhere out of it. path_resolution(7).
func TestLinksWithinARoot(t *testing.T) {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "@/lib/systemd/systemd"), []byte("own"))
	write(t, filepath.Join(dir, "lib/other"), []byte("the top's"))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "@/sbin"), 0o755))
	for name, to := range map[string]string{"init": "/lib/systemd/systemd", "up": "../../../lib/systemd/systemd", "out": "../../lib/other", "top": "/lib/other"} {
		require.NoError(t, os.Symlink(to, filepath.Join(dir, "@/sbin", name)))
	}
	path := reference.Image(t, 32<<20)
	reference.Run(t, "", "mkfs.ext4", "-q", "-F", "-d", dir, path)
	v := examine(t, path, 512, 2048)
	require.NotNil(t, v.Files, v.FilesErr)
	own := volume.Within(v.Files, "/@")
	for name, want := range map[string][2]bool{"init": {false, true}, "up": {false, true}, "out": {true, false}, "top": {true, false}} {
		_, err := v.Files.Lookup("/@/sbin/" + name)
		assert.Equal(t, want[0], err == nil, "%s, as a boot loader follows it", name)
		_, err = own.Lookup("/@/sbin/" + name)
		assert.Equal(t, want[1], err == nil, "%s, as the system follows it", name)
		if err != nil {
			assert.ErrorIs(t, err, volume.ErrNotFound)
		}
	}
}
