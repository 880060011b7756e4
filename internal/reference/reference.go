// Package reference runs independent tools, so that tests can hold the project
// against something other than itself.
package reference

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Need makes sure that tools are installed. Without them the test is skipped,
// but fails where LATCHKEY_TOOLS=required is set, as the full test run does.
func Need(t testing.TB, tools ...string) {
	t.Helper()
	for _, tool := range tools {
		if find(tool) != "" {
			continue
		}
		if os.Getenv("LATCHKEY_TOOLS") == "required" {
			t.Fatalf("%s is not installed", tool)
		}
		t.Skipf("%s is not installed", tool)
	}
}

// NeedFile is Need for a file of a Debian package.
func NeedFile(t testing.TB, path string) []byte {
	t.Helper()
	b, err := os.ReadFile(path)
	switch {
	case err == nil:
		return b
	case os.Getenv("LATCHKEY_TOOLS") == "required":
		t.Fatal(err)
	default:
		t.Skip(err)
	}
	return nil
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
	cmd.Env = append(os.Environ(), "LC_ALL=C", "MTOOLS_SKIP_CHECK=1")
	cmd.Stdin = strings.NewReader(stdin)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); err != nil {
		t.Fatalf("%s %s: %v\n%s%s", tool, strings.Join(args, " "), err, out.String(), errs.String())
	}
	return out.String()
}

// Image returns the path of an empty sparse file of size bytes.
func Image(t testing.TB, size int64) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "disk.img")
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
