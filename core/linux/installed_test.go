package linux_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/reference"
)

// GRUB as its own tools put it on a disk: grub-mkimage and grub-bios-setup, into
// an ext4 file system, where the machine lets an image be mounted.
func TestGRUBInstalledByItsOwnTools(t *testing.T) {
	setup := "/usr/lib/grub/i386-pc/grub-bios-setup"
	reference.NeedFile(t, setup)
	path := reference.Image(t, 200<<20)
	reference.Run(t, "label: dos\nstart=2048, type=83, bootable\n", "sfdisk", "-q", path)
	whole := strings.TrimSpace(reference.Run(t, "", "losetup", "-f", "--show", path))
	defer reference.Run(t, "", "losetup", "-d", whole)
	part := strings.TrimSpace(reference.Run(t, "", "losetup", "-f", "--show", "-o", "1048576", path))
	defer reference.Run(t, "", "losetup", "-d", part)
	reference.Run(t, "", "mkfs.ext4", "-q", part)
	uuid := strings.TrimSpace(reference.Run(t, "", "blkid", "-p", "-s", "UUID", "-o", "value", part))
	dir := t.TempDir()
	reference.Run(t, "", "mount", part, dir)
	unmounted := false
	defer func() {
		if !unmounted {
			reference.Run(t, "", "umount", dir)
		}
	}()
	grub := filepath.Join(dir, "boot", "grub")
	for name, text := range map[string]string{
		"boot/grub/grub.cfg": "menuentry 'a' {\n search --fs-uuid --set=root " + uuid + "\n linux /boot/vmlinuz root=UUID=" + uuid + "\n initrd /boot/initrd.img\n}\n",
		"boot/vmlinuz":       "kernel", "boot/initrd.img": "an initial RAM disk", "etc/fstab": "UUID=" + uuid + " / ext4 defaults 0 1\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	reference.Run(t, "", "cp", "/usr/lib/grub/i386-pc/boot.img", grub)
	reference.Run(t, "", "grub-mkimage", "-O", "i386-pc", "-p", "(hd0,msdos1)/boot/grub", "-o",
		filepath.Join(grub, "core.img"), "biosdisk", "part_msdos", "ext2")
	devices := filepath.Join(t.TempDir(), "device.map")
	require.NoError(t, os.WriteFile(devices, []byte("(hd0) "+whole+"\n(hd1) "+part+"\n"), 0o600))
	reference.Run(t, "", setup, "-d", grub, "-m", devices, "-s", "(hd0)")
	reference.Run(t, "", "umount", dir)
	unmounted = true

	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	d, err := disk.New(f, 200<<20, 512)
	require.NoError(t, err)
	clone := machine.Drive{Name: "clone", Role: machine.RoleClone, Bus: fact.Tell("sata"), Attached: fact.Tell(true),
		Contents: machine.Examine(d)}
	require.NotNil(t, clone.Contents.Core.Image, clone.Contents.Core.Err)
	assert.Equal(t, "(hd0,msdos1)/boot/grub", clone.Contents.Core.Image.Prefix)
	trace := startup.Simulate(machine.Machine{Firmware: firmware.Settings{Mode: fact.Tell(firmware.Legacy)},
		Drives: []machine.Drive{clone}})
	assert.Equal(t, startup.Starts, trace.Verdict, trace.Reason)
}
