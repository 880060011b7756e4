package listing_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/listing"
	"latchkey/core/disk"
	"latchkey/internal/reference"
)

// speaking runs a tool in a language whose catalogue is there.
func speaking(t *testing.T, language string, command ...string) string {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), command[0], command[1:]...)
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "LANGUAGE="+language)
	said, _ := cmd.CombinedOutput()
	return strings.ReplaceAll(string(said), command[len(command)-1], "/dev/sdb")
}

// languages are those that a catalogue of Debian's is installed for.
func languages(t *testing.T, catalogue string) []string {
	t.Helper()
	found, err := filepath.Glob("/usr/share/locale/*/LC_MESSAGES/" + catalogue + ".mo")
	require.NoError(t, err)
	if len(found) == 0 {
		t.Skip("no catalogue of " + catalogue + " is installed")
	}
	list := []string{"en"}
	for _, f := range found {
		list = append(list, filepath.Base(filepath.Dir(filepath.Dir(f))))
	}
	return list
}

// What parted and fdisk list in any of their languages is the same as in English.
func TestEveryLanguageOfDebiansTools(t *testing.T) {
	reference.Need(t, "sfdisk", "parted", "fdisk")
	styles := map[disk.Style]string{
		disk.StyleGPT: "label: gpt\nstart=2048, size=8192, type=U\nsize=8192, type=L\n",
		disk.StyleMBR: "label: dos\nstart=2048, size=4096, type=83, bootable\nstart=6144, size=20000, type=5\nstart=8192, size=4096, type=83\nstart=16384, size=4096, type=82\n",
	}
	for style, script := range styles {
		path := reference.Image(t, 16<<20)
		reference.Run(t, script, "sfdisk", "-q", path)
		for tool, command := range map[string][]string{"parted": {"parted", "-s", path, "unit", "s", "print"}, "util-linux": {"fdisk", "-l", path}} {
			in := func(language string) *listing.Listing {
				text := speaking(t, language, command...)
				if tool == "parted" {
					text = strings.ReplaceAll(text, path, "/dev/sdb")
				}
				l, err := listing.Read("", []byte(text), "")
				require.NoError(t, err, "%s\n%s", language, text)
				require.Len(t, l.Disks, 1, "%s\n%s", language, text)
				l.Disks[0].Model = ""
				return l
			}
			want := in("en")
			for _, language := range languages(t, tool) {
				got := in(language)
				assert.Equal(t, want.Disks, got.Disks, "%s of %s in %s", style, tool, language)
			}
		}
	}
}

// What they say of a damaged table is known in each of their languages, where they have words
// for it.
func TestWarningsInEveryLanguage(t *testing.T) {
	reference.Need(t, "sfdisk", "parted", "fdisk")
	sound := reference.Image(t, 16<<20)
	reference.Run(t, "label: gpt\nstart=2048, size=8192, type=U\nsize=16384, type=L\n", "sfdisk", "-q", sound)
	raw, err := os.ReadFile(sound)
	require.NoError(t, err)
	for code, spoil := range map[disk.ProblemCode]func([]byte) []byte{
		disk.CodeGPTPrimaryToldDamaged: func(raw []byte) []byte { copy(raw[512+16:], "XXXX"); return raw },
		disk.CodeGPTBackupToldDamaged:  func(raw []byte) []byte { copy(raw[len(raw)-512+16:], "XXXX"); return raw },
		disk.CodeGPTBackupMisplaced:    func(raw []byte) []byte { return append(raw, make([]byte, 16<<20)...) },
	} {
		path := filepath.Join(t.TempDir(), "sdb")
		require.NoError(t, os.WriteFile(path, spoil(append([]byte(nil), raw...)), 0o600))
		for tool, command := range map[string][]string{"parted": {"parted", "-s", path, "print"}, "util-linux": {"fdisk", "-l", path}} {
			for _, language := range languages(t, tool) {
				text := strings.ReplaceAll(speaking(t, language, command...), path, "/dev/sdb")
				l, err := listing.Read("", []byte(text), "")
				require.NoError(t, err, text)
				require.Len(t, l.Disks, 1, text)
				if assert.NotEmpty(t, l.Disks[0].Warned, "%s in %s:\n%s", tool, language, text) {
					assert.Equal(t, code, l.Disks[0].Warned[0].Code, text)
				}
			}
		}
	}
}
