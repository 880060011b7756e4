package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/internal/sample"
)

func TestTablesKeepsItsContract(t *testing.T) {
	image := sample.WindowsDisk(1, 1).MustBuild()
	path := filepath.Join(t.TempDir(), "disk.img")
	require.NoError(t, image.WriteFile(path))
	text, code := run(t, "tables", path)
	assert.Zero(t, code, text)
	assert.Contains(t, text, "The copies agree")

	_, err := image.WriteAt([]byte{1, 2, 3, 4}, 512+16)
	require.NoError(t, err)
	require.NoError(t, image.WriteFile(path))
	text, code = run(t, "tables", path)
	assert.Equal(t, exitNot, code)
	assert.Contains(t, text, "checksum does not match")
	assert.Contains(t, text, "Write the primary partition table anew")
	text, code = run(t, "tables", "--json", path)
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
		text, code = run(t, append([]string{"tables"}, args...)...)
		assert.Equal(t, exitBad, code, what)
		assert.NotEmpty(t, text, what)
	}
}
