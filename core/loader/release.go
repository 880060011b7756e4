package loader

import (
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
	r := &Release{ID: "linux"}
	for _, l := range lines(raw) {
		key, value, ok := strings.Cut(l.text, "=")
		value = strings.Trim(value, `"'`)
		switch {
		case !ok:
		case key == "ID":
			r.ID = value
		case key == "ID_LIKE":
			r.Like = strings.Fields(value)
		}
	}
	return r
}

// Is reports whether the system is of one of some families.
func (r *Release) Is(families ...string) bool {
	return slices.ContainsFunc(append([]string{r.ID}, r.Like...),
		func(id string) bool { return slices.Contains(families, id) })
}
