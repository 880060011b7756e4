package truth

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// What the names of the root's partition are, and the file system's own.
const (
	rootPart  = "5ca1ab1e-0000-4000-8000-00000000beef"
	rootLabel = "system"
)

const panics = "Unable to mount root fs|not syncing"

// lineLayouts are real systems whose kernel line names the root in the ways in which lines do.
func lineLayouts() []layout {
	upper := "UUID=" + strings.ToUpper(rootUUID)
	line := func(name, root, shows string) layout {
		return layout{name: "the kernel line, " + name, firmware: OVMF, root: root, prefix: "(,gpt2)/boot/grub", shows: shows,
			lay: labelled}
	}
	bare := func(name, root, shows string) layout {
		l := line(name, root, shows)
		l.menu = "set default=0\nmenuentry x {\n\tlinux @KERNEL@ root=" + root + kernelLine + "\n}\n"
		return l
	}
	return []layout{
		line("by the partition's identifier", "PARTUUID="+rootPart, ""),
		line("by another partition's identifier", "PARTUUID="+otherUUID, noRoot),
		line("by the label", "LABEL="+rootLabel, ""),
		line("by a label that is not there", "LABEL=gone", noRoot),
		line("by the partition's name", "PARTLABEL="+rootLabel, ""),
		line("by the device", "/dev/nvme0n1p2", ""),
		line("by another bus's device", "/dev/sda2", noRoot),
		line("by the UUID in capitals", upper, ""),
		line("by a link to the UUID", "/dev/disk/by-uuid/"+rootUUID, ""),
		line("by a link to the partition's identifier", "/dev/disk/by-partuuid/"+rootPart, ""),
		line("by a link to the label", "/dev/disk/by-label/"+rootLabel, ""),
		line("by a link that is not there", "/dev/disk/by-uuid/"+otherUUID, noRoot),
		line("the root named twice, the second is right", "UUID="+otherUUID+" root="+byUUID, ""),
		line("the root named twice, the first is right", byUUID+" root=UUID="+otherUUID, noRoot),
		line("a first program that is not there", byUUID+" init=/gone", ""),
		line("another kind of file system", byUUID+" rootfstype=xfs", "Failed to mount"),
		line("a subvolume of a file system that has none", byUUID+" rootflags=subvol=@", "Failed to mount"),
		line("an image to wake from that is gone", byUUID+" resume=UUID="+otherUUID, ""),
		bare("no initial RAM disk, by the UUID", byUUID, panics),
		bare("no initial RAM disk, by the partition's identifier", "PARTUUID="+rootPart, ""),
		bare("no initial RAM disk, by the device", "/dev/nvme0n1p2", ""),
		bare("no initial RAM disk, by the label", "LABEL="+rootLabel, panics),
	}
}

// labelled is a plain file system with a label.
func labelled(dir, tree, volume string) error {
	if err := plainExt(dir, tree, volume); err != nil {
		return err
	}
	return run("e2label", volume, rootLabel)
}

// menuLayouts are real systems with other menus of GRUB's.
func menuLayouts() []layout {
	menu := func(name, text, shows string) layout {
		return layout{name: "a menu, " + name, firmware: OVMF, root: byUUID, prefix: "(,gpt2)/boot/grub", menu: text, shows: shows, lay: labelled}
	}
	right := menuEntry("right", "r", "@KERNEL@", "@RAM@", byUUID)
	noRAM := menuEntry("wrong", "w", "@KERNEL@", "/boot/gone", byUUID)
	noKernel := menuEntry("wrong", "w", "/boot/gone", "@RAM@", byUUID)
	on := func(root string) string {
		return "menuentry x {\n\tlinux " + root + "@KERNEL@ root=" + byUUID + kernelLine + "\n\tinitrd " + root + "@RAM@\n}\n"
	}
	return []layout{
		menu("an initial RAM disk that is not there", "set default=0\n"+noRAM+right, "not found"),
		menu("a fallback behind a kernel that is not there", "set default=0\nset fallback=1\n"+noKernel+right, ""),
		menu("no fallback behind a kernel that is not there", "set default=0\n"+noKernel+right, "not found"),
		menu("a search for a label", "search --no-floppy --label --set=root "+rootLabel+"\n"+right, ""),
		menu("a search for another label goes on", "search --no-floppy --label --set=root gone\n"+right, ""),
		menu("a search for a file", "set root=x\nsearch --no-floppy --file --set=root /etc/drive\n"+right, ""),
		menu("a disk by its number", on("(hd0,gpt2)"), ""),
		menu("a disk that is not there by its number", on("(hd1,gpt2)"), "not found|no such"),
		menu("a partition by its number alone", "set root=hd0,2\n"+right, ""),
		menu("a partition of another table by its number", "set root=hd0,msdos2\n"+right, "not found|no such"),
		menu("a test for a file that is there", "if [ -f /etc/drive ]; then\n"+right+"else\n"+noKernel+"fi\n", ""),
		menu("a test for a file that is not there", "if test -e /etc/gone; then\n"+right+"else\n"+noKernel+"fi\n", "not found"),
		menu("a function", "function go {\n\tset default=1\n}\ngo\n"+noKernel+right, ""),
		menu("the default by its title", "set default=right\n"+noKernel+right, ""),
		menu("quotes and variables", "set name=\"@KERNEL@\"\nset line='root="+byUUID+kernelLine+"'\nmenuentry \"a $name\" {\n\tlinux ${name} $line\n\tinitrd @RAM@\n}\n", ""),
		menu("commands without an entry", "linux @KERNEL@ root="+byUUID+kernelLine+"\ninitrd @RAM@\nboot\n", ""),
		menu("empty", "\n", "grub>"),
	}
}

// chainLayouts have GRUB start another loader.
func chainLayouts() []layout {
	chain := func(name, path, shows string) layout {
		within := entries(0, map[string]string{"a": byUUID})
		return layout{name: "a menu, another loader" + name, firmware: OVMF, shows: shows, lay: labelled,
			menu: "menuentry x {\n\tsearch --no-floppy --fs-uuid --set=root B007-C0DE\n\tchainloader " + path + "\n}\n",
			boot: func(dir, tree string) (map[int]map[string][]byte, error) {
				files, err := within(dir, tree)
				if err != nil {
					return nil, err
				}
				files[0][`\EFI\systemd\systemd-bootx64.efi`] = files[0][fallbackX64]
				files[0][fallbackX64], err = grubProgram(dir, "(,gpt2)/boot/grub", "")
				return files, err
			}}
	}
	return []layout{
		chain("", "/EFI/systemd/systemd-bootx64.efi", ""),
		chain(" that is not there", "/EFI/systemd/gone.efi", "not found"),
	}
}

// featureLayouts are real systems on file systems with features, some of which GRUB does not
// read. mke2fs.conf(5), mkfs.xfs(8), mkfs.btrfs(8).
func featureLayouts() []layout {
	on := func(name, shows string, lay func(dir, tree, volume string) error) layout {
		return layout{name: "file system, " + name, firmware: OVMF, root: byUUID, prefix: "(,gpt2)/boot/grub", shows: shows, lay: lay}
	}
	ext := func(features string) func(dir, tree, volume string) error {
		return func(_, tree, volume string) error {
			return run("mkfs.ext4", "-q", "-F", "-O", features, "-U", rootUUID, "-d", tree, volume, fmt.Sprintf("%dM", volumeMiB))
		}
	}
	xfs := func(options ...string) func(dir, tree, volume string) error {
		return mounted(append([]string{"mkfs.xfs", "-q", "-f"}, options...)...)
	}
	const id = "uuid=" + rootUUID
	btrfs := func(options ...string) func(dir, tree, volume string) error {
		return mounted(append([]string{"mkfs.btrfs", "-q", "-f", "-U", rootUUID}, options...)...)
	}
	short := func(name, shows string, miB uint64, lay func(dir, tree, volume string) error) layout {
		l := on(name+" in a partition too short", shows, lay)
		l.partMiB = miB
		return l
	}
	const unmounted, less = "ALERT|can't|ailed|mount:", volumeMiB - 1
	return []layout{
		on("ext4 with a seed of its sums", "", ext("metadata_csum,metadata_csum_seed")),
		on("ext4 with data in inodes", rescue, ext("inline_data")),
		on("ext4 with an orphan file", "", ext("orphan_file")),
		on("ext4 of 32 bits without sums", "", ext("^64bit,^metadata_csum")),
		on("ext4 with large directories", "", ext("large_dir")),
		on("ext4 with large attributes", rescue, ext("ea_inode")),
		on("ext2's blocks", "", ext("^extents,^64bit,^has_journal")),
		on("ext4 with groups of blocks", "", ext("meta_bg,^resize_inode")),
		on("ext4 with flexible case", rescue, ext("casefold")),
		on("XFS with large times", "", xfs("-m", id+",bigtime=1,inobtcount=1")),
		on("Btrfs with another sum", "", btrfs("--csum", "sha256")),
		on("Btrfs of mixed blocks", "", btrfs("--mixed")),
		short("ext4", unmounted, less, ext("metadata_csum")), short("XFS", unmounted, less, xfs("-m", id)), short("Btrfs", unmounted, less, btrfs()),
		{name: "file system, a group that fits in a partition too short", firmware: OVMF, root: byUUID, prefix: onGroup, partMiB: layoutMiB - 10, lay: onLVM()},
		{name: "file system, on a mirror of version 1.0", firmware: OVMF, root: byUUID, prefix: "(,gpt2)/boot/grub", lay: onRAIDOf("1.0")},
		{name: "file system, on a mirror of version 1.0 by its name", firmware: OVMF, root: byUUID, prefix: onMirror, lay: onRAIDOf("1.0")},
		{name: "file system, on a mirror of version 1.1", firmware: OVMF, root: byUUID, prefix: onMirror, lay: onRAIDOf("1.1")},
	}
}

// onRAIDOf is onRAID with a superblock of another version.
func onRAIDOf(version string) func(dir, tree, volume string) error {
	return func(_, tree, volume string) error { return mirrored(tree, volume, rootUUID, version) }
}

// stubLayouts have the kernel started by the firmware itself. The kernel's
// admin-guide/efi-stub.
func stubLayouts() []layout {
	files := func(at string, with bool) func(dir, tree string) (map[int]map[string][]byte, error) {
		return func(_, tree string) (map[int]map[string][]byte, error) {
			kernel, ram, err := kernelAndRAM(tree)
			files := map[string][]byte{at: kernel}
			if with {
				files[`\EFI\debian\initrd.img`] = ram
			}
			return map[int]map[string][]byte{0: files}, err
		}
	}
	const path = `\EFI\debian\vmlinuz.efi`
	stub := func(name, shows, options string, with bool) layout {
		return layout{name: "a kernel without a loader, " + name, firmware: OVMF, shows: shows, lay: labelled, boot: files(path, with),
			entry: &diskmaker.Entry{Number: 3, Description: "Debian", Options: options}, entryPath: path}
	}
	ram := ` initrd=\EFI\debian\initrd.img`
	fallback := stub("as the fallback", "BdsDxe: starting", "", true)
	fallback.boot, fallback.entry = files(fallbackX64, true), nil
	return []layout{
		stub("with its options", "", "root="+byUUID+kernelLine+ram, true),
		stub("with another root", noRoot, "root=UUID="+otherUUID+kernelLine+ram, true),
		stub("without its initial RAM disk", "", "root="+byUUID+kernelLine+ram, false),
		stub("with no initial RAM disk named", "", "root=PARTUUID="+rootPart+kernelLine, false),
		stub("without options", "BdsDxe: starting", "", true),
		fallback,
	}
}

// apartLayouts have folders of the system on partitions of their own.
func apartLayouts() []layout {
	usr := diskmaker.Partition{Type: disk.TypeLinuxData, MiB: layoutMiB,
		Volume: diskmaker.Volume{Kind: "raw", Raw: make([]byte, 512)}}
	apart := func(name, uuid, shows string) layout {
		return layout{name: "/usr by itself, " + name, firmware: OVMF, root: byUUID, prefix: "(,gpt3)/boot/grub", parts: []diskmaker.Partition{usr},
			fstab: byUUID + " / ext4 defaults 0 1\nUUID=" + uuid + " /usr ext4 defaults 0 2\n", usrUUID: bootFSUUID, shows: shows, lay: plainExt}
	}
	return []layout{
		apart("where the mount table says", bootFSUUID, ""),
		apart("with a new identifier", bootGone, noRoot),
	}
}

// moveUsr makes a file system of the tree's /usr.
func moveUsr(dir, tree, uuid string) ([]byte, error) {
	usr := filepath.Join(tree, "usr")
	raw, err := ext4(dir, usr, uuid, volumeMiB)
	if err != nil {
		return nil, err
	}
	if err := os.RemoveAll(usr); err != nil {
		return nil, err
	}
	return raw, os.Mkdir(usr, 0o755)
}
