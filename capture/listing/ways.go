package listing

import (
	"html"
	"regexp"
	"strings"
	"unicode/utf8"
)

// A pasted text may have come through a mail, a form, an editor, or a window that was too
// narrow. Each of them changes it in ways of its own; it is read in the ways that its looks
// suggest, and the one of which most is understood is taken.

// way is a text as it may have been before: its lines, and of each the number that its first
// part has in what was pasted, from 1.
type way struct {
	lines  []string
	from   []int
	pieces []int // of how many each was put together; nil for one
}

func asPasted(lines []string) way {
	w := way{lines: lines, from: make([]int, len(lines))}
	for i := range w.from {
		w.from[i] = i + 1
	}
	return w
}

// with is the same way with other words on its lines.
func (w way) with(lines []string) way { return way{lines: lines, from: w.from} }

// ways are those in which the lines stand as they do: with what a place puts before or between
// them taken off, and with what it made of signs put back.
func (w way) ways() []way {
	var all []way
	if single, is := singleSpaced(w); is {
		all = append(all, single)
	}
	all = append(all, w)
	for _, one := range all {
		for _, bare := range unquoted(one.lines)[1:] {
			quoted := one.with(bare)
			if single, is := singleSpaced(quoted); is {
				all = append(all, single)
			}
			all = append(all, quoted)
		}
	}
	for _, one := range all {
		if plain, is := typed(one); is {
			all = append(all, plain)
		}
	}
	return all
}

// signs are what a text processor makes of the signs of a command's output. Common practice.
var (
	signs    = strings.NewReplacer("“", `"`, "”", `"`, "„", `"`, "‟", `"`, "″", `"`, "‘", "'", "’", "'", "‚", "'", "…", "...")
	option   = regexp.MustCompile(`(^|\s)[–—](\p{L})`)
	dash     = regexp.MustCompile(`[–—―−‐‑]`)
	entities = regexp.MustCompile(`&(?:quot|lt|gt|amp|nbsp|apos|#\d{1,5}|#x[0-9A-Fa-f]{1,4});`)
)

// typed puts back what a text processor or a page of the Web made of quotation marks, dashes
// and brackets.
func typed(w way) (way, bool) {
	out, changed := make([]string, len(w.lines)), false
	for i, s := range w.lines {
		was := s
		if entities.MatchString(s) {
			s = blanks.Replace(html.UnescapeString(s))
		}
		s = dash.ReplaceAllString(option.ReplaceAllString(signs.Replace(s), "$1--$2"), "-")
		out[i], changed = s, changed || s != was
	}
	return w.with(out), changed
}

// blanks are signs that look like a blank, or like nothing at all: Unicode 15, general
// categories Zs and Cf.
var blanks = strings.NewReplacer("\u00a0", " ", "\u2007", " ", "\u202f", " ", "\u2002", " ", "\u2003", " ", "\u2009", " ",
	"\u3000", " ", "\u200b", "", "\u2060", "", "\ufeff", "", "\u00ad", "", "\u200e", "", "\u200f", "")

// singleSpaced takes out the empty line that a place put behind every one.
func singleSpaced(w way) (way, bool) {
	if len(w.lines) < 2*fewest {
		return w, false
	}
	for odd := range 2 {
		var out way
		empty := true
		for i, s := range w.lines {
			if i%2 == odd {
				out.lines, out.from = append(out.lines, s), append(out.from, w.from[i])
			} else if strings.TrimSpace(s) != "" {
				empty = false
				break
			}
		}
		if empty {
			return out, true
		}
	}
	return w, false
}

// narrowest is the width below which no window breaks lines.
const narrowest = 40

// joined are the ways in which lines were broken at the edge of a window, within a word or
// between two. A line of which something was made by itself was not broken off another.
func (w way) joined(read *Listing) []way {
	tail := func(i int) bool {
		return !onlyDashes.MatchString(w.lines[i]) && (i == 0 || !onlyDashes.MatchString(w.lines[i-1])) &&
			(read == nil || read.Lines[i].State == Unread || read.Lines[i].State == Passed && read.Lines[i].Means == "")
	}
	long := func(s string) int { return utf8.RuneCountInString(s) }
	widest, breakable := 0, 0
	for _, s := range w.lines {
		n := long(strings.TrimRight(s, " "))
		widest = max(widest, n)
		if strings.ContainsRune(strings.TrimSpace(s), ' ') {
			breakable = max(breakable, n)
		}
	}
	var all []way
	if widest >= narrowest {
		all = append(all, w.join("", func(i int) bool { return tail(i) && long(w.lines[i-1]) == widest }))
	}
	if breakable >= narrowest {
		all = append(all, w.join(" ", func(i int) bool {
			return tail(i) && long(w.lines[i-1])+1+long(firstWord(w.lines[i])) > breakable
		}))
	}
	return all
}

// join joins lines with the one before where they were broken off it.
func (w way) join(by string, broken func(i int) bool) (out way) {
	joined := 0
	for i, s := range w.lines {
		last := len(out.lines) - 1
		beside := last >= 0 && strings.TrimSpace(s) != "" && strings.TrimSpace(w.lines[i-1]) != ""
		if joined++; beside && joined < maxJoined && broken(i) && !isPrompt(s) {
			out.lines[last] += by + s
			out.pieces[last]++
			continue
		}
		out.lines, out.from, joined = append(out.lines, s), append(out.from, w.from[i]), 0
		out.pieces = append(out.pieces, 1)
	}
	return out
}

func firstWord(s string) string {
	word, _, _ := strings.Cut(strings.TrimSpace(s), " ")
	return word
}
