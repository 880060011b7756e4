package repair_test

import (
	"os"
	"os/exec"
	"path/filepath"
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

const kernelName, ramDiskName = "boot/vmlinuz-6.1.0", "boot/initrd.img-6.1.0"

// versioned is a Linux whose kernel has a version in its name, as packages give it.
func versioned(id byte, change map[string][]byte) diskmaker.Disk {
	d := sample.LinuxDisk(id, id)
	files := d.Partitions[1].Volume.Files
	menu := string(files["boot/grub/grub.cfg"])
	files["boot/grub/grub.cfg"] = []byte(strings.NewReplacer("/boot/vmlinuz", "/"+kernelName, "/boot/initrd.img", "/"+ramDiskName).Replace(menu))
	files[kernelName], files[ramDiskName] = files["boot/vmlinuz"], files["boot/initrd.img"]
	delete(files, "boot/vmlinuz")
	delete(files, "boot/initrd.img")
	for name, raw := range change {
		if files[name] = raw; raw == nil {
			delete(files, name)
		}
	}
	return d
}

// What the boot loader is to load is made anew, or copied from the original.
func TestWhatIsLoadedIsRepaired(t *testing.T) {
	empty, zeros := []byte{}, make([]byte, 5000)
	for name, c := range map[string]struct {
		change       map[string][]byte
		alone, still string // the action without the original, and beside it
	}{
		"an empty RAM disk":     {map[string][]byte{ramDiskName: empty}, "initial-ram-disk", "copy-loaded"},
		"a RAM disk of zeros":   {map[string][]byte{ramDiskName: zeros}, "initial-ram-disk", "copy-loaded"},
		"no RAM disk":           {map[string][]byte{ramDiskName: nil}, "initial-ram-disk", "copy-loaded"},
		"an empty kernel":       {map[string][]byte{kernelName: empty}, "", "copy-loaded"},
		"no kernel":             {map[string][]byte{kernelName: nil}, "", "copy-loaded"},
		"neither of them":       {map[string][]byte{kernelName: nil, ramDiskName: zeros}, "", "copy-loaded"},
		"a kernel that is none": {map[string][]byte{kernelName: []byte("a text")}, "", "copy-loaded"},
	} {
		t.Run(name, func(t *testing.T) {
			clone := sample.Drive(t, machine.RoleClone, versioned(1, c.change).MustBuild())
			p := repair.Find(sample.Whole(firmware.UEFI, clone))
			if c.alone == "" {
				assert.Empty(t, p.Steps)
				assert.NotEqual(t, startup.Starts, p.Verdict)
			} else {
				assert.Equal(t, []string{c.alone}, actionsOf(p))
				assert.Equal(t, startup.Starts, p.Verdict)
				assert.Contains(t, p.Steps[0].Why, "can take nothing")
			}
			was := sample.Drive(t, machine.RoleOriginal, versioned(2, nil).MustBuild())
			was.Attached = fact.Tell(true)
			p = repair.Find(sample.Whole(firmware.UEFI, clone, was))
			require.Contains(t, actionsOf(p), c.still, p.Reason)
			text := textOf(p)
			assert.Contains(t, text, "mount -o ro,noload", "the original stays as it is, its journal too")
			for file := range c.change {
				assert.Contains(t, text, "cp /mnt/original/"+file+" /mnt/clone/"+file)
			}
		})
	}
	sound := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, versioned(1, nil).MustBuild()))
	assert.Equal(t, startup.Starts, startup.Simulate(sound).Verdict)
}

// A volume without room is the most frequent reason: it is told, and looked for before anything is written.
func TestThereIsToBeRoomForARAMDisk(t *testing.T) {
	d := versioned(1, map[string][]byte{ramDiskName: {}})
	d.Partitions[1].Volume.UsedMiB = 935 // of 958 MiB
	p := repair.Find(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild())))
	require.Equal(t, []string{"initial-ram-disk"}, actionsOf(p))
	assert.Contains(t, p.Steps[0].Why, "make room first")
	text := textOf(p)
	assert.Less(t, strings.Index(text, "df -Pk"), strings.Index(text, ".bak"))
	d.Partitions[1].Volume.UsedMiB = 100
	p = repair.Find(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild())))
	assert.NotContains(t, p.Steps[0].Why, "make room first")
}

// A link on a disk leads nowhere outside of the folder that it is mounted on.
func TestALinkLeadsNotOut(t *testing.T) {
	root := t.TempDir()
	clone := filepath.Join(root, "clone")
	require.NoError(t, os.MkdirAll(filepath.Join(clone, "etc"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(clone, "etc/fstab"), nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(root, "passwd"), nil, 0o600))
	for name, to := range map[string]string{"inside": "etc/fstab", "up": "../passwd", "whole": filepath.Join(root, "passwd"), "folder": root, "circle": "circle"} {
		require.NoError(t, os.Symlink(to, filepath.Join(clone, name)))
	}
	for name, stays := range map[string]bool{"etc/fstab": true, "etc/fstab.bak": true, "inside": true, "up": false, "whole": false, "folder/passwd": false,
		"folder/new": false, "circle": false, "gone/x": false, "../passwd": false} {
		err := exec.Command("sh", "-c", repair.InFolder(clone, filepath.Join(clone, name))).Run()
		assert.Equal(t, stays, err == nil, name)
	}
}

// Nothing of the clone is written before it was looked at where it leads.
func TestWritesToTheCloneLookWhereTheyLead(t *testing.T) {
	clone := sample.Drive(t, machine.RoleClone, sample.LinuxDisk(1, 9).MustBuild())
	p := repair.Find(sample.Whole(firmware.UEFI, clone))
	require.Contains(t, actionsOf(p), "linux-names")
	for _, s := range p.Steps {
		for _, c := range s.Commands {
			if at := strings.Index(c.Text, "cp "); at >= 0 {
				assert.Contains(t, c.Text[:at], "readlink -f", c.Text)
			}
		}
	}
}

// A part of the system is mounted where it lies, and never done without: the initial RAM disk waits for
// /usr whatever the mount table says of it, as a real Debian showed (package truth, "/usr by itself").
func TestAPartOfTheSystemIsNotDoneWithout(t *testing.T) {
	apart := func(point string, files ...string) machine.Machine {
		d := versioned(1, nil)
		d.Partitions[1].MiB = 400
		other := diskmaker.Volume{Kind: "ext4", UUID: [16]byte{9}, Files: map[string][]byte{}}
		for _, name := range files {
			other.Files[name] = []byte("x")
		}
		d.Partitions = append(d.Partitions, diskmaker.Partition{Type: d.Partitions[1].Type, MiB: 200, Volume: other})
		table := "UUID=01000000-0000-0000-0000-000000000000 / ext4 defaults 0 1\nUUID=0badc0de-0000-4000-8000-00000000dead " + point +
			" ext4 defaults 0 2\n"
		return sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, sample.With(d, 1, "etc/fstab", table).MustBuild()))
	}
	m := apart("/usr", "bin/sh", "lib/x", "share/x")
	require.Equal(t, startup.Stops, startup.Simulate(m).Verdict)
	p := repair.Find(m)
	require.Equal(t, []string{"linux-names"}, actionsOf(p), p.Reason)
	assert.Equal(t, startup.Starts, p.Verdict)
	assert.Contains(t, textOf(p), "UUID=")
	assert.NotContains(t, textOf(p), "lax=yes")
	for name, files := range map[string][]string{"nothing there": nil, "a system": {"bin/sh", "lib/x", "share/x", "etc/x"}, "data": {"share/x", "lib/x"}} {
		p := repair.Find(apart("/usr", files...))
		assert.NotContains(t, actionsOf(p), "linux-names", name)
		assert.NotEqual(t, startup.Starts, p.Verdict, name)
	}
	p = repair.Find(apart("/srv"))
	require.Equal(t, []string{"linux-names"}, actionsOf(p))
	assert.Contains(t, textOf(p), "lax=yes")
}

// A menu that is gone, or tells nothing, is copied from the original; one that is there and says something is not.
func TestWhatAStartGoesByIsCopied(t *testing.T) {
	const menu = "boot/grub/grub.cfg"
	for name, c := range map[string]struct {
		file   string
		raw    []byte
		action string
	}{
		"no menu":                   {menu, nil, "copy-loaded"},
		"an empty menu":             {menu, []byte("\n"), "copy-loaded"},
		"a menu of zeros":           {menu, make([]byte, 300), "copy-loaded"},
		"a menu that names another": {menu, []byte("menuentry 'x' {\n linux /boot/vmlinuz-6.1.0 root=UUID=0badc0de-0000-4000-8000-000000000000\n initrd /boot/initrd.img-6.1.0\n}\n"), "linux-names"},
	} {
		t.Run(name, func(t *testing.T) {
			clone := sample.Drive(t, machine.RoleClone, versioned(1, map[string][]byte{c.file: c.raw}).MustBuild())
			d := versioned(1, nil)
			d.Sectors += 2048
			was := sample.Drive(t, machine.RoleOriginal, d.MustBuild())
			was.Attached = fact.Tell(false)
			m := sample.Whole(firmware.UEFI, clone, was)
			require.Equal(t, startup.Stops, startup.Simulate(m).Verdict)
			p := repair.Find(m)
			require.Equal(t, startup.Starts, p.Verdict, p.Reason)
			assert.Equal(t, c.action, p.Steps[0].Action)
			if c.action == "copy-loaded" {
				assert.Contains(t, textOf(p), "cp /mnt/original/"+c.file+" /mnt/clone/"+c.file)
			}
		})
	}
}

// What is known to lack, of what firmware, boot loader and system go by.
func TestWhatIsKnownToLack(t *testing.T) {
	for file, lacks := range map[string][]byte{"boot/grub/grub.cfg": nil, "etc/fstab": nil, "boot/vmlinuz-6.1.0": {}} {
		for _, raw := range [][]byte{nil, make([]byte, 80)} {
			clone := sample.Drive(t, machine.RoleClone, versioned(1, map[string][]byte{file: raw}).MustBuild())
			was := sample.Drive(t, machine.RoleOriginal, versioned(1, nil).MustBuild())
			got := clone.Contents.Volumes[1].LacksStarted(&was.Contents.Volumes[1])
			if lacks != nil { // a kernel is no menu
				assert.Empty(t, got)
				continue
			}
			assert.Equal(t, []string{"/" + file}, got)
			assert.Empty(t, was.Contents.Volumes[1].LacksStarted(&clone.Contents.Volumes[1]))
			told := clone.Contents.Volumes[1]
			told.Told = true
			if raw == nil {
				assert.Empty(t, told.LacksStarted(&was.Contents.Volumes[1]), "a listing does not tell")
			}
		}
	}
}

// Without the original a menu that is gone is made anew by the system's own program, and GRUB is left as it is.
func TestAMenuIsMadeByItsSystem(t *testing.T) {
	const menu = "boot/grub/grub.cfg"
	for name, raw := range map[string][]byte{"gone": nil, "empty": {}, "of zeros": make([]byte, 99)} {
		d := versioned(1, map[string][]byte{menu: raw})
		p := repair.Find(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild())))
		require.Equal(t, []string{"linux-menu"}, actionsOf(p), "%s: %s", name, p.Reason)
		text := textOf(p)
		assert.Contains(t, text, "chroot /mnt/clone update-grub")
		assert.Contains(t, text, "grub.cfg.bak")
		assert.NotContains(t, text, "chroot /mnt/clone grub-install")

		bare := sample.WithoutTools(d, 1, "usr/sbin/update-grub")
		p = repair.Find(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, bare.MustBuild())))
		assert.NotContains(t, actionsOf(p), "linux-menu", "it has no program for it")
	}
}

// Folders that are gone with their files are made before anything is copied into them, each where it lies.
func TestFoldersAreMadeForWhatIsCopied(t *testing.T) {
	whole, d := versioned(1, nil), versioned(1, nil)
	files := d.Partitions[0].Volume.Files
	for name := range files {
		if strings.Contains(strings.ReplaceAll(name, `\`, "/"), "/EFI/debian/") {
			delete(files, name)
		}
	}
	require.Less(t, len(files), len(whole.Partitions[0].Volume.Files))
	whole.Sectors += 2048
	was := sample.Drive(t, machine.RoleOriginal, whole.MustBuild())
	was.Attached = fact.Tell(false)
	p := repair.Find(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild()), was))
	for _, plan := range append([]repair.Plan{p}, p.Alternatives...) {
		if !slices.Contains(actionsOf(plan), "copy-loaded") {
			continue
		}
		text := textOf(plan)
		outer, inner := strings.Index(text, "mkdir -p /mnt/clone/EFI "), strings.Index(text, "mkdir -p /mnt/clone/EFI/debian")
		require.Positive(t, outer, text)
		assert.Less(t, outer, inner, text)
		assert.Less(t, inner, strings.Index(text, "cp /mnt/original/EFI/debian/grub.cfg"), text)
		return
	}
	t.Fatalf("no plan copies: %v", actionsOf(p))
}
