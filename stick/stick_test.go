package stick_test

import (
	"bytes"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/demo"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
	"latchkey/stick"
)

// bench is a session over disks in memory.
type bench struct {
	*stick.Session
	root      string
	variables string // the folder of the firmware's variables
	disks     map[string]io.ReaderAt
	found     []capture.Found
	ran       []string
	typed     string // at the last script
	fails     error
}

func newBench(t *testing.T) *bench {
	t.Helper()
	b := &bench{root: t.TempDir(), disks: map[string]io.ReaderAt{}}
	off := false
	s, err := stick.Begin(
		b.root,
		stick.System{Mode: "uefi", Arch: "x64", SecureBoot: &off, Model: "A maker's Model 3/4"},
		func() time.Time {
			return time.Date(2026, 11, 27, 1, 2, 3, 0, time.UTC)
		},
	)
	require.NoError(t, err)
	b.Session = s
	b.variables = t.TempDir()
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(b.variables, "BootOrder-8be4df61-93ca-11d2-aa0d-00e098032b8c"),
			[]byte{7, 0, 0, 0},
			0o600,
		),
	)
	run := func(script, typed string) ([]byte, error) {
		b.ran, b.typed = append(b.ran, script), typed
		return []byte("said"), b.fails
	}
	s.Replace(func() ([]capture.Found, error) { return b.found, nil }, b.open, run, b.variables)
	return b
}

func (b *bench) open(path string) (*capture.Device, error) {
	r, there := b.disks[path]
	if !there {
		return nil, errors.New("no medium found")
	}
	for _, f := range b.found {
		if f.Path == path {
			return &capture.Device{
				ReaderAt:          r,
				Closer:            io.NopCloser(nil),
				Size:              f.Size,
				LogicalSectorSize: 512,
				Serial:            "SER" + filepath.Base(path),
			}, nil
		}
	}
	return nil, os.ErrNotExist
}

func (b *bench) attach(path string, image *diskmaker.Image) *bench {
	b.disks[path] = image
	b.found = append(b.found, capture.Found{Path: path, Size: image.Size, Model: "Drive", Bus: "sata"})
	return b
}

// harbour is a pair of disks of the demo world, of which the clone does not start.
func harbour(t *testing.T) (original, clone *diskmaker.Image) {
	t.Helper()
	for _, c := range demo.Cases() {
		if c.Original.Disk == nil || c.Clone.Disk == nil || c.Firmware.Mode != "uefi" {
			continue
		}
		a, err := c.Original.Disk()
		require.NoError(t, err)
		b, err := c.Clone.Disk()
		require.NoError(t, err)
		return a, b
	}
	t.Fatal("the demo world has no such case")
	return nil, nil
}

// The evidence that is taken on the stick gives the same check as the disks themselves, lies
// in one folder named by machine and time, and its sums are right.
func TestTheEvidenceOfEveryDrive(t *testing.T) {
	original, clone := harbour(t)
	b := newBench(t).attach("/dev/sda", original).attach("/dev/sdb", clone)
	b.found = append(
		b.found,
		capture.Found{Path: "/dev/sdc", Size: 1 << 20},
		capture.Found{Path: "/dev/sdd", Size: 1 << 30},
	)
	require.NoError(t, b.Look(t.Context(), "/dev/sdc", nil))
	require.Len(t, b.Drives, 3, "the stick is not among them")
	assert.Equal(t, filepath.Join(b.root, "LATCHKEY", "A-maker-s-Model-3-4-20261127-010203"), b.Folder)
	assert.ErrorContains(t, b.Drives[2].Err, "no medium")
	b.SetRole(b.Drives[0], machine.RoleOriginal)
	b.SetRole(b.Drives[1], machine.RoleClone)
	require.NoError(t, b.Judge())

	whole, err := capture.Load(filepath.Join(b.Folder, "machine.json"))
	require.NoError(t, err)
	assert.Equal(t, startup.Simulate(whole), b.Trace)
	direct := b.Machine
	direct.Drives = append([]machine.Drive{}, b.Machine.Drives...)
	for i, image := range []*diskmaker.Image{original, clone} {
		path := filepath.Join(t.TempDir(), "image")
		require.NoError(t, image.WriteFile(path))
		var err error
		direct.Drives[i].Contents, err = capture.LoadDisk(path, 512)
		require.NoError(t, err)
	}
	want := startup.Simulate(direct)
	assert.Equal(t, want.Verdict, b.Trace.Verdict)
	assert.Equal(t, want.Headline, b.Trace.Headline)
	cmd := exec.Command("sha256sum", "--quiet", "-c", "SHA256SUMS")
	cmd.Dir = b.Folder
	out, err := cmd.CombinedOutput()
	assert.NoError(t, err, string(out))
	record, err := os.ReadFile(filepath.Join(b.Folder, "record.txt"))
	require.NoError(t, err)
	assert.Contains(t, string(record), "sdd · 1.1 GB", "what could not be read is in the record")
	assert.Contains(t, string(record), "2026-11-27T01:02:03Z check: ")
	again, err := stick.Begin(
		b.root,
		b.System,
		func() time.Time { return time.Date(2026, 11, 27, 1, 2, 3, 0, time.UTC) },
	)
	require.NoError(t, err)
	assert.NotEqual(t, b.Folder, again.Folder, "nothing is written over")
}

func step(device string) repair.PlanStep {
	line := repair.Command{Text: "dd if=/dev/zero of=" + device + " count=1"}
	return repair.PlanStep{
		Title: "A step",
		Disk:  device,
		Form: repair.Form{Toolbox: repair.Linux, Shell: repair.POSIX, Commands: []repair.Command{line},
			PutBack: []repair.Command{{Text: "dd if=before-0 of=" + device}}},
	}
}

// Names never add a line to the record, or act on a terminal that shows it.
func TestNamesInTheRecord(t *testing.T) {
	b := newBench(t)
	b.Log("check: %s", "Boot\x1b[2J\r\n2026-11-27T01:02:03Z step 1 begins: \u202enothing")
	raw, err := os.ReadFile(filepath.Join(b.Folder, "record.txt"))
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(raw), "\n"))
	assert.NotContains(t, string(raw), "\x1b")
	assert.NotContains(t, string(raw), "\u202e")
}

// A step is confirmed by the capacity of the drive that it writes to, in whole units.
func TestWhatConfirmsAStep(t *testing.T) {
	b := newBench(t)
	b.Drives = []*stick.Drive{
		{Found: capture.Found{Path: "/dev/sda", Size: 500_107_862_016}, Name: "sda", Role: machine.RoleOriginal},
		{Found: capture.Found{Path: "/dev/sdb", Size: 256_060_514_304}, Name: "sdb", Role: machine.RoleClone},
	}
	for typed, good := range map[string]bool{"256": true, "256 GB": true, " 256gb ": true, "500": false, "": false, "GB": false, "256000": false, "25": false} {
		assert.Equal(t, good, b.Confirms(step("sdb"), typed), typed)
	}
	writes, asks := b.Asks(step("sdb"))
	assert.Contains(t, writes, "the clone: sdb · 256")
	assert.Contains(t, asks, "256 GB")
	assert.False(t, newBench(t).Confirms(step("sdb"), "1"), "there is no drive")
}

// A step that ends leaves no mark of having begun; one that is interrupted is found at the next
// start, and what it had saved is put back by its own commands.
func TestAStepAndItsInterruption(t *testing.T) {
	_, clone := harbour(t)
	b := newBench(t).attach("/dev/sdb", clone)
	require.NoError(t, b.Look(t.Context(), "/dev/sdc", nil))
	require.NoError(t, b.Judge())
	done, err := b.Do(t.Context(), step("sdb"), "", "/dev/sdc")
	require.NoError(t, err)
	assert.NoError(t, done.Failed)
	require.Len(t, b.ran, 1)
	script, err := os.ReadFile(b.ran[0])
	require.NoError(t, err)
	assert.Contains(t, string(script), "dd if=/dev/zero of=sdb")
	assert.Empty(t, b.typed, "its commands ask for nothing")
	_, _, found := stick.Interrupted(b.root)
	assert.False(t, found)
	assert.True(t, b.CanUndo())
	locked := step("sdb")
	locked.Passphrase = "partition 3 of the clone"
	_, err = b.Do(t.Context(), locked, "over the hedge", "/dev/sdc")
	require.NoError(t, err)
	assert.Equal(t, "over the hedge\n", b.typed)
	bare := step("sdb")
	bare.PutBack = nil
	other := newBench(t).attach("/dev/sdb", clone)
	require.NoError(t, other.Look(t.Context(), "/dev/sdc", nil))
	require.NoError(t, other.Judge())
	_, err = other.Do(t.Context(), bare, "", "/dev/sdc")
	require.NoError(t, err)
	assert.False(t, other.CanUndo(), "nothing is said to be put back that no command puts back")
	bare.Disk = "sdq"
	assert.False(t, other.Confirms(bare, "1000"), "a drive that is not there is no other one")
	assert.FileExists(t, filepath.Join(b.Folder, "clone-after-1.lkcap"), "it was looked at again")

	b.fails = errors.New("the power went")
	done, err = b.Do(t.Context(), step("sdb"), "", "/dev/sdc")
	require.NoError(t, err)
	assert.ErrorContains(t, done.Failed, "power")
	assert.False(t, done.Good)
	folder, title, found := stick.Interrupted(b.root)
	require.True(t, found)
	assert.Equal(t, "A step", title)
	b.fails = nil
	next := newBench(t).attach("/dev/sdb", clone)
	done, err = next.PutBack(t.Context(), folder, "/dev/sdc")
	require.NoError(t, err)
	assert.True(t, done.Good)
	back, err := os.ReadFile(next.ran[0])
	require.NoError(t, err)
	assert.Contains(t, string(back), "dd if=before-0 of=sdb")
	_, _, found = stick.Interrupted(b.root)
	assert.False(t, found, "it is not asked again")
}

// A stick that takes no more is an error, before any command is run; half a capture does not
// stay.
func TestAStickThatIsFull(t *testing.T) {
	image := reference.Image(t, 2<<20)
	reference.Run(t, "", "mke2fs", "-q", "-t", "ext4", "-m", "0", image)
	reference.Mounted(t, image, "", func(at string) { fullStick(t, at) })
}

func fullStick(t *testing.T, at string) {
	_, clone := harbour(t)
	b := newBench(t).attach("/dev/sdb", clone)
	full, err := stick.Begin(at, b.System, time.Now)
	require.NoError(t, err)
	full.Replace(
		func() ([]capture.Found, error) { return b.found, nil },
		b.open,
		func(_, _ string) ([]byte, error) { t.Error("a command was run"); return nil, nil },
		t.TempDir(),
	)
	require.NoError(t, full.Look(t.Context(), "", nil))
	require.NoError(t, full.Judge())
	require.NoError(t, os.WriteFile(filepath.Join(at, "filler"), bytes.Repeat([]byte{1}, 600<<10), 0o600))
	for i := 0; ; i++ { // to the last cluster
		if os.WriteFile(filepath.Join(at, "f"+strings.Repeat("x", i)), bytes.Repeat([]byte{1}, 2048), 0o600) != nil {
			break
		}
	}
	_, err = full.Do(t.Context(), step("sdb"), "", "")
	assert.ErrorContains(t, err, "the stick does not take")
	assert.ErrorContains(t, full.Look(t.Context(), "", nil), "the stick does not take")
}

// What the kernel tells of a machine; kernel documentation, ABI.
func TestWhatTheMachineSaysOfItself(t *testing.T) {
	top := t.TempDir()
	put := func(name, text string) {
		path := filepath.Join(top, "sys", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	assert.Equal(t, stick.System{Mode: "legacy"}, stick.ReadSystem(top))
	put("class/dmi/id/product_name", "Model 3\n")
	put("class/dmi/id/sys_vendor", "A maker\n")
	put("bus/pci/devices/0000:00:1f.2/class", "0x010601\n")
	put("firmware/efi/fw_platform_size", "32\n")
	put("firmware/efi/efivars/SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c", "\x06\x00\x00\x00\x01")
	s := stick.ReadSystem(top)
	require.NotNil(t, s.SecureBoot)
	assert.True(t, *s.SecureBoot)
	s.SecureBoot = nil
	assert.Equal(t, stick.System{Mode: "uefi", Arch: "ia32", Storage: "ahci", Model: "A maker Model 3"}, s)
	put("bus/pci/devices/0000:01:00.0/class", "0x010400\n")
	assert.Empty(t, stick.ReadSystem(top).Storage, "two kinds of controllers tell nothing")
	require.NoError(
		t,
		os.Remove(filepath.Join(top, "sys/firmware/efi/efivars/SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c")),
	)
	assert.Nil(t, stick.ReadSystem(top).SecureBoot, "without any variable that is not known")
	put("firmware/efi/efivars/BootOrder-8be4df61-93ca-11d2-aa0d-00e098032b8c", "x")
	require.NotNil(t, stick.ReadSystem(top).SecureBoot)
	assert.False(t, *stick.ReadSystem(top).SecureBoot)
}
