package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/internal/sample"
)

// said runs the command and returns what it prints and its exit code.
func said(t *testing.T, args ...string) (string, int) {
	t.Helper()
	var out bytes.Buffer
	cmd := rootCommand()
	cmd.SetOut(&out)
	cmd.SetArgs(args)
	err := cmd.Execute()
	var code exitWith
	switch {
	case err == nil:
		return out.String(), 0
	case errors.As(err, &code):
		return out.String(), int(code)
	}
	return err.Error(), exitBad
}

func TestTablesKeepsItsContract(t *testing.T) {
	image := sample.WindowsDisk(1, 1).MustBuild()
	path := filepath.Join(t.TempDir(), "disk.img")
	require.NoError(t, image.WriteFile(path))
	text, code := said(t, "tables", path)
	assert.Zero(t, code, text)
	assert.Contains(t, text, "The copies agree")

	_, err := image.WriteAt([]byte{1, 2, 3, 4}, 512+16)
	require.NoError(t, err)
	require.NoError(t, image.WriteFile(path))
	text, code = said(t, "tables", path)
	assert.Equal(t, exitNot, code)
	assert.Contains(t, text, "checksum does not match")
	assert.Contains(t, text, "Write the primary partition table anew")
	text, code = said(t, "tables", "--json", path)
	assert.Equal(t, exitNot, code)
	var report map[string]any
	require.NoError(t, json.Unmarshal([]byte(text), &report), text)
	assert.Len(t, report["copies"], 3)
	first := report["findings"].([]any)[0].(map[string]any)
	assert.Equal(t, "gpt-header-crc", first["code"])
	assert.NotEmpty(t, first["means"])
	assert.Equal(t, "restore-primary", report["steps"].([]any)[0].(map[string]any)["action"])

	note := filepath.Join(t.TempDir(), "photo.jpg")
	require.NoError(t, os.WriteFile(note, []byte("\xFF\xD8\xFF\xE0 no disk"), 0o600))
	for what, args := range map[string][]string{"no disk": {note}, "not there": {note + "x"}, "sector size": {"--sector-size", "520", path}} {
		text, code = said(t, append([]string{"tables"}, args...)...)
		assert.Equal(t, exitBad, code, what)
		assert.NotEmpty(t, text, what)
	}
}
