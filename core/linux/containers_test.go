package linux_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
	"latchkey/internal/sample"
)

// Disks whose root lies in something, made by the tools of a running Linux, with GRUB
// made by its own. Where the second partition begins, in sectors, and how long it is.
const (
	inStart, inLength = 133120, 400 << 11
	inBase            = inStart * 512
)

// nested is such a disk.
type nested struct {
	t      *testing.T
	path   string
	prefix string // GRUB's folder
	root   string // root= of the kernel line, with what follows it
	fstab  string
	maker  machine.Tool // of the initial RAM disk
}

func newNested(t *testing.T, prefix, root string) *nested {
	reference.Need(t, "sfdisk", "mkfs.fat", "mmd", "mcopy", "grub-mkimage", "mkfs.ext4")
	n := &nested{t: t, path: reference.Image(t, 480<<20), prefix: prefix, root: root,
		fstab: "UUID=" + innerUUID + " / ext4 defaults 0 1\n", maker: machine.UpdateInitramfs}
	table := fmt.Sprintf("label: gpt\nstart=2048, size=131072, type=U\nstart=%d, size=%d, type=L\n", inStart, inLength)
	reference.Run(t, table, "sfdisk", "-q", n.path)
	reference.Run(t, "", "mkfs.fat", "-F32", "-s", "1", "--offset", "2048", "-h", "2048", n.path, "65536")
	for _, dir := range []string{"EFI", "EFI/BOOT"} {
		reference.Run(t, "", "mmd", "-i", n.path+"@@1M", dir)
	}
	return n.grub("part_gpt", "ext2", "fat", "lvm", "mdraid1x", "normal")
}

// grub puts a GRUB with modules onto the boot partition.
func (n *nested) grub(modules ...string) *nested {
	program := filepath.Join(n.t.TempDir(), "grub.efi")
	reference.Run(
		n.t,
		"",
		"grub-mkimage",
		append([]string{"-O", "x86_64-efi", "-p", n.prefix, "-o", program, "linux"}, modules...)...)
	reference.Run(n.t, "", "mcopy", "-o", "-i", n.path+"@@1M", program, "::EFI/BOOT/BOOTX64.EFI")
	return n
}

// system writes a root file system at a byte of the second partition.
func (n *nested) system(offset, size int64) *nested {
	n.t.Helper()
	tree := n.tree("")
	reference.Run(n.t, "", "mkfs.ext4", "-q", "-F", "-U", innerUUID, "-d", tree, "-E",
		fmt.Sprintf("offset=%d", inBase+offset), n.path, fmt.Sprintf("%dk", size>>10))
	return n
}

// tree is a folder with what decides a start; its menu has before in front of each path.
func (n *nested) tree(before string) string {
	n.t.Helper()
	tree := n.t.TempDir()
	for name, text := range map[string]string{
		"boot/grub/grub.cfg": "set default=0\nmenuentry 'x' {\n search --fs-uuid --set=root " + innerUUID + "\n linux " + before +
			"/boot/vmlinuz root=" + n.root + " ro\n initrd " + before + "/boot/initrd.img\n}\n",
		"boot/vmlinuz": string(sample.X64()), "boot/initrd.img": string(diskmaker.RAMDisk()), "etc/fstab": n.fstab, "sbin/init": "#!/bin/sh\n",
		"usr/sbin/" + string(n.maker): "#!/bin/sh\n",
	} {
		file := filepath.Join(tree, name)
		require.NoError(n.t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(n.t, os.WriteFile(file, []byte(text), 0o600))
	}
	return tree
}

func (n *nested) write(raw []byte, at int64) *nested {
	f, err := os.OpenFile(n.path, os.O_RDWR, 0)
	require.NoError(n.t, err)
	defer f.Close()
	_, err = f.WriteAt(raw, inBase+at)
	require.NoError(n.t, err)
	return n
}

func (n *nested) lvm() *reference.LVM { return reference.NewLVM(n.t, n.path, inBase, inLength*512) }

// drive reads the disk.
func (n *nested) drive(role machine.Role) machine.Drive {
	n.t.Helper()
	f, err := os.Open(n.path)
	require.NoError(n.t, err)
	n.t.Cleanup(func() { f.Close() })
	d, err := disk.New(f, 480<<20, 512)
	require.NoError(n.t, err)
	return machine.Drive{Name: string(role), Role: role, Bus: fact.Tell("sata"), Attached: fact.Tell(true),
		Contents: machine.Examine(d)}
}

func (n *nested) starts(verdict startup.Verdict, says string) startup.Trace {
	n.t.Helper()
	trace := startup.Simulate(sample.Whole(firmware.UEFI, n.drive(machine.RoleClone)))
	assert.Equal(n.t, verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
	assert.Contains(n.t, sample.Words(trace), says)
	return trace
}

func rules(trace startup.Trace) (list []course.Rule) {
	for _, f := range trace.Findings {
		list = append(list, f.Rule)
	}
	return list
}

const groupPrefix = "(lvm/kiosk--vg-root)/boot/grub"

// onLVM has the root on a logical volume of 100 MiB, the first of two.
func onLVM(t *testing.T, root string) *nested { return onLVMBy(t, machine.UpdateInitramfs, root) }

// onLVMBy is onLVM with what makes the initial RAM disk.
func onLVMBy(t *testing.T, maker machine.Tool, root string) *nested {
	n := newNested(t, groupPrefix, root)
	n.maker = maker
	n.fstab += "/dev/kiosk-vg/data /data ext4 defaults 0 2\n"
	l := n.lvm()
	l.Group("kiosk-vg", "root=100M", "data=60M")
	l.Detach()
	data := fmt.Sprintf("offset=%d", inBase+101<<20)
	reference.Run(t, "", "mkfs.ext4", "-q", "-F", "-E", data, n.path, "60M")
	return n.system(1<<20, 100<<20)
}

func TestARootOnLVM(t *testing.T) {
	for _, root := range []string{"/dev/mapper/kiosk--vg-root", "/dev/kiosk-vg/root", "UUID=" + innerUUID,
		"/dev/mapper/kiosk--vg-root rd.lvm.lv=kiosk-vg/root"} {
		onLVM(t, root).starts(startup.Starts, "Linux comes up")
	}
	onLVM(t, "/dev/mapper/kiosk--vg-gone").starts(startup.Stops, "no attached disk carries")
	onLVM(t, "UUID=dead-beef").starts(startup.Stops, "no attached disk carries")
	onLVMBy(t, machine.Dracut, "UUID="+innerUUID+" rd.lvm.lv=kiosk-vg/gone").starts(startup.Stops, "rd.lvm.lv=kiosk-vg/gone")

	// What the copy may do to the group, and what the configuration then finds.
	n := onLVM(t, "/dev/mapper/kiosk--vg-root")
	l := n.lvm()
	l.Run("vgchange", "-u", "kiosk-vg")
	l.Detach()
	n.starts(startup.Starts, "Linux comes up")
	l = n.lvm()
	l.Run("vgrename", "kiosk-vg", "other")
	l.Detach()
	n.starts(startup.Stops, "does not exist on the clone")

	// GRUB names its folder by the UUIDs of group and volume, as its own installer writes it.
	l = n.lvm()
	ids := strings.Fields(l.Run("lvs", "--noheadings", "-o", "vg_uuid,lv_uuid", "other/root"))
	l.Detach()
	require.Len(t, ids, 2)
	for prefix, verdict := range map[string]startup.Verdict{ids[0] + "/" + ids[1]: startup.Starts,
		ids[0] + "/" + ids[0]: startup.Stops, ids[1] + "/" + ids[1]: startup.Stops,
		strings.ToLower(ids[0] + "/" + ids[1]): startup.Stops} {
		n.prefix, n.root = "(lvmid/"+prefix+")/boot/grub", ""
		n.grub("part_gpt", "ext2", "fat", "lvm", "normal")
		trace := startup.Simulate(sample.Whole(firmware.UEFI, n.drive(machine.RoleClone)))
		if verdict == startup.Starts { // the menu's root is the old group's: it comes as far as that
			assert.Contains(t, sample.Words(trace), "looks for its root", prefix)
		} else {
			assert.Contains(t, sample.Words(trace), "which does not exist on the clone", prefix)
		}
	}

	// The second piece of a volume that was made larger holds nothing of the file system yet.
	n = onLVM(t, "UUID="+innerUUID)
	l = n.lvm()
	l.Run("lvextend", "-L", "120M", "kiosk-vg/root")
	l.Detach()
	n.starts(startup.Starts, "Linux comes up")
}

func TestAVolumeGroupOnBothDisks(t *testing.T) {
	n := onLVM(t, "/dev/mapper/kiosk--vg-root")
	trace := startup.Simulate(sample.Whole(firmware.UEFI, n.drive(machine.RoleClone), n.drive(machine.RoleOriginal)))
	assert.Equal(t, startup.Depends, trace.Verdict)
	assert.Contains(t, rules(trace), course.Rule("twin-members"))
	assert.Contains(t, sample.Words(trace), "carry the same identifiers")
}

func TestARootOnARAID(t *testing.T) {
	mirrored := func(root string, device byte) *nested {
		r := diskmaker.RAID{Version: "1.2", Level: 1, Device: device}
		n := newNested(t, "(mduuid/"+strings.ReplaceAll(diskmaker.RAIDUUID, "-", "")+")/boot/grub", root)
		raw, at := r.Superblock(inLength * 512)
		return n.write(raw, at).system(r.DataOffset(), 100<<20)
	}
	for _, root := range []string{"/dev/md0", "/dev/md/0", "UUID=" + innerUUID} {
		trace := mirrored(root, 0).starts(startup.Starts, "Linux comes up")
		assert.Contains(t, rules(trace), course.Rule("members-absent"))
		isIt := func(f startup.Finding) bool {
			return strings.Contains(f.Text, "has 2 devices, of which 1 are attached")
		}
		assert.True(t, slices.ContainsFunc(trace.Findings, isIt), "%v", trace.Findings)
	}
	mirrored("/dev/md127", 0).starts(startup.Depends, "does not tell")
	mirrored("/dev/mapper/vg-root", 0).starts(startup.Stops, "no attached disk carries")

	// Both members in one machine are one array; the same member twice is not.
	one, two := mirrored("/dev/md0", 0), mirrored("/dev/md0", 1)
	trace := startup.Simulate(sample.Whole(firmware.UEFI, one.drive(machine.RoleClone), two.drive("other")))
	assert.Equal(t, startup.Starts, trace.Verdict, trace.Reason)
	assert.Empty(t, rules(trace))
	trace = startup.Simulate(sample.Whole(firmware.UEFI, one.drive(machine.RoleClone), one.drive(machine.RoleOriginal)))
	assert.Equal(t, startup.Depends, trace.Verdict)
	assert.Contains(t, rules(trace), course.Rule("twin-members"))

	// A volume group within the RAID.
	r := diskmaker.RAID{Version: "1.2", Level: 1}
	n := newNested(t, groupPrefix, "/dev/kiosk-vg/root")
	l := reference.NewLVM(t, n.path, inBase+r.DataOffset(), inLength*512-r.DataOffset()-(8<<20))
	l.Group("kiosk-vg", "root=100M")
	l.Detach()
	raw, at := r.Superblock(inLength * 512)
	n.write(raw, at).system(r.DataOffset()+1<<20, 100<<20)
	n.starts(startup.Starts, "the logical volume kiosk-vg/root in partition 2")

	// A stripe of two is not all here.
	n = newNested(t, "(,gpt2)/boot/grub", "/dev/md0")
	raw, at = diskmaker.RAID{Version: "1.2", Level: 0}.Superblock(inLength * 512)
	n.write(raw, at)
	n.starts(startup.Depends, "")
}

func TestARootThatIsEncrypted(t *testing.T) {
	locked := func(root string) (*nested, string) {
		n := newNested(t, "(,gpt1)/EFI/debian", root)
		loop := reference.NewLVM(t, n.path, inBase, inLength*512)
		reference.Run(t, "secret", "cryptsetup", "luksFormat", "-q", "--type", "luks2", "--pbkdf", "pbkdf2",
			"--pbkdf-force-iterations", "1000", loop.Device, "-")
		uuid := strings.TrimSpace(reference.Run(t, "", "cryptsetup", "luksUUID", loop.Device))
		loop.Detach()
		menu := filepath.Join(t.TempDir(), "grub.cfg")
		require.NoError(t, os.WriteFile(menu, []byte("menuentry 'x' {\n linux /vmlinuz root="+strings.ReplaceAll(root,
			"LUKS", uuid)+"\n initrd /initrd.img\n}\n"), 0o600))
		kernel, disk := filepath.Join(t.TempDir(), "kernel"), filepath.Join(t.TempDir(), "disk")
		require.NoError(t, os.WriteFile(disk, diskmaker.RAMDisk(), 0o600))
		require.NoError(t, os.WriteFile(kernel, sample.X64(), 0o600))
		reference.Run(t, "", "mmd", "-i", n.path+"@@1M", "EFI/debian")
		for file, to := range map[string]string{menu: "EFI/debian/grub.cfg", kernel: "vmlinuz"} {
			reference.Run(t, "", "mcopy", "-i", n.path+"@@1M", file, "::"+to)
		}
		reference.Run(t, "", "mcopy", "-i", n.path+"@@1M", disk, "::initrd.img")
		return n, uuid
	}
	for _, root := range []string{"UUID=" + innerUUID, "/dev/mapper/cryptroot", "/dev/mapper/vg-root",
		"/dev/vg/root rd.luks.uuid=luks-LUKS", "/dev/mapper/x cryptdevice=UUID=LUKS:x"} {
		n, _ := locked(root)
		n.starts(startup.Depends, "encrypted (LUKS)")
	}
	// Whoever has the passphrase can tell: the answer settles it, and the plan says how to look.
	n, _ := locked("/dev/mapper/vg-root")
	m := sample.Whole(firmware.UEFI, n.drive(machine.RoleClone))
	for answer, verdict := range map[string]startup.Verdict{"yes": startup.Starts, "no": startup.Stops} {
		m.Answers = map[string]string{"opens:clone": answer}
		assert.Equal(t, verdict, startup.Simulate(m).Verdict, answer)
	}
	assert.Contains(t, n.repaired("look-inside"), "cryptsetup open --readonly")

	// A device's name is no name of what lies in others: it stays open, and no answer stops it.
	n, _ = locked("/dev/sda2")
	m = sample.Whole(firmware.UEFI, n.drive(machine.RoleClone))
	m.Drives[0].Bus, m.Answers = fact.Unknown[string](), map[string]string{"opens:clone": "no"}
	assert.Equal(t, startup.Depends, startup.Simulate(m).Verdict)

	n, _ = locked("/dev/mapper/x rd.luks.uuid=luks-aaaaaaaa-0000-4000-8000-000000000001")
	n.starts(startup.Stops, "no attached disk carries")
}

// repaired plans for a machine whose clone's names are stale, and returns the plan's lines.
func (n *nested) repaired(actions ...string) (lines string) {
	n.t.Helper()
	plan := repair.Find(sample.Whole(firmware.UEFI, n.drive(machine.RoleClone)), repair.Linux)
	var got []string
	for _, s := range plan.Steps {
		got = append(got, s.Action)
		for _, c := range s.Commands {
			lines += c.Text + "\n"
		}
	}
	assert.Equal(n.t, startup.Starts, plan.Verdict, plan.Reason)
	assert.Equal(n.t, actions, got)
	return lines
}

// What a root lies in is opened from the clone's part alone, and what was opened is looked at
// before anything is written; it is closed again.
func TestNamesWithinContainersAreRepaired(t *testing.T) {
	n := onLVM(t, "/dev/mapper/kiosk--vg-root")
	n.prefix = "(,gpt1)/EFI/debian"
	stub := filepath.Join(t.TempDir(), "grub.cfg")
	require.NoError(t, os.WriteFile(stub, []byte("search.fs_uuid "+innerUUID+" root\nset prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n"), 0o600))
	reference.Run(t, "", "mmd", "-i", n.path+"@@1M", "EFI/debian")
	reference.Run(t, "", "mcopy", "-i", n.path+"@@1M", stub, "::EFI/debian/grub.cfg")
	n.grub("part_gpt", "ext2", "fat", "lvm", "normal", "search_fs_uuid", "configfile")
	l := n.lvm()
	l.Run("vgrename", "kiosk-vg", "other")
	l.Detach()
	lines := n.repaired("linux-names")
	for _, want := range []string{"vgchange -ay", "-- other", "mount /dev/mapper/other-root /mnt/clone", "/dev/mapper/kiosk--vg-root' '/dev/mapper/other-root",
		"point=/data device=/dev/mapper/other-data", "vgchange -an"} {
		assert.Contains(t, lines, want)
	}
	assert.Less(t, strings.Index(lines, "slaves"), strings.Index(lines, "mount /dev"), "looked at before it is mounted")
	assert.Less(t, strings.Index(lines, "umount -R"), strings.Index(lines, "vgchange -an"))

	r := diskmaker.RAID{Version: "1.2", Level: 1}
	n = newNested(t, "(mduuid/"+strings.ReplaceAll(diskmaker.RAIDUUID, "-", "")+")/boot/grub", "UUID=dead-beef")
	raw, at := r.Superblock(inLength * 512)
	lines = n.write(raw, at).system(r.DataOffset(), 100<<20).repaired("linux-names")
	for _, want := range []string{"mdadm --assemble --run /dev/md/clone2", `mount "$array2" /mnt/clone`, `mdadm --stop "$array2"`} {
		assert.Contains(t, lines, want)
	}
}

// What a repair cannot reach to its end is not planned on.
func TestNothingIsPlannedOnPartsOfASet(t *testing.T) {
	n := onLVM(t, "UUID=dead-beef")
	d := n.drive(machine.RoleClone)
	d.Contents.Volumes[1].Container.Members = 2
	plan := repair.Find(sample.Whole(firmware.UEFI, d), repair.Linux)
	assert.NotEqual(t, startup.Starts, plan.Verdict)
	d.Contents.Volumes[1].Container.Members = 1
	d.Contents.Volumes[1].Inner[0].Of = "-ff"
	plan = repair.Find(sample.Whole(firmware.UEFI, d), repair.Linux)
	assert.NotEqual(t, startup.Starts, plan.Verdict, "a name that a tool would take for an option")
}

// Where the root is encrypted, what GRUB looks for is repaired on the boot partition and on the
// /boot by itself, and in the mount table, for which the root is opened.
func TestTheBootOfAnEncryptedSystemIsRepaired(t *testing.T) {
	reference.Need(t, "sfdisk", "mkfs.fat", "mmd", "mcopy", "grub-mkimage", "mkfs.ext4", "cryptsetup")
	path := reference.Image(t, 480<<20)
	const bootStart = 133120
	reference.Run(t, fmt.Sprintf("label: gpt\nstart=2048, size=131072, type=U\nstart=%d, size=131072, type=L\nstart=%d, size=400000, type=L\n",
		bootStart, bootStart+131072), "sfdisk", "-q", path)
	reference.Run(t, "", "mkfs.fat", "-F32", "-s", "1", "--offset", "2048", "-h", "2048", path, "65536")
	n := &nested{t: t, path: path, prefix: "(,gpt1)/EFI/debian"}
	for _, dir := range []string{"EFI", "EFI/BOOT", "EFI/debian"} {
		reference.Run(t, "", "mmd", "-i", path+"@@1M", dir)
	}
	n.grub("part_gpt", "ext2", "fat", "normal", "search_fs_uuid", "configfile")
	const gone, is = "11111111-2222-4333-8444-555555555555", "66666666-7777-4888-8999-aaaaaaaaaaaa"
	stub := filepath.Join(t.TempDir(), "grub.cfg")
	require.NoError(t, os.WriteFile(stub, []byte("search.fs_uuid "+gone+" root\nset prefix=($root)/grub\nconfigfile $prefix/grub.cfg\n"), 0o600))
	reference.Run(t, "", "mcopy", "-i", path+"@@1M", stub, "::EFI/debian/grub.cfg")
	tree := t.TempDir()
	for name, text := range map[string]string{"grub/grub.cfg": "menuentry 'x' {\n search --fs-uuid --set=root " + gone +
		"\n linux /vmlinuz-6 root=/dev/mapper/vg-root\n initrd /initrd.img-6\n}\n", "vmlinuz-6": string(sample.X64()),
		"initrd.img-6": string(diskmaker.RAMDisk())} {
		file := filepath.Join(tree, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	}
	reference.Run(t, "", "mkfs.ext4", "-q", "-F", "-U", is, "-d", tree, "-E", fmt.Sprintf("offset=%d", bootStart*512), path, "65536k")
	loop := reference.NewLVM(t, path, (bootStart+131072)*512, 400000*512)
	reference.Run(t, "secret", "cryptsetup", "luksFormat", "-q", "--type", "luks2", "--pbkdf", "pbkdf2",
		"--pbkdf-force-iterations", "1000", loop.Device, "-")
	loop.Detach()
	n.starts(startup.Stops, "GRUB looks for the file system UUID "+gone)
	lines := n.repaired("linux-names")
	for _, want := range []string{"cryptsetup open", "mkdir -p /mnt/clone/boot && mount", "/mnt/clone/boot/efi", gone,
		"point=/boot perhaps=yes", "etc/fstab.bak", "umount -R /mnt/clone", "cryptsetup close"} {
		assert.Contains(t, lines, want, "its mount table names /boot, too")
	}

	// Whoever says that it does not open leaves its mount table as it is.
	m := sample.Whole(firmware.UEFI, n.drive(machine.RoleClone))
	m.Answers = map[string]string{"opens:clone": "no"}
	for _, s := range repair.Find(m, repair.Linux).Steps {
		for _, c := range s.Commands {
			assert.NotContains(t, c.Text, "cryptsetup open", s.Action)
		}
	}
}
