package capture

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The way to a controller is read off the folders that the kernel lays within each other; that of
// a drive behind another root is not told.
func TestTheWayToADrivesController(t *testing.T) {
	top := t.TempDir()
	for name, c := range map[string][2]string{
		"nvme0n1": {"pci0000:00/0000:00:1c.4/0000:02:00.0/nvme/nvme0/nvme0n1", "Pci(0x1C,0x4)/Pci(0x0,0x0)"},
		"sda":     {"pci0000:00/0000:00:1f.2/ata1/host0/target0:0:0/0:0:0:0/block/sda", "Pci(0x1F,0x2)"},
		"nvme1n1": {"pci0000:00/0000:00:0e.0/pci10000:e0/10000:e0:1d.0/10000:e1:00.0/nvme/nvme1/nvme1n1", ""},
		"nvme2n1": {"pci0000:80/0000:80:01.0/0000:81:00.0/nvme/nvme2/nvme2n1", ""},
		"mmcblk0": {"platform/soc/mmc0/block/mmcblk0", ""},
	} {
		require.NoError(t, os.MkdirAll(filepath.Join(top, "devices", c[0]), 0o755))
		require.NoError(t, os.Symlink(filepath.Join(top, "devices", c[0]), filepath.Join(top, name)))
		assert.Equal(t, c[1], controllerOf(filepath.Join(top, name)), name)
	}
	assert.Empty(t, controllerOf(filepath.Join(top, "gone")))
}

// A tree as the kernel lays it out: partition 2 of sda carries a mapped device that
// holds the root.
func TestWhichDiskASystemRunsFrom(t *testing.T) {
	root := func(device string) string {
		top := t.TempDir()
		for _, dir := range []string{"proc/self", "sys/dev/block", "sys/devices/ata1/block/sda/sda2", "sys/devices/nvme/nvme0n1/nvme0n1p1", "sys/devices/virtual/block/dm-0/slaves"} {
			require.NoError(t, os.MkdirAll(filepath.Join(top, dir), 0o755))
		}
		for name, to := range map[string]string{
			"sys/dev/block/8:2":                          "../../devices/ata1/block/sda/sda2",
			"sys/dev/block/259:1":                        "../../devices/nvme/nvme0n1/nvme0n1p1",
			"sys/dev/block/254:0":                        "../../devices/virtual/block/dm-0",
			"sys/devices/virtual/block/dm-0/slaves/sda2": "../../../../ata1/block/sda/sda2",
		} {
			require.NoError(t, os.Symlink(to, filepath.Join(top, name)))
		}
		mounts := "22 1 0:21 / /proc rw - proc proc rw\n23 1 " + device + " / / rw,relatime - ext4 /dev/root rw\n"
		require.NoError(t, os.WriteFile(filepath.Join(top, "proc/self/mountinfo"), []byte(mounts), 0o600))
		return top
	}
	assert.True(t, runsFrom(root("8:2"), "sda"))
	assert.False(t, runsFrom(root("8:2"), "nvme0n1"))
	assert.True(t, runsFrom(root("259:1"), "nvme0n1"))
	assert.True(t, runsFrom(root("254:0"), "sda"), "by way of a mapped device")
	assert.False(t, runsFrom(root("0:40"), "sda"), "a live system's root lies on no disk")
	assert.False(t, runsFrom(t.TempDir(), "sda"))
}

func TestAPartitionIsNoDisk(t *testing.T) {
	top := t.TempDir()
	disk := filepath.Join(top, "devices/nvme0n1")
	require.NoError(t, os.MkdirAll(filepath.Join(disk, "nvme0n1p2"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(disk, "nvme0n1p2/partition"), []byte("2\n"), 0o600))
	below := filepath.Join(top, "class")
	require.NoError(t, os.MkdirAll(below, 0o755))
	require.NoError(t, os.Symlink(disk, filepath.Join(below, "nvme0n1")))
	require.NoError(t, os.Symlink(filepath.Join(disk, "nvme0n1p2"), filepath.Join(below, "nvme0n1p2")))
	assert.Equal(t, "/dev/nvme0n1", partitionOf(below, "/dev/nvme0n1p2"))
	assert.Empty(t, partitionOf(below, "/dev/nvme0n1"))
	assert.Empty(t, partitionOf(below, "/tmp/nvme0n1p2"), "a file of that name")
	assert.ErrorContains(t, partitionError("/dev/nvme0n1p2", "/dev/nvme0n1"), "which is /dev/nvme0n1 here")
}

func TestTheDisksOfThisComputer(t *testing.T) {
	list, err := Disks()
	require.NoError(t, err)
	for _, d := range list {
		assert.Positive(t, d.Size, d.Path)
		assert.Regexp(t, "^/dev/[a-z]", d.Path)
		assert.NotContains(t, d.Path, "loop")
	}
}
