package linux_test

import (
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/alone"
	"latchkey/internal/reference"
	"latchkey/internal/sample"
)

// innerUUID is of what lies in it. Each process has its own: mkfs.btrfs refuses one that another
// loop device carries.
var innerUUID = func() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b)
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}()

// filled has the second partition formatted, mounted by this machine's kernel, and filled.
func (n *nested) filled(format []string, fill func(at string)) *nested {
	n.t.Helper()
	release, err := alone.Lock("mkfs")
	require.NoError(n.t, err)
	defer release()
	raw := reference.Image(n.t, inLength*512)
	reference.Run(n.t, "", format[0], append(format[1:], raw)...)
	reference.Mounted(n.t, raw, "", fill)
	bytes, err := os.ReadFile(raw)
	require.NoError(n.t, err)
	return n.write(bytes, 0)
}

// onBtrfs has the system in subvolumes, the first of which may be the default one.
func onBtrfs(t *testing.T, prefix, before, options string, byDefault bool, subvolumes ...string) *nested {
	n := newNested(t, prefix, "UUID="+innerUUID+options).grub("part_gpt", "btrfs", "normal")
	return n.filled([]string{"mkfs.btrfs", "-q", "-U", innerUUID}, func(at string) {
		tree := n.tree(before)
		for i, s := range subvolumes {
			require.NoError(t, os.MkdirAll(filepath.Dir(at+s), 0o755))
			reference.Run(t, "", "btrfs", "subvolume", "create", at+s)
			if byDefault && i == 0 {
				reference.Run(t, "", "btrfs", "subvolume", "set-default", at+s)
			}
			if !strings.Contains(s, "home") {
				reference.Run(t, "", "cp", "-a", tree+"/.", at+s)
			}
		}
		if len(subvolumes) == 0 {
			reference.Run(t, "", "cp", "-a", tree+"/.", at)
		}
	})
}

// Which files are the system's on a Btrfs is said by the kernel line, else by the default
// subvolume; GRUB's paths begin at the top. Package truth has started such machines.
func TestARootOnBtrfs(t *testing.T) {
	t.Parallel()
	const top, in = "(,gpt2)/boot/grub", "(,gpt2)/@/boot/grub"
	if testing.Short() {
		onBtrfs(t, in, "/@", " rootflags=compress=zstd,subvol=/@", false, "/@", "/@home").starts(startup.Starts, "")
		return
	}
	onBtrfs(t, top, "", "", false).starts(startup.Starts, "")
	onBtrfs(t, in, "/@", " rootflags=subvol=@", false, "/@", "/@home").starts(startup.Starts, "")
	onBtrfs(t, in, "/@", " rootflags=compress=zstd,subvol=/@", false, "/@").starts(startup.Starts, "")
	onBtrfs(t, in, "/@", " rootflags=subvolid=256", false, "/@").starts(startup.Starts, "")
	onBtrfs(t, in, "/@", "", true, "/@").starts(startup.Starts, "")
	trace := onBtrfs(t, in, "/@", "", false, "/@").starts(startup.Stops, "holds no system")
	assert.Contains(t, rules(trace), course.Rule("root-no-system"))
	trace = onBtrfs(t, in, "/@", " rootflags=subvol=@gone", false, "/@").starts(startup.Stops, "no such subvolume")
	assert.Contains(t, rules(trace), course.Rule("subvolume-absent"))
	onBtrfs(t, top, "/@", " rootflags=subvol=@", false, "/@").starts(startup.Stops, "is not on")
	// The GRUB of some families takes the default subvolume for the beginning of paths.
	onBtrfs(
		t,
		top,
		"",
		"",
		true,
		"/@/.snapshots/1/snapshot",
	).starts(startup.Depends, "may be meant from its default subvolume")
}

// A kernel line whose subvolume is not there is given the one that holds the system.
func TestASubvolumeByAnotherName(t *testing.T) {
	t.Parallel()
	for flags, as := range map[string]string{"subvol=@gone": "subvol=/@", "noatime,subvolid=999": "subvol=/@,noatime", "subvol=@": ""} {
		n := onBtrfs(t, "(,gpt2)/@/boot/grub", "/@", " rootflags="+flags, false, "/@", "/@home", "/@/.snapshots/1/snapshot")
		m := sample.Whole(firmware.UEFI, n.drive(machine.RoleClone))
		d := m.Drive(machine.RoleClone)
		root, ok := d.Contents.LinuxRoot()
		require.True(t, ok)
		names := d.LinuxNames(0, root, nil)
		if as == "" {
			assert.Empty(t, names.Types)
			continue
		}
		require.Equal(t, []machine.Renamed{{Old: "rootflags=" + flags, New: "rootflags=" + as}}, names.Types)
		d.Contents = d.Contents.WithNames(names)
		assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict)
	}
	// Which of two is meant nobody knows.
	n := onBtrfs(t, "(,gpt2)/@/boot/grub", "/@", " rootflags=subvol=@gone", false, "/@", "/@other")
	d := n.drive(machine.RoleClone)
	root, _ := d.Contents.LinuxRoot()
	assert.Empty(t, d.LinuxNames(0, root, nil).Types)
}

// A mount of a subvolume that did not come along holds the start up.
func TestAMountedSubvolumeThatIsNotThere(t *testing.T) {
	t.Parallel()
	for _, lacks := range []bool{false, true} {
		n := newNested(
			t,
			"(,gpt2)/@/boot/grub",
			"UUID="+innerUUID+" rootflags=subvol=@",
		).grub("part_gpt", "btrfs", "normal")
		n.fstab = "UUID=" + innerUUID + " / btrfs subvol=@ 0 0\nUUID=" + innerUUID + " /home btrfs subvol=@home 0 0\n"
		n.filled([]string{"mkfs.btrfs", "-q", "-U", innerUUID}, func(at string) {
			reference.Run(t, "", "btrfs", "subvolume", "create", at+"/@")
			if !lacks {
				reference.Run(t, "", "btrfs", "subvolume", "create", at+"/@home")
			}
			reference.Run(t, "", "cp", "-a", n.tree("/@")+"/.", at+"/@")
		})
		if lacks {
			n.starts(startup.Stops, "subvol=@home")
		} else {
			n.starts(startup.Starts, "")
		}
	}
}

func TestARootOnXFS(t *testing.T) {
	t.Parallel()
	for modules, verdict := range map[string]startup.Verdict{"xfs": startup.Starts, "ext2": startup.Stops} {
		n := newNested(t, "(,gpt2)/boot/grub", "UUID="+innerUUID).grub("part_gpt", modules, "normal")
		raw := reference.Image(t, inLength*512)
		reference.MakeXFS(t, raw, n.tree(""), "-m", "uuid="+innerUUID)
		bytes, err := os.ReadFile(raw)
		require.NoError(t, err)
		n.write(bytes, 0)
		trace := n.starts(verdict, "")
		if verdict == startup.Stops {
			assert.Contains(t, rules(trace), course.Rule("grub-lacks-module"))
		}
	}
	// A feature that GRUB 2.06 does not know; the byte that holds it, by fs/xfs/libxfs/xfs_format.h.
	newer := newNested(t, "(,gpt2)/boot/grub", "UUID="+innerUUID).grub("part_gpt", "xfs", "normal")
	raw := reference.Image(t, inLength*512)
	reference.MakeXFS(t, raw, newer.tree(""), "-m", "uuid="+innerUUID)
	bytes, err := os.ReadFile(raw)
	require.NoError(t, err)
	bytes[219] |= 0x40
	reference.SealXFS(bytes)
	newer.write(bytes, 0).starts(startup.Depends, "from version 2.12 on")

	n := newNested(t, "(,gpt2)/boot/grub", "UUID="+innerUUID).grub("part_msdos", "ext2", "normal").system(0, 200<<20)
	assert.Contains(t, rules(n.starts(startup.Stops, "")), course.Rule("grub-lacks-module"), "it reads no GPT")
}
