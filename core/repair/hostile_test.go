package repair_test

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"mvdan.cc/sh/v3/syntax"
	"pgregory.net/rapid"

	"latchkey/core/command"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
	"latchkey/internal/shellwords"
)

// Disks are read that nobody vouches for: whatever their names hold, the commands of
// a plan are those that are meant, and no more.

// linuxRoot is a Linux with a mount table that names what is not there, and its menu.
func linuxRoot() diskmaker.Volume {
	return diskmaker.Volume{Kind: "ext4", UUID: [16]byte{1}, Files: map[string][]byte{
		"/etc/fstab":          []byte("UUID=02000000-0000-0000-0000-000000000000 / ext4 ro 0 1\nUUID=0BAD-C0DE /boot/efi vfat umask=0077 0 1\nUUID=03000000-0000-0000-0000-000000000000 /srv ext4 defaults 0 2\n"),
		"/boot/vmlinuz-6.1":   {1},
		"/boot/grub/grub.cfg": []byte("menuentry 'Linux' {\n search --fs-uuid --set=root 02000000-0000-0000-0000-000000000000\n linux /boot/vmlinuz-6.1 root=UUID=02000000-0000-0000-0000-000000000000 ro\n}\n"),
	}}
}

// named are machines of which each has a plan, by what names can be in its commands.
func named(t *testing.T) map[string]machine.Machine {
	t.Helper()
	machines := map[string]machine.Machine{}
	for name, c := range broken() {
		machines[name] = machineOf(t, c.mode, c.image)
	}
	for name, esp := range map[string]diskmaker.Volume{
		"Linux, boot files": {Kind: "fat32"},
		"Linux, names":      {Kind: "fat32", Files: map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes(), `\EFI\debian\grubx64.efi`: diskmaker.Program{}.Bytes()}},
	} {
		d := windows(8)
		d.Partitions[0].Volume, d.Partitions[1].Volume = esp, linuxRoot()
		m := machineOf(t, firmware.UEFI, d.MustBuild())
		if name == "Linux, names" {
			m.Until = machine.UntilConfiguration
		}
		machines[name] = m
	}
	clone := windows(2)
	two := twoDisks(t, windows(1).MustBuild(), clone.MustBuild())
	entries := &firmware.Entries{All: map[uint16]firmware.Entry{}, Order: []uint16{0, 3}}
	for number, d := range map[uint16]machine.Drive{0: two.Drives[1], 3: two.Drives[0]} {
		p := d.Contents.Layout.Partitions[0]
		entries.All[number] = firmware.Entry{Number: number, Active: true, Description: "Boot",
			Path: firmware.Path{File: `\EFI\BOOT\BOOTX64.EFI`,
				Partition: &firmware.PartitionNode{Number: 1, Start: p.Start, Size: p.Length, MBR: true, GUID: p.GUID}}}
	}
	two.Firmware.Entries = entries
	machines["two disks"] = two
	return machines
}

// renamed has every name that evidence can fill replaced, each by what fill gives for
// a field of its own.
func renamed(m machine.Machine, fill func(field string) string) machine.Machine {
	m.Drives = slices.Clone(m.Drives)
	for i := range m.Drives {
		c := m.Drives[i].Contents
		if c == nil {
			continue
		}
		changed := *c
		if _, known := c.Layout.DiskID().Get(); !known {
			changed.Layout.DiskIDTold = fact.Tell(fill("identifier"))
		}
		changed.Layout.Partitions, changed.Volumes = slices.Clone(c.Layout.Partitions), slices.Clone(c.Volumes)
		for j := range changed.Layout.Partitions {
			changed.Layout.Partitions[j].Name = fill(fmt.Sprint("partition ", j))
			v := &changed.Volumes[j]
			v.Label, v.Letter = fill(fmt.Sprint("label ", j)), fill(fmt.Sprint("letter ", j))
			v.Loaders = slices.Clone(v.Loaders)
			for k := range v.Loaders {
				if f := &v.Loaders[k]; f.Err == nil && !strings.HasPrefix(f.Path, `\EFI\BOOT`) {
					// a name within a path is not empty and holds no separator
					f.Path = `\EFI\x` + strings.ReplaceAll(fill(fmt.Sprint("folder ", j, k)), `\`, "") + `\grubx64.efi`
				}
			}
			v.Configs = slices.Clone(v.Configs)
			for k := range v.Configs {
				v.Configs[k].Mounts = slices.Clone(v.Configs[k].Mounts)
				for l := range v.Configs[k].Mounts {
					if mount := &v.Configs[k].Mounts[l]; mount.Point == "/srv" {
						mount.Field = "/x" + fill(fmt.Sprint("mount point ", j))
						mount.Point = mount.Field
					}
				}
			}
		}
		m.Drives[i].Contents = &changed
	}
	if old := m.Firmware.Entries; old != nil {
		entries := &firmware.Entries{All: maps.Clone(old.All), Order: old.Order}
		for n, e := range entries.All {
			e.Description, e.Text = fill(fmt.Sprint("entry ", n)), fill(fmt.Sprint("text ", n))
			entries.All[n] = e
		}
		m.Firmware.Entries = entries
	}
	return m
}

// formsOf lists every form of every step that can be told of a machine.
func formsOf(m machine.Machine) []repair.Form {
	var forms []repair.Form
	for _, allowed := range append([][]repair.Toolbox{repair.Toolboxes}, []repair.Toolbox{repair.Linux},
		[]repair.Toolbox{repair.WindowsRecovery}) {
		p := repair.Find(m, allowed...)
		for _, plan := range append([]repair.Plan{p}, p.Alternatives...) {
			for _, s := range append(slices.Clone(plan.Steps), plan.Afterwards...) {
				one := append([]repair.Form{s.Form}, s.Also...)
				slices.SortFunc(one, func(a, b repair.Form) int {
					return strings.Compare(string(a.Toolbox),
						string(b.Toolbox))
				})
				forms = append(forms, one...)
			}
		}
	}
	return forms
}

func benign(field string) string { return "plain" + strings.ReplaceAll(field, " ", "-") + "x" }

// The programs that work on files get what evidence says as variables alone: what they
// run is the same for every machine.
var programs = map[string]int{"awk": 1, "sed": 2, "sh": 2}

// Arbitrary bytes in every field: an independent parser finds in the rendered lines
// the very calls of the same plan with plain names, those names replaced.
func TestNamesNeverBecomeCommands(t *testing.T) {
	t.Parallel()
	machines := named(t)
	kinds := slices.Sorted(maps.Keys(machines))
	value := rapid.Custom(func(t *rapid.T) string {
		acting := rapid.SampledFrom([]string{"'", `"`, "`", "$(touch pwned)", "\n", "; touch pwned #", "& calc", "|", ">pwned", "%COMSPEC%", " ", "\x1b", "#", "e touch pwned", "!", "\xff"})
		return strings.NewReplacer("\x00", "", "/", "", `\`,
			"").Replace(strings.Join(rapid.SliceOfN(rapid.OneOf(acting, rapid.String()), 1, 6).Draw(t, "value"), ""))
	})
	rapid.Check(t, func(rt *rapid.T) {
		kind := rapid.SampledFrom(kinds).Draw(rt, "machine")
		values := map[string]string{}
		hostile := formsOf(renamed(machines[kind], func(field string) string {
			if _, ok := values[field]; !ok {
				values[field] = value.Draw(rt, field)
			}
			return values[field]
		}))
		plain := formsOf(renamed(machines[kind], benign))
		require.Len(rt, hostile, len(plain), "the names change the plan")
		for i := range plain {
			sameCalls(rt, plain[i].Commands, hostile[i].Commands, values)
			sameCalls(rt, plain[i].PutBack, hostile[i].PutBack, values)
		}
	})
}

// sameCalls holds lines with hostile names against those with plain ones.
func sameCalls(t *rapid.T, plain, hostile []repair.Command, values map[string]string) {
	require.Len(t, hostile, len(plain))
	for i := range plain {
		if plain[i].ByHand || isBatch(plain[i].Text) {
			if !hostile[i].ByHand {
				require.Equal(t, strings.Count(plain[i].Text, "\n"), strings.Count(hostile[i].Text, "\n"), "a line more: %q",
					hostile[i].Text)
			}
			continue
		}
		for _, lang := range []syntax.LangVariant{syntax.LangPOSIX, syntax.LangBash} {
			want, err := shellwords.Calls(plain[i].Text, lang)
			require.NoError(t, err)
			got, err := shellwords.Calls(hostile[i].Text, lang)
			require.NoError(t, err)
			require.Len(t, got, len(want), hostile[i].Text)
			for j := range want {
				require.Len(t, got[j], len(want[j]), hostile[i].Text)
				for k, word := range want[j] {
					meant := word
					for field, v := range values {
						meant = strings.ReplaceAll(meant, benign(field), v)
					}
					if got[j][k] != meant { // a sentence, or a name that is looked for
						require.Equal(t, command.Clean(meant), got[j][k], hostile[i].Text)
					}
					if at, ok := programs[want[j][0]]; ok && k == at {
						require.Equal(t, word, got[j][k], "a program is made of a name")
					}
				}
			}
		}
	}
}

func isBatch(text string) bool {
	return strings.Contains(text, "\r\n") || strings.Contains(text, "%") || strings.Contains(text, `S:\`)
}

// hostileNames are run by real shells.
var hostileNames = []string{
	`'$(touch pwned)'`, "`touch pwned`", "; touch pwned;", "\ntouch pwned\n", "&& touch pwned", "| touch pwned", "> pwned", `"; touch pwned; "`,
	"$(touch pwned)", "${IFS}touch${IFS}pwned", "' ; touch pwned ; '", "#'\n touch pwned", "\\'; touch pwned", "-rf", "a b", "Tern's", "ü\u202ex", "\x1b]0;x\x07", "*",
}

// recordingTools are stand-ins for every program that the lines call: each writes
// down how it was called, and answers what lets the lines go on.
func recordingTools(t *testing.T, m machine.Machine) (bin, log string) {
	t.Helper()
	dir := t.TempDir()
	log = filepath.Join(dir, "calls")
	bin = filepath.Join(dir, "bin")
	require.NoError(t, os.Mkdir(bin, 0o700))
	var d *machine.Drive
	for i := range m.Drives {
		if m.Drives[i].Role == machine.RoleClone {
			d = &m.Drives[i]
		}
	}
	id, _ := d.Contents.Layout.DiskID().Get()
	answers := map[string]string{"lsblk": "echo /dev/fake", "blockdev": fmt.Sprintf("echo %d", d.Contents.Layout.Bytes()), "blkid": "echo " + strings.ToLower(id),
		"wc": "echo 1", "readlink": "echo /mnt/clone/file", "awk": "echo 99999999"}
	for _, tool := range []string{"lsblk", "blockdev", "blkid", "wc", "dd", "sfdisk", "mount", "umount", "mkdir", "cp", "chroot", "awk", "efibootmgr", "grep", "cat", "od", "tr", "base64", "sync", "partprobe", "ln",
		"mkfs.vfat", "e2fsck", "touch", "calc", "sed", "rm", "dirname", "readlink", "df"} {
		script := "#!/bin/sh\n{ printf '%s\\0' " + tool + " \"$@\"; printf '\\0'; } >>" + log + "\n" + answers[tool] + "\n"
		require.NoError(t, os.WriteFile(filepath.Join(bin, tool), []byte(script), 0o700))
	}
	return bin, log
}

// Hostile names run by dash and bash: nothing is started that the same plan with
// plain names does not start.
func TestShellsStartNothingElse(t *testing.T) {
	if testing.Short() {
		t.Skip("takes ten seconds")
	}
	reference.Need(t, "dash", "bash")
	var ran atomic.Int32
	t.Run("kinds", func(t *testing.T) {
		for kind, m := range named(t) {
			t.Run(kind, func(t *testing.T) {
				t.Parallel()
				bin, log := recordingTools(t, m)
				// started lists the programs that the plans of a machine start.
				started := func(m machine.Machine, shell string) (calls []string) {
					for _, f := range formsOf(m) {
						if f.Shell == repair.POSIX && f.Toolbox != repair.MacRecovery {
							calls = append(calls, runRecorded(t, f, shell, bin, log)...)
							ran.Add(1)
						}
					}
					return calls
				}
				plain := map[string][]string{}
				for _, shell := range []string{"dash", "bash"} {
					plain[shell] = started(renamed(m, benign), shell)
				}
				for n, name := range hostileNames {
					shell := []string{"dash", "bash"}[n%2]
					calls := started(renamed(m, func(string) string { return name }), shell)
					require.Equal(t, plain[shell], calls, "%q", name)
					require.NotContains(t, calls, "touch")
				}
			})
		}
	})
	assert.Greater(t, ran.Load(), int32(100))
}

// runRecorded runs the lines of a form with tools that only note that they were
// started, and returns which.
func runRecorded(t *testing.T, f repair.Form, shell, bin, log string) (calls []string) {
	t.Helper()
	require.NoError(t, os.WriteFile(log, nil, 0o600))
	text := "set -e\n"
	for _, c := range slices.Concat(f.Commands, f.PutBack) {
		if !c.ByHand {
			text += c.Text + "\n"
		}
	}
	cmd := exec.Command(shell, "-s")
	cmd.Dir, cmd.Env, cmd.Stdin = t.TempDir(), []string{"PATH=" + bin}, strings.NewReader(text)
	out, _ := cmd.CombinedOutput()
	raw, err := os.ReadFile(log)
	require.NoError(t, err, string(out))
	for _, call := range bytes.Split(raw, []byte("\x00\x00")) {
		if program, _, _ := strings.Cut(string(call), "\x00"); program != "" {
			calls = append(calls, program)
		}
	}
	require.NoFileExists(t, filepath.Join(cmd.Dir, "pwned"), text)
	return calls
}

// The programs that edit a mount table and a menu, run by the real tool on names that
// would act in a program.
func TestFilesAreEditedByPrograms(t *testing.T) {
	reference.Need(t, "awk")
	edit := func(program, text string, env ...string) (string, error) {
		source, err := os.ReadFile(program)
		require.NoError(t, err)
		cmd := exec.Command("awk", string(source))
		cmd.Env, cmd.Stdin = append(os.Environ(), env...), strings.NewReader(text)
		out, err := cmd.Output()
		return string(out), err
	}
	table := "# /srv\n/dev/sda1\t/srv\text4 defaults 0 2\nUUID=1  /a&b\\040'c$(x)  ext4\n  LABEL=x / ext4 rw 0 1\n"
	mounts := loader.ParseFstab([]byte(table))
	require.Equal(t, "/a&b 'c$(x)", mounts[1].Point)
	for _, c := range []struct{ point, device, lax, want string }{
		{"/srv", "", "yes", strings.Replace(table, "defaults", "defaults,nofail", 1)},
		{"/", `UUID=a&b\1`, "", strings.Replace(table, "LABEL=x", `UUID=a&b\1`, 1)},
		{mounts[1].Field, "UUID=2", "yes", strings.Replace(table, "UUID=1  /a&b\\040'c$(x)  ext4", "UUID=2  /a&b\\040'c$(x)  ext4 defaults,nofail", 1)},
	} {
		got, err := edit("mounts.awk", table, "point="+c.point, "device="+c.device, "lax="+c.lax)
		assert.NoError(t, err, c.point)
		assert.Equal(t, c.want, got, c.point)
	}
	// Of several lines for one point it is the one that names the old device.
	swaps := "UUID=AB-1 none swap sw 0 0\nUUID=ab-2 none swap sw 0 0\n"
	got, err := edit("mounts.awk", swaps, "point=none", "old=AB-2", "device=UUID=3")
	assert.NoError(t, err)
	assert.Equal(t, strings.Replace(swaps, "UUID=ab-2", "UUID=3", 1), got)
	got, err = edit("mounts.awk", table, "point="+mounts[1].Field, "type=auto")
	assert.NoError(t, err)
	assert.Equal(t, strings.Replace(table, "$(x)  ext4", "$(x)  auto", 1), got)
	_, err = edit("mounts.awk", table, "point=/home")
	assert.Error(t, err, "a mount point that is not there")

	// Names are replaced where they stand as a whole, identifiers in any case.
	for _, c := range []struct{ names, line, want string }{
		{"02-AB 01-cd", "search.fs_uuid 02-ab root\n", "search.fs_uuid 01-cd root\n"},
		{"02-AB 01-cd", "linux /v root=UUID=02-AB ro", "linux /v root=UUID=01-cd ro\n"},
		{"02-AB 01-cd", "# 02-AB\nx 02-AB-3 302-AB luks-02-AB 02-AB", "# 02-AB\nx 02-AB-3 302-AB luks-02-AB 01-cd\n"},
		{"/dev/mapper/vg-root /dev/mapper/n-root rd.lvm.lv=vg/root rd.lvm.lv=n/root",
			"options root=/dev/mapper/vg-root rd.lvm.lv=vg/root rd.lvm.lv=vg/root2 /dev/mapper/vg-rooty",
			"options root=/dev/mapper/n-root rd.lvm.lv=n/root rd.lvm.lv=vg/root2 /dev/mapper/vg-rooty\n"},
		{"PARTUUID=ab-02 UUID=c", "root=PARTUUID=ab-02 root=PARTUUID=ab-021", "root=UUID=c root=PARTUUID=ab-021\n"},
		{"/dev/sda2 UUID=c", "root=/dev/sda2 /dev/sda21 x/dev/sda2", "root=UUID=c /dev/sda21 x/dev/sda2\n"},
		{"", "root=/dev/sda2", "root=/dev/sda2\n"},
	} {
		got, err := edit("names.awk", c.line, "names="+c.names)
		assert.NoError(t, err)
		assert.Equal(t, c.want, got, c.names)
	}

	// GRUB's block of variables keeps its 1,024 bytes; what does not fit in is not written.
	block := func(lines string) string {
		text := "# GRUB Environment Block\n" + lines
		return text + strings.Repeat("#", 1024-len(text))
	}
	got, err = edit("names.awk", block("kernelopts=root=/dev/mapper/vg-root ro\nx=y\n"), "names=/dev/mapper/vg-root UUID=c")
	assert.NoError(t, err)
	assert.Equal(t, block("kernelopts=root=UUID=c ro\nx=y\n"), got)
	_, err = edit("names.awk", block("a=/dev/sda2 "+strings.Repeat("x", 980)+"\n"), "names=/dev/sda2 /dev/mapper/a-longer-name")
	assert.Error(t, err)
}
