package listing

import (
	"encoding/csv"
	"regexp"
	"slices"
	"strings"
)

// Commands print records as a table, as a list of names and values, as comma-separated
// values, or as JSON. All become objects with the names that JSON has.

// maxRecords bounds the records of a text: more than any machine has partitions.
const maxRecords = 20_000

// head is a column of a table: its name, and where its head stands, in characters.
type head struct {
	name     string
	from, to int
}

// vocabulary is how names are printed, and what they are called in JSON.
type vocabulary struct {
	called map[string]string   // by the printed name in small letters
	first  map[string][]string // printed names by their first word
}

func newVocabulary(names map[string]string) vocabulary {
	v := vocabulary{map[string]string{}, map[string][]string{}}
	for printed, called := range names {
		lower := strings.ToLower(printed)
		v.called[lower] = called
		first, _, _ := strings.Cut(lower, " ")
		v.first[first] = append(v.first[first], lower)
	}
	return v
}

// heads finds the columns of a table in the line of their heads, which holds nothing
// else.
func (v vocabulary) heads(s string) []head {
	if len(s) > maxHead {
		return nil
	}
	all := words(strings.ToLower(s))
	var list []head
	for i := 0; i < len(all); {
		name, used := v.longest(all[i:])
		if used == 0 {
			return nil
		}
		list = append(list, head{name, all[i].from, all[i+used-1].to})
		i += used
	}
	return list
}

// maxHead bounds the line of a table's heads, in bytes.
const maxHead = 4096

// longest finds the longest of the names that the next words are, with single blanks
// between them.
func (v vocabulary) longest(next []word) (name string, used int) {
	for _, printed := range v.first[next[0].text] {
		parts := strings.Fields(printed)
		if len(parts) <= used || len(parts) > len(next) {
			continue
		}
		same := true
		for i, p := range parts {
			same = same && next[i].text == p && (i == 0 || next[i].from == next[i-1].to+1)
		}
		if same {
			name, used = v.called[printed], len(parts)
		}
	}
	return name, used
}

// row cuts a row of a table into its cells by the position of the heads: a word belongs to
// the column whose head stands over it; one that stands between two heads goes on from
// the word before it, where a single blank parts them, else begins the next column. Where single
// blanks part the heads, as in a text that was pasted without its columns, words are counted, as
// far as the columns are of those that are never empty: what follows may be of any.
func row(s string, heads []head, never ...string) []string {
	cells := make([]string, len(heads))
	if len(never) > 0 && collapsed(heads) {
		for i, w := range strings.Fields(s) {
			if i == len(heads) || !slices.Contains(never, heads[i].name) {
				break
			}
			cells[i] = w
		}
		return cells
	}
	last, lastEnd := -1, -1
	for _, w := range words(s) {
		column := over(w, heads)
		switch between := column < 0; {
		case between && last >= 0 && w.from == lastEnd+1:
			column = last
		case between && heads[len(heads)-1].to <= w.from:
			return cells // of a column whose head is not there
		case between:
			column = slices.IndexFunc(heads, func(h head) bool { return h.from >= w.to })
			if column < 0 {
				column = len(heads) - 1
			}
		case column < last:
			column = last
		}
		if cells[column] != "" {
			cells[column] += " "
		}
		cells[column] += w.text
		last, lastEnd = column, w.to
	}
	return cells
}

// over finds the head that a word stands under, the one that covers most of it.
func over(w word, heads []head) int {
	best, most := -1, 0
	for i, h := range heads {
		if n := min(w.to, h.to) - max(w.from, h.from); n > most {
			best, most = i, n
		}
	}
	return best
}

// headsMark is what is told of the heads of a table of which rows are read with what is never empty.
func headsMark(heads []head) string {
	if collapsed(heads) {
		return "heads of a table without its columns: what a row may leave empty is not read"
	}
	return "heads of a table"
}

// collapsed reports whether single blanks part the heads of a table.
func collapsed(heads []head) bool {
	for i := 1; i < len(heads); i++ {
		if heads[i].from != heads[i-1].to+1 {
			return false
		}
	}
	return true
}

// kindOf tells what an object is by the properties it has; "" for none that is known.
type kindOf func(has func(name string) bool) string

// headsOf recognises the heads of a table of objects, of at least so many columns.
func (v vocabulary) headsOf(s string, least int, kind kindOf) bool {
	heads := v.heads(s)
	return len(heads) >= least && kind(func(name string) bool {
		return slices.ContainsFunc(heads, func(h head) bool { return h.name == name })
	}) != ""
}

// listOf recognises a list of names and values of objects.
func (v vocabulary) listOf(t *text, kind kindOf) bool {
	have := map[string]bool{}
	for _, s := range t.lines {
		if name, _, is := keyValue(s); is {
			if called, known := v.called[strings.ToLower(name)]; known {
				have[called] = true
			}
		}
	}
	return len(have) >= 3 && kind(func(name string) bool { return have[name] }) != ""
}

// separatedOf recognises comma-separated values of objects by their first lines.
func separatedOf(t *text, kind kindOf) bool {
	for _, s := range t.head(3) {
		have := map[string]bool{}
		for _, n := range strings.FieldsFunc(s, func(r rune) bool { return r == ',' || r == ';' }) {
			have[strings.Trim(n, "\" \uFEFF")] = true
		}
		if len(have) >= 3 && kind(func(name string) bool { return have[name] }) != "" {
			return true
		}
	}
	return false
}

type word struct {
	text     string
	from, to int
}

func words(s string) []word {
	var list []word
	from := -1
	runes := []rune(s)
	for i := 0; i <= len(runes); i++ {
		blank := i == len(runes) || runes[i] == ' ' || runes[i] == '\t' || runes[i] == '\r'
		switch {
		case !blank && from < 0:
			from = i
		case blank && from >= 0:
			list = append(list, word{string(runes[from:i]), from, i})
			from = -1
		}
	}
	return list
}

// emptyTells is the property whose emptiness says something: the partition has no letter.
const emptyTells = "DriveLetter"

// object makes an object of names and texts. A text that a column cut off is left out.
func object(line int, names, texts []string) *value {
	v := &value{line: line, object: true}
	for i, name := range names {
		if i >= len(texts) || texts[i] == "" && name != emptyTells || strings.HasSuffix(texts[i], "...") ||
			strings.HasSuffix(texts[i], "…") {
			continue
		}
		v.fields = append(v.fields, field{name, line, &value{line: line, text: texts[i]}})
	}
	return v
}

var onlyDashes = regexp.MustCompile(`^[\s-]*-[\s-]*$`)

// tables reads the tables of a text whose heads are among the names. A row ends a table
// where no head is over anything of it.
func (t *text) tables(l *Listing, names vocabulary, least int) []*value {
	var out []*value
	var at []head
	var rows body
	began := 0
	for i, s := range t.lines {
		switch found := names.heads(s); {
		case len(found) >= least:
			if at, began = found, i; i >= rows.end { // each row is looked through once
				rows = t.below(i)
			}
			l.mark(i+1, Passed, "heads of a table")
		case at != nil && i == began+1 && i+1 < len(t.lines) && onlyDashes.MatchString(t.lines[i+1]) &&
			strings.TrimSpace(s) != "" &&
			!onlyDashes.MatchString(s):
			l.mark(i+1, Passed, "heads of a table, their second line")
		case strings.TrimSpace(s) == "" || onlyDashes.MatchString(s):
			if len(out) > 0 && out[len(out)-1].line == i && strings.TrimSpace(s) == "" {
				at = nil
			}
			l.mark(i+1, Passed, "")
		case at != nil && began == 0 && rows.cells > len(at):
			l.unread(i+1, "the heads above it lack their beginning: what stands in which column cannot be told")
		case at != nil && len(out) < maxRecords:
			cells := row(s, at)
			if collapsed(at) && (!onlyDashes.MatchString(t.lines[began+1]) || rows.cells < 2) {
				if cells = strings.Fields(s); rows.words != len(at) {
					l.unread(i+1, "the blanks between the columns are gone: which word stands in which column cannot be told")
					continue
				}
			}
			called := make([]string, len(at))
			for j, h := range at {
				if called[j] = h.name; t.brokenOff(i) && cells[j] == "" {
					called[j] = "" // it may come behind the end of the text
				}
			}
			out = append(out, object(i+1, called, cells))
		}
	}
	return out
}

// body is what the rows below the heads of a table, up to an empty line, have in common.
type body struct {
	end   int // the line behind them
	cells int // most of one row, as two blanks and more part them: of several, they are in columns
	words int // of each row; 0 where they differ, or a unit is among them, which goes with the word before it
}

func (t *text) below(heads int) body {
	b := body{end: heads + 1}
	rows := 0
	for ; b.end < len(t.lines); b.end++ {
		s := strings.TrimSpace(t.lines[b.end])
		if s == "" {
			break
		}
		if onlyDashes.MatchString(s) {
			continue
		}
		b.cells = max(b.cells, len(betweenCells.FindAllString(s, -1))+1)
		words := strings.Fields(s)
		if rows++; rows == 1 {
			b.words = len(words)
		}
		if len(words) != b.words || slices.ContainsFunc(words, unit.MatchString) {
			b.words = 0
		}
	}
	return b
}

var betweenCells = regexp.MustCompile(`\s{2,}`)

var unit = regexp.MustCompile(`^(B|[KMGT]i?B|[Bb]ytes)$`)

// headsAgain reports whether a record begins another list: its line follows an empty one,
// and all its texts are names.
func headsAgain(lines []string, line int, record []string) bool {
	return line >= 2 && strings.TrimSpace(lines[line-2]) == "" && !slices.ContainsFunc(record, func(s string) bool {
		return !onlyLetters.MatchString(s)
	})
}

var onlyLetters = regexp.MustCompile(`^[A-Za-z_]+$`)

// separated reads comma-separated values (RFC 4180), or such as a semicolon separates,
// whose first line holds the names.
func (t *text) separated(l *Listing) []*value {
	first := slices.IndexFunc(t.lines, func(s string) bool {
		return strings.Count(s, `"`) >= 2 ||
			strings.Count(s, ",") >= 2
	})
	if first < 0 {
		return nil
	}
	r := csv.NewReader(strings.NewReader(strings.Join(t.lines[first:], "\n")))
	r.FieldsPerRecord, r.LazyQuotes, r.TrimLeadingSpace = -1, true, true
	if strings.Count(t.lines[first], ";") > strings.Count(t.lines[first], ",") {
		r.Comma = ';'
	}
	var names []string
	var out []*value
	for {
		record, err := r.Read()
		if err != nil || len(out) == maxRecords {
			return out
		}
		line, _ := r.FieldPos(0)
		line += first
		l.mark(line, Passed, "")
		if names == nil || headsAgain(t.lines, line, record) {
			names = record
			continue
		}
		if len(record) != len(names) {
			l.unread(line, "expected as many values as names")
			continue
		}
		out = append(out, object(line, names, record))
	}
}
