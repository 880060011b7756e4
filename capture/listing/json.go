package listing

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
)

// value is a JSON value with the line that it begins on. A text that breaks off
// gives the values that were whole.
type value struct {
	line   int
	text   string // of a string, number or truth value
	object bool
	fields []field // in their order
	items  []*value
}

// field is a field of an object: its name, the line it stands on, its value.
type field struct {
	name string
	line int
	*value
}

// Bounds of a JSON text: how deep its values lie within each other, and how many there
// are.
const (
	maxJSONDepth  = 32
	maxJSONValues = 250_000
)

// json reads the first JSON value of a listing; lines before and after it are
// those of a terminal.
func (l *Listing) json(t *text) *value {
	first := 0
	for first < len(t.lines) && !strings.HasPrefix(strings.TrimSpace(t.lines[first]), "{") &&
		!strings.HasPrefix(strings.TrimSpace(t.lines[first]), "[") {
		first++
	}
	p := newJSONReader(t.lines[first:], "\n", first)
	v, err := p.value(0)
	if broken := new(json.SyntaxError); errors.As(err, &broken) {
		// A window broke a text or a figure within it: its lines are one.
		joined := newJSONReader(t.lines[first:], "", first)
		if w, again := joined.value(0); again == nil {
			p, v, err = joined, w, nil
		}
	}
	last := p.line()
	for n := first + 1; n <= len(t.lines); n++ {
		if n <= last {
			l.mark(n, Passed, "")
		}
	}
	if err != nil {
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			err = errors.New("the text breaks off")
		}
		l.Problem = fmt.Sprintf("Line %d: %v. What came before it was read.", last, err)
		l.unread(last, "%v", err)
	}
	if v == nil {
		v = &value{}
	}
	return v
}

type jsonReader struct {
	dec    *json.Decoder
	starts []int32
	first  int
	values int
	names  map[string]string // each name of a field once
}

func newJSONReader(lines []string, between string, first int) *jsonReader {
	starts := make([]int32, 0, len(lines))
	at := 0
	for _, s := range lines {
		starts = append(starts, int32(at))
		at += len(s) + len(between)
	}
	p := &jsonReader{dec: json.NewDecoder(strings.NewReader(strings.Join(lines, between))), starts: starts,
		first: first,
		names: map[string]string{}}
	p.dec.UseNumber()
	return p
}

// line is the line of what was read last.
func (p *jsonReader) line() int {
	off := int32(p.dec.InputOffset())
	lo, hi := 0, len(p.starts)
	for lo+1 < hi {
		if mid := (lo + hi) / 2; p.starts[mid] < off {
			lo = mid
		} else {
			hi = mid
		}
	}
	return p.first + lo + 1
}

func (p *jsonReader) value(depth int) (*value, error) {
	if depth > maxJSONDepth {
		return nil, fmt.Errorf("values lie more than %d deep", maxJSONDepth)
	}
	if p.values++; p.values > maxJSONValues {
		return nil, fmt.Errorf("there are more than %d values", maxJSONValues)
	}
	token, err := p.dec.Token()
	if err != nil {
		return nil, err
	}
	v := &value{line: p.line()}
	switch x := token.(type) {
	case json.Delim:
		if x == '{' {
			return v, p.object(v, depth)
		}
		for p.dec.More() {
			item, err := p.value(depth + 1)
			if item == nil && err != nil {
				v.unended()
			}
			if item != nil {
				v.items = append(v.items, item)
			}
			if err != nil {
				return v, err
			}
		}
		if _, err = p.dec.Token(); err != nil {
			v.unended()
		}
		return v, err
	case string:
		v.text = x
	case json.Number:
		v.text = x.String()
	case bool:
		v.text = strconv.FormatBool(x)
	}
	return v, nil
}

func (p *jsonReader) object(v *value, depth int) error {
	v.object = true
	for p.dec.More() {
		key, err := p.dec.Token()
		if err != nil {
			v.unended()
			return err
		}
		name := fmt.Sprint(key)
		if known, ok := p.names[name]; ok {
			name = known
		} else {
			p.names[name] = name
		}
		line := p.line()
		one, err := p.value(depth + 1)
		if one != nil {
			v.fields = append(v.fields, field{name, line, one})
		}
		if err != nil {
			return err
		}
	}
	_, err := p.dec.Token()
	if err != nil {
		v.unended()
	}
	return err
}

// unended takes out the last value before the place where a text breaks off: a figure may lack
// its end.
func (v *value) unended() {
	if n := len(v.fields); n > 0 && v.fields[n-1].value.scalar() {
		v.fields = v.fields[:n-1]
	}
	if n := len(v.items); n > 0 && v.items[n-1].scalar() {
		v.items = v.items[:n-1]
	}
}

// scalar reports whether the value is neither an object nor a list.
func (v *value) scalar() bool { return !v.object && v.items == nil }

func (v *value) get(name string) *value {
	if v == nil {
		return nil
	}
	for _, f := range slices.Backward(v.fields) { // the last of one name counts
		if f.name == name {
			return f.value
		}
	}
	return nil
}

func (v *value) has(name string) bool { f := v.get(name); return f != nil && f.text != "" }

func (v *value) str(name string) string {
	if f := v.get(name); f != nil {
		return f.text
	}
	return ""
}

// num reads a number, given as one or in quotation marks; 0 when there is none.
func (v *value) num(name string) int64 {
	n, err := strconv.ParseInt(strings.TrimSpace(v.str(name)), 0, 64)
	if err != nil || n < 0 || n > 1<<60 {
		return 0
	}
	return n
}

// count reads a number and whether it is one.
func (v *value) count(name string) (int64, bool) {
	n, err := strconv.ParseInt(strings.TrimSpace(v.str(name)), 10, 64)
	return n, err == nil && n >= 0 && n < 1<<60
}

// truth is what a field tells that is true or false; unknown where it tells neither.
func (v *value) truth(name string) fact.Of[bool] {
	switch s := strings.ToLower(v.str(name)); s {
	case "true", "1":
		return fact.Known(true, fact.Source{})
	case "false", "0":
		return fact.Known(false, fact.Source{})
	}
	return fact.Unknown[bool]()
}

func (v *value) list(name string) []*value {
	if f := v.get(name); f != nil {
		return f.items
	}
	return nil
}

// lineOf is the line of a field, else that of the whole.
func (v *value) lineOf(name string) int {
	for _, f := range v.fields {
		if f.name == name {
			return f.line
		}
	}
	return v.line
}

// size reads a size as a listing prints it; rounded when it has a unit.
func size(s string) (bytes int64, rounded bool) {
	n, rounded, err := disk.ParseSize(s, disk.BinaryUnits)
	if err != nil {
		return 0, false
	}
	return n, rounded
}
