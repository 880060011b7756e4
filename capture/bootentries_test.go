package capture_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
)

// The optional data of an entry, as the listing shows them: with dots, in hexadecimal digits, as
// text. efibootmgr(8), seen in versions 15 to 18.
func TestOptionsOfListedEntries(t *testing.T) {
	const hd = "HD(1,GPT,d15c0000-0000-4000-8000-010000000001,0x800,0x10000)/"
	const line = "root=PARTUUID=ab ro"
	dotted, digits := "", ""
	for _, c := range line {
		dotted += string(c) + "."
		digits += fmt.Sprintf("%02x00", c)
	}
	for _, c := range []struct {
		path, file, options string
		open                bool
	}{
		{`File(\vmlinuz)` + dotted, `\vmlinuz`, line, false},
		{`\vmlinuz` + digits, `\vmlinuz`, line, false},
		{`\EFI\a\kernel.efi` + digits, `\EFI\a\kernel.efi`, line, false},
		{`File(\vmlinuz)` + line, `\vmlinuz`, line, false},
		{`\vmlinuz`, `\vmlinuz`, "", false},
		{`\EFI\debian\shimx64.efi`, `\EFI\debian\shimx64.efi`, "", false},
		{`File(\EFI\Microsoft\Boot\bootmgfw.efi)WINDOWS.........x...B.C.D.O.B.J.E.C.T.`, `\EFI\Microsoft\Boot\bootmgfw.efi`, "", true},
		{`\EFI\Microsoft\Boot\bootmgfw.efi57494e444f5753000100000088000000`, `\EFI\Microsoft\Boot\bootmgfw.efi`, "", true},
	} {
		entries, err := capture.ParseBootEntries("Boot0003* Name\t" + hd + c.path + "\n")
		require.NoError(t, err, c.path)
		e := entries.All[3]
		assert.Equal(t, c.file, e.Path.File, c.path)
		assert.Equal(t, c.options, e.Options, c.path)
		assert.Equal(t, c.open, e.OptionsOpen, c.path)
		assert.False(t, e.Path.Open, c.path)
	}
	entries, err := capture.ParseBootEntries("Boot0003* Name\t" + hd + `\a folder\kernel` + "\n")
	require.NoError(t, err)
	assert.True(t, entries.All[3].Path.Open, "where the path ends is not told")
}
