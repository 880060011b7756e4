package listing

import (
	"regexp"
	"slices"
	"strings"
)

// A text that was taken along only in part ends, or begins, within a line. Where no line end
// stands behind the last one, that may be so: of what it ends with nothing is concluded that
// another end would change.

// endsWithin reports whether the last line may lack its end.
func endsWithin(lines []string) bool {
	last := lines[len(lines)-1]
	return strings.TrimSpace(last) != "" && !isPrompt(last)
}

// lastFigure is a figure at the end of a line: it may have had more digits.
var lastFigure = regexp.MustCompile(`(^|[\s:=,;"])(0x)?[0-9][0-9A-Fa-f.,]*$`)

// wholeType is the type of an MBR's partition, which has no more than two digits.
var wholeType = regexp.MustCompile(`\b(?:type|Id) *= *[0-9A-Fa-f]{2}$`)

// hasEnd reports whether a value ends as those do that are whole: with a brace, with the colon of a
// drive letter, as a program's name.
func hasEnd(value string) bool {
	lower := strings.ToLower(strings.TrimSpace(value))
	return slices.ContainsFunc([]string{"}", ":", ".efi", ".exe"}, func(end string) bool { return strings.HasSuffix(lower, end) })
}

// withoutLastFigure is a text whose last line lacks the figure that it ends with.
func withoutLastFigure(lines []string) []string {
	last := len(lines) - 1
	at := lastFigure.FindStringSubmatchIndex(lines[last])
	if at == nil || wholeType.MatchString(lines[last]) {
		return lines
	}
	lines = slices.Clone(lines)
	lines[last] = lines[last][:at[3]]
	return lines
}
