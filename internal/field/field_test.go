// Package field_test holds machines as technicians meet them, of families that no firmware here can
// start, against what someone with years of them says.
package field_test

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
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

// met is a machine as someone meets it.
type met struct {
	name   string
	at     func(t *testing.T) machine.Machine
	says   string // what an experienced technician says of it
	source string // where that stands; "" is common practice, no source
	// What Latchkey is to say.
	verdict startup.Verdict
	stage   course.Stage
	words   string // of which " | " parts, in what it says
	first   string // the first step of the plan; "-" is none
	remains string // what the plan says then
}

// update has the page written anew that lists them.
var update = flag.Bool("update", false, "write docs/field.md anew")

const page = "../../docs/field.md"

// rows are those of the page, by their test.
var (
	rowsMu sync.Mutex
	rows   = map[string][]string{}
)

func TestMain(m *testing.M) {
	flag.Parse()
	exit := m.Run()
	if only := flag.Lookup("test.run").Value.String(); exit == 0 && only == "" && len(rows) > 0 {
		exit = paged()
	}
	os.Exit(exit)
}

// paged holds the page against what was computed, or writes it.
func paged() int {
	var b strings.Builder
	b.WriteString("# Machines as technicians meet them\n\nFamilies that no firmware here can start, laid out as they lay themselves out, each with what an experienced technician says of it " +
		"and what is computed.\nThe layouts are from the families' documentation and from memory; what a technician says is common practice, no source, where none is named.\n" +
		"Registries are written by hivex, file systems by their own tools. This page is written by `go test ./internal/field -update`.\n")
	all := 0
	for _, name := range slices.Sorted(maps.Keys(rows)) {
		fmt.Fprintf(&b, "\n## %s\n\n| machine | a technician | Latchkey | first step |\n|---|---|---|---|\n%s", name, strings.Join(rows[name], ""))
		all += len(rows[name])
	}
	fmt.Fprintf(&b, "\n%d machines.\n", all)
	if *update {
		if err := os.WriteFile(page, []byte(b.String()), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		return 0
	}
	if was, err := os.ReadFile(page); err != nil || string(was) != b.String() {
		fmt.Fprintln(os.Stderr, "docs/field.md is another than what is computed: go test ./internal/field -update writes it anew, and its difference shows what changed.", err)
		return 1
	}
	return 0
}

// hold holds a table of them.
func hold(t *testing.T, all []met) {
	for _, m := range all {
		t.Run(m.name, func(t *testing.T) {
			at := m.at(t)
			trace := startup.Simulate(at)
			said := everything(trace)
			told := fmt.Sprintf("A technician: %s\n%s %s | %s | %s", m.says, trace.Verdict, trace.Stage, trace.Headline, said)
			assert.Equal(t, m.verdict, trace.Verdict, told)
			assert.Equal(t, m.stage, trace.Stage, told)
			for words := range strings.SplitSeq(m.words, " | ") {
				assert.Contains(t, said, words, told)
			}
			plan := repair.Find(at)
			first := "-"
			step := "none"
			if len(plan.Steps) > 0 {
				first, step = plan.Steps[0].Action, plan.Steps[0].Title
			}
			computed := trace.Headline
			if len(trace.Missing) > 0 {
				computed += " " + trace.Missing[0].Text
			}
			listed(t.Name(), fmt.Sprintf("| %s | %s | %s | %s |\n", m.name, strings.ReplaceAll(m.says, `\`, `\\`), computed, step))
			if m.first == "" {
				return
			}
			assert.Equal(t, m.first, first, "%s\nplan: %v %s %s", told, actions(plan), plan.Verdict, plan.Reason)
			assert.Contains(t, plan.Reason, m.remains)
		})
	}
}

// listed has a row on the page, below the name of its test.
func listed(test, row string) {
	rowsMu.Lock()
	defer rowsMu.Unlock()
	test, _, _ = strings.Cut(strings.TrimPrefix(test, "Test"), "/")
	rows[test] = append(rows[test], row)
}

func actions(p repair.Plan) (all []string) {
	for _, s := range p.Steps {
		all = append(all, s.Action)
	}
	return all
}

// everything that a trace says, with its findings.
func everything(t startup.Trace) string {
	all := sample.Words(t)
	for _, f := range t.Findings {
		all += " | " + f.Text
	}
	return all
}

// pc is a computer of which the firmware's own ways are not known, with boot entries.
func pc(mode firmware.Mode, entries []firmware.Entry, drives ...machine.Drive) machine.Machine {
	none := &firmware.Entries{All: map[uint16]firmware.Entry{}, Menu: &firmware.LoaderMenu{}}
	m := machine.Machine{Drives: drives, Firmware: firmware.Settings{Mode: fact.Tell(mode),
		Arch: fact.Tell(firmware.X64), SecureBoot: fact.Tell(false), Entries: none}}
	for i, e := range entries {
		e.Number = uint16(i)
		m.Firmware.Entries.All[e.Number] = e
		m.Firmware.Entries.Order = append(m.Firmware.Entries.Order, e.Number)
	}
	return m
}

// entry is a boot entry that leads to a program on a partition of a disk as it was.
func entry(t *testing.T, name string, d diskmaker.Disk, partition int, program string) firmware.Entry {
	t.Helper()
	placed, err := d.Placed()
	require.NoError(t, err)
	p, guid := placed.Partitions[partition], placed.PartitionGUID(partition)
	path := append(diskmaker.HardDriveNode(uint32(partition+1), p.Start, p.MiB<<11, &guid, 0),
		diskmaker.FileNode(program)...)
	e, err := firmware.DecodeLoadOption(0, diskmaker.Entry{Description: name, Path: path}.Bytes())
	require.NoError(t, err)
	return e
}

// on is a drive of a role on a bus.
func on(t *testing.T, role machine.Role, bus string, d diskmaker.Disk) machine.Drive {
	t.Helper()
	image := d.MustBuild()
	whole, err := disk.New(image, image.Size, image.SectorSize)
	require.NoError(t, err)
	return machine.Drive{Name: string(role), Role: role, Bus: fact.Tell(bus), Attached: fact.Tell(true),
		Contents: machine.Examine(whole, `\EFI\opensuse\shim.efi`)}
}

// tree is what a file system holds, by paths without a leading one: "-> x" is a link, "/" a folder.
type tree map[string]string

func (f tree) with(more tree) tree {
	all := tree{}
	for name, text := range f {
		all[name] = text
	}
	for name, text := range more {
		if text == "" {
			delete(all, name)
		} else {
			all[name] = text
		}
	}
	return all
}

// files is the tree for a file system that is written by diskmaker, which knows no links.
func (f tree) files() map[string][]byte {
	all := map[string][]byte{}
	for name, text := range f {
		all[name] = []byte(text)
	}
	return all
}

func (f tree) write(t *testing.T, dir string) {
	t.Helper()
	for name, text := range f {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		switch target, is := strings.CutPrefix(text, "-> "); {
		case is:
			require.NoError(t, os.Symlink(target, path))
		case text == "/":
			require.NoError(t, os.MkdirAll(path, 0o755))
		default:
			require.NoError(t, os.WriteFile(path, []byte(text), 0o755))
		}
	}
}

var (
	madeMu sync.Mutex
	made   = map[string][]byte{}
)

// volume is a file system as its own tools make it. A folder of a Btrfs whose name begins with @ or
// ends with : is a subvolume; default names the one that is mounted without a name.
func volume(t *testing.T, kind, uuid string, mib int64, f tree, args ...string) diskmaker.Volume {
	t.Helper()
	madeMu.Lock()
	defer madeMu.Unlock()
	key := fmt.Sprint(kind, uuid, mib, f, args)
	if made[key] == nil {
		path := reference.Image(t, mib<<20)
		dir := t.TempDir()
		switch kind {
		case "ext4":
			f.write(t, dir)
			reference.Run(t, "", "mkfs.ext4", append(args, "-q", "-F", "-U", uuid, "-d", dir, path)...)
		case "xfs":
			f.write(t, dir)
			reference.MakeXFS(t, path, dir, append(args, "-m", "uuid="+uuid)...)
		case "swap":
			reference.Run(t, "", "mkswap", append(args, "-q", "-U", uuid, path)...)
		}
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		made[key] = raw
	}
	return diskmaker.Volume{Kind: "raw", Raw: made[key]}
}

// btrfs is one with subvolumes, the first of which is the default one where its name ends with "!".
func btrfs(t *testing.T, uuid string, mib int64, subvolumes []string, holds map[string]tree) diskmaker.Volume {
	t.Helper()
	madeMu.Lock()
	defer madeMu.Unlock()
	key := fmt.Sprint("btrfs", uuid, mib, subvolumes, holds)
	if made[key] == nil {
		path := reference.Image(t, mib<<20)
		reference.Run(t, "", "mkfs.btrfs", "-q", "-U", uuid, path)
		reference.Mounted(t, path, "", func(at string) {
			for _, s := range subvolumes {
				name, byDefault := strings.CutSuffix(s, "!")
				require.NoError(t, os.MkdirAll(filepath.Dir(at+"/"+name), 0o755))
				reference.Run(t, "", "btrfs", "subvolume", "create", at+"/"+name)
				if byDefault {
					reference.Run(t, "", "btrfs", "subvolume", "set-default", at+"/"+name)
				}
			}
			for s, f := range holds {
				f.write(t, at+"/"+s)
			}
		})
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		made[key] = raw
	}
	return diskmaker.Volume{Kind: "raw", Raw: made[key]}
}
