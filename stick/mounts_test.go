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

// What the kernel put together of other devices is known by its folder in sysfs, and taken apart by
// the program that it belongs to: dmsetup(8), mdadm(8).
func TestWhatWasPutTogether(t *testing.T) {
	block := t.TempDir()
	for _, folder := range []string{"sda/device", "dm-0/dm", "dm-11/dm", "md127/md", "loop0", "mdx"} {
		require.NoError(t, os.MkdirAll(filepath.Join(block, folder), 0o755))
	}
	assert.ElementsMatch(t, []string{"dm-0", "dm-11", "md127"}, putTogether(block))
	assert.Empty(t, putTogether(filepath.Join(block, "none")))
	for name, words := range map[string][]string{"dm-11": {"dmsetup", "remove", "/dev/dm-11"},
		"md127": {"mdadm", "--stop", "/dev/md127"}, "md_$(reboot)": {"mdadm", "--stop", "/dev/md_$(reboot)"}} {
		program, args := takesApart(name)
		assert.Equal(t, words, append([]string{program}, args...))
	}
}
