package capture

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/firmware"
)

// A system that gives variables by name alone is asked for the order, for the next start,
// and for every entry that may be.
func TestVariablesByName(t *testing.T) {
	held := map[string][]byte{
		"BootOrder": {1, 0, 0x34, 0x12}, "BootNext": {0x00, 0x20},
		"Boot0001": loadOption("one"), "Boot1234": loadOption("far"), "Boot2000": loadOption("next"), "Boot0042": loadOption("not in the order"),
	}
	held["LoaderEntryDefault"] = []byte{'a', 0, '.', 0, 'c', 0, 0, 0}
	got := gatherVariables(func(name, vendor string) []byte {
		if strings.HasPrefix(name, "Loader") && vendor != "4a67b082-0a4c-41cf-b6c7-440b29bb8c4f" {
			return nil
		}
		return held[name]
	})
	assert.Len(t, got, 7)
	entries, err := firmware.DecodeVariables(got)
	require.NoError(t, err)
	assert.Equal(t, []uint16{1, 0x1234}, entries.Order)
	assert.EqualValues(t, 0x2000, *entries.Next)
	assert.Equal(t, "far", entries.All[0x1234].Description)
	assert.Contains(t, entries.All, uint16(0x42))
	assert.Equal(t, "a.c", entries.Menu.Default)
	assert.Nil(t, gatherVariables(func(string, string) []byte { return nil }), "legacy firmware")
}

// loadOption is an active entry without more than an end of its path. UEFI Specification
// 2.10, section 3.1.3.
func loadOption(name string) []byte {
	b := []byte{1, 0, 0, 0, 4, 0}
	for _, c := range name {
		b = append(b, byte(c), 0)
	}
	return append(b, 0, 0, 0x7F, 0xFF, 4, 0)
}

// A folder of variables holds others beside those that decide a start.
func TestVariablesOfAFolder(t *testing.T) {
	folder := t.TempDir()
	const vendor = "-4A67B082-0A4C-41CF-B6C7-440B29BB8C4F"
	for _, name := range []string{"LoaderEntryDefault" + vendor, "LoaderEntrySelected" + vendor, "Timeout-" + globalVariables,
		"BootOrder-" + globalVariables} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte{7, 0, 0, 0, 'a', 0}, 0o600))
	}
	files, err := VariableFiles(folder)
	require.NoError(t, err)
	assert.Len(t, files, 2)
	entries, err := firmware.DecodeVariables(files)
	require.NoError(t, err)
	assert.Equal(t, &firmware.LoaderMenu{Default: "a"}, entries.Menu)
}
