package main

import (
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
)

// findstr looks for lines that match a pattern: findstr [/i] /r /c:PATTERN FILE. Of
// its patterns it knows a point, a star, ^, $ and \ before a sign; all others mean
// themselves.
func findstr(args []string) error {
	flags, pattern, file := "", "", ""
	for _, a := range args {
		switch lower := strings.ToLower(a); {
		case lower == "/i":
			flags = "(?i)"
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
	re, err := regexp.Compile(flags + expression(pattern))
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

func expression(pattern string) string {
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
