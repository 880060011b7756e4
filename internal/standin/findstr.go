package main

import (
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
)

// findstr looks for lines that match a pattern: findstr [/i] [/x] [/r | /l] /c:PATTERN FILE.
// Of its patterns it knows a point, a star, ^, $ and \ before a sign; all others mean
// themselves, and with /l every sign does. With /x the whole line must match.
func findstr(args []string) error {
	flags, pattern, file := "", "", ""
	whole, literal := false, false
	for _, a := range args {
		switch lower := strings.ToLower(a); {
		case lower == "/i":
			flags = "(?i)"
		case lower == "/x":
			whole = true
		case lower == "/l":
			literal = true
		case lower == "/r":
		case strings.HasPrefix(lower, "/c:"):
			pattern = a[3:]
		default:
			file = a
		}
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if pattern = expression(pattern, literal); whole {
		pattern = "^(?:" + pattern + ")$"
	}
	re, err := regexp.Compile(flags + pattern)
	if err != nil {
		return err
	}
	found := false
	for line := range strings.Lines(string(raw)) {
		if line = strings.TrimRight(line, "\r\n"); re.MatchString(line) {
			found = true
			fmt.Println(line)
		}
	}
	if !found {
		return errors.New("")
	}
	return nil
}

func expression(pattern string, literal bool) string {
	if literal {
		return regexp.QuoteMeta(pattern)
	}
	var b strings.Builder
	for i := 0; i < len(pattern); i++ {
		switch c := pattern[i]; {
		case c == '\\' && i+1 < len(pattern):
			i++
			b.WriteString(regexp.QuoteMeta(pattern[i : i+1]))
		case strings.ContainsRune(".*^$", rune(c)):
			b.WriteByte(c)
		default:
			b.WriteString(regexp.QuoteMeta(string(c)))
		}
	}
	return b.String()
}
