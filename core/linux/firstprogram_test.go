package linux_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// rooted is a disk whose root is laid out as one is, without what is named.
func rooted(t *testing.T, files map[string]string, without ...string) diskmaker.Disk {
	t.Helper()
	d := sample.LinuxDisk(1, 1)
	all := map[string]string{"sbin/init": "#!/bin/sh\n", "bin/sh": "#!/bin/sh\n", "usr/lib/systemd/systemd": "#!/bin/sh\n"}
	for _, folder := range []string{"dev", "proc", "sys", "run", "home", "var"} {
		all[folder+"/kept"] = "x"
	}
	for name, text := range files {
		all[name] = text
	}
	for _, name := range without {
		delete(all, name)
	}
	for name, text := range all {
		d = sample.With(d, 1, name, text)
	}
	return d
}

func initMenu(name string) string {
	return "menuentry 'x' {\n linux /boot/vmlinuz root=LABEL=root init=" + name + "\n initrd /boot/initrd.img\n}\n"
}

// initOf has the kernel line name a first program, of a root with a program or without one.
func initOf(name, without string, with ...string) diskmaker.Disk {
	d := sample.With(sample.LinuxDisk(1, 1), 1, "boot/grub/grub.cfg", initMenu(name))
	d = sample.With(sample.With(d, 1, "sbin/init", "#!/bin/sh\n"), 1, "usr/lib/systemd/systemd", "#!/bin/sh\n")
	for _, folder := range []string{"dev", "proc", "sys", "run"} {
		d = sample.With(d, 1, folder+"/kept", "x")
	}
	if without != "" {
		d = sample.WithoutTools(d, 1, without)
	}
	return sample.WithTools(d, 1, with...)
}

// typed has the root in a partition of the type of its own for that. The Discoverable Partitions Specification.
func typed(d diskmaker.Disk) diskmaker.Disk {
	d.Partitions[1].Type = disk.MustGUID("4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709")
	return d
}

// A root that is laid out as one is lacks what is not there; each was seen in a real Debian (package truth,
// "coming up").
func TestWhatTheRootLacks(t *testing.T) {
	program, err := os.ReadFile("/bin/true") // linked when it is started, by what this machine links its own by
	require.NoError(t, err)
	linker := "lib64/ld-linux-x86-64.so.2"
	for name, c := range map[string]struct {
		disk    diskmaker.Disk
		rule    course.Rule
		verdict startup.Verdict
		shows   string
	}{
		"nothing":            {rooted(t, nil), "", startup.Starts, ""},
		"its first program":  {rooted(t, nil, "sbin/init"), "no-first-program", startup.Stops, "nothing but a shell"},
		"its programs":       {rooted(t, nil, "sbin/init", "bin/sh"), "no-first-program", startup.Stops, "has none of the programs"},
		"all that ran on it": {sample.WithoutTools(rooted(t, nil, "sbin/init", "bin/sh", "usr/lib/systemd/systemd"), 1, sample.DebianTools...), "no-first-program", startup.Stops, "has none of the programs"},
		"a folder":           {rooted(t, nil, "proc/kept"), "folders-absent", startup.Stops, "no folder /proc: "},
		"folders":            {rooted(t, nil, "dev/kept", "sys/kept"), "folders-absent", startup.Stops, "no folder /dev, nor /sys: "},
		"what links it":      {rooted(t, map[string]string{"sbin/init": string(program)}), "first-program-unsound", startup.Stops, "/" + linker},
		"a folder, and may be written to": {sample.With(rooted(t, nil, "run/kept"), 1, "boot/grub/grub.cfg",
			"menuentry 'x' {\n linux /boot/vmlinuz root=UUID=01000000-0000-0000-0000-000000000000 rw\n initrd /boot/initrd.img\n}\n"), "folders-absent", startup.Depends, ""},
		"not what links it": {rooted(t, map[string]string{"sbin/init": string(program), linker: "x"}), "", startup.Starts, ""},
		"its mount table":   {rooted(t, map[string]string{"etc/fstab": ""}), "root-stays-read-only", startup.Stops, "nothing can be written to its root"},
		"its mount table, and its partition's type may tell": {typed(rooted(t, map[string]string{"etc/fstab": ""})),
			"root-stays-read-only", startup.Depends, ""},
		"a root's line with a stale tag": {rooted(t, map[string]string{"etc/fstab": "LABEL=gone / ext4 defaults 0 1\n"}),
			"root-stays-read-only", startup.Stops, "nothing can be written to its root"},
		"a root's line with a stale path": {rooted(t, map[string]string{"etc/fstab": "/dev/sdz9 / ext4 defaults 0 1\n"}), "", startup.Starts, ""},
		"a root's line with another's options": {rooted(t, map[string]string{"etc/fstab": "/dev/sdz9 / ext4 umask=0 0 1\n"}),
			"root-stays-read-only", startup.Stops, "nothing can be written to its root"},
		"no folder /run, as before systemd": {rooted(t, nil, "run/kept", "usr/lib/systemd/systemd"), "", startup.Starts, ""},
		"a folder, and no systemd":          {rooted(t, nil, "proc/kept", "usr/lib/systemd/systemd"), "folders-absent", startup.Depends, ""},
		"the first program that its line names": {initOf("/gone", "usr/sbin/update-initramfs", "usr/bin/dracut"), "no-first-program",
			startup.Stops, "/gone begin the system's start, and it is not there"},
		"the one that its line names, and goes on with another": {initOf("/gone", ""), "", startup.Starts, ""},
		"the one that its line names, and who made the RAM disk is not known": {initOf("/gone", "usr/sbin/update-initramfs"), "no-first-program",
			startup.Depends, ""},
		"the one that its line names, and every other": {rooted(t, map[string]string{"boot/grub/grub.cfg": initMenu("/gone")}, "sbin/init"), "no-first-program",
			startup.Stops, "nothing but a shell"},
		"what links the one that its line names": {sample.With(initOf("/sbin/init", ""), 1, "sbin/init", string(program)), "first-program-unsound",
			startup.Stops, "/" + linker},
		"nothing, and its line names what is there": {initOf("/lib/systemd/systemd", "usr/sbin/update-initramfs", "usr/bin/dracut"), "", startup.Starts, ""},
		"its first program, by nix":                 {rooted(t, map[string]string{"nix/store/x": "x"}, "sbin/init"), "", startup.Starts, ""},
		"its first program, and dracut made its RAM disk": {rooted(t, map[string]string{"usr/bin/dracut": "x"}, "sbin/init", "usr/sbin/update-initramfs"),
			"no-first-program", startup.Depends, ""},
	} {
		t.Run(name, func(t *testing.T) {
			trace := judged(t, firmware.UEFI, c.disk)
			assert.Equal(t, c.verdict, trace.Verdict, trace.Reason)
			if c.rule == "" {
				assert.Empty(t, rules(trace))
				return
			}
			assert.Equal(t, []course.Rule{c.rule}, rules(trace))
			assert.Contains(t, trace.Headline, c.shows)
		})
	}
}
