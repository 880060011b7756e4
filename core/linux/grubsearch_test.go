package linux_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// Where GRUB's root and its folder are after what is built in and what its menu does; each was
// seen in a real GRUB (package truth, the searches at random).
func TestWhereGRUBGoes(t *testing.T) {
	entry := func(lines string) diskmaker.Disk {
		return sample.With(sample.LinuxDisk(1, 1), 1, "boot/grub/grub.cfg",
			"menuentry 'x' {\n"+lines+"\n linux /boot/vmlinuz root=LABEL=root\n initrd /boot/initrd.img\n}\n")
	}
	onRoot := func(prefix, early string) func(d *machine.Drive) {
		return func(d *machine.Drive) { core(d).Prefix, core(d).Config = prefix, early }
	}
	grub := diskmaker.Program{Is: "grub", Prefix: "/EFI/gone", Size: 8192}
	elsewhere := sample.With(entry(""), 0, sample.FallbackPath, string(grub.Bytes()))
	for name, c := range map[string]struct {
		disk    diskmaker.Disk
		change  func(d *machine.Drive)
		verdict startup.Verdict
		rule    course.Rule
	}{
		"a folder on a device, and a root that is moved": {entry(""), onRoot("(,gpt2)/boot/grub",
			"search.fs_uuid 1000-0001 root\n"), startup.Stops, "kernel-absent"},
		"a folder on a device, and a root that is moved back": {entry("set root=hd0,gpt2"), onRoot("(,gpt2)/boot/grub",
			"search.fs_uuid 1000-0001 root\n"), startup.Starts, ""},
		"a configuration named from the root that GRUB begins with": {entry(""), onRoot("(,gpt2)/boot/grub",
			"configfile ($root)/boot/grub/grub.cfg\n"), startup.Starts, ""},
		"a configuration named from a variable": {entry(""), onRoot("", "search.fs_label root x\nconfigfile ($x)/boot/grub/grub.cfg\n"),
			startup.Stops, "kernel-absent"},
		"a device that is not there, and a folder found by a search": {entry("set root=hd0,gpt2"), onRoot("(,gpt7)/boot/grub",
			"search.fs_label root root\nset prefix=($root)/boot/grub\n"), startup.Starts, ""},
		"a file that is on one volume": {entry("set root=hd0,gpt1\nsearch --file --set=root /etc/fstab"), nil, startup.Starts, ""},
		"a file that is on none": {entry("set root=hd0,gpt1\nsearch --file --set=root /etc/gone"), nil, startup.Stops,
			"kernel-absent"},
		"a script in the memory disk, and a folder": {entry(""), onRoot("/EFI/debian", "normal (memdisk)/grub.cfg\n"), startup.Starts, ""},
		"a script in the memory disk, and a configuration beside": {sample.With(elsewhere, 0, `\EFI\BOOT\grub.cfg`,
			"search.fs_label root root\nconfigfile ($root)/boot/grub/grub.cfg\n"), onRoot("/EFI/gone", "normal (memdisk)/grub.cfg\n"),
			startup.Starts, ""},
		"a script in the memory disk, and a folder without a configuration": {sample.With(entry(""), 0, `\EFI\debian\grub.cfg`, ""),
			onRoot("/EFI/BOOT", "normal (memdisk)/grub.cfg\n"), startup.Stops, "menu-absent"},
		"a configuration that is built in and not there": {entry(""), onRoot("(,gpt2)/boot/grub",
			"configfile ($root)/gone/grub.cfg\n"), startup.Depends, "menu-missing-evidence"},
		"a configuration that is built in, on a device that is not there": {entry(""), onRoot("(,gpt2)/boot/grub",
			"configfile (hd7,gpt1)/boot/grub/grub.cfg\n"), startup.Starts, ""},
		"a script in the memory disk, and nothing": {entry(""), onRoot("/EFI/gone", "normal (memdisk)/grub.cfg\n"), startup.Depends,
			"memory-disk-unread"},
		"a search that sets nothing":         {entry("set root=hd0,gpt1\nsearch --label root"), nil, startup.Stops, "kernel-absent"},
		"a device that may be set":           {entry("if keystatus --shift; then set root=hd0,gpt1; fi"), nil, startup.Depends, "search-unknown"},
		"the same device, that may be set":   {entry("if keystatus --shift; then set root=hd0,gpt2; fi"), nil, startup.Starts, ""},
		"a device that is set after a find":  {entry("search --label --set=root root\nset root=hd0,gpt1"), nil, startup.Stops, "kernel-absent"},
		"a label in other letters":           {entry("set root=hd0,gpt1\nsearch --label --set=root ROOT"), nil, startup.Stops, "kernel-absent"},
		"a variable that no search has set":  {sample.With(entry(""), 1, "boot/grub/grub.cfg", "menuentry 'x' {\n linux ($z)/boot/vmlinuz root=LABEL=root\n}\n"), nil, startup.Depends, "search-unknown"},
		"an identifier in capitals is found": {entry("set root=hd0,gpt1\nsearch --fs-uuid --set=root 01000000-0000-0000-0000-000000000000"), nil, startup.Starts, ""},
	} {
		t.Run(name, func(t *testing.T) {
			d := sample.Drive(t, machine.RoleClone, c.disk.MustBuild())
			if c.change != nil {
				c.change(&d)
			}
			trace := startup.Simulate(sample.Whole(firmware.UEFI, d))
			assert.Equal(t, c.verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			if c.rule != "" {
				assert.Contains(t, rules(trace), c.rule)
			}
		})
	}
}

// A kernel that the menu takes from the original is told of: without that drive nothing starts.
// One from a third drive is nobody's concern.
func TestTheKernelOfTheOtherDisk(t *testing.T) {
	clone := sample.Drive(t, machine.RoleClone, sample.LinuxDisk(1, 1).MustBuild())
	other := sample.Drive(t, machine.RoleOriginal, sample.LinuxDisk(0x41, 0x41).MustBuild())
	menu := clone.Contents.Volumes[1].Config(machine.ConfigGRUB, "/boot/grub/grub.cfg").GRUB
	require.NotEmpty(t, menu.Entries[0].Searches)
	for i := range menu.Entries[0].Searches {
		menu.Entries[0].Searches[i].Spec = loader.Spec{Kind: loader.ByFSUUID, Value: other.Contents.Volumes[1].Serial}
	}
	trace := startup.Simulate(sample.Whole(firmware.UEFI, clone, other))
	assert.Equal(t, startup.Starts, trace.Verdict, trace.Reason)
	assert.Contains(t, rules(trace), course.Rule("kernel-from-the-other"))
	other.Role = machine.RoleOther
	assert.NotContains(t, rules(startup.Simulate(sample.Whole(firmware.UEFI, clone, other))), course.Rule("kernel-from-the-other"))
}

// A system that mounts a part of the other disk runs half from there.
func TestHalfFromTheOtherDisk(t *testing.T) {
	clone := sample.Drive(t, machine.RoleClone, sample.LinuxDisk(1, 1).MustBuild())
	original := sample.Drive(t, machine.RoleOriginal, sample.LinuxDisk(0x41, 0x41).MustBuild())
	fstab(&clone).Mounts[1].Spec = loader.Spec{Kind: loader.ByFSUUID, Value: original.Contents.Volumes[0].Serial}
	trace := startup.Simulate(sample.Whole(firmware.UEFI, clone, original))
	assert.Equal(t, startup.Starts, trace.Verdict)
	require.Len(t, trace.Findings, 1)
	assert.Equal(t, course.Rule("half-from-the-other"), trace.Findings[0].Rule)
	assert.Contains(t, trace.Findings[0].Facts[0].Label, "/etc/fstab, line 2")
	// The folder that is built in names the second drive as GRUB counts: by the ports, if they
	// are known.
	core(&clone).Prefix = "(hd1,gpt2)/boot/grub"
	m := sample.Whole(firmware.UEFI, clone, original)
	trace = startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	assert.Equal(t, "grub-first", trace.Missing[0].ID)
	core(&m.Drives[0]).Prefix = "(hd0,gpt2)/boot/grub"
	for answer, verdict := range map[string]startup.Verdict{"clone": startup.Starts, "original": startup.StartsOriginal} {
		m.Answers = map[string]string{"grub-first": answer}
		assert.Equal(t, verdict, startup.Simulate(m).Verdict)
	}
	m.Answers, core(&m.Drives[0]).Prefix = nil, "(hd1,gpt2)/boot/grub"
	for i, verdict := range []startup.Verdict{startup.StartsOriginal, startup.Starts} {
		for j := range m.Drives {
			m.Drives[j].Bus, m.Drives[j].Port = fact.Tell("sata"), fact.Tell((i+j)%2)
		}
		trace = startup.Simulate(m)
		assert.Equal(t, verdict, trace.Verdict, trace.Reason)
	}
}
