// Package reference runs independent tools, so that tests can hold the project
// against something other than itself.
package reference

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"latchkey/internal/alone"
)

// Need makes sure that tools are installed. Without them the test is skipped,
// but fails where LATCHKEY_TOOLS=required is set, as the full test run does. What writes
// whole disks through loop devices is left out of the quick round.
func Need(t testing.TB, tools ...string) {
	t.Helper()
	if testing.Short() && slices.Contains(tools, "losetup") {
		t.Skip("writes whole disks through loop devices")
	}
	for _, tool := range tools {
		if find(tool) != "" {
			continue
		}
		Lacks(t, "%s is not installed", tool)
	}
}

// Lacks skips a test for what this machine lacks, but fails it where
// LATCHKEY_TOOLS=required is set.
func Lacks(t testing.TB, format string, args ...any) {
	t.Helper()
	if os.Getenv("LATCHKEY_TOOLS") == "required" {
		t.Fatalf(format, args...)
	}
	t.Skipf(format, args...)
}

// Loop attaches an image as a loop device until the test ends, and returns the
// device's path.
func Loop(t testing.TB, image string) string {
	t.Helper()
	Need(t, "losetup")
	out, err := exec.Command(find("losetup"), "--find", "--show", "--partscan", image).CombinedOutput()
	if err != nil {
		Lacks(t, "no loop device is to be had here: %s", out)
	}
	device := strings.TrimSpace(string(out))
	t.Cleanup(func() { Run(t, "", "losetup", "--detach", device) })
	return device
}

// Mounted mounts an image with the kernel's own driver, has it filled, and unmounts it. A
// kernel that has no such driver is no tool that could be installed: the test is skipped.
func Mounted(t testing.TB, image, options string, fill func(dir string)) {
	t.Helper()
	Need(t, "mount", "umount", "losetup")
	dir := t.TempDir()
	if out, err := exec.Command(find("mount"), "-o", strings.Trim("loop,"+options, ","), image, dir).CombinedOutput(); err != nil {
		t.Skipf("this kernel does not mount the image: %s", out)
	}
	defer func() {
		Run(t, "", "umount", dir)
		// Its loop device goes when nobody looks at it any more; till then tools take the image for two volumes.
		for range 100 {
			if Printed("losetup", "-j", image) == "" {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	}()
	fill(dir)
}

// MakeXFS has mkfs.xfs make a file system with what is in a folder, which no driver is needed
// for: by a prototype, mkfs.xfs(8). Names have no blanks in it.
func MakeXFS(t testing.TB, image, from string, args ...string) {
	t.Helper()
	var b strings.Builder
	b.WriteString("made\n0 0\nd--755 0 0\n")
	var folder func(dir string)
	folder = func(dir string) {
		entries, err := os.ReadDir(dir)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range entries {
			path := filepath.Join(dir, e.Name())
			switch target, err := os.Readlink(path); {
			case err == nil:
				fmt.Fprintf(&b, "%s l--777 0 0 %s\n", e.Name(), target)
			case e.IsDir():
				fmt.Fprintf(&b, "%s d--755 0 0\n", e.Name())
				folder(path)
			default:
				fmt.Fprintf(&b, "%s ---644 0 0 %s\n", e.Name(), path)
			}
		}
		b.WriteString("$\n")
	}
	folder(from)
	proto := filepath.Join(t.TempDir(), "prototype")
	if err := os.WriteFile(proto, []byte(b.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	Run(t, "", "mkfs.xfs", append(args, "-q", "-p", proto, image)...)
}

// NeedFile is Need for a file of a Debian package.
func NeedFile(t testing.TB, path string) []byte {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		Lacks(t, "%v", err)
	}
	return b
}

func find(tool string) string {
	if path, err := exec.LookPath(tool); err == nil {
		return path
	}
	for _, dir := range []string{"/usr/sbin", "/sbin"} {
		if path := filepath.Join(dir, tool); exec.Command("test", "-x", path).Run() == nil {
			return path
		}
	}
	return ""
}

// Run runs a tool with the given standard input and returns its standard output.
func Run(t testing.TB, stdin, tool string, args ...string) string {
	t.Helper()
	Need(t, tool)
	cmd := exec.Command(find(tool), args...)
	cmd.Env = append(os.Environ(), "LC_ALL=C", "MTOOLS_SKIP_CHECK=1", alone.NoCache)
	cmd.Stdin = strings.NewReader(stdin)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); err != nil {
		t.Fatalf("%s %s: %v\n%s%s", tool, strings.Join(args, " "), err, out.String(), errs.String())
	}
	return out.String()
}

// Printed returns what a tool prints, whether it calls that a success or not; "" without
// the tool.
func Printed(tool string, args ...string) string {
	cmd := exec.Command(find(tool), args...)
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	out, _ := cmd.Output()
	return string(out)
}

// Folder is a temporary folder, in memory where this machine has 2 GiB of it free: tools wait
// until what they write is on the disk, which takes most of such a test's time.
func Folder(t testing.TB) string {
	t.Helper()
	const memory = "/dev/shm"
	var space unix.Statfs_t
	if err := unix.Statfs(memory, &space); err != nil || space.Bavail*uint64(space.Bsize) < 2<<30 {
		return t.TempDir()
	}
	folder, err := os.MkdirTemp(memory, "latchkey-test-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	return folder
}

// Image returns the path of an empty sparse file of size bytes.
func Image(t testing.TB, size int64) string {
	t.Helper()
	path := filepath.Join(Folder(t), "disk.img")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := f.Truncate(size); err != nil {
		t.Fatal(err)
	}
	return path
}

// SealXFS makes the checksum of the superblock anew, after a change of it: its field lies at 224, and
// is of the first sector. xfs_format.h.
func SealXFS(raw []byte) {
	clear(raw[224:228])
	binary.LittleEndian.PutUint32(raw[224:], crc32.Checksum(raw[:512], crc32.MakeTable(crc32.Castagnoli)))
}
