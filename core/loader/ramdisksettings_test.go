package loader_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/loader"
)

// initramfs.conf(5), "MODULES"; the files are scripts of which the last line counts.
func TestWhichDriversAnInitialRAMDiskGets(t *testing.T) {
	for text, want := range map[string]string{
		"MODULES=most\n": "most", "MODULES=dep": "dep", "MODULES=\"most\"\n": "most", "MODULES='list' # x\n": "list",
		"#MODULES=most\n": "", "": "", "BUSYBOX=auto\n": "", "MODULES=most\nMODULES=dep\n": "dep", "MODULES=dep\n # MODULES=most\n": "dep",
		"export MODULES=most\n": "?", "MODULES=$x\n": "?", "MODULES=`echo dep`\n": "?", "[ -e /x ] && MODULES=dep\n": "?", "MODULES=\n": "?",
		"  MODULES=netboot\n": "netboot",
	} {
		assert.Equal(t, want, loader.ParseRAMDiskSettings([]byte(text)).Modules, text)
	}
	s := loader.ParseRAMDiskSettings([]byte("# x\nMODULES=most\n"))
	assert.Equal(t, loader.RAMDiskSettings{Modules: "most", Offset: 4, Length: 12, Line: 2}, *s)
}
