package repair

import (
	"slices"
	"strings"

	"latchkey/core/command"
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
	has, hasRAM command.Node
	keep        command.Node // keeps the initial RAM disks
	ramdisk     []command.Node
}

// The initial RAM disks are made with drivers for every bus by a file among those that
// configure the tool: a setting from the command's environment is passed over there.
var (
	keepInitrd    = command.Fixed(`for f in /mnt/clone/boot/initrd.img-*; do cp "$f" "$f.bak"; done`)
	keepInitramfs = command.Fixed(`for f in /mnt/clone/boot/initr*; do [ ! -f "$f" ] || cp "$f" "$f.bak"; done`)
	hasGRUB2      = command.Fixed(`chroot /mnt/clone sh -c "command -v grub2-install && command -v grub2-mkconfig"`)
	hasDracut     = command.Fixed(`chroot /mnt/clone sh -c "command -v dracut"`)
	dracut        = []command.Node{command.Fixed(`mkdir -p /mnt/clone/etc/dracut.conf.d && echo 'hostonly="no"' > /mnt/clone/etc/dracut.conf.d/any-bus.conf`),
		command.Fixed(`chroot /mnt/clone dracut --force --regenerate-all`)}
	familyDebian = family{folder: "debian", dir: "grub", install: "grub-install", menu: []any{"update-grub"}, keep: keepInitrd,
		has: command.Fixed(`chroot /mnt/clone sh -c "command -v grub-install && command -v update-grub"`), hasRAM: command.Fixed(`chroot /mnt/clone sh -c "command -v update-initramfs"`),
		ramdisk: []command.Node{command.Fixed(`mkdir -p /mnt/clone/etc/initramfs-tools/conf.d && echo MODULES=most > /mnt/clone/etc/initramfs-tools/conf.d/any-bus`),
			command.Fixed(`chroot /mnt/clone update-initramfs -u -k all`)}}
	familyFedora = family{folder: "fedora", dir: "grub2", install: "grub2-install", menu: []any{"grub2-mkconfig", "-o", "/boot/grub2/grub.cfg"}, signedOnly: true,
		keep: keepInitramfs, ramdisk: dracut, has: hasGRUB2, hasRAM: hasDracut}
	familySUSE = family{folder: "opensuse", dir: "grub2", install: "grub2-install", menu: []any{"grub2-mkconfig", "-o", "/boot/grub2/grub.cfg"},
		keep: keepInitramfs, ramdisk: dracut, has: hasGRUB2, hasRAM: hasDracut}
	familyArch = family{folder: "arch", dir: "grub", install: "grub-install", menu: []any{"grub-mkconfig", "-o", "/boot/grub/grub.cfg"},
		keep: keepInitramfs, ramdisk: []command.Node{command.Fixed(`chroot /mnt/clone mkinitcpio -P -S autodetect`)},
		has: command.Fixed(`chroot /mnt/clone sh -c "command -v grub-install && command -v grub-mkconfig"`), hasRAM: command.Fixed(`chroot /mnt/clone sh -c "command -v mkinitcpio"`)}
)

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
