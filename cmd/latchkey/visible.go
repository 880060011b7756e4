package main

import (
	"strings"
	"unicode"
)

// visible is a text for a terminal: signs that would act there, as names on a disk
// can hold them, are question marks. Lines stay lines.
func visible(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || unicode.IsPrint(r) {
			return r
		}
		return '?'
	}, s)
}
