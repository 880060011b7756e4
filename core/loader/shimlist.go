package loader

import (
	"bytes"
	"encoding/binary"
	"strings"
	"unicode/utf16"
)

// ShimListName is how the list that the shim's fallback reads is called in a loader's
// folder, by the suffix of its architecture ("x64.efi"): BOOTX64.CSV.
func ShimListName(suffix string) string {
	return "BOOT" + strings.ToUpper(strings.TrimSuffix(suffix, ".efi")) + ".CSV"
}

// ShimListOfAny is how the list is called that is for every architecture; the fallback reads
// it where the one of its own is not there.
const ShimListOfAny = "boot.csv"

// ParseShimList reads the names of the loaders in a list of the shim's fallback: lines of
// UTF-16 with the name, a label, arguments and a comment between commas. The shim project's
// README.fallback.
func ParseShimList(raw []byte) []string {
	text := string(raw)
	if len(raw) >= 2 && raw[0] == 0xFF && raw[1] == 0xFE || bytes.IndexByte(raw, 0) == 1 {
		units := make([]uint16, len(raw)/2)
		for i := range units {
			units[i] = binary.LittleEndian.Uint16(raw[2*i:])
		}
		text = strings.TrimPrefix(string(utf16.Decode(units)), "\uFEFF")
	}
	var names []string
	for line := range strings.Lines(text) {
		name, _, _ := strings.Cut(strings.TrimRight(line, "\r\n\x00"), ",")
		if name = strings.TrimSpace(name); name != "" && len(names) < maxShimLoaders {
			names = append(names, name)
		}
	}
	return names
}

const maxShimLoaders = 16
