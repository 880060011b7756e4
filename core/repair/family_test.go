package repair_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

func textOf(p repair.Plan) string {
	var b strings.Builder
	for _, s := range p.Steps {
		for _, c := range s.Commands {
			b.WriteString(c.Text + "\n")
		}
	}
	return b.String()
}

// The lines of os-release are those of the systems' own files, from memory.
var releases = map[string]string{
	"debian": "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\n", "ubuntu": "ID=ubuntu\nID_LIKE=debian\n",
	"mint": "ID=linuxmint\nID_LIKE=\"ubuntu debian\"\n", "fedora": "ID=fedora\n", "rhel": "ID=\"rocky\"\nID_LIKE=\"rhel centos fedora\"\n",
	"suse": "ID=\"opensuse-leap\"\nID_LIKE=\"suse opensuse\"\n", "arch": "ID=arch\n", "other": "ID=gentoo\n",
}

// toolsOf are the tools of each family where its packages put them. Common practice, no source.
var toolsOf = map[string][]string{"debian": sample.DebianTools, "ubuntu": sample.DebianTools, "mint": sample.DebianTools,
	"fedora": grub2Tools("usr/lib/grub"), "rhel": grub2Tools("usr/lib/grub"), "suse": grub2Tools("usr/share/grub2"),
	"arch": {"usr/bin/grub-install", "usr/bin/grub-mkconfig", "usr/bin/mkinitcpio", "usr/lib/grub/i386-pc/modinfo.sh",
		"usr/lib/grub/x86_64-efi/modinfo.sh"}}

func grub2Tools(modules string) []string {
	return []string{"usr/sbin/grub2-install", "usr/sbin/grub2-mkconfig", "usr/bin/dracut", modules + "/i386-pc/modinfo.sh",
		modules + "/x86_64-efi/modinfo.sh"}
}

// A repair calls each family's own tools: what they are called, common practice by their
// manuals.
func TestARepairGoesByTheFamily(t *testing.T) {
	for id, want := range map[string]struct{ uefi, legacy, ramdisk string }{
		"debian": {"--bootloader-id=debian", "chroot /mnt/clone update-grub", "update-initramfs -c -t -k all"},
		"ubuntu": {"--bootloader-id=ubuntu", "chroot /mnt/clone update-grub", "update-initramfs -c -t -k all"},
		"mint":   {"--bootloader-id=ubuntu", "chroot /mnt/clone update-grub", "update-initramfs -c -t -k all"},
		"fedora": {"", "grub2-mkconfig -o /boot/grub2/grub.cfg", "dracut --force --regenerate-all"},
		"rhel":   {"", "grub2-mkconfig -o /boot/grub2/grub.cfg", "dracut --force --regenerate-all"},
		"suse":   {"--bootloader-id=opensuse", "grub2-install", "dracut --force --regenerate-all"},
		"arch":   {"--bootloader-id=arch", "grub-mkconfig -o /boot/grub/grub.cfg", "mkinitcpio -P"},
		"other":  {"", "", ""},
	} {
		t.Run(id, func(t *testing.T) {
			held := func(plan repair.Plan, action, text string) {
				t.Helper()
				if text == "" {
					assert.NotContains(t, actionsOf(plan), action)
					return
				}
				require.Contains(t, actionsOf(plan), action, plan.Reason)
				assert.Equal(t, startup.Starts, plan.Verdict)
				assert.Contains(t, textOf(plan), text)
			}
			with := func(d diskmaker.Disk) diskmaker.Disk {
				d = sample.WithoutTools(sample.With(d, 1, "etc/os-release", releases[id]), 1, sample.DebianTools...)
				return sample.WithTools(d, 1, toolsOf[id]...)
			}

			bare := with(sample.LinuxDisk(1, 1))
			bare.Partitions[0].Volume.Files = map[string][]byte{"readme": []byte("x")}
			held(repair.Find(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, bare.MustBuild()))), "linux-boot-files",
				want.uefi)

			old := with(sample.LinuxDisk(1, 1))
			old.Style, old.Signature = diskmaker.MBR, 0xBEEF
			old.Partitions[0].MBRType, old.Partitions[1].MBRType = 0x0C, 0x83
			held(repair.Find(sample.Whole(firmware.Legacy, sample.Drive(t, machine.RoleClone, old.MustBuild()))), "linux-boot-files",
				want.legacy)

			moved := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone,
				with(sample.LinuxDisk(1, 1)).MustBuild()),
				machine.Drive{Name: "original", Role: machine.RoleOriginal, Bus: fact.Tell("sata"), Attached: fact.Tell(false)})
			moved.Drives[0].Bus, moved.Answers = fact.Tell("nvme"), map[string]string{"driver:clone": "no"}
			held(repair.Find(moved), "initial-ram-disk", want.ramdisk)
		})
	}
}

// What a system is known to be without is not called: no step is told whose commands would end at
// once. A Debian may make its initial RAM disks by dracut.
func TestAStepNeedsTheSystemsOwnTools(t *testing.T) {
	const legacy, uefi, modules = "usr/lib/grub/i386-pc/modinfo.sh", "usr/lib/grub/x86_64-efi/modinfo.sh", "linux-boot-files"
	find := func(d diskmaker.Disk, mode firmware.Mode, change func(m *machine.Machine)) repair.Plan {
		m := sample.Whole(mode, sample.Drive(t, machine.RoleClone, d.MustBuild()))
		change(&m)
		return repair.Find(m)
	}
	asIs := func(*machine.Machine) {}
	for name, c := range map[string]struct {
		without []string
		is      bool
	}{
		"with all": {nil, true}, "without the installer": {[]string{"usr/sbin/grub-install"}, false},
		"without what makes the menu": {[]string{"usr/sbin/update-grub"}, false},
		"modules for legacy alone":    {[]string{uefi}, false}, "modules for UEFI alone": {[]string{legacy}, true},
	} {
		bare := sample.WithoutTools(sample.LinuxDisk(1, 1), 1, c.without...)
		bare.Partitions[0].Volume.Files = map[string][]byte{"readme": []byte("x")}
		assert.Equal(t, c.is, slices.Contains(actionsOf(find(bare, firmware.UEFI, asIs)), modules), name)
	}
	for without, is := range map[string]bool{legacy: false, uefi: true} {
		old := sample.WithoutTools(sample.LinuxDisk(1, 1), 1, without)
		old.Style, old.Signature = diskmaker.MBR, 0xBEEF
		old.Partitions[0].MBRType, old.Partitions[1].MBRType = 0x0C, 0x83
		plan := find(old, firmware.Legacy, asIs)
		assert.Equal(t, is, slices.Contains(actionsOf(plan), modules), without)
		if is {
			assert.Contains(t, textOf(plan), "grub-install --target=i386-pc ", "it does not go by how the live system was started")
		}
	}

	noDriver := func(m *machine.Machine) {
		m.Drives = append(m.Drives, machine.Drive{Name: "original", Role: machine.RoleOriginal, Bus: fact.Tell("sata"),
			Attached: fact.Tell(false)})
		m.Drives[0].Bus, m.Answers = fact.Tell("nvme"), map[string]string{"driver:clone": "no"}
	}
	moved := sample.WithoutTools(sample.LinuxDisk(1, 1), 1, "usr/sbin/update-initramfs")
	assert.NotContains(t, actionsOf(find(moved, firmware.UEFI, noDriver)), "initial-ram-disk")
	moved = sample.WithTools(moved, 1, "usr/bin/dracut")
	plan := find(moved, firmware.UEFI, noDriver)
	assert.Contains(t, textOf(plan), "chroot /mnt/clone dracut --force --regenerate-all")
	assert.NotContains(t, textOf(plan), "update-initramfs")
}

// Under secure boot the shim stays in the chain: it is copied with the GRUB that it
// starts, and an entry leads to it.
func TestTheShimStaysInTheChain(t *testing.T) {
	d := sample.LinuxDisk(1, 1)
	files := d.Partitions[0].Volume.Files
	files[`\EFI\debian\shimx64.efi`] = diskmaker.Program{Is: "shim", Signed: true, Size: 8192}.Bytes()
	files[`\EFI\debian\grubx64.efi`] = files[sample.FallbackPath]
	delete(files, sample.FallbackPath)
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild()))
	require.Equal(t, startup.Stops, startup.Simulate(m).Verdict)
	plan := repair.Find(m, repair.Linux)
	require.Equal(t, startup.Starts, plan.Verdict, plan.Reason)
	for _, p := range append([]repair.Plan{plan}, plan.Alternatives...) {
		text := textOf(p)
		switch p.Steps[0].Action {
		case "fallback-path":
			assert.Contains(t, text, "cp /mnt/boot/EFI/debian/shimx64.efi /mnt/boot/EFI/BOOT/BOOTX64.EFI")
			assert.Contains(t, text, "cp /mnt/boot/EFI/debian/grubx64.efi /mnt/boot/EFI/BOOT/grubx64.efi")
		case "add-entry":
			assert.Contains(t, text, "shimx64.efi")
		}
	}
}

// An entry leads to a loader behind which the machine starts: not to one of a system that is gone.
func TestAnEntryLeadsToALoaderThatStarts(t *testing.T) {
	d := sample.LinuxDisk(1, 1)
	files := d.Partitions[0].Volume.Files
	good := files[sample.FallbackPath]
	delete(files, sample.FallbackPath)
	files[`\EFI\aged\grubx64.efi`] = diskmaker.Program{Is: "grub", Size: 8192}.Bytes()
	files[`\EFI\debian\grubx64.efi`] = good
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild()))
	plan := repair.Find(m, repair.Firmware)
	require.Equal(t, startup.Starts, plan.Verdict, plan.Reason)
	assert.Contains(t, plan.Steps[0].Title, `\EFI\debian\grubx64.efi`)
}
