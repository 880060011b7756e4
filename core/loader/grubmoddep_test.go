package loader_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/loader"
	"latchkey/internal/reference"
)

// The list as GRUB's own package has it.
func TestWhatGRUBsModulesNeed(t *testing.T) {
	const file = "/usr/lib/grub/x86_64-efi/moddep.lst"
	reference.NeedFile(t, file)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	deps := loader.ParseModuleDependencies(raw)
	assert.Greater(t, len(deps), 100)
	normal := deps.Needed("normal", nil)
	assert.Equal(t, "normal", normal[0])
	assert.Subset(t, normal, []string{"gettext", "terminal", "crypto", "boot"})
	for _, name := range deps.Needed("linux", normal) {
		assert.NotContains(t, normal, name, "what is built in is not needed once more")
	}
	assert.Empty(t, deps.Needed("normal", []string{"normal"}))
	assert.Equal(t, []string{"of nobody"}, deps.Needed("of nobody", nil))
	circle := loader.ParseModuleDependencies([]byte("a: b\nb: a c\n: x\nno line\nc:"))
	assert.Len(t, circle, 3)
	assert.Equal(t, []string{"a", "b", "c"}, circle.Needed("a", nil))
}

func FuzzModuleDependencies(f *testing.F) {
	f.Add([]byte("normal: extcmd\nextcmd:\n"), "normal")
	f.Fuzz(func(t *testing.T, raw []byte, module string) {
		deps := loader.ParseModuleDependencies(raw)
		assert.LessOrEqual(t, len(deps), 2000)
		assert.Equal(t, module, deps.Needed(module, nil)[0])
	})
}
