package listing

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"latchkey/core/disk"
)

// value is a JSON value with the line that it begins on. A text that breaks off
// gives the values that were whole.
type value struct {
	line   int
	text   string // of a string, number or truth value
	fields map[string]*value
	items  []*value
	lines  map[string]int
}

const maxJSONDepth = 32

// json reads the first JSON value of a listing; lines before and after it are
// those of a terminal.
func (l *Listing) json(t *text) *value {
	first := 0
	for first < len(t.lines) && !strings.HasPrefix(strings.TrimSpace(t.lines[first]), "{") && !strings.HasPrefix(strings.TrimSpace(t.lines[first]), "[") {
		first++
	}
	body := strings.Join(t.lines[first:], "\n")
	p := &jsonReader{dec: json.NewDecoder(strings.NewReader(body)), starts: lineStarts(body), first: first}
	p.dec.UseNumber()
	v, err := p.value(0)
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
	starts []int
	first  int
}

func lineStarts(s string) []int {
	starts := []int{0}
	for i := range len(s) {
		if s[i] == '\n' {
			starts = append(starts, i+1)
		}
	}
	return starts
}

// line is the line of what was read last.
func (p *jsonReader) line() int {
	off := int(p.dec.InputOffset())
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
			if item != nil {
				v.items = append(v.items, item)
			}
			if err != nil {
				return v, err
			}
		}
		_, err = p.dec.Token()
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
	v.fields, v.lines = map[string]*value{}, map[string]int{}
	for p.dec.More() {
		key, err := p.dec.Token()
		if err != nil {
			return err
		}
		name := fmt.Sprint(key)
		line := p.line()
		field, err := p.value(depth + 1)
		if field != nil {
			v.fields[name], v.lines[name] = field, line
		}
		if err != nil {
			return err
		}
	}
	_, err := p.dec.Token()
	return err
}

func (v *value) get(name string) *value {
	if v == nil {
		return nil
	}
	return v.fields[name]
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

func (v *value) truth(name string) bool {
	s := strings.ToLower(v.str(name))
	return s == "true" || s == "1"
}

func (v *value) list(name string) []*value {
	if f := v.get(name); f != nil {
		return f.items
	}
	return nil
}

// lineOf is the line of a field, else that of the whole.
func (v *value) lineOf(name string) int {
	if n := v.lines[name]; n > 0 {
		return n
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
