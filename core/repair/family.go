package repair

import (
	"slices"
	"strings"

	"latchkey/core/command"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// family is how the systems of a family call what a repair needs of them. Their own
// manuals: grub-install(8), grub-mkconfig(8), update-initramfs(8), dracut(8), mkinitcpio(8).
type family struct {
	folder  string // below \EFI, where the boot partition does not tell
	dir     string // GRUB's folder below /boot
	install string
	menu    []any // the command that makes the menu
	// signedOnly: under UEFI its programs come signed from packages, and its installer
	// refuses.
	signedOnly bool
	// has looks for the tools before anything is written: a system of another family ends
	// there.
	has   command.Node
	needs []machine.Tool // what installs GRUB, and makes its menu
	maker ramDiskMaker
	// ramDiskName is what the family calls the initial RAM disk of a kernel, around its version.
	ramDiskName [2]string
}

// ramDisk is what the initial RAM disk of a kernel of a version is called.
func (f family) ramDisk(version string) string {
	return f.ramDiskName[0] + version + f.ramDiskName[1]
}

// ramDiskMaker makes a system's initial RAM disks. They are made with drivers for every bus by a file
// among those that configure the tool: a setting from the command's environment is passed over there.
type ramDiskMaker struct {
	tool machine.Tool
	has  command.Node // looks for it before anything is written
	keep command.Node // keeps the initial RAM disks
	make []command.Node
}

var (
	keepInitramfs  = command.Fixed(`for f in /mnt/clone/boot/initr*; do case "$f" in *.bak) continue ;; esac; [ ! -f "$f" ] || { readlink -f "$f.bak" | grep -q '^/mnt/clone/' && cp "$f" "$f.bak"; } || exit 1; done`)
	initramfsTools = ramDiskMaker{tool: machine.UpdateInitramfs, has: command.Fixed(`chroot /mnt/clone sh -c "command -v update-initramfs"`),
		keep: keepInitramfs,
		make: []command.Node{command.Fixed(`chroot /mnt/clone sh -c "mkdir -p /etc/initramfs-tools/conf.d && echo MODULES=most > /etc/initramfs-tools/conf.d/any-bus"`),
			command.Fixed(`chroot /mnt/clone update-initramfs -c -t -k all`)}}
	dracut = ramDiskMaker{tool: machine.Dracut, has: command.Fixed(`chroot /mnt/clone sh -c "command -v dracut"`), keep: keepInitramfs,
		make: []command.Node{command.Fixed(`chroot /mnt/clone sh -c "mkdir -p /etc/dracut.conf.d && echo 'hostonly=\"no\"' > /etc/dracut.conf.d/any-bus.conf"`),
			command.Fixed(`chroot /mnt/clone dracut --force --regenerate-all`)}}
	mkinitcpio = ramDiskMaker{tool: machine.Mkinitcpio, has: command.Fixed(`chroot /mnt/clone sh -c "command -v mkinitcpio"`), keep: keepInitramfs,
		make: []command.Node{command.Fixed(`chroot /mnt/clone mkinitcpio -P -S autodetect`)}}

	hasGRUB2     = command.Fixed(`chroot /mnt/clone sh -c "command -v grub2-install && command -v grub2-mkconfig"`)
	needsGRUB2   = []machine.Tool{machine.GRUB2Install, machine.GRUB2Mkconfig}
	familyDebian = family{folder: "debian", dir: "grub", install: "grub-install", menu: []any{"update-grub"}, maker: initramfsTools, ramDiskName: [2]string{"initrd.img-"},
		has: command.Fixed(`chroot /mnt/clone sh -c "command -v grub-install && command -v update-grub"`), needs: []machine.Tool{machine.GRUBInstall, machine.UpdateGRUB}}
	familyFedora = family{folder: "fedora", dir: "grub2", install: "grub2-install", menu: []any{"grub2-mkconfig", "-o", "/boot/grub2/grub.cfg"}, signedOnly: true,
		maker: dracut, ramDiskName: [2]string{"initramfs-", ".img"}, has: hasGRUB2, needs: needsGRUB2}
	familySUSE = family{folder: "opensuse", dir: "grub2", install: "grub2-install", menu: []any{"grub2-mkconfig", "-o", "/boot/grub2/grub.cfg"},
		maker: dracut, ramDiskName: [2]string{"initrd-"}, has: hasGRUB2, needs: needsGRUB2}
	familyArch = family{folder: "arch", dir: "grub", install: "grub-install", menu: []any{"grub-mkconfig", "-o", "/boot/grub/grub.cfg"},
		maker: mkinitcpio, ramDiskName: [2]string{"initramfs-", ".img"}, needs: []machine.Tool{machine.GRUBInstall, machine.GRUBMkconfig},
		has: command.Fixed(`chroot /mnt/clone sh -c "command -v grub-install && command -v grub-mkconfig"`)}
)

// isWithout reports whether a system is known to be without one of the tools.
func isWithout(c *machine.Contents, root machine.Address, tools ...machine.Tool) bool {
	for _, tool := range tools {
		if there, known := c.Tool(root, tool).Get(); known && !there {
			return true
		}
	}
	return false
}

// makerOf is what makes the initial RAM disks of a system: that of its family, or the one that it
// has in its stead; ok is false for one that is known to have none.
func (f family) makerOf(c *machine.Contents, root machine.Address) (m ramDiskMaker, ok bool) {
	if !isWithout(c, root, f.maker.tool) {
		return f.maker, true
	}
	for _, other := range []ramDiskMaker{initramfsTools, dracut, mkinitcpio} {
		if there, _ := c.Tool(root, other.tool).Get(); there {
			return other, true
		}
	}
	return m, false
}

// grubPlatform is what grub-install calls what starts it: a firmware by its architecture, or, where
// the system has no boot partition, legacy firmware.
func grubPlatform(a firmware.Arch, uefi bool) string {
	if !uefi {
		return "i386-pc"
	}
	return map[firmware.Arch]string{firmware.X64: "x86_64-efi", firmware.IA32: "i386-efi", firmware.ARM64: "arm64-efi"}[a]
}

// familyOf is the family of a Linux; not known for one that says it is of another. One that
// does not say what it is is taken for one of Debian's, or for what its /boot looks like: the
// commands look for their tools before they write.
func familyOf(c *machine.Contents, n machine.Names) (family, bool) {
	r := c.Release(n.Root)
	f := familyDebian
	switch {
	case r == nil:
		if n.Within != nil {
			f = familyByBoot(c.At(n.Home))
		}
	case r.Is("ubuntu"):
		f.folder = "ubuntu"
	case r.Is("debian"):
	case r.Is("fedora", "rhel", "centos"):
		f = familyFedora
	case r.Is("suse", "opensuse"):
		f = familySUSE
	case r.Is("arch"):
		f = familyArch
	default:
		return family{}, false
	}
	return f, true
}

// familyByBoot is the family whose kernels and menu a /boot holds. Common practice, no source.
func familyByBoot(home *machine.Volume) family {
	for i := range home.Configs {
		if cfg := &home.Configs[i]; cfg.GRUB != nil && strings.Contains(cfg.Path, "grub2") || cfg.Entry != nil {
			return familyFedora
		}
	}
	if slices.Contains(home.Kernels, "/vmlinuz-linux") {
		return familyArch
	}
	return familyDebian
}

// toolsFor are what installs GRUB for how a machine starts.
func (f family) toolsFor(a firmware.Arch, uefi bool) []machine.Tool {
	return append(slices.Clone(f.needs), machine.ModulesFor(grubPlatform(a, uefi)))
}

// names are GRUB's places: below \EFI that which is there, else the family's.
func (f family) names(c *machine.Contents, boot int) machine.GRUBNames {
	n := machine.GRUBNames{Folder: f.folder, Dir: f.dir}
	if boot < 0 {
		return n
	}
	for _, x := range c.Volumes[boot].Loaders {
		dir := x.Path[:strings.LastIndexByte(x.Path, '\\')+1]
		own := strings.EqualFold(dir, `\EFI\`+f.folder+`\`)
		if (x.Name == loader.GRUB || x.Name == loader.Shim) && own {
			n.Folder = dir[len(`\EFI\`) : len(dir)-1]
		}
	}
	return n
}
