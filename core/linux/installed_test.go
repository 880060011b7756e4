package linux_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
	"latchkey/internal/sample"
)

// GRUB as its own tools put it on a disk: grub-mkimage and grub-bios-setup, into
// an ext4 file system, where the machine lets an image be mounted.
func TestGRUBInstalledByItsOwnTools(t *testing.T) {
	installed := installedGRUB(t, nil)
	assert.Equal(t, startup.Starts, installed.Verdict, installed.Reason)
	without := func(name string) func(folder string) error {
		return func(folder string) error { return os.RemoveAll(filepath.Join(folder, name)) }
	}
	empty := func(folder string) error { return os.Truncate(filepath.Join(folder, "normal.mod"), 0) }
	for name, c := range map[string]struct {
		change func(folder string) error
		shows  course.SymptomID
	}{
		"its folder is gone":      {without(""), course.GRUBRescueModule.ID},
		"normal is gone":          {without("normal.mod"), course.GRUBRescueModule.ID},
		"what normal needs":       {without("gettext.mod"), course.GRUBRescueModule.ID},
		"normal is empty":         {empty, course.GRUBRescueModule.ID},
		"linux is gone":           {without("linux.mod"), course.GRUBNoCommand.ID},
		"what linux needs":        {without("relocator.mod"), course.GRUBNoCommand.ID},
		"the list of needs":       {without("moddep.lst"), ""},
		"what nothing else needs": {without("play.mod"), ""},
	} {
		t.Run(name, func(t *testing.T) {
			trace := installedGRUB(t, c.change)
			assert.Equal(t, c.shows, trace.SymptomID, trace.Reason)
			assert.Equal(t, c.shows == "", trace.Verdict == startup.Starts)
		})
	}
}

// installedGRUB is how a disk starts on which GRUB's own tools put it, and of whose folder something is
// changed, before it is put on the disk.
func installedGRUB(t *testing.T, change func(folder string) error) startup.Trace {
	t.Helper()
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
		"boot/vmlinuz":       string(sample.X64()), "boot/initrd.img": string(diskmaker.RAMDisk()), "etc/fstab": "UUID=" + uuid + " / ext4 defaults 0 1\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	reference.Run(t, "", "cp", "/usr/lib/grub/i386-pc/boot.img", grub)
	reference.Run(t, "", "grub-mkimage", "-O", "i386-pc", "-p", "(hd0,msdos1)/boot/grub", "-o",
		filepath.Join(grub, "core.img"), "biosdisk", "part_msdos", "ext2")
	reference.Run(t, "", "cp", "-r", "/usr/lib/grub/i386-pc", grub)
	if change != nil {
		require.NoError(t, change(filepath.Join(grub, "i386-pc")))
	}
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
	return startup.Simulate(machine.Machine{Firmware: firmware.Settings{Mode: fact.Tell(firmware.Legacy)},
		Drives: []machine.Drive{clone}})
}

// Modules that the installer compressed are loaded, too.
// grub-install(8), "--compress".
func TestModulesInOtherForms(t *testing.T) {
	reference.Need(t, "gzip")
	packed := installedGRUB(t, func(folder string) error {
		files, err := filepath.Glob(filepath.Join(folder, "*.mod"))
		reference.Run(t, "", "gzip", files...)
		for _, f := range files {
			err = errors.Join(err, os.Rename(f+".gz", f))
		}
		return err
	})
	assert.Equal(t, startup.Starts, packed.Verdict, packed.Reason)
}
