package repair_test

import (
	"encoding/binary"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// The batch files are run as they stand by the command interpreter of Wine, an
// implementation of Windows' interface that is not ours; what the recovery
// environment's own tools do is stood in for by internal/standin.

const wine = "/usr/lib/wine/wine64"

// The recovery environments that tests share: as many as run side by side.
var (
	environments = make(chan *environment, sideBySide)
	builtOnce    sync.Once
	folder       string // of all of them, "" when no test needed one
	errBuilt     error
)

const sideBySide = 4

// environment is a folder with the programs and a prefix of Wine's own.
type environment struct {
	dir   string
	ready bool
}

// build makes the stand-ins and the capture command, for all environments.
func build() error {
	var err error
	if folder, err = os.MkdirTemp("", "recovery"); err != nil {
		return err
	}
	programs := map[string][]string{"latchkey/internal/standin": {"diskpart", "bcdboot", "bootsect", "manage-bde", "findstr", "powershell"},
		"latchkey/cmd/latchkey-capture": {"latchkey-capture-windows-amd64"}}
	for n := range sideBySide {
		dir := filepath.Join(folder, fmt.Sprint(n))
		if err := os.Mkdir(dir, 0o700); err != nil {
			return err
		}
		environments <- &environment{dir: dir}
	}
	for pkg, names := range programs {
		exe := filepath.Join(folder, "built.exe")
		cmd := exec.Command("go", "build", "-o", exe, pkg)
		cmd.Env = append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		for n := range sideBySide {
			for _, name := range names {
				if err := exec.Command("cp", exe, filepath.Join(folder, fmt.Sprint(n), name+".exe")).Run(); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// inEnvironment takes an environment until the test ends.
func inEnvironment(t *testing.T) *environment {
	t.Helper()
	if testing.Short() {
		t.Skip("takes half a minute")
	}
	reference.NeedFile(t, wine)
	builtOnce.Do(func() { errBuilt = build() })
	require.NoError(t, errBuilt)
	e := <-environments
	t.Cleanup(func() { environments <- e })
	if !e.ready {
		out, err := e.command("", "ver").CombinedOutput()
		require.NoError(t, err, string(out))
		library := filepath.Join(e.dir, "prefix/drive_c/windows/system32/bcryptprimitives.dll")
		require.NoError(t, os.WriteFile(library, randomDLL(), 0o600))
		e.ready = true
	}
	return e
}

// command runs a line of Windows' command interpreter.
func (e *environment) command(world, line string) *exec.Cmd {
	cmd := exec.Command(wine, "cmd", "/c", line)
	cmd.Dir = e.dir
	cmd.Env = append(os.Environ(), "WINEPREFIX="+filepath.Join(e.dir, "prefix"), "WINEDEBUG=-all",
		"WINEDLLOVERRIDES=mscoree,mshtml=", "STANDIN=Z:"+strings.ReplaceAll(world, "/", `\`))
	return cmd
}

func TestMain(m *testing.M) {
	flag.Parse()
	// Wine, loop devices and shells wait more than they compute.
	_ = flag.Set("test.parallel", "6")
	code := m.Run()
	if folder != "" {
		for n := range sideBySide {
			for _, what := range []string{"-k", "-w"} { // end what runs in the prefix, and wait for it
				server := exec.Command("/usr/lib/wine/wineserver64", what)
				server.Env = append(os.Environ(), "WINEPREFIX="+filepath.Join(folder, fmt.Sprint(n), "prefix"))
				_ = server.Run()
			}
		}
		_ = os.RemoveAll(folder)
	}
	os.Exit(code)
}

// randomDLL is a library with the one function that Go's programs ask Windows for
// and this Wine lacks: ProcessPrng, which here says only that it succeeded. PE
// format, as its maker specifies it.
func randomDLL() []byte {
	le := binary.LittleEndian
	b := make([]byte, 0x400)
	put32 := func(base int, fields map[int]uint32) {
		for at, v := range fields {
			le.PutUint32(b[base+at:], v)
		}
	}
	const pe, optional, section, text = 0x80, 0x80 + 24, 0x80 + 24 + 240, 0x200
	copy(b, "MZ")
	copy(b[pe:], "PE\x00\x00\x64\x86\x01\x00")
	copy(b[section:], ".text")
	put32(0, map[int]uint32{0x3C: pe})
	put32(pe, map[int]uint32{20: 240 | 0x2022<<16})
	put32(optional, map[int]uint32{0: 0x20B, 24: 0x80000000, 28: 1, 32: 0x1000, 36: 0x200, 40: 6, 48: 6, 56: 0x2000,
		60: 0x200, 68: 3,
		72: 0x100000, 80: 0x1000, 88: 0x100000, 96: 0x1000, 108: 16, 112: 0x1010, 116: 0x80})
	put32(section, map[int]uint32{8: 0x200, 12: 0x1000, 16: 0x200, 20: text, 36: 0xE0000060})
	copy(b[text:], []byte{0xB8, 1, 0, 0, 0, 0xC3}) // mov eax, 1; ret
	put32(text+0x10, map[int]uint32{12: 0x1050, 16: 1, 20: 1, 24: 1, 28: 0x1040, 32: 0x1044, 36: 0x1048})
	put32(text, map[int]uint32{0x40: 0x1000, 0x44: 0x1070})
	copy(b[text+0x50:], "bcryptprimitives.dll")
	copy(b[text+0x70:], "ProcessPrng")
	return b
}

// standIn is a disk as internal/standin keeps it.
type standIn struct {
	Disk    diskmaker.Disk
	Letters map[string]int `json:",omitempty"`
	Serial  string         `json:",omitempty"`
	Runs    bool           `json:",omitempty"`
	Zeroed  bool           `json:",omitempty"`
	Offline bool           `json:",omitempty"`
}

// recoverDisks runs a batch file in a recovery environment with disks, and returns what
// it said and the disks as they are then.
func recoverDisks(t *testing.T, script string, disks ...diskmaker.Disk) (answer string, ok bool,
	after []diskmaker.Disk) {
	t.Helper()
	var states []standIn
	for _, d := range disks {
		states = append(states, standIn{Disk: d})
	}
	answer, ok, states = runBatch(t, script, states...)
	for _, s := range states {
		after = append(after, s.Disk)
	}
	return answer, ok, after
}

// runBatch does so with disks in more particular states.
func runBatch(t *testing.T, script string, disks ...standIn) (answer string, ok bool, after []standIn) {
	t.Helper()
	return runBatchTyping(t, "", script, disks...)
}

// runBatchTyping does so with what a person types.
func runBatchTyping(t *testing.T, typed, script string, disks ...standIn) (answer string, ok bool, after []standIn) {
	t.Helper()
	e := inEnvironment(t)
	for range 3 {
		answer, ok, after = e.runBatch(t, typed, script, disks...)
		if m := notStarted.FindStringSubmatch(answer); m == nil || !e.has(m[1]) {
			break
		}
		t.Logf("once more, Wine did not start a program that is there:\n%s", answer)
	}
	return answer, ok, after
}

// notStarted is what Wine's interpreter says of a program that it does not find; once in many
// runs, on a busy machine, of one that is there.
var notStarted = regexp.MustCompile(`Can't recognize '(\w+) `)

func (e *environment) has(program string) bool {
	_, err := os.Stat(filepath.Join(e.dir, program+".exe"))
	return err == nil
}

func (e *environment) runBatch(t *testing.T, typed, script string, disks ...standIn) (answer string, ok bool,
	after []standIn) {
	t.Helper()
	dir, world := e.dir, t.TempDir()
	for _, letter := range []string{"S", "W"} {
		require.NoError(t, os.Mkdir(filepath.Join(world, letter), 0o700))
		link := filepath.Join(dir, "prefix/dosdevices", strings.ToLower(letter)+":")
		_ = os.Remove(link)
		require.NoError(t, os.Symlink(filepath.Join(world, letter), link))
	}
	for i, d := range disks {
		raw, err := json.Marshal(d)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(world, fmt.Sprintf("disk%d.json", i)), raw, 0o600))
		require.NoError(t, d.Disk.MustBuild().WriteFile(filepath.Join(world, fmt.Sprintf("disk%d.img", i))))
	}
	// The disks are files here, and fewer have to be looked through.
	script = strings.NewReplacer(`\\.\PhysicalDrive%DISK%`, `%STANDIN%\disk%DISK%.img`, "(0,1,15)", "(0,1,3)", "(1,1,32)", "(1,1,3)").Replace(script)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "repair.cmd"), []byte(script), 0o600))
	cmd := e.command(world, "repair.cmd")
	cmd.Stdin = strings.NewReader(typed)
	out, err := cmd.CombinedOutput()
	for i := range disks {
		raw, err := os.ReadFile(filepath.Join(world, fmt.Sprintf("disk%d.json", i)))
		require.NoError(t, err)
		var s standIn
		require.NoError(t, json.Unmarshal(raw, &s))
		after = append(after, s)
	}
	saved, _ := filepath.Glob(filepath.Join(dir, "before-*.lkcap"))
	for _, f := range saved {
		require.NoError(t, os.Remove(f))
	}
	return fmt.Sprintf("%s\nsaved: %d", out, len(saved)), err == nil, after
}

func placed(t *testing.T, d diskmaker.Disk) diskmaker.Disk {
	t.Helper()
	d, err := d.Placed()
	require.NoError(t, err)
	return d
}

// recoverable are declared disks that Windows' recovery environment puts right.
func recoverable() map[string]struct {
	mode firmware.Mode
	disk diskmaker.Disk
	plan []string
} {
	left := leftBehind()
	swapped := windows(6) // the table's order is not the disk's
	swapped.Partitions[0].Volume.Files = nil
	swapped.Partitions[0], swapped.Partitions[1] = swapped.Partitions[1], swapped.Partitions[0]
	swapped.Partitions[0].Start, swapped.Partitions[0].MiB, swapped.Partitions[1].Start = 1<<19, 600, 2048
	return map[string]struct {
		mode firmware.Mode
		disk diskmaker.Disk
		plan []string
	}{
		"boot partition left out": {firmware.UEFI, left["no boot partition"], []string{"create-esp", "windows-boot-files"}},
		"boot partition not FAT":  {firmware.UEFI, left["not formatted"], []string{"format-esp", "windows-boot-files"}},
		"only the vendor's path":  {firmware.UEFI, left["vendor's path"], []string{"fallback-path"}},
		"boot partition empty":    {firmware.UEFI, left["no files"], []string{"windows-boot-files"}},
		"table in another order":  {firmware.UEFI, swapped, []string{"windows-boot-files"}},
		"no active partition":     {firmware.Legacy, legacyDisk(), []string{"set-active"}},
		"two active partitions":   {firmware.Legacy, legacyDisk(0, 1), []string{"set-active"}},
		"no boot code":            {firmware.Legacy, left["no boot code"], []string{"boot-code"}},
	}
}

func TestBatchFilesRepairTheDisks(t *testing.T) {
	for name, c := range recoverable() {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := repair.Find(machineOf(t, c.mode, c.disk.MustBuild()), repair.WindowsRecovery)
			require.Equal(t, c.plan, actionsOf(p), p.Reason)
			// The first disk has the clone's identifier and another capacity, the second
			// its capacity and another identifier.
			small, other := c.disk, c.disk
			small.Sectors, small.Partitions = 1<<20, nil
			other.GUID, other.Signature = disk.TypeLinuxData, 0xBEEF
			answer, ok, after := recoverDisks(t, script(p, repair.WindowsRecovery), small, other, c.disk)
			require.True(t, ok, answer)
			assert.Contains(t, answer, "The clone is disk 2")
			saves := 0
			for _, s := range p.Steps {
				saves += len(s.Saves)
			}
			assert.Contains(t, answer, fmt.Sprintf("saved: %d", saves))
			assert.Equal(t, []diskmaker.Disk{small, other}, after[:2], "no other disk is touched")
			trace := startup.Simulate(machineOf(t, c.mode, after[2].MustBuild()))
			assert.Equal(t, startup.Starts, trace.Verdict, "%s\n%s", trace.Headline, answer)
		})
	}
}

// Names on the disk do nothing in a batch file: neither in its words nor in what the
// tools answer.
func TestNamesDoNothingInBatchFiles(t *testing.T) {
	t.Parallel()
	name := `\EFI\R&D (old) ^x 'y' echo pwned`
	d := leftBehind()["vendor's path"]
	d.Partitions = append([]diskmaker.Partition{}, d.Partitions...)
	d.Partitions[0].Volume.Files = map[string][]byte{name + `\grubx64.efi`: diskmaker.Program{}.Bytes()}
	d.Partitions[0].Volume.Label = `A" & echo 1` // eleven signs
	d.Partitions[1].Volume.Label = `x: 1048576" & echo pwned>pwned & echo "%COMSPEC%`
	p := repair.Find(machineOf(t, firmware.UEFI, d.MustBuild()), repair.WindowsRecovery)
	require.Equal(t, []string{"fallback-path"}, actionsOf(p), p.Reason)
	answer, ok, after := recoverDisks(t, script(p, repair.WindowsRecovery), d)
	require.True(t, ok, answer)
	assert.NotContains(t, answer, "\npwned")
	for _, dir := range []string{"0", "0/prefix/drive_c", "1", "1/prefix/drive_c", "2", "3"} {
		assert.NoFileExists(t, filepath.Join(folder, dir, "pwned"))
	}
	trace := startup.Simulate(machineOf(t, firmware.UEFI, after[0].MustBuild()))
	assert.Equal(t, startup.Starts, trace.Verdict, "%s\n%s", trace.Headline, answer)

	for _, name = range []string{"100%", "größer", `a"b`, "a!b", "a\nb"} { // not to be carried by a batch file
		m := renamed(machineOf(t, firmware.UEFI, d.MustBuild()), func(string) string { return name })
		inBatch := func(c repair.Command) bool { return c.ByHand && strings.Contains(c.Text, "cannot carry safely") }
		p := repair.Find(m, repair.WindowsRecovery)
		require.Equal(t, []string{"fallback-path"}, actionsOf(p), name)
		assert.True(t, slices.ContainsFunc(p.Steps[0].Commands, inBatch), name)
		others := repair.Find(m, repair.WindowsRecovery, repair.Linux).Alternatives
		require.NotEmpty(t, others)
		for _, plan := range others[:1] {
			require.Equal(t, []string{"fallback-path"}, actionsOf(plan))
			assert.Equal(t, repair.Linux, plan.Steps[0].Toolbox, "the live Linux carries %q", name)
			assert.False(t, slices.ContainsFunc(plan.Steps[0].Commands, inBatch), name)
		}
	}
}

func TestTheBatchFilesGuardStops(t *testing.T) {
	c := recoverable()["no active partition"]
	text := script(repair.Find(machineOf(t, c.mode, c.disk.MustBuild()), repair.WindowsRecovery),
		repair.WindowsRecovery)
	other := c.disk
	other.Signature = 0xBEEF
	moved := c.disk
	moved.Partitions = append([]diskmaker.Partition{}, moved.Partitions...)
	moved.Partitions[0].Start = 4096
	for name, w := range map[string]struct {
		disks []diskmaker.Disk
		says  string
	}{
		"another disk": {[]diskmaker.Disk{other}, "is not here"},
		"two of it":    {[]diskmaker.Disk{c.disk, c.disk}, "or there are two of it"},
		"it has moved": {[]diskmaker.Disk{moved}, "No partition of the clone begins at byte 1048576"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			answer, ok, after := recoverDisks(t, text, w.disks...)
			assert.False(t, ok)
			assert.Contains(t, answer, w.says)
			for i := range after {
				assert.Equal(t, placed(t, w.disks[i]), placed(t, after[i]), "nothing was changed")
			}
		})
	}
}
