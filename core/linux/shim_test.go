package linux_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
	"latchkey/internal/sample"
)

// The shim's fallback goes by the lists in the loaders' folders, and restarts the machine
// where there is none, though a GRUB lies beside it: as Debian 12's shim was seen to do in
// OVMF. The list is Debian's own.
func TestTheShimsFallback(t *testing.T) {
	list := reference.NeedFile(t, "/usr/lib/shim/BOOTX64.CSV")
	require.Equal(t, []string{"shimx64.efi"}, loader.ParseShimList(list))
	shim, fallback := diskmaker.Program{Is: "shim"}.Bytes(), diskmaker.Program{}.Bytes()
	for name, c := range map[string]struct {
		change  func(files map[string][]byte)
		verdict startup.Verdict
		rule    course.Rule
	}{
		"a list that names the shim":    {func(map[string][]byte) {}, startup.Starts, ""},
		"a list for every architecture": {func(f map[string][]byte) { f[`\EFI\debian\boot.csv`] = list; delete(f, `\EFI\debian\BOOTX64.CSV`) }, startup.Starts, ""},
		"the list of its architecture comes first": {func(f map[string][]byte) {
			f[`\EFI\debian\boot.csv`] = list
			f[`\EFI\debian\BOOTX64.CSV`] = []byte("gone.efi,x,,\n")
		}, startup.Stops, "shim-fallback-missing"},
		"no list":                             {func(f map[string][]byte) { delete(f, `\EFI\debian\BOOTX64.CSV`) }, startup.Stops, "shim-fallback-none"},
		"a list that names what is not there": {func(f map[string][]byte) { delete(f, `\EFI\debian\shimx64.efi`) }, startup.Stops, "shim-fallback-missing"},
		"an empty list":                       {func(f map[string][]byte) { f[`\EFI\debian\BOOTX64.CSV`] = []byte{0xFF, 0xFE} }, startup.Depends, ""},
		"a list that names another program": {func(f map[string][]byte) {
			f[`\EFI\debian\BOOTX64.CSV`] = []byte("other.efi,x,,\n")
			f[`\EFI\debian\other.efi`] = fallback
		}, startup.Depends, ""},
		"no fallback, and a GRUB beside it": {func(f map[string][]byte) {
			delete(f, `\EFI\BOOT\fbx64.efi`)
			f[`\EFI\BOOT\grubx64.efi`] = f[`\EFI\debian\grubx64.efi`]
		}, startup.Starts, ""},
		"no fallback, and no GRUB beside it":   {func(f map[string][]byte) { delete(f, `\EFI\BOOT\fbx64.efi`) }, startup.Stops, "shim-next-absent"},
		"the shim's GRUB is not in its folder": {func(f map[string][]byte) { delete(f, `\EFI\debian\grubx64.efi`) }, startup.Stops, "shim-next-absent"},
	} {
		d := sample.LinuxDisk(1, 1)
		files := d.Partitions[0].Volume.Files
		files[`\EFI\debian\grubx64.efi`] = files[sample.FallbackPath]
		files[sample.FallbackPath], files[`\EFI\debian\shimx64.efi`] = shim, shim
		files[`\EFI\BOOT\fbx64.efi`], files[`\EFI\debian\BOOTX64.CSV`] = fallback, list
		c.change(files)
		trace := startup.Simulate(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild())))
		assert.Equal(t, c.verdict, trace.Verdict, "%s: %s", name, trace.Headline)
		if c.rule != "" {
			rules := ""
			for _, f := range trace.Findings {
				rules += string(f.Rule) + " "
			}
			assert.Contains(t, rules, string(c.rule), name)
		}
	}
}
