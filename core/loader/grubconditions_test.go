package loader_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/loader"
)

// held are files beside a script; what is not listed may be there or not.
func held(files map[string]string) loader.GRUBFiles {
	return func(name string) ([]byte, bool, bool) {
		text, known := files[name]
		return []byte(text), known && text != "-", known
	}
}

// Conditions; GNU GRUB Manual 2.06, "test". Each is true, false or open: of an open one both branches
// may run.
func TestConditionsOfAScript(t *testing.T) {
	files := held(map[string]string{"/there": "x", "/empty": "", "/gone": "-"})
	for condition, want := range map[string]string{
		"[ a = a ]": "yes", "[ a == b ]": "no", "[ a != b ]": "yes", "[ 2 -eq 2 ]": "yes", "[ 2 -ne 2 ]": "no",
		"[ 10 -lt 9 ]": "no", "[ 9 -le 9 ]": "yes", "[ 10 -gt 9 ]": "yes", "[ 8 -ge 9 ]": "no", "[ x -lt 9 ]": "open",
		"[ -n x ]": "yes", "[ -z x ]": "no", `[ -z "" ]`: "yes", "[ -f /there ]": "yes", "[ -f /gone ]": "no", "[ -e /else ]": "open",
		"[ -s /there ]": "yes", "[ -s /empty ]": "no", "[ -d /there ]": "open", "[ x ]": "yes", "! [ a = a ]": "no",
		"[ ! a = b ]": "yes", "[ a = b -o c = c ]": "yes", "[ a = a -a c = d ]": "no", "[ $grub_platform = efi ]": "open",
		"[ 1 -lt $grub_unknown_number ]": "open", "test a = a": "yes", "false": "no", "true": "yes",
	} {
		c := loader.RunGRUBConfig([]byte("if "+condition+"; then set default=yes; else set default=no; fi\n"), "/", files)
		if strings.Contains(c.Default, "\x00") { // stands for what is known at the start alone
			c.Default = "open"
		}
		assert.Equal(t, want, c.Default, condition)
	}
}

// A script that another one is read into, in its place; GNU GRUB Manual 2.06, "source".
func TestAScriptWithinAScript(t *testing.T) {
	files := map[string]string{"/more.cfg": "menuentry 'more' { linux /k root=LABEL=a\n}\n", "/gone.cfg": "-", "/loop.cfg": "source /loop.cfg\n"}
	c := loader.RunGRUBConfig([]byte("source /more.cfg\nsource /gone.cfg\nsource\n"), "/", held(files))
	require.Len(t, c.Entries, 1)
	assert.Equal(t, "more", c.Entries[0].Title)
	assert.False(t, c.Cut)
	c = loader.RunGRUBConfig([]byte("source /else.cfg\n"), "/", held(files))
	assert.True(t, c.Cut, "what it would add is not known")
	assert.Empty(t, c.ConfigFile)
	c = loader.RunGRUBConfig([]byte("source (hd1,gpt2)/else.cfg\n"), "/", held(files))
	assert.Equal(t, "(hd1,gpt2)/else.cfg", c.ConfigFile, "on another volume it may be followed")
	assert.True(t, loader.RunGRUBConfig([]byte("source /loop.cfg\n"), "/", held(files)).Cut, "it never ends")
}

// The length of a script's running is bounded.
func TestAScriptThatNeverEnds(t *testing.T) {
	c := loader.ParseGRUBConfig([]byte("while true; do set a=b; done\nmenuentry 'x' { linux /k\n}\n"))
	assert.Len(t, c.Entries, 1)
	c = loader.ParseGRUBConfig([]byte(strings.Repeat("for a in 1 2 3 4 5 6 7 8 9; do ", 9) + "set b=c; " + strings.Repeat("done; ", 9)))
	assert.True(t, c.Cut)
}

// Where all entries start the same root, which of them is started decides little.
func TestEntriesThatAreAlike(t *testing.T) {
	one, other := "menuentry 'a' { linux /k root=LABEL=a\n}\n", "menuentry 'b' { linux /l root=LABEL=b\n}\n"
	for text, want := range map[string]bool{
		"": false, one: true, one + one: true, one + other: false, one + "submenu 'c' {\n" + one + "}\n": true,
		one + "submenu 'c' {\n" + other + "}\n": false, one + "menuentry 'd' { chainloader /x.efi\n}\n": false,
		"menuentry 'e' { linux /k\n}\n": false,
	} {
		assert.Equal(t, want, loader.ParseGRUBConfig([]byte(text)).Alike(), text)
	}
}

// The loader that starts when nobody chooses, in a store without a boot manager's word.
func TestTheDefaultOfAStore(t *testing.T) {
	s := loader.NewStore(`\Windows\system32\winload.efi`, nil)
	d, ok := s.Default()
	require.True(t, ok)
	assert.True(t, d.IsLoader())
	s.Objects = s.Objects[1:] // without the boot manager
	d, ok = s.Default()
	require.True(t, ok)
	assert.Equal(t, s.Objects[0].ID, d.ID, "the only one")
	s.Objects = append(s.Objects, s.Objects[0])
	_, ok = s.Default()
	assert.False(t, ok, "of two it may be either")
	_, ok = (&loader.Store{}).Default()
	assert.False(t, ok)
}

// What an entry beside a script is filled with: a disk cannot make it longer than a text may be.
func TestALineIsFilledWithVariables(t *testing.T) {
	c := loader.RunGRUBConfig([]byte("set a=x\nset b=$grub_platform\nset long="+strings.Repeat("y", 60_000)+"\nblscfg\n"), "/", nil)
	for line, want := range map[string]string{"$a ${a} ro": "x x ro", "$gone ro": "ro", "$b": "", "$ {a} $1": "$ {a} $1", "$long": strings.Repeat("y", 60_000),
		strings.Repeat("$long ", 1000): ""} {
		filled, known := c.Fill(line)
		assert.Equal(t, want != "", known)
		assert.Less(t, len(filled), 200_000)
		if known {
			assert.Equal(t, want, filled)
		}
	}
}
