package linux_test

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/linux"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/core/volume"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// Stages 7 and 8, as start-rules tells them. The paths and identifiers are those
// of the makers' documentation; the messages are common practice, no source.

func TestWhatALinuxLoaderLoads(t *testing.T) {
	byName := func(name string) diskmaker.Disk {
		return sample.With(sample.LinuxDisk(1, 1), 1, "boot/grub/grub.cfg",
			"menuentry 'x' {\n linux /boot/vmlinuz root="+name+"\n initrd /boot/initrd.img\n}\n")
	}
	withMenu := func(text string) diskmaker.Disk {
		return sample.With(sample.LinuxDisk(1, 1), 1, "boot/grub/grub.cfg", text)
	}
	const gone = "menuentry 'gone' {\n linux /boot/gone root=LABEL=root\n initrd /boot/initrd.img\n}\n"
	const sound = "menuentry 'sound' {\n linux /boot/vmlinuz root=LABEL=root\n initrd /boot/initrd.img\n}\n"
	entry := sample.LinuxDisk(1, 1)
	entry.Partitions[0].Volume.Files = map[string][]byte{sample.FallbackPath: diskmaker.Program{Is: "systemd-boot"}.Bytes(),
		"/vmlinuz":               sample.X64(),
		"/initrd.img":            diskmaker.RAMDisk(),
		"/loader/entries/a.conf": []byte("title x\nlinux /vmlinuz\ninitrd /initrd.img\noptions root=LABEL=root\n")}
	noEntry := sample.LinuxDisk(1, 1)
	noEntry.Partitions[0].Volume.Files = map[string][]byte{sample.FallbackPath: diskmaker.Program{Is: "systemd-boot"}.Bytes()}
	withRaw := func(d diskmaker.Disk) diskmaker.Disk {
		d.Partitions[1].MiB = 300
		d.Partitions = append(d.Partitions, diskmaker.Partition{Type: disk.TypeLinuxData, MiB: 100,
			Volume: diskmaker.Volume{Kind: "raw", Raw: []byte("neither a file system nor a header")}})
		return d
	}
	butWindows := sample.LinuxDisk(1, 1)
	butWindows.Partitions[0].Volume.Files = map[string][]byte{
		sample.FallbackPath: diskmaker.Program{Is: "systemd-boot"}.Bytes(), loader.WindowsPath: diskmaker.Program{Is: "windows",
			Size: 8192}.Bytes()}
	for name, c := range map[string]struct {
		disk    diskmaker.Disk
		mode    firmware.Mode
		verdict startup.Verdict
		stage   course.Stage
		says    string // in the symptom or the reason
	}{
		"Linux": {sample.LinuxDisk(1, 1), firmware.UEFI, startup.Starts, "", "Linux comes up"},
		"GRUB without configuration": {sample.With(sample.LinuxDisk(1, 1), 0, `\EFI\debian\grub.cfg`, ""), firmware.UEFI,
			startup.Stops,
			course.StageConfiguration, "grub>"},
		"GRUB that looks for another volume": {sample.LinuxDisk(1, 2), firmware.UEFI, startup.Stops,
			course.StageConfiguration, "no such device"},
		"no kernel": {sample.With(sample.LinuxDisk(1, 1), 1, "boot/vmlinuz", ""), firmware.UEFI, startup.Stops,
			course.StageConfiguration, "file not found"},
		"no initial RAM disk": {sample.With(sample.LinuxDisk(1, 1), 1, "boot/initrd.img", ""), firmware.UEFI, startup.Stops,
			course.StageConfiguration, "initrd.img is not"},
		"a fallback behind a kernel that is gone": {withMenu("set fallback=1\n" + gone + sound), firmware.UEFI, startup.Starts, "", "Linux comes up"},
		"a fallback that is gone, too": {withMenu("set fallback=1\n" + gone + gone), firmware.UEFI, startup.Stops,
			course.StageConfiguration, "file not found"},
		"root by a name of its bus": {byName("/dev/sda2"), firmware.UEFI, startup.Starts, "", "Linux comes up"},
		"root by a name of another bus": {byName("/dev/nvme0n1p2"), firmware.UEFI, startup.Stops, course.StageConfiguration,
			"initramfs"},
		"root by partition UUID": {byName("PARTUUID=" + strings.ToLower(sample.GPTDisk(1, nil).PartitionGUID(1).String())),
			firmware.UEFI,
			startup.Starts, "", ""},
		"root by a wrong label": {byName("LABEL=rot"), firmware.UEFI, startup.Stops, course.StageConfiguration,
			"initramfs"},
		"root within LVM, and no LVM": {byName("/dev/mapper/vg-root"), firmware.UEFI, startup.Stops,
			course.StageConfiguration, "no attached disk carries"},
		"an encrypted root without a header": {withRaw(byName("/dev/mapper/root")), firmware.UEFI, startup.Depends, "", "does not tell"},
		"root on a second disk":              {byName("/dev/sdb2"), firmware.UEFI, startup.Depends, "", "does not tell"},
		"no mount table, but a system": {sample.With(sample.With(sample.LinuxDisk(1, 1), 1, "etc/fstab", ""), 1,
			"sbin/init", "#!/bin/sh\n"),
			firmware.UEFI, startup.Depends, "", "which has no line for it: what the system does then is not known"},
		"a mount that is not there": {sample.With(sample.LinuxDisk(1, 1), 1, "etc/fstab",
			"UUID=01000000-0000-0000-0000-000000000000 / ext4 defaults 0 1\nUUID=dead /home ext4 defaults 0 2\n"), firmware.UEFI, startup.Stops, course.StageConfiguration, "emergency mode"},
		"a search that finds nothing": {sample.With(sample.LinuxDisk(1, 1), 1, "boot/grub/grub.cfg",
			"menuentry 'x' {\n search --fs-uuid --set=root dead-beef\n linux /boot/vmlinuz root=UUID=01000000-0000-0000-0000-000000000000\n initrd /boot/initrd.img\n}\n"), firmware.UEFI, startup.Starts, "", ""},
		"a mount that may fail": {sample.With(sample.LinuxDisk(1, 1), 1, "etc/fstab",
			"UUID=01000000-0000-0000-0000-000000000000 / ext4 defaults 0 1\nUUID=dead /home ext4 nofail 0 2\n"), firmware.UEFI, startup.Starts, "", ""},
		"boot loader entry":                   {entry, firmware.UEFI, startup.Starts, "", ""},
		"no boot loader entry, but a Windows": {butWindows, firmware.UEFI, startup.Stops, course.StageConfiguration, "BCD is not"},
		"no boot loader entry":                {noEntry, firmware.UEFI, startup.Stops, course.StageConfiguration, "no entry"},
	} {
		t.Run(name, func(t *testing.T) {
			trace := startup.Simulate(sample.Whole(c.mode, sample.Drive(t, machine.RoleClone, c.disk.MustBuild())))
			assert.Equal(t, c.verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			assert.Equal(t, c.stage, trace.Stage)
			assert.Contains(t, sample.Words(trace), c.says)
		})
	}
}

func config(d *machine.Drive, volume int, kind machine.ConfigKind, path string) *machine.Config {
	return d.Contents.Volumes[volume].Config(kind, path)
}

func first(d *machine.Drive) *machine.Config {
	return config(d, 0, machine.ConfigGRUB, "/EFI/debian/grub.cfg")
}
func menu(d *machine.Drive) *machine.Config {
	return config(d, 1, machine.ConfigGRUB, "/boot/grub/grub.cfg")
}
func fstab(d *machine.Drive) *machine.Config { return config(d, 1, machine.ConfigFstab, "/etc/fstab") }

// core is what is built into the GRUB that the firmware starts.
func core(d *machine.Drive) *loader.GRUBCore {
	for i := range d.Contents.Volumes[0].Loaders {
		if g := d.Contents.Volumes[0].Loaders[i].Program.GRUB; g != nil {
			return g
		}
	}
	return nil
}

// without drops a configuration of a volume.
func without(d *machine.Drive, volume int, path string) {
	v := &d.Contents.Volumes[volume]
	v.Configs = slices.DeleteFunc(v.Configs, func(c machine.Config) bool { return c.Path == path })
}

// asShim lets the firmware start the shim, which starts GRUB from beside it.
func asShim(d *machine.Drive, grub *loader.Found) {
	v := &d.Contents.Volumes[0]
	shim := v.Loaders[0]
	shim.Name, shim.Program.Is, shim.Program.GRUB = loader.Fallback, loader.Shim, nil
	v.Loaders = []loader.Found{shim}
	if grub != nil {
		v.Loaders = append(v.Loaders, *grub)
	}
}

// Every way from a Linux loader to its system, and where each ends.
func TestEveryEndOfALinuxStart(t *testing.T) {
	missing, damaged := &disk.NotCaptured{}, errors.New("damaged")
	elsewhere := loader.Spec{Kind: loader.ByFSUUID, Value: "dead-beef"}
	here := loader.Spec{Kind: loader.ByFSUUID, Value: "01000000-0000-0000-0000-000000000000"}
	beside := func(d *machine.Drive, change func(g *loader.Found)) {
		grub := d.Contents.Volumes[0].Loaders[0]
		grub.Path = `\EFI\BOOT\grubx64.efi`
		change(&grub)
		asShim(d, &grub)
	}
	for name, c := range map[string]spoilt{
		"as it should be": {func(*machine.Drive) {}, "", startup.Starts, ""},

		"the shim and its GRUB": {func(d *machine.Drive) { beside(d, func(*loader.Found) {}) }, "", startup.Starts, ""},
		"the shim and a damaged GRUB": {func(d *machine.Drive) { beside(d, func(g *loader.Found) { g.Err = damaged }) },
			"shim-next-unsound",
			startup.Stops, course.StageConfiguration},
		"the shim and a GRUB not in evidence": {func(d *machine.Drive) {
			beside(d,
				func(g *loader.Found) { g.Err, g.Program = missing, loader.Program{} })
		}, "core-image-missing-evidence", startup.Depends, ""},
		"the shim without its GRUB": {func(d *machine.Drive) { asShim(d, nil) }, "shim-next-absent",
			startup.Stops, course.StageConfiguration},

		"GRUB with nothing built in": {func(d *machine.Drive) {
			d.Contents.Volumes[0].Loaders[0].Program.GRUB = nil
		}, "core-image-unread", startup.Depends, ""},
		"a folder on a disk that is not there": {func(d *machine.Drive) { core(d).Prefix = "(hd7,gpt1)/EFI/debian" },
			"prefix-absent", startup.Stops, course.StageConfiguration},
		"a folder on the next disk, not there": {func(d *machine.Drive) { core(d).Prefix = "(hd1,gpt1)/EFI/debian" },
			"prefix-absent", startup.Stops, course.StageConfiguration},
		"a folder on a partition that is not there": {func(d *machine.Drive) { core(d).Prefix = "(,gpt9)/EFI/debian" },
			"prefix-absent", startup.Stops, course.StageConfiguration},
		"a folder on a named partition": {func(d *machine.Drive) { core(d).Prefix = "(hd0,gpt1)/EFI/debian" },
			"", startup.Starts, ""},
		"a folder on its own disk": {func(d *machine.Drive) { core(d).Prefix = "(,gpt2)/boot/grub" }, "",
			startup.Starts, ""},
		"a folder in memory": {func(d *machine.Drive) { core(d).Prefix = "(memdisk)/boot/grub" }, "prefix-unknown", startup.Depends, ""},
		"commands built in": {func(d *machine.Drive) {
			core(d).Prefix, core(d).Config = "", "search.fs_uuid "+here.Value+" root\nset prefix=($root)/boot/grub\n"
		}, "", startup.Starts, ""},
		"commands built in, and a folder on a named partition": {func(d *machine.Drive) {
			core(d).Prefix, core(d).Config = "(,gpt2)/boot/grub", "set a=b\n"
		}, "", startup.Starts, ""},
		"commands built in that find nothing": {func(d *machine.Drive) {
			core(d).Config = "search.fs_uuid dead-beef root\n"
		}, "", startup.Starts, ""}, // the search of its menu finds it

		"a menu that is not in evidence": {func(d *machine.Drive) { menu(d).Err = missing }, "menu-missing-evidence",
			startup.Depends, ""},
		"a menu that cannot be read": {func(d *machine.Drive) { menu(d).Err = damaged }, "menu-unread", startup.Depends,
			""},
		"no menu": {func(d *machine.Drive) { without(d, 1, "/boot/grub/grub.cfg") }, "menu-absent", startup.Stops,
			course.StageConfiguration},
		"a volume that is not in evidence": {func(d *machine.Drive) { d.Contents.Volumes[1].Kind = volume.NotCaptured },
			"menu-missing-evidence", startup.Depends, ""},
		"files that are not in evidence": {func(d *machine.Drive) {
			d.Contents.Volumes[1].Readable = false
			without(d, 1, "/boot/grub/grub.cfg")
		}, "menu-missing-evidence", startup.Depends, ""},
		"a menu that leads to itself": {func(d *machine.Drive) {
			menu(d).GRUB.Entries, menu(d).GRUB.ConfigFile = nil, "/boot/grub/grub.cfg"
		}, "menu-circle", startup.Depends, ""},
		"an empty menu": {func(d *machine.Drive) { menu(d).GRUB.Entries = nil }, "menu-empty", startup.Stops,
			course.StageConfiguration},
		"a menu of entries of their own": {func(d *machine.Drive) { menu(d).GRUB.Entries, menu(d).GRUB.BLS = nil, &loader.BLSPlace{} },
			"entries-absent", startup.Stops,
			course.StageConfiguration},
		"an entry that starts no kernel": {func(d *machine.Drive) { menu(d).GRUB.Entries[0].Linux = "" }, "entry-no-kernel",
			startup.Depends, ""},
		"a first menu that finds nothing": {func(d *machine.Drive) { first(d).GRUB.Top[0].Spec = elsewhere }, "menu-absent",
			startup.Stops,
			course.StageConfiguration},
		"a name that only the machine knows": {func(d *machine.Drive) {
			first(d).GRUB.Top[0].Spec = loader.Spec{Kind: loader.ByOther, Value: "vg/root"}
		}, "search-unknown", startup.Depends, ""},
		"an entry that finds nothing": {func(d *machine.Drive) { menu(d).GRUB.Entries[0].Searches[0].Spec = elsewhere },
			"search-lost", startup.Starts, ""},
		"an entry that finds nothing, and no kernel": {func(d *machine.Drive) {
			menu(d).GRUB.Entries[0].Searches[0].Spec, menu(d).GRUB.Entries[0].Linux = elsewhere, "/boot/gone"
			menu(d).GRUB.Top = []loader.GRUBSearch{{Spec: here}}
		}, "kernel-missing-evidence", startup.Depends, ""},
		"a device alone": {func(d *machine.Drive) {
			first(d).GRUB.Top = []loader.GRUBSearch{{Spec: loader.Spec{Kind: loader.ByGRUBDisk, Value: "hd0,gpt2"}, Device: true}}
		}, "", startup.Starts, ""},
		"a device that is not there, and a search": {func(d *machine.Drive) {
			first(d).GRUB.Top = []loader.GRUBSearch{{Spec: loader.Spec{Kind: loader.ByGRUBDisk, Value: "hd7,gpt2"},
				Device: true}, {Spec: here}}
		}, "", startup.Starts, ""},
		"a device that is set after a search": {func(d *machine.Drive) {
			first(d).GRUB.Top = append(first(d).GRUB.Top,
				loader.GRUBSearch{Spec: loader.Spec{Kind: loader.ByGRUBDisk, Value: "hd0,gpt1"}, Device: true})
		}, "menu-absent", startup.Stops, course.StageConfiguration},
		"a search for a file that nobody looked for": {func(d *machine.Drive) {
			first(d).GRUB.Top = append(first(d).GRUB.Top,
				loader.GRUBSearch{Spec: loader.Spec{Kind: loader.ByFile, Value: "/vmlinuz"}})
		}, "search-unknown", startup.Depends, ""},

		"a kernel that was not looked for": {func(d *machine.Drive) { menu(d).GRUB.Entries[0].Linux = "/boot/other" },
			"kernel-missing-evidence", startup.Depends, ""},
		"no root named": {func(d *machine.Drive) { menu(d).GRUB.Entries[0].Root = nil }, "no-root-named",
			startup.Depends, ""},
		"a root that is nowhere": {func(d *machine.Drive) { menu(d).GRUB.Entries[0].Root = &elsewhere }, "root-absent",
			startup.Stops,
			course.StageConfiguration},
		"a root by its device's name": {func(d *machine.Drive) {
			menu(d).GRUB.Entries[0].Root = &loader.Spec{Kind: loader.ByDevice, Value: "/dev/sda2"}
		}, "root-by-device-name", startup.Starts, ""},

		"a mount that is nowhere": {func(d *machine.Drive) { fstab(d).Mounts[1].Spec = elsewhere }, "mount-absent",
			startup.Stops,
			course.StageConfiguration},
		"a mount by its place": {func(d *machine.Drive) {
			fstab(d).Mounts[1].Spec = loader.Spec{Kind: loader.ByPath,
				Value: "pci"}
		}, "", startup.Starts, ""},
		"a mount that may fail": {func(d *machine.Drive) {
			fstab(d).Mounts[1].Spec, fstab(d).Mounts[1].NoFail = elsewhere,
				true
		},
			"", startup.Starts, ""},
		"a mount table not in evidence": {func(d *machine.Drive) { fstab(d).Err = missing }, "mount-table-missing-evidence",
			startup.Depends, ""},
		"no mount table, and no system": {func(d *machine.Drive) {
			bare := sample.WithoutTools(sample.LinuxDisk(1, 1), 1, sample.DebianTools...)
			*d = sample.Drive(t, machine.RoleClone, bare.MustBuild())
			without(d, 1, "/etc/fstab")
		}, "root-no-system", startup.Stops, course.StageSystem},
		"a root cut off by the disk": {func(d *machine.Drive) { d.Contents.Layout.Partitions[1].Length += 1 << 22 },
			"system-cut-off", startup.Stops,
			course.StageSystem},
		"a root whose files are not there": {func(d *machine.Drive) {
			d.Contents.Volumes[1].Readable = false
			without(d, 1, "/etc/fstab")
		}, "mount-table-missing-evidence", startup.Depends, ""},
	} {
		t.Run(name, func(t *testing.T) {
			c.holds(t)
		})
	}
}

// spoilt is a sound Linux with a change, the rule that it comes upon ("" for none), and how the
// start ends.
type spoilt struct {
	change  func(d *machine.Drive)
	rule    course.Rule
	verdict startup.Verdict
	stage   course.Stage
}

func (c spoilt) holds(t *testing.T) {
	t.Helper()
	d := sample.Drive(t, machine.RoleClone, sample.LinuxDisk(1, 1).MustBuild())
	c.change(&d)
	m := sample.Whole(firmware.UEFI, d)
	trace := startup.Simulate(m)
	assert.Equal(t, c.verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
	assert.Equal(t, c.stage, trace.Stage)
	if c.rule != "" {
		assert.Contains(t, rules(trace), c.rule)
	} else {
		assert.Empty(t, rules(trace))
	}
	if c.stage == course.StageSystem {
		m.Until = machine.UntilConfiguration
		assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict, "up to its configuration")
	}
}

// What is known of GRUB's core image behind sector 0, and what follows from it.
func TestGRUBFromSectorZero(t *testing.T) {
	for rule, core := range map[course.Rule]machine.GRUBCore{
		"core-image-missing-evidence": {Known: false},
		"core-image-unread":           {Known: true, Present: true, Err: errors.New("damaged")},
	} {
		d := sample.Drive(t, machine.RoleClone, sample.LinuxDisk(1, 1).MustBuild())
		for _, known := range []machine.GRUBCore{core, {Known: core.Known, Present: true}} {
			d.Contents.Core = known
			var a course.Attempt
			end := linux.GrubFromCode(&course.Walk{World: &course.World{}}, &a, &d)
			assert.Equal(t, course.Unproven, end.State)
			assert.Equal(t, rule, a.Steps[0].Rule)
			assert.Equal(t, known.Err != nil, strings.Contains(a.Steps[0].Text, "damaged"))
		}
	}
	d := sample.Drive(t, machine.RoleClone, sample.LinuxDisk(1, 1).MustBuild())
	d.Contents.Core = machine.GRUBCore{Known: true, Present: true, Err: &disk.NotCaptured{}}
	var a course.Attempt
	linux.GrubFromCode(&course.Walk{World: &course.World{}}, &a, &d)
	assert.Equal(t, course.Rule("core-image-missing-evidence"), a.Steps[0].Rule)

	d.Contents.Core.Image = &loader.GRUBCore{Config: "search.fs_uuid dead-beef root\n"}
	a = course.Attempt{}
	k := &course.Walk{Machine: sample.Whole(firmware.Legacy, d), World: &course.World{}}
	end := linux.GrubFromCode(k, &a, &k.Machine.Drives[0])
	assert.Equal(t, course.Blocks, end.State)
	assert.Equal(t, course.Rule("search-finds-nothing"), a.Steps[0].Rule, "it had no partition before")
	d.Contents.Core.Image = &loader.GRUBCore{Prefix: "/boot/grub"}
	a = course.Attempt{}
	end = linux.GrubFromCode(k, &a, &d)
	assert.Equal(t, course.Unproven, end.State)
	assert.Equal(t, course.Rule("grub-folder-unknown"), a.Steps[0].Rule)
}

// Entries of the Boot Loader Specification that cannot be read.
func TestEntriesThatCannotBeRead(t *testing.T) {
	declared := sample.LinuxDisk(1, 1)
	declared.Partitions[0].Volume.Files = map[string][]byte{sample.FallbackPath: diskmaker.Program{Is: "systemd-boot"}.Bytes(),
		"/vmlinuz": sample.X64(), "/initrd.img": diskmaker.RAMDisk(),
		"/loader/entries/a.conf": []byte("title x\nlinux /vmlinuz\ninitrd /initrd.img\noptions root=LABEL=root\n")}
	for rule, change := range map[course.Rule]func(v *machine.Volume){
		"entries-missing-evidence": func(v *machine.Volume) { v.Configs, v.Readable = nil, false },
		"entry-unread":             func(v *machine.Volume) { v.Configs[0].Err = errors.New("damaged") },
		"kernel-missing-evidence":  func(v *machine.Volume) { v.Configs[0].Entry.Linux = "/other" },
	} {
		d := sample.Drive(t, machine.RoleClone, declared.MustBuild())
		change(&d.Contents.Volumes[0])
		trace := startup.Simulate(sample.Whole(firmware.UEFI, d))
		assert.Equal(t, startup.Depends, trace.Verdict)
		assert.Equal(t, rule, trace.Findings[0].Rule)
	}
	d := sample.Drive(t, machine.RoleClone, declared.MustBuild())
	d.Contents.Volumes[0].Configs[0].Err = &disk.NotCaptured{}
	assert.Equal(t, course.Rule("entries-missing-evidence"),
		startup.Simulate(sample.Whole(firmware.UEFI, d)).Findings[0].Rule)
	assert.Equal(t, startup.Starts, startup.Simulate(sample.Whole(firmware.UEFI,
		sample.Drive(t, machine.RoleClone, declared.MustBuild()))).Verdict)
}

// What cannot be read though it is in evidence is told as that, with what tells more: no other capture
// would.
func TestWhatIsDamagedIsNotCalledMissing(t *testing.T) {
	damage := errors.New("the checksum of the superblock is wrong")
	for name, c := range map[string]struct {
		why  error
		says string
		how  string
	}{
		"damaged":         {damage, "cannot be read: the checksum of the superblock is wrong", course.HowCheck},
		"not in evidence": {&disk.NotCaptured{}, "is not in evidence", course.HowCapture},
	} {
		d := sample.Drive(t, machine.RoleClone, sample.LinuxDisk(1, 1).MustBuild())
		root := &d.Contents.Volumes[1]
		root.FilesErr, root.Readable, root.Configs = c.why, false, nil
		trace := startup.Simulate(sample.Whole(firmware.UEFI, d))
		assert.Equal(t, startup.Depends, trace.Verdict, name)
		assert.Contains(t, trace.Reason, c.says, name)
		if !assert.NotEmpty(t, trace.Missing) {
			return
		}
		assert.Equal(t, c.how, trace.Missing[0].How, name)
	}
}
