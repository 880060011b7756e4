package truth

import (
	"cmp"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"latchkey/core/disk"
	"latchkey/internal/alone"
	"latchkey/internal/diskmaker"
)

// LayoutsFolder holds a real Debian whose initial RAM disk opens LVM and RAIDs, made by
// scripts/debian layouts; "" where there is none.
func LayoutsFolder() string { return os.Getenv("LATCHKEY_LAYOUTS") }

// layoutName begins the names of their scenarios.
const layoutName = "Layout, "

// layout is a way in which a real Debian lies on its disk.
type layout struct {
	name     string
	firmware Firmware
	root     string // root= of the kernel line
	prefix   string // GRUB's folder
	shows    string // what a start that stops must show
	menu     string // GRUB's menu; "" is one entry
	early    string // commands that are built into GRUB besides
	fstab    string // the mount table; "" is the root by its UUID
	env      string // of GRUB's environment block
	parts    []diskmaker.Partition
	bootUUID string // of a file system for /boot in the second partition; "" for none
	locked   bool   // the root is encrypted
	tree     string // of the system; "" is LayoutsFolder's
	usrUUID  string // of a file system for /usr in the second partition; "" for none
	// entry is the firmware's boot entry for a program of the boot partition; nil for none.
	entry     *diskmaker.Entry
	entryPath string
	// lay puts the tree into the raw bytes of the last partition, a file.
	lay func(dir, tree, volume string) error
	// was is how the original of a copy with identifiers of its own lies; nil for none that is told.
	was func(dir, tree, volume string) error
	// spoilt is what became of the kernel, or of the initial RAM disk; "" is nothing, and without a
	// spoiling it is gone.
	spoilt spoilt
	// partMiB is how long the root's partition is made behind all else; 0 is as long as it was.
	partMiB uint64
	// boot returns the files of the boot partitions, by their index.
	boot func(dir, tree string) (map[int]map[string][]byte, error)
}

const (
	layoutMiB = 700
	volumeMiB = 660
	bootMiB   = 128
)

// layoutScenarios start the copy of a real Debian, by GRUB or by systemd-boot.
func layoutScenarios() []Scenario {
	var all []Scenario
	for _, l := range slices.Concat(layouts(), renamedLayouts(), lockedLayouts(), lineLayouts(), menuLayouts(),
		spoiltLayouts(), chainLayouts(), featureLayouts(), stubLayouts(), apartLayouts(), signedLayouts(),
		dracutLayouts()) {
		clone := l.drive("b", 9, rootPart)
		was := unplugged()
		s := Scenario{Name: layoutName + l.name, Firmware: l.firmware, Whole: true, Limit: 6 * time.Minute,
			Shows:  l.shows,
			Drives: []Drive{was, clone}, Order: []string{"b", "a"}}
		s.Answers = map[string]string{"built-in:b": "no"} // as Debian's kernels are
		if l.locked {                                     // whoever has the passphrase can tell
			s.Answers["opens:b"] = "yes"
			if l.shows == noRoot {
				s.Answers["opens:b"] = "no"
			}
		}
		if l.entry != nil {
			e := entry(l.entry.Number, clone.Disk, 1, l.entryPath)
			e.Options = l.entry.Options
			s.Entries = []diskmaker.Entry{e}
		}
		all = append(all, s)
	}
	return all
}

// besideLayouts are copies with identifiers of their own, in a machine in which the original is, too.
func besideLayouts() (all []Scenario) {
	for _, l := range slices.Concat(layouts(), renamedLayouts()) {
		if l.was == nil {
			continue
		}
		original := l
		original.lay = l.was
		if l.bootUUID != "" {
			original.bootUUID = bootGone
		}
		was := original.drive("a", 7, "6e0f8a11-4a34-4a43-9a3c-57c3d9a6a7a1")
		was.Role = "original"
		all = append(all, Scenario{Name: layoutName + "the original beside it: " + l.name,
			Firmware: l.firmware, Whole: true, Limit: 6 * time.Minute,
			Drives: []Drive{l.drive("b", 9, rootPart), was}, Answers: map[string]string{"built-in:b": "no"}})
	}
	return all
}

// drive is a drive with the layout. Its identifiers go by a number, but for the root's partition's.
func (l layout) drive(name string, id byte, part string) Drive {
	esp := esp(diskmaker.Volume{Kind: "fat32", Serial: 0xB007C0DE})
	esp.MiB = 160
	root := diskmaker.Partition{Type: disk.TypeLinuxData, MBRType: 0x83, MiB: layoutMiB, Name: rootLabel,
		GUID: disk.MustGUID(part), Volume: diskmaker.Volume{Kind: "raw", Raw: make([]byte, 512)}}
	declared := gptDisk(id, append([]diskmaker.Partition{esp}, append(l.parts, root)...)...)
	if !l.firmware.UEFI() {
		declared = mbrDisk(id, root)
	}
	declared.Sectors = 2 << 21
	d := Drive{Name: name, Bus: "nvme", Disk: declared, Spoil: l.shortened(declared)}
	d.Make = func(dir string) (*diskmaker.Image, error) {
		dir = filepath.Join(dir, "of-"+name)
		if err := os.Mkdir(dir, 0o700); err != nil {
			return nil, err
		}
		defer os.RemoveAll(dir)
		return l.make(dir, name, declared)
	}
	return d
}

// kernelLine is what every kernel gets besides its root.
const kernelLine = " ro console=ttyS0 panic=1"

func (l layout) make(dir, name string, declared diskmaker.Disk) (*diskmaker.Image, error) {
	tree := filepath.Join(dir, "tree")
	if err := run("cp", "-a", cmp.Or(l.tree, LayoutsFolder()), tree); err != nil {
		return nil, err
	}
	defer os.RemoveAll(tree)
	kernel, ram := kernelsOf(tree)
	menu := l.menu
	if menu == "" {
		menu = "set default=0\n" + menuEntry("Debian", "d", kernel, ram, l.root)
	}
	inBoot := func(path string) string { return strings.TrimPrefix(path, "/boot") }
	menu = strings.NewReplacer("@KERNEL@", kernel, "@RAM@", ram, "@BOOTKERNEL@", inBoot(kernel), "@BOOTRAM@", inBoot(ram)).Replace(menu)
	fstab := l.fstab
	if fstab == "" {
		fstab = "UUID=" + rootUUID + " / auto defaults 0 1\n"
	}
	files := map[string]string{"etc/fstab": fstab, "etc/drive": name, "boot/grub/grub.cfg": "set timeout=0\n" + menu}
	if l.env != "" {
		files["boot/grub/grubenv"] = fmt.Sprintf("%-1024s", "# GRUB Environment Block\n"+l.env+"\n")
		files["boot/grub/grubenv"] = strings.ReplaceAll(files["boot/grub/grubenv"], " ", "#")
		files["boot/grub/grubenv"] = strings.Replace(files["boot/grub/grubenv"], "##GRUB#Environment#Block", "# GRUB Environment Block", 1)
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(tree, name), []byte(text), 0o600); err != nil {
			return nil, err
		}
	}
	if err := l.spoil(tree, kernel, ram); err != nil {
		return nil, err
	}
	declared.Partitions = append([]diskmaker.Partition{}, declared.Partitions...)
	if l.locked {
		if err := opening(tree); err != nil {
			return nil, err
		}
	}
	boots, err := l.boots(dir, tree)
	if err != nil {
		return nil, err
	}
	for i, files := range boots {
		declared.Partitions[i].Volume.Files = files
	}
	if l.bootUUID != "" {
		boot := filepath.Join(tree, "boot")
		if declared.Partitions[1].Volume.Raw, err = ext4(dir, boot, l.bootUUID, bootMiB); err != nil {
			return nil, err
		}
		if err := run("find", boot, "-mindepth", "1", "-delete"); err != nil {
			return nil, err
		}
	}
	if l.usrUUID != "" {
		if declared.Partitions[1].Volume.Raw, err = moveUsr(dir, tree, l.usrUUID); err != nil {
			return nil, err
		}
	}
	volume := filepath.Join(dir, "volume")
	if err := run("truncate", "-s", fmt.Sprintf("%dM", layoutMiB), volume); err != nil {
		return nil, err
	}
	if err := l.lay(dir, tree, volume); err != nil {
		return nil, err
	}
	if declared.Partitions[len(declared.Partitions)-1].Volume.Raw, err = os.ReadFile(volume); err != nil {
		return nil, err
	}
	if l.firmware.UEFI() {
		return declared.Build()
	}
	return legacyLayout(dir, declared, l.prefix)
}

// menuEntry is an entry of GRUB's menu.
func menuEntry(title, id, kernel, ram, root string) string {
	return fmt.Sprintf("menuentry '%s' --id %s {\n\tlinux %s root=%s%s\n\tinitrd %s\n}\n", title, id, kernel, root, kernelLine, ram)
}

// kernelsOf are the paths of the kernel and its initial RAM disk.
func kernelsOf(tree string) (kernel, ram string) {
	found := func(pattern string) string {
		list, _ := filepath.Glob(filepath.Join(tree, "boot", pattern))
		if len(list) == 0 {
			return "/boot/none"
		}
		return "/boot/" + filepath.Base(list[0])
	}
	return found("vmlinuz-*"), found("initrd.img-*")
}

// layoutModules are built into GRUB.
var layoutModules = []string{"part_gpt", "part_msdos", "ext2", "fat", "lvm", "mdraid1x", "mdraid09", "xfs", "btrfs", "zstd", "normal", "search", "search_fs_uuid",
	"configfile", "linux", "echo", "test", "loadenv", "gzio", "chain", "serial", "terminal", "ls"}

// boots are the files of the boot partition: GRUB as the fallback, or what the layout says.
func (l layout) boots(dir, tree string) (map[int]map[string][]byte, error) {
	switch {
	case l.boot != nil:
		return l.boot(dir, tree)
	case !l.firmware.UEFI():
		return nil, nil
	}
	program, err := grubProgram(dir, l.prefix, l.early)
	return map[int]map[string][]byte{0: {fallbackX64: program}}, err
}

// onSerial has GRUB tell the serial port what it shows.
const onSerial = "serial --unit=0 --speed=115200\nterminal_output serial\n"

func grubProgram(dir, prefix, commands string) ([]byte, error) {
	return grubWith(dir, prefix, onSerial+commands, layoutModules...)
}

// grubWith is a GRUB with its folder, first commands ("" for none) and modules.
func grubWith(dir, prefix, commands string, modules ...string) ([]byte, error) {
	return grubFor("x86_64-efi", filepath.Join(dir, "grub.efi"), prefix, commands, modules...)
}

// grubFor is grubWith for a platform, as a file.
func grubFor(platform, out, prefix, commands string, modules ...string) ([]byte, error) {
	early := out + ".cfg"
	args := []string{"-O", platform, "-o", out, "-p", prefix}
	if commands != "" {
		args = append(args, "-c", early)
		if err := os.WriteFile(early, []byte(commands), 0o600); err != nil {
			return nil, err
		}
	}
	if err := run("grub-mkimage", append(args, modules...)...); err != nil {
		return nil, err
	}
	return os.ReadFile(out)
}

// legacyLayout is legacyLinux for a folder of GRUB's by its name.
func legacyLayout(dir string, declared diskmaker.Disk, prefix string) (*diskmaker.Image, error) {
	out := filepath.Join(dir, "core.img")
	modules := []string{"-O", "i386-pc", "-o", out, "-p", prefix, "biosdisk"}
	for _, m := range layoutModules {
		if m != "xfs" && m != "btrfs" && m != "zstd" && m != "ls" { // there is room for less than a MiB
			modules = append(modules, m)
		}
	}
	if err := run("grub-mkimage", modules...); err != nil {
		return nil, err
	}
	return withCore(declared, out)
}

// onExt fills a file system at a byte of the volume.
func onExt(volume, tree, uuid string, offset int64, size int) error {
	return run("mkfs.ext4", "-q", "-F", "-U", uuid, "-d", tree, "-E", fmt.Sprintf("offset=%d", offset), volume, fmt.Sprintf("%dM", size))
}

func plainExt(_, tree, volume string) error { return onExt(volume, tree, rootUUID, 0, volumeMiB) }

// onLVM has the root on the logical volume vg/root; then changes the group.
func onLVM(then ...string) func(dir, tree, volume string) error {
	return onLVMOf(fmt.Sprintf("%dM", layoutMiB), then...)
}

// onLVMOf is onLVM with a physical volume of a size.
func onLVMOf(size string, then ...string) func(dir, tree, volume string) error {
	return func(_, tree, volume string) error {
		loop, err := exec.Command("losetup", "-f", "--show", volume).Output()
		if err != nil {
			return err
		}
		device := strings.TrimSpace(string(loop))
		config := []string{"-q", "-q", "--config", fmt.Sprintf(`devices{filter=["a|^%s$|","r|.*|"] use_devicesfile=0} activation{udev_sync=0 udev_rules=0}`, device), "--driverloaded", "n"}
		lvm := func(tool string, args ...string) {
			if err == nil {
				err = run(tool, append(config, args...)...)
			}
		}
		lvm("pvcreate", "-y", "--setphysicalvolumesize", size, device)
		lvm("vgcreate", "-s", "4m", "vg", device)
		lvm("lvcreate", "-an", "-Zn", "-Wn", "-L", fmt.Sprintf("%dM", volumeMiB), "-n", "root", "vg")
		if len(then) > 0 {
			lvm(then[0], then[1:]...)
		}
		if detached := run("losetup", "-d", device); err == nil {
			err = detached
		}
		if err != nil {
			return err
		}
		return onExt(volume, tree, rootUUID, 1<<20, volumeMiB)
	}
}

// onRAID has the root on one member of a mirror.
func onRAID(dir, tree, volume string) error { return onRAIDAs(rootUUID)(dir, tree, volume) }

// onRAIDAs is onRAID with a file system of a UUID.
func onRAIDAs(uuid string) func(dir, tree, volume string) error {
	return func(_, tree, volume string) error { return mirrored(tree, volume, uuid, "1.2") }
}

func mirrored(tree, volume, uuid, version string) error {
	r := diskmaker.RAID{Version: version, Level: 1}
	raw, at := r.Superblock(layoutMiB << 20)
	f, err := os.OpenFile(volume, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(raw, at)
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return err
	}
	return onExt(volume, tree, uuid, r.DataOffset(), volumeMiB)
}

// mounted fills a file system of another kind, which this machine's kernel writes.
func mounted(format ...string) func(dir, tree, volume string) error {
	return func(dir, tree, volume string) error {
		return onMounted(dir, volume, format, func(point string) error { return run("cp", "-a", tree+"/.", point) })
	}
}

// inSubvolume fills a subvolume of a Btrfs, which may be the one that is mounted where none
// is named.
func inSubvolume(byDefault bool, uuid string) func(dir, tree, volume string) error {
	return func(dir, tree, volume string) error {
		return onMounted(dir, volume, []string{"mkfs.btrfs", "-q", "-f", "-U", uuid}, func(point string) error {
			if err := run("btrfs", "subvolume", "create", point+"/@"); err != nil {
				return err
			}
			if byDefault {
				if err := run("btrfs", "subvolume", "set-default", point+"/@"); err != nil {
					return err
				}
			}
			return run("cp", "-a", tree+"/.", point+"/@")
		})
	}
}

func onMounted(dir, volume string, format []string, fill func(point string) error) error {
	release, err := alone.Lock("mkfs")
	if err != nil {
		return err
	}
	defer release()
	if err := run(format[0], append(format[1:], volume)...); err != nil {
		return err
	}
	point := filepath.Join(dir, "point")
	if err := os.MkdirAll(point, 0o700); err != nil {
		return err
	}
	if err := run("mount", "-o", "loop", volume, point); err != nil {
		return err
	}
	err = fill(point)
	if undone := run("umount", point); err == nil {
		err = undone
	}
	return err
}
