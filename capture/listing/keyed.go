package listing

import (
	"regexp"
	"strings"

	"latchkey/capture"
)

var keyed = regexp.MustCompile(`^\s*([A-Za-z][\w ()/.-]*?)\s*(?:[:=]|=(\S.*?)|[:=]\s+(.*?))\s*$`)

// keyValue parts a line of a name and its value: "Size : 5", "Size: 5", "Size=5".
func keyValue(s string) (name, val string, is bool) {
	m := keyed.FindStringSubmatch(s)
	if m == nil {
		return "", "", false
	}
	return m[1], m[2] + m[3], true
}

// keyedList reads records that are printed as names and values, a line each, with an empty
// line or a name that comes again between them.
func (t *text) keyedList(l *Listing, names vocabulary) []*value {
	var out []*value
	var v *value
	cut := t.cutValues()
	for i, s := range t.lines {
		if strings.TrimSpace(s) == "" {
			v = nil
			continue
		}
		name, val, is := keyValue(s)
		if !is {
			continue
		}
		if t.brokenOff(i) && !hasEnd(val) {
			l.unread(i+1, "what the text ends with may lack its end")
			continue
		}
		if cut(s) && onlyDigits.MatchString(val) {
			l.unread(i+1, "the number may be cut off at its end")
			continue
		}
		if called, known := names.called[strings.ToLower(name)]; known {
			name = called
		}
		if v == nil || v.get(name) != nil {
			if len(out) == maxRecords {
				return out
			}
			v = &value{line: i + 1, object: true}
			out = append(out, v)
		}
		l.mark(i+1, Passed, "")
		if val != "" || name == emptyTells {
			v.fields = append(v.fields, field{name, i + 1, &value{line: i + 1, text: val}})
		}
	}
	return out
}

// cutValues returns a test for lines of names and values that a window cut off: several of
// different names end at the same place, and none goes beyond it.
func (t *text) cutValues() func(string) bool {
	widest, at := capture.Widest(t.lines), map[string]bool{}
	for _, s := range t.lines {
		if name, _, is := keyValue(s); is && widest(s) {
			at[name] = true
		}
	}
	return func(s string) bool { return len(at) >= fewest && widest(s) }
}
