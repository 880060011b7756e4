package loader

import (
	"cmp"
	"slices"
	"strings"
)

// Release is what a Linux says of itself: os-release(5).
type Release struct {
	ID   string
	Like []string // the families that it belongs to, the nearest first
}

// ParseRelease reads /etc/os-release.
func ParseRelease(raw []byte) *Release {
	said := releaseOf(raw)
	return &Release{ID: cmp.Or(said["ID"], "linux"), Like: strings.Fields(said["ID_LIKE"])}
}

// releaseOf reads what a file of this form says, by its keys.
func releaseOf(raw []byte) map[string]string {
	said := map[string]string{}
	for _, l := range lines(raw) {
		if key, value, ok := strings.Cut(l.text, "="); ok && !strings.HasPrefix(key, "#") {
			said[key] = strings.Trim(value, `"'`)
		}
	}
	return said
}

// Is reports whether the system is of one of some families.
func (r *Release) Is(families ...string) bool {
	return slices.ContainsFunc(append([]string{r.ID}, r.Like...),
		func(id string) bool { return slices.Contains(families, id) })
}
