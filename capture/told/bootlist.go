package told

import (
	"slices"
	"strings"
)

// BootListLine is a line of a firmware's boot list, as a person reads it.
type BootListLine struct {
	Text string `json:"text"`
	// Role is the drive that it speaks of, "" where nothing tells.
	Role string `json:"role,omitempty"`
	// Entry is set for a line that a boot entry makes, and not the drive as such.
	Entry bool `json:"entry"`
}

// words by which people name the two disks.
var roleWords = map[string][]string{
	"clone":    {"clone", "new", "copy", "neu", "neue", "klon", "kopie", "nouveau", "copie", "nuevo", "copia", "nuovo"},
	"original": {"original", "old", "alt", "alte", "ancien", "viejo", "vecchio"},
}

// entryWords are in the lines that boot entries make: names that installers write. Common
// practice, no source.
var entryWords = []string{"windows boot manager", "uefi os", "ubuntu", "debian", "fedora", "opensuse", "linux", "shim", "grub", "boot manager"}

// maxBootListLine bounds a line, in bytes.
const maxBootListLine = 200

// BootList reads a boot list in its order. A line names a drive by its model, or by the
// words that people have for the old one and the new one.
func BootList(lines []string, models map[string]string) []BootListLine {
	var out []BootListLine
	for _, raw := range lines {
		text := strings.TrimSpace(raw)
		text = text[:min(len(text), maxBootListLine)]
		if text == "" {
			continue
		}
		lower := strings.ToLower(text)
		line := BootListLine{Text: text,
			Entry: slices.ContainsFunc(entryWords, func(w string) bool { return strings.Contains(lower, w) })}
		words := strings.FieldsFunc(lower, func(r rune) bool { return strings.ContainsRune(" ,;:.()[]/-", r) })
		for _, role := range []string{"original", "clone"} {
			named := models[role] != "" && strings.Contains(lower, strings.ToLower(models[role]))
			if named || slices.ContainsFunc(words, func(w string) bool { return slices.Contains(roleWords[role], w) }) {
				if line.Role != "" {
					line.Role = "" // it fits both
					break
				}
				line.Role = role
			}
		}
		out = append(out, line)
	}
	return out
}
