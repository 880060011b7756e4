package linux_test

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// entryOf is an entry of the Boot Loader Specification for a program of the same name.
func entryOf(name string, lines ...string) (file string, text []byte) {
	return "/loader/entries/" + name + ".conf", []byte("title " + name + "\nefi /" + name + ".efi\n" + strings.Join(lines, "\n"))
}

// menuDisk has systemd-boot with entries, each with the program that it starts; the programs of
// those in gone are not there.
func menuDisk(gone string, entries map[string][]string) diskmaker.Disk {
	d := sample.LinuxDisk(1, 1)
	files := map[string][]byte{sample.FallbackPath: diskmaker.Program{Is: "systemd-boot"}.Bytes()}
	for name, lines := range entries {
		file, text := entryOf(name, lines...)
		files[file] = text
		if name != gone {
			files["/"+name+".efi"] = sample.X64()
		}
	}
	d.Partitions[0].Volume.Files = files
	return d
}

// unifiedKernel is one that says of itself what it is.
func unifiedKernel(release string) []byte {
	return diskmaker.Program{Sections: []diskmaker.Section{{Name: ".linux", Data: []byte("kernel")}, {Name: ".osrel", Data: []byte(release)},
		{Name: ".cmdline", Data: []byte(rootLine)}, {Name: ".initrd", Data: []byte("disk")}}}.Bytes()
}

// Which entry of its menu systemd-boot starts: each class was seen in real firmware (package
// truth, the menus at random). The Boot Loader Specification, "Sorting" and "Boot counting".
func TestTheEntryThatIsStarted(t *testing.T) {
	with := func(d diskmaker.Disk, files ...string) diskmaker.Disk {
		for i := 0; i < len(files); i += 2 {
			d.Partitions[0].Volume.Files[files[i]] = []byte(files[i+1])
		}
		return d
	}
	two := func(gone string, x, y []string) diskmaker.Disk {
		return menuDisk(gone, map[string][]string{"a": x, "b": y})
	}
	linux := `\EFI\Linux\`
	for name, c := range map[string]struct {
		disk   diskmaker.Disk
		starts string // what the trace says of it
	}{
		"the last by name": {two("", nil, nil), `\b.efi`},
		"the newest by name": {menuDisk("", map[string][]string{"x-6.9": nil, "x-6.10": nil, "x-6.10~rc1": nil}),
			`\x-6.10.efi`},
		"one with a sort key":               {two("", []string{"sort-key z"}, nil), `\a.efi`},
		"the lower sort key":                {two("", []string{"sort-key y"}, []string{"sort-key z"}), `\a.efi`},
		"the lower machine of one sort key": {two("", []string{"sort-key y", "machine-id 1"}, []string{"sort-key y", "machine-id 2"}), `\a.efi`},
		"the newer version of one sort key": {two("", []string{"sort-key y", "version 6.10"}, []string{"sort-key y", "version 6.9"}), `\a.efi`},
		"not one whose program is gone":     {two("b", nil, nil), `\a.efi`},
		"not one for another machine":       {two("", nil, []string{"architecture aa64"}), `\a.efi`},
		"one for this machine":              {two("", nil, []string{"architecture X64"}), `\b.efi`},
		"not one without a try left":        {menuDisk("", map[string][]string{"a": nil, "b+0-3": nil}), `\a.efi`},
		"one with a try left":               {menuDisk("", map[string][]string{"a": nil, "b+1-2": nil}), `\b+1-2.efi`},
		"the one with more tries left":      {menuDisk("", map[string][]string{"b+1": nil, "b+3": nil}), `\b+3.efi`},
		"not one of another name":           {with(two("", nil, nil), "/loader/entries/c.txt", "efi /b.efi"), `\b.efi`},
		"not the boot loader itself": {with(menuDisk("", map[string][]string{"a": nil}),
			"/loader/entries/b.conf", "efi /EFI/BOOT/BOOTX64.EFI"), `\a.efi`},
		"names in small letters":                 {menuDisk("", map[string][]string{"linux": nil, "Zulu": nil}), `\Zulu.efi`},
		"the one that the settings name":         {with(two("", nil, nil), "/loader/loader.conf", "timeout 3\ndefault a.conf\n"), `\a.efi`},
		"a pattern of the settings":              {with(two("", nil, nil), "/loader/loader.conf", "default [a]*\n"), `\a.efi`},
		"settings that name it in other letters": {with(two("", nil, nil), "/loader/loader.conf", "default A.CONF\n"), `\a.efi`},
		"settings that name none":                {with(two("", nil, nil), "/loader/loader.conf", "default gone*\n"), `\b.efi`},
		"a program with a path of its own kind": {with(menuDisk("", nil), "/loader/entries/b.conf", `efi x\y.efi`,
			"/x/y.efi", string(sample.X64())), `\x\y.efi`},
		"a unified kernel by its sort key": {with(two("", nil, nil), linux+"a.efi", string(unifiedKernel("ID=debian\n"))), linux + "a.efi"},
		"not one that does not say its name": {with(two("", nil, nil), linux+"z.efi",
			string(unifiedKernel("VERSION_ID=12\n"))), `\b.efi`},
		"the shell, without an entry": {with(menuDisk("", nil), `\shellx64.efi`, string(sample.X64())), `\shellx64.efi`},
		"Windows before the shell": {with(menuDisk("", nil), `\shellx64.efi`, string(sample.X64()), loader.WindowsPath,
			string(sample.X64())), loader.WindowsPath},
		"an entry before Windows": {with(menuDisk("", map[string][]string{"a": nil}), loader.WindowsPath, string(sample.X64())), `\a.efi`},
		"nothing by itself": {with(menuDisk("", nil), `\shellx64.efi`, string(sample.X64()), "/loader/loader.conf",
			"auto-entries no\n"), "There is no entry"},
		"no entry whose program is there": {menuDisk("a", map[string][]string{"a": nil}), "leaves /loader/entries/a.conf out of its menu: /a.efi is not on"},
		"no entry that names a program":   {with(menuDisk("", nil), "/loader/entries/a.conf", "title a\n"), "it names no kernel"},
		"no entry for this machine":       {menuDisk("", map[string][]string{"a": {"architecture aa64"}}), "it is for machines of type aa64"},
	} {
		t.Run(name, func(t *testing.T) {
			d := sample.Drive(t, machine.RoleClone, c.disk.MustBuild())
			trace := startup.Simulate(sample.Whole(firmware.UEFI, d))
			last := ""
			for _, s := range trace.Attempts[len(trace.Attempts)-1].Steps {
				for _, f := range s.Facts {
					last += f.Label + " "
				}
				last += s.Text + "\n"
			}
			assert.Contains(t, last, c.starts)
			if c.starts == loader.WindowsPath {
				assert.Equal(t, course.StoreMissing.ID, trace.SymptomID, "it has no store")
			} else if strings.HasPrefix(c.starts, `\`) {
				assert.NotEqual(t, startup.Stops, trace.Verdict, trace.Reason)
			} else {
				assert.Equal(t, startup.Stops, trace.Verdict, trace.Reason)
			}
		})
	}
}

// What the evidence lacks of a menu never makes another entry the one that is started.
func TestMenusThatAreNotInEvidence(t *testing.T) {
	for name, c := range map[string]struct {
		change func(v *machine.Volume)
		rule   course.Rule
	}{
		"one entry": {func(v *machine.Volume) { v.Configs[1].Err, v.Configs[1].Entry = &disk.NotCaptured{}, nil }, "entries-missing-evidence"},
		"the settings": {func(v *machine.Volume) {
			v.Configs = append(v.Configs, machine.Config{Kind: machine.ConfigMenu, Path: "/loader/loader.conf", Err: &disk.NotCaptured{}})
		}, "entries-missing-evidence"},
		"what the firmware keeps of the menu": {nil, "default-unknown"},
		"an entry that the settings name and that cannot be read": {func(v *machine.Volume) {
			v.Configs[1].Err, v.Configs[1].Entry = errors.New("damaged"), nil
			v.Configs = append(v.Configs, machine.Config{Kind: machine.ConfigMenu, Path: "/loader/loader.conf",
				Menu: &loader.LoaderSettings{Default: "b.conf"}})
		}, "entry-unread"},
		"the folder": {func(v *machine.Volume) {
			v.Configs = []machine.Config{{Kind: machine.ConfigEntry, Path: "/loader/entries/*.conf", Err: &disk.NotCaptured{}}}
		}, "entries-missing-evidence"},
	} {
		t.Run(name, func(t *testing.T) {
			d := sample.Drive(t, machine.RoleClone, menuDisk("", map[string][]string{"a": nil, "b": nil}).MustBuild())
			m := sample.Whole(firmware.UEFI, d)
			if c.change != nil {
				c.change(&d.Contents.Volumes[0])
			} else {
				m.Firmware.Entries.Menu = nil
			}
			trace := startup.Simulate(m)
			assert.Equal(t, startup.Depends, trace.Verdict)
			assert.Contains(t, rules(trace), c.rule)
		})
	}
}

// What is kept in the firmware's variables goes before the settings, what is kept for once before
// that. The UAPI Group's Boot Loader Interface.
func TestTheEntryThatTheFirmwareKeeps(t *testing.T) {
	for want, c := range map[string]struct {
		kept     firmware.LoaderMenu
		settings string
	}{
		`\a.efi`: {firmware.LoaderMenu{Once: "a.conf", Default: "b.conf"}, "c.conf"},
		`\b.efi`: {firmware.LoaderMenu{Once: "gone.conf", Default: "B.conf"}, "c.conf"},
		`\c.efi`: {firmware.LoaderMenu{Last: "b.conf"}, "c.conf"},
		`\d.efi`: {firmware.LoaderMenu{Last: "d.conf"}, "@saved"},
		`\f.efi`: {firmware.LoaderMenu{Last: "B.conf"}, "@saved"},
		`\e.efi`: {firmware.LoaderMenu{Default: "@saved", Last: "e.conf"}, "c.conf"},
	} {
		names := map[string][]string{"a": nil, "b": nil, "c": nil, "d": nil, "e": nil, "f": nil}
		declared := sample.With(menuDisk("", names), 0, "/loader/loader.conf", "default "+c.settings+"\n")
		m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, declared.MustBuild()))
		m.Firmware.Entries.Menu = &c.kept
		assert.Contains(t, startup.Simulate(m).Reason, want+" is none of the loaders")
	}
}

// Versions differ in whether the count of tries is a part of an entry's name: where that decides,
// it is open. Seen in systemd 252, which takes it for one.
func TestAPatternThatMeetsACountedName(t *testing.T) {
	for pattern, open := range map[string]bool{"b.conf": true, "b*": false, "a.conf": false} {
		d := sample.Drive(t, machine.RoleClone, menuDisk("", map[string][]string{"a": nil, "b+1-2": nil, "c": nil}).MustBuild())
		m := sample.Whole(firmware.UEFI, d)
		m.Firmware.Entries.Menu = &firmware.LoaderMenu{Default: pattern}
		found := slices.Contains(rules(startup.Simulate(m)), course.Rule("default-unknown"))
		assert.Equal(t, open, found, pattern)
	}
}

// An initial RAM disk that is gone is the kernel's to complain of, not the boot loader's.
func TestAnEntryWithoutItsRAMDisk(t *testing.T) {
	declared := sample.With(sample.With(menuDisk("", nil), 0, "/vmlinuz", string(sample.X64())), 0, "/loader/entries/a.conf",
		"linux /vmlinuz\ninitrd /initrd.img\noptions root=LABEL=root\n")
	trace := startup.Simulate(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, declared.MustBuild())))
	assert.Equal(t, startup.Stops, trace.Verdict)
	assert.Equal(t, course.StubNoFile.ID, trace.SymptomID)
	assert.Contains(t, rules(trace), course.Rule("kernel-absent"))
}

// The machine types of entries and of programs' names are those of UEFI: aa64, not arm64.
func TestTheMenuOfAnotherMachineType(t *testing.T) {
	loaderOf := func(is string) []byte { return diskmaker.Program{Machine: 0xAA64, Is: is}.Bytes() }
	for name, c := range map[string]struct {
		files  map[string][]byte
		starts string
	}{
		"an entry for it":        {map[string][]byte{"/loader/entries/a.conf": []byte("efi /a.efi\narchitecture aa64\n"), "/a.efi": loaderOf("")}, `\a.efi`},
		"an entry for another":   {map[string][]byte{"/loader/entries/a.conf": []byte("efi /a.efi\narchitecture x64\n"), "/a.efi": loaderOf("")}, ""},
		"a shell of its own":     {map[string][]byte{`\shellaa64.efi`: loaderOf("")}, `\shellaa64.efi`},
		"a shell of another one": {map[string][]byte{`\shellx64.efi`: sample.X64()}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			declared := sample.LinuxDisk(1, 1)
			declared.Partitions[0].Volume.Files = c.files
			c.files[`\EFI\BOOT\BOOTAA64.EFI`] = loaderOf("systemd-boot")
			m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, declared.MustBuild()))
			m.Firmware.Arch = fact.Tell(firmware.ARM64)
			trace := startup.Simulate(m)
			if c.starts == "" {
				assert.Equal(t, startup.Stops, trace.Verdict, trace.Reason)
				return
			}
			assert.Contains(t, trace.Reason, c.starts+" is none of the loaders")
		})
	}
}
