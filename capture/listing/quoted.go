package listing

import (
	"regexp"
	"strconv"
	"strings"
)

// What people paste was often quoted before: in a mail, in a forum, from an editor. What such
// a place puts around the lines is taken off; the lines keep their numbers.

var (
	// fence are lines that stand around what is quoted as it is: those of CommonMark 0.31,
	// section 4.5, and of forums' marks. Common practice.
	fence    = regexp.MustCompile("(?i)^\\s*(?:`{3,}[\\w+-]*|~{3,}[\\w+-]*|\\[/?(?:code|quote|pre)(?:=[^\\]]*)?\\]|</?(?:pre|code)(?: [^>]*)?>|\\{code(?::\\w+)?\\})\\s*$")
	quote    = regexp.MustCompile(`^\s*(?:[>|│┃] ?)+`)
	numbered = regexp.MustCompile(`^\s*(\d{1,6})(?:[:.)|│]\s?|\t| {1,2})`)
)

// withoutFences empties the lines that only stand around others.
func withoutFences(lines []string) []string {
	for i, s := range lines {
		if fence.MatchString(s) {
			lines[i] = ""
		}
	}
	return lines
}

// unquoted are the ways in which lines can be read whose beginnings are somebody else's: as
// they are, and without what all of them begin with.
func unquoted(lines []string) (ways [][]string) {
	ways = append(ways, lines)
	all := []func([]string) ([]string, bool){without(quote), withoutNumbers, without(stamped), withoutIndent}
	for _, off := range all {
		if stripped, ok := off(lines); ok {
			ways = append(ways, stripped)
		}
	}
	return ways
}

// fewest is how many lines a quotation has at least: below that a sign may be the text's own.
const fewest = 3

// stamped is what a recorder of a terminal or a log puts before its lines: the time, and who
// said it.
var stamped = regexp.MustCompile(`^\s*(?:\[\s*\d+\.\d{3,9}\]|[\[(]?(?:\d{4}-\d\d-\d\d[T _])?\d\d:\d\d:\d\d(?:[.,]\d{1,9})?(?:Z|[+-]\d\d:?\d\d)?[\])]?)[:|]? ?`)

// without takes off what most lines begin with.
func without(beginning *regexp.Regexp) func(lines []string) ([]string, bool) {
	return func(lines []string) ([]string, bool) {
		with, all := 0, 0
		out := make([]string, len(lines))
		for i, s := range lines {
			out[i] = s
			if strings.TrimSpace(s) == "" {
				continue
			}
			all++
			if m := beginning.FindString(s); m != "" {
				with++
				out[i] = s[len(m):]
			}
		}
		return out, with >= fewest && with*2 > all
	}
}

// withoutNumbers takes off the numbers of lines, where every line has the next one.
func withoutNumbers(lines []string) ([]string, bool) {
	next, all := -1, 0
	out := make([]string, len(lines))
	for i, s := range lines {
		if strings.TrimSpace(s) == "" {
			continue
		}
		m := numbered.FindStringSubmatch(s + " ")
		if m == nil {
			return nil, false
		}
		n, _ := strconv.Atoi(m[1])
		if next >= 0 && n < next { // an empty line may have had a number, too
			return nil, false
		}
		next, all = n+1, all+1
		out[i] = s[min(len(m[0]), len(s)):]
	}
	return out, all >= 2
}

// withoutIndent takes off the blanks that every line begins with, as where it was quoted by
// moving it in. CommonMark 0.31, section 4.4.
func withoutIndent(lines []string) ([]string, bool) {
	common, all := -1, 0
	for _, s := range lines {
		if strings.TrimSpace(s) == "" {
			continue
		}
		all++
		if n := len(s) - len(strings.TrimLeft(s, " \t")); common < 0 || n < common {
			common = n
		}
	}
	if common <= 0 {
		return nil, false
	}
	out := make([]string, len(lines))
	for i, s := range lines {
		out[i] = s[min(common, len(s)):]
	}
	return out, all > 0
}
