package loader_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/volume"
	"latchkey/internal/reference"
)

// Which ext volumes GRUB reads is told by its own code: held against GRUB's reader as its
// developers build it for a running system (grub-fstest), for each feature that mkfs.ext4 knows.
func TestExtFeaturesThatGRUBTakes(t *testing.T) {
	reference.Need(t, "grub-mkimage", "grub-fstest", "mkfs.ext4")
	dir := t.TempDir()
	program := filepath.Join(dir, "grub.efi")
	reference.Run(t, "", "grub-mkimage", "-O", "x86_64-efi", "-o", program, "-p", "/boot/grub", "part_gpt", "ext2", "normal")
	raw, err := os.ReadFile(program)
	require.NoError(t, err)
	p, err := loader.ExamineEFI(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	require.NotNil(t, p.GRUB)
	require.NotZero(t, p.GRUB.ExtFeatures)
	taken := 0
	for _, features := range []string{"^64bit", "64bit", "^extents,^64bit", "metadata_csum,metadata_csum_seed", "large_dir", "ea_inode",
		"inline_data", "casefold", "encrypt", "meta_bg,^resize_inode", "flex_bg", "mmp"} {
		image := reference.Image(t, 8<<20)
		reference.Run(t, "", "mkfs.ext4", "-q", "-F", "-O", features, image)
		f, err := os.Open(image)
		require.NoError(t, err)
		d, err := disk.New(f, 8<<20, 512)
		require.NoError(t, err)
		v := volume.Examine(d, disk.Partition{Length: 16384})
		require.NoError(t, f.Close())
		require.NotZero(t, v.ExtFeatures, features)
		shown, _ := exec.Command("grub-fstest", image, "ls", "(loop0)/").Output()
		reads := bytes.Contains(shown, []byte("lost+found"))
		assert.Equal(t, reads, v.ExtFeatures&^p.GRUB.ExtFeatures == 0, features)
		if reads {
			taken++
		}
	}
	assert.Positive(t, taken)
}
