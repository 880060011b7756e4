package stick

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/internal/reference"
)

// A script that failed leaves nothing mounted below /mnt: given again it fails for the same reason, and
// not because it is mounted already. What was mounted before stays.
func TestAFailedStepLeavesNothingMounted(t *testing.T) {
	if os.Getuid() != 0 {
		reference.Lacks(t, "only root mounts")
	}
	at, err := os.MkdirTemp("/mnt", "latchkey")
	require.NoError(t, err)
	defer os.RemoveAll(at)
	script := filepath.Join(t.TempDir(), "step.sh")
	text := "set -e\nmount -t tmpfs none " + at + "\nmkdir " + at + "/in\nmount -t tmpfs none " + at + "/in\necho here\nexit 3\n"
	require.NoError(t, os.WriteFile(script, []byte(text), 0o600))
	for range 2 {
		out, err := runScript(script, "")
		require.Error(t, err)
		assert.Equal(t, "here\n", string(out))
		assert.NotContains(t, mountedPoints(), at)
		assert.NotContains(t, mountedPoints(), at+"/in")
	}
	require.NoError(t, os.WriteFile(script, []byte("mount -t tmpfs none "+at+"\n"), 0o600))
	_, err = runScript(script, "")
	require.NoError(t, err)
	assert.Contains(t, mountedPoints(), at, "one that did not fail takes off itself what it is to")
	require.NoError(t, os.WriteFile(script, []byte("exit 1\n"), 0o600))
	_, err = runScript(script, "")
	require.Error(t, err)
	assert.Contains(t, mountedPoints(), at)
	require.NoError(t, os.WriteFile(script, []byte("umount "+at+"\n"), 0o600))
	_, err = runScript(script, "")
	require.NoError(t, err)
}
