package machine

import (
	"regexp"
	"strings"
)

// plainID is an identifier in small letters without hyphens and colons.
func plainID(s string) string {
	return strings.ToLower(strings.NewReplacer("-", "", ":", "").Replace(s))
}

// SameID reports whether two identifiers of 128 bits are the same, whatever stands between their digits.
func SameID(a, b string) bool { return IsID(a) && plainID(a) == plainID(b) }

// IsID reports whether a text is an identifier of 128 bits, with or without signs between its digits.
func IsID(s string) bool { return plain128.MatchString(plainID(s)) }

var plain128 = regexp.MustCompile(`^[0-9a-f]{32}$`)
