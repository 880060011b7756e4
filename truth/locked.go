package truth

import (
	"fmt"
	"os"
	"path/filepath"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

const (
	luksUUID   = "0f6b6a0e-5a0b-4c64-9d1d-3b0d8b6a1c17"
	passphrase = "over the hedge"
	// luksShift is how much of a volume its encryption in place takes away.
	luksShift = 32
	lockedMiB = layoutMiB - luksShift
)

// encrypting encrypts in place what another way lays, whose last MiBs are not used.
// cryptsetup-reencrypt(8), --encrypt.
func encrypting(lay func(dir, tree, volume string) error) func(dir, tree, volume string) error {
	return func(dir, tree, volume string) error {
		if err := lay(dir, tree, volume); err != nil {
			return err
		}
		key := filepath.Join(dir, "passphrase")
		if err := os.WriteFile(key, []byte(passphrase), 0o600); err != nil {
			return err
		}
		if err := run("cryptsetup", "reencrypt", "-q", "--encrypt", "--type", "luks2", "--reduce-device-size", fmt.Sprintf("%dM", luksShift),
			"--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000", "--key-file", key, volume); err != nil {
			return err
		}
		return run("cryptsetup", "luksUUID", "-q", "--uuid", luksUUID, volume)
	}
}

// opening is what a system needs to open its root: its table of encrypted volumes with a key
// file, which its initial RAM disk has, too. crypttab(5); Debian's cryptsetup-initramfs,
// README.initramfs, section 3.
func opening(tree string) error {
	files := map[string]string{
		"etc/crypttab":                       "root_crypt UUID=" + luksUUID + " /etc/keys/root.key luks,initramfs\n",
		"etc/keys/root.key":                  passphrase,
		"etc/cryptsetup-initramfs/conf-hook": "KEYFILE_PATTERN=/etc/keys/*.key\n",
		"etc/initramfs-tools/conf.d/umask":   "UMASK=0077\n",
	}
	for name, text := range files {
		path := filepath.Join(tree, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			return err
		}
	}
	var a diskmaker.Archive
	a.AddAt("cryptroot/crypttab", 0o100600, []byte("root_crypt UUID="+luksUUID+" /cryptroot/keyfiles/root_crypt.key luks,initramfs\n"))
	a.AddAt("cryptroot/keyfiles/root_crypt.key", 0o100600, []byte(passphrase))
	_, ram := kernelsOf(tree)
	path := filepath.Join(tree, ram)
	before, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	// An archive begins at a multiple of 4. The kernel's
	// driver-api/early-userspace/buffer-format.
	before = append(before, make([]byte, -len(before)&3)...)
	return os.WriteFile(path, append(before, a.Bytes()...), 0o600)
}

// lockedLayouts are real systems whose root is encrypted, with /boot by itself: as they are,
// with another root than the kernel looks for, with a boot partition that is lost, and with
// a /boot that has a new identifier.
func lockedLayouts() []layout {
	boot := diskmaker.Partition{Type: disk.TypeLinuxData, MiB: bootMiB,
		Volume: diskmaker.Volume{Kind: "raw", Raw: make([]byte, 512)}}
	group := func(dir, tree, volume string) error {
		return onLVMOf(fmt.Sprintf("%dM", lockedMiB-2))(dir, tree, volume)
	}
	const bare, logical = "/dev/mapper/root_crypt", "/dev/mapper/vg-root"
	locked := func(name, root, uuid, shows string, lay func(dir, tree, volume string) error) layout {
		return layout{name: "root encrypted, " + name, firmware: OVMF, root: root, menu: menuInBoot(root, uuid), shows: shows,
			fstab: root + " / auto defaults 0 1\nUUID=" + uuid + " /boot ext4 defaults 0 2\n", locked: true,
			parts: []diskmaker.Partition{boot}, bootUUID: bootFSUUID, boot: throughStub(uuid), lay: encrypting(lay)}
	}
	without := func(l layout) layout {
		l.shows = "UEFI Interactive Shell" // what is last in the firmware's order
		l.boot = func(string, string) (map[int]map[string][]byte, error) { return nil, nil }
		return l
	}
	return []layout{
		locked("by the name that it is opened under", bare, bootFSUUID, "", plainExt),
		locked("by the UUID within", byUUID, bootFSUUID, "", plainExt),
		locked("on LVM within", logical, bootFSUUID, "", group),
		locked("another one is looked for", "UUID="+otherUUID, bootFSUUID, noRoot, plainExt),
		without(locked("the boot partition empty", bare, bootFSUUID, "", plainExt)),
		without(locked("on LVM within, the boot partition empty", logical, bootFSUUID, "", group)),
		locked("/boot with a new identifier", bare, bootGone, "grub>", plainExt),
	}
}
