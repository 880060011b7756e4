package repair_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/sample"
)

// A copy onto another kind of file system, file by file, has kernel line and mount table say the
// old type: both are corrected, and nothing else of them.
func TestTypesThatAreNotTheVolumes(t *testing.T) {
	for name, c := range map[string]struct {
		file, old, new string
		writes         string
	}{
		"the kernel line": {"boot/grub/grub.cfg", "\n initrd", " rootfstype=btrfs ro\n initrd", "rootfstype=btrfs rootfstype=ext4 "},
		"of several":      {"boot/grub/grub.cfg", "\n initrd", " rootfstype=xfs,btrfs\n initrd", "rootfstype=xfs,btrfs rootfstype=ext4 "},
		"the mount table": {"etc/fstab", "/boot/efi vfat", "/boot/efi ext4", "type=auto"},
		// A subvolume of a file system that has none.
		"flags":              {"boot/grub/grub.cfg", "\n initrd", " rootflags=subvol=@\n initrd", "rootflags=subvol=@ rootfstype=ext4 "},
		"flags among others": {"boot/grub/grub.cfg", "\n initrd", " rootflags=noatime,subvolid=256\n initrd", "rootflags=noatime,subvolid=256 rootflags=noatime "},
		// What ext4 does not know, the start is to go on without.
		"a subvolume": {"etc/fstab", "/boot/efi vfat defaults", "/boot/efi vfat subvol=@x", "lax=yes"},
	} {
		t.Run(name, func(t *testing.T) {
			disk := sample.LinuxDisk(1, 1)
			files := disk.Partitions[1].Volume.Files
			text := string(files[c.file])
			require.Contains(t, text, c.old)
			files[c.file] = []byte(strings.Replace(text, c.old, c.new, 1))
			m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, disk.MustBuild()))
			require.Equal(t, startup.Stops, startup.Simulate(m).Verdict)
			p := repair.Find(m, repair.Linux)
			require.Len(t, p.Steps, 1, p.Reason)
			step := p.Steps[0]
			assert.Equal(t, "linux-names", step.Action)
			assert.Equal(t, startup.Starts, step.After.Verdict)
			script, _ := repair.Script(p, repair.Linux)
			assert.Contains(t, strings.ReplaceAll(script, "'", ""), c.writes)
			assert.Equal(t, name != "a subvolume", strings.Contains(step.Title, "as what they are"))
		})
	}
	// What would act in a command is no type.
	disk := sample.LinuxDisk(1, 1)
	files := disk.Partitions[1].Volume.Files
	files["boot/grub/grub.cfg"] = []byte(strings.Replace(string(files["boot/grub/grub.cfg"]), "\n initrd", " rootfstype=xfs,$(x)\n initrd", 1))
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, disk.MustBuild()))
	script, _ := repair.Script(repair.Find(m, repair.Linux), repair.Linux)
	assert.NotContains(t, script, "$(x)")
}
