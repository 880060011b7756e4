package loader

import (
	"cmp"
	"strings"
)

// CompareVersions orders versions as systemd does. The UAPI Group's Version Format
// Specification, "Version Comparison".
func CompareVersions(a, b string) int {
	for {
		a, b = strings.TrimLeftFunc(a, foreign), strings.TrimLeftFunc(b, foreign)
		if c, done := separated(&a, &b, '~'); done {
			return c
		}
		if a == "" || b == "" {
			return cmp.Compare(len(a), len(b))
		}
		for _, separator := range []byte("-^.") {
			if c, done := separated(&a, &b, separator); done {
				return c
			}
		}
		if c := compareLeading(&a, &b); c != 0 {
			return c
		}
	}
}

// separated takes a separator off both; where only one begins with it, that one is the lower.
func separated(a, b *string, separator byte) (c int, done bool) {
	x, y := strings.HasPrefix(*a, string(separator)), strings.HasPrefix(*b, string(separator))
	if x && y {
		*a, *b = (*a)[1:], (*b)[1:]
	}
	switch {
	case x && !y:
		return -1, true
	case y && !x:
		return 1, true
	}
	return 0, false
}

// compareLeading compares the digits or letters that two versions begin with, and takes them
// off: a number is above letters, a longer number above a shorter one.
func compareLeading(a, b *string) int {
	is := isLetter
	digits := startsWith(*a, isDigit) || startsWith(*b, isDigit)
	if digits {
		is = isDigit
	}
	x, y := leading(a, is), leading(b, is)
	if !digits {
		return strings.Compare(x, y)
	}
	if c := cmp.Compare(min(len(x), 1), min(len(y), 1)); c != 0 {
		return c
	}
	x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
	return cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(x, y))
}

func startsWith(s string, is func(rune) bool) bool { return s != "" && is(rune(s[0])) }

func isDigit(r rune) bool  { return r >= '0' && r <= '9' }
func isLetter(r rune) bool { return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' }
func foreign(r rune) bool  { return !isDigit(r) && !isLetter(r) && !strings.ContainsRune("~-^.", r) }

// leading takes off what a text begins with, as long as it is of one kind.
func leading(s *string, is func(rune) bool) (first string) {
	n := 0
	for n < len(*s) && is(rune((*s)[n])) {
		n++
	}
	first, *s = (*s)[:n], (*s)[n:]
	return first
}

// ComparePackages orders versions as rpm does, and GRUB its menu of entries: what is neither
// digit nor letter only separates, but a tilde, which stands before everything, and a caret,
// which stands behind the end and before all else. rpm's rpm-version(7).
func ComparePackages(a, b string) int {
	between := func(r rune) bool { return foreign(r) || r == '-' || r == '.' }
	for {
		a, b = strings.TrimLeftFunc(a, between), strings.TrimLeftFunc(b, between)
		if c, done := separated(&a, &b, '~'); done {
			return c
		}
		x, y := strings.HasPrefix(a, "^"), strings.HasPrefix(b, "^")
		switch {
		case x && y:
			a, b = a[1:], b[1:]
			continue
		case x && b == "", y && a != "":
			return 1
		case y && a == "", x && b != "":
			return -1
		case a == "" || b == "":
			return cmp.Compare(len(a), len(b))
		}
		if c := compareLeading(&a, &b); c != 0 {
			return c
		}
	}
}
