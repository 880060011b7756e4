package loader_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/loader"
)

func TestListsOfTheShimsFallback(t *testing.T) {
	for text, want := range map[string][]string{
		"":         nil,
		"\xFF\xFE": nil,
		"\xFF\xFEa\x00,\x00x\x00\r\x00\n\x00b\x00": {"a", "b"},
		"shimx64.efi,fedora,,comment\n":            {"shimx64.efi"},
		"\xFF\xFEa\x00,\x00\n":                     {"a"},
		" one.efi ,x\n\n,y\n":                      {"one.efi"},
	} {
		assert.Equal(t, want, loader.ParseShimList([]byte(text)), "%q", text)
	}
	assert.Equal(t, "BOOTAA64.CSV", loader.ShimListName("aa64.efi"))
}

func FuzzShimList(f *testing.F) {
	f.Add([]byte("\xFF\xFEa\x00,\x00"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if len(loader.ParseShimList(raw)) > 16 {
			t.Fatal("more loaders than are taken")
		}
	})
}
