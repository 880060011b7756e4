package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// run runs the command line and returns its output and exit code.
func run(t *testing.T, args ...string) (string, int) {
	t.Helper()
	cmd := rootCommand()
	var out bytes.Buffer
	cmd.SetOut(&out)
	cmd.SetErr(&out)
	cmd.SetArgs(args)
	err := cmd.Execute()
	var code exitWith
	switch {
	case err == nil:
		return out.String(), 0
	case errors.As(err, &code):
		return out.String(), int(code)
	}
	return out.String() + err.Error(), exitBad
}

func describe(t *testing.T, dir, description string) string {
	t.Helper()
	path := filepath.Join(dir, "machine.json")
	require.NoError(t, os.WriteFile(path, []byte(description), 0o600))
	return path
}

func withDisk(t *testing.T, files map[string][]byte) string {
	t.Helper()
	dir := t.TempDir()
	d := diskmaker.Disk{Sectors: 1 << 20, Style: diskmaker.GPT, GUID: disk.TypeESP, Partitions: []diskmaker.Partition{
		{Type: disk.TypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32", Files: files}}}}
	require.NoError(t, d.MustBuild().WriteFile(filepath.Join(dir, "b.img")))
	return dir
}

const described = `{"firmware": {"mode": "uefi", "arch": "x64", "secureBoot": false, "behaviour": "edk2"},
 "drives": [{"name": "b", "role": "clone", "file": "b.img", "bus": "sata", "attached": true}], "deviceOrder": ["b"]UNTIL}`

func until(stage string) string {
	if stage != "" {
		stage = `, "until": "` + stage + `"`
	}
	return string(bytes.ReplaceAll([]byte(described), []byte("UNTIL"), []byte(stage)))
}

func TestCheckKeepsItsContract(t *testing.T) {
	good := map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()}
	for name, c := range map[string]struct {
		files map[string][]byte
		until string
		code  int
		want  map[string]any
	}{
		"starts":        {good, "loader", 0, map[string]any{"verdict": "starts", "drive": "b", "partition": 1.0, "loader": `\EFI\BOOT\BOOTX64.EFI`}},
		"not proven":    {good, "", 3, map[string]any{"verdict": "depends", "drive": "b", "partition": 1.0}},
		"not yet known": {good, "configuration", 3, map[string]any{"verdict": "depends"}},
		"stops":         {nil, "loader", 1, map[string]any{"verdict": "stops", "drive": "b", "stage": "loader"}},
	} {
		t.Run(name, func(t *testing.T) {
			out, code := run(t, "check", "--json", describe(t, withDisk(t, c.files), until(c.until)))
			assert.Equal(t, c.code, code, out)
			var got map[string]any
			require.NoError(t, json.Unmarshal([]byte(out), &got))
			for key, want := range c.want {
				assert.Equal(t, want, got[key], key)
			}
			for key := range got {
				assert.Contains(t, []string{"verdict", "drive", "partition", "loader", "entry", "stage", "symptom", "findings", "missing"}, key)
			}
			assert.NotContains(t, got, "entry", "absent where there is none")
		})
	}
}

func TestCheckInWords(t *testing.T) {
	out, code := run(t, "check", describe(t, withDisk(t, nil), until("")))
	assert.Equal(t, 1, code)
	assert.Contains(t, out, `Stops at the loader: \EFI\BOOT\BOOTX64.EFI is not on partition 1 of the clone.`)
}

func TestCheckRefusesBadInput(t *testing.T) {
	out, code := run(t, "check", filepath.Join(t.TempDir(), "none.json"))
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "none.json")
	out, code = run(t, "check", describe(t, t.TempDir(), `{"drives": [{"name": "b", "role": "clone", "file": "b.img"}]}`))
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "b.img: no such file")
	_, code = run(t, "check")
	assert.Equal(t, 2, code)
}

func TestCheckManyMachines(t *testing.T) {
	good := map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()}
	starts, stops := describe(t, withDisk(t, good), until("loader")), describe(t, withDisk(t, nil), until("loader"))
	out, code := run(t, "check", starts, starts)
	assert.Equal(t, 0, code)
	assert.Equal(t, 2, strings.Count(out, "Starts the loader on the clone."))
	out, code = run(t, "check", starts, stops)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, stops+": Stops at the loader")
	out, code = run(t, "check", "--json", starts, "none.json", stops)
	assert.Equal(t, 2, code)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	require.GreaterOrEqual(t, len(lines), 3)
	for i, want := range []map[string]any{{"verdict": "starts"}, {"file": "none.json"}, {"verdict": "stops", "stage": "loader"}} {
		var got map[string]any
		require.NoError(t, json.Unmarshal([]byte(lines[i]), &got), lines[i])
		for key, value := range want {
			assert.Equal(t, value, got[key])
		}
	}
}

// The way of the issue: two files written by sfdisk and mkfs alone.
func TestCheckOnDisksWrittenByDebiansTools(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "b.img")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.NoError(t, os.Truncate(path, 8<<30))
	reference.Run(t, "label: gpt\nsize=100MiB,type=U\ntype=L\n", "sfdisk", "--quiet", path)
	reference.Run(t, "", "mkfs.vfat", "-F", "32", "-s", "1", "--offset", "2048", "-h", "2048", path, "102400")
	out, code := run(t, "check", "--json", describe(t, dir, until("loader")))
	assert.Equal(t, 1, code)
	assert.Contains(t, out, `"stage": "loader"`)
	program := reference.NeedFile(t, "/usr/lib/systemd/boot/efi/systemd-bootx64.efi")
	from := filepath.Join(dir, "p.efi")
	require.NoError(t, os.WriteFile(from, program, 0o600))
	reference.Run(t, "", "mmd", "-i", path+"@@1M", "::/EFI", "::/EFI/BOOT")
	reference.Run(t, "", "mcopy", "-i", path+"@@1M", from, "::/EFI/BOOT/BOOTX64.EFI")
	_, code = run(t, "check", describe(t, dir, until("loader")))
	assert.Equal(t, 0, code)
}

func TestNamesDoNothingInATerminal(t *testing.T) {
	assert.Equal(t, "Boot ?]0;pwned? ?[2J\nzwei größer", visible("Boot \x1b]0;pwned\a \x1b[2J\nzwei größer"))
}
