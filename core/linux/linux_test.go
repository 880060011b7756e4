package linux_test

import (
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

// Stages 7 and 8, as start-rules tells them. The paths and identifiers are those
// of the makers' documentation; the messages are common practice, no source.

func TestWhatALinuxLoaderLoads(t *testing.T) {
	byName := func(name string) diskmaker.Disk {
		return sample.With(sample.LinuxDisk(1, 1), 1, "boot/grub/grub.cfg", "menuentry 'x' {\n linux /boot/vmlinuz root="+name+"\n}\n")
	}
	entry := sample.LinuxDisk(1, 1)
	entry.Partitions[0].Volume.Files = map[string][]byte{sample.FallbackPath: diskmaker.Program{Is: "systemd-boot"}.Bytes(),
		"/vmlinuz":               sample.X64(),
		"/loader/entries/a.conf": []byte("title x\nlinux /vmlinuz\noptions root=LABEL=root\n")}
	noEntry := sample.LinuxDisk(1, 1)
	noEntry.Partitions[0].Volume.Files = map[string][]byte{sample.FallbackPath: diskmaker.Program{Is: "systemd-boot"}.Bytes()}
	for name, c := range map[string]struct {
		disk    diskmaker.Disk
		mode    firmware.Mode
		verdict startup.Verdict
		stage   course.Stage
		says    string // in the symptom or the reason
	}{
		"Linux": {sample.LinuxDisk(1, 1), firmware.UEFI, startup.Starts, "", "Linux comes up"},
		"GRUB without configuration": {sample.With(sample.LinuxDisk(1, 1), 0, `\EFI\debian\grub.cfg`, ""), firmware.UEFI, startup.Stops,
			course.StageConfiguration, "grub>"},
		"GRUB that looks for another volume": {sample.LinuxDisk(1, 2), firmware.UEFI, startup.Stops, course.StageConfiguration, "no such device"},
		"no kernel": {sample.With(sample.LinuxDisk(1, 1), 1, "boot/vmlinuz", ""), firmware.UEFI, startup.Stops,
			course.StageConfiguration, "file not found"},
		"no initial RAM disk": {sample.With(sample.LinuxDisk(1, 1), 1, "boot/initrd.img", ""), firmware.UEFI, startup.Stops,
			course.StageConfiguration, "initrd.img is not"},
		"root by a name of its bus":     {byName("/dev/sda2"), firmware.UEFI, startup.Starts, "", "Linux comes up"},
		"root by a name of another bus": {byName("/dev/nvme0n1p2"), firmware.UEFI, startup.Stops, course.StageConfiguration, "initramfs"},
		"root by partition UUID": {byName("PARTUUID=" + strings.ToLower(sample.GPTDisk(1, nil).PartitionGUID(1).String())), firmware.UEFI,
			startup.Starts, "", ""},
		"root by a wrong label":       {byName("LABEL=rot"), firmware.UEFI, startup.Stops, course.StageConfiguration, "initramfs"},
		"root within LVM":             {byName("/dev/mapper/vg-root"), firmware.UEFI, startup.Depends, "", "does not tell"},
		"a mount that is not there":   {sample.With(sample.LinuxDisk(1, 1), 1, "etc/fstab", "UUID=dead /home ext4 defaults 0 2\n"), firmware.UEFI, startup.Stops, course.StageConfiguration, "emergency mode"},
		"a search that finds nothing": {sample.With(sample.LinuxDisk(1, 1), 1, "boot/grub/grub.cfg", "menuentry 'x' {\n search --fs-uuid --set=root dead-beef\n linux /boot/vmlinuz root=UUID=01000000-0000-0000-0000-000000000000\n}\n"), firmware.UEFI, startup.Starts, "", ""},
		"a mount that may fail":       {sample.With(sample.LinuxDisk(1, 1), 1, "etc/fstab", "UUID=dead /home ext4 nofail 0 2\n"), firmware.UEFI, startup.Starts, "", ""},
		"boot loader entry":           {entry, firmware.UEFI, startup.Starts, "", ""},
		"no boot loader entry":        {noEntry, firmware.UEFI, startup.Stops, course.StageConfiguration, "no entry"},
	} {
		t.Run(name, func(t *testing.T) {
			trace := startup.Simulate(sample.Whole(c.mode, sample.Drive(t, machine.RoleClone, c.disk.MustBuild())))
			assert.Equal(t, c.verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			assert.Equal(t, c.stage, trace.Stage)
			all := trace.Symptom + trace.Reason + trace.Headline
			for _, q := range trace.Missing {
				all += q.Text
			}
			assert.Contains(t, all, c.says)
		})
	}
}

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
		"boot/grub/grub.cfg": "menuentry 'a' {\n search --fs-uuid --set=root " + uuid + "\n linux /boot/vmlinuz root=UUID=" + uuid + "\n}\n",
		"boot/vmlinuz":       "kernel", "etc/fstab": "UUID=" + uuid + " / ext4 defaults 0 1\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	reference.Run(t, "", "cp", "/usr/lib/grub/i386-pc/boot.img", grub)
	reference.Run(t, "", "grub-mkimage", "-O", "i386-pc", "-p", "(hd0,msdos1)/boot/grub", "-o", filepath.Join(grub, "core.img"), "biosdisk", "part_msdos", "ext2")
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
