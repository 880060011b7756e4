package repair_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// An initial RAM disk is made anew where the kernel has the driver that it lacks, and not where it has none: the
// kernels that Debian makes for virtual machines have none for SATA and USB, and a real one does not start there
// (package truth, "coming up: from NVMe to usb").
func TestAnInitialRAMDiskIsMadeOfWhatTheKernelHas(t *testing.T) {
	const release, modules = "6.1.0-13-amd64", "lib/modules/6.1.0-13-amd64/"
	for name, c := range map[string]struct {
		has      []string // modules of the kernel
		builtIn  string
		answered string
		told     bool
	}{
		"a module":                             {[]string{"drivers/nvme/host/nvme.ko.xz"}, "kernel/fs/ext4/ext4.ko\n", "", true},
		"built in":                             {nil, "kernel/drivers/nvme/host/nvme.ko\n", "", true},
		"none":                                 {[]string{"drivers/ata/ahci.ko", "drivers/ata/libata.ko"}, "kernel/fs/ext4/ext4.ko\n", "", false},
		"none, and a person said so":           {[]string{"drivers/ata/ahci.ko"}, "kernel/fs/ext4/ext4.ko\n", "no", false},
		"a module, and a person saw none":      {[]string{"drivers/nvme/host/nvme.ko"}, "kernel/fs/ext4/ext4.ko\n", "no", true},
		"what is not known":                    {nil, "", "", true},
		"a list of what is built in by itself": {nil, "kernel/fs/ext4/ext4.ko\n", "", false},
	} {
		t.Run(name, func(t *testing.T) {
			d := sample.LinuxDisk(1, 1)
			menu := string(d.Partitions[1].Volume.Files["boot/grub/grub.cfg"])
			menu = strings.NewReplacer("/boot/vmlinuz", "/boot/vmlinuz-"+release, "/boot/initrd.img", "/boot/initrd.img-"+release).Replace(menu)
			d = sample.With(d, 1, "boot/grub/grub.cfg", menu)
			d = sample.With(d, 1, "boot/vmlinuz-"+release, string(sample.X64()))
			d = sample.With(d, 1, "boot/initrd.img-"+release, string(diskmaker.RAMDiskWith(release, []string{"kernel/ahci.ko"}, nil)))
			for _, m := range c.has {
				d = sample.With(d, 1, modules+"kernel/"+m, "x")
			}
			if c.builtIn != "" {
				d = sample.With(d, 1, modules+"modules.builtin", c.builtIn)
			}
			clone := sample.Drive(t, machine.RoleClone, d.MustBuild())
			clone.Bus = fact.Tell("nvme")
			original := machine.Drive{Name: "original", Role: machine.RoleOriginal, Bus: fact.Tell("sata"), Attached: fact.Tell(false)}
			m := sample.Whole(firmware.UEFI, clone, original)
			if c.answered != "" {
				m.Answers = map[string]string{"driver:clone": c.answered}
			}
			assert.Equal(t, startup.Stops, startup.Simulate(m).Verdict)
			plan := repair.Find(m)
			if c.told {
				assert.Equal(t, []string{"initial-ram-disk"}, actionsOf(plan), plan.Reason)
				return
			}
			assert.Empty(t, plan.Steps)
			assert.Contains(t, plan.Reason, "Another copy would not start there either")
		})
	}
}
