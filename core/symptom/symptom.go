// Package symptom knows what machines say when they do not start, what that can
// mean, and how it stands to what was computed.
package symptom

import (
	"math"
	"sort"
	"strings"
	"unicode"
)

// Match is a message that fits what a person typed.
type Match struct {
	Message
	Score float64 `json:"score"` // 1 for all words typed, less for fewer
}

// Find returns the messages that carry the words a person would type, the best
// first.
func Find(typed string) []Match {
	words := tokens(typed)
	matches := []Match{}
	if len(words) == 0 {
		for _, m := range Messages {
			matches = append(matches, Match{m, 0})
		}
		return matches
	}
	var whole float64
	for _, w := range words {
		whole += weight(w)
	}
	for i, m := range Messages {
		var score float64
		for _, w := range words {
			if carries(index[i], w) {
				score += weight(w)
			}
		}
		if score/whole >= 0.34 {
			matches = append(matches, Match{m, score / whole})
		}
	}
	sort.SliceStable(matches, func(i, j int) bool {
		if a, b := matches[i], matches[j]; a.Score != b.Score {
			return a.Score > b.Score
		}
		return shares(matches[i].Shown, words) > shares(matches[j].Shown, words)
	})
	return matches
}

// index holds the words of each message.
var index = make([]map[string]bool, len(Messages))

func init() {
	for i, m := range Messages {
		index[i] = map[string]bool{}
		for _, w := range tokens(strings.Join(append([]string{m.Shown, m.From}, m.Also...), " ")) {
			index[i][w] = true
		}
	}
}

// tokens splits a text into lower-case words; codes lose their 0x and leading
// zeros, and words that say nothing are left out.
func tokens(text string) []string {
	fields := strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
		return !unicode.IsLetter(r) &&
			!unicode.IsDigit(r) && r != '>'
	})
	var words []string
	for _, f := range fields {
		if code := strings.TrimPrefix(f, "0x"); code != f {
			f = strings.TrimLeft(code, "0")
		}
		if f != "" && !idle[f] {
			words = append(words, f)
		}
	}
	return words
}

var idle = map[string]bool{"the": true, "a": true, "an": true, "is": true, "it": true, "to": true, "and": true, "of": true, "or": true,
	"on": true, "in": true, "your": true, "says": true, "screen": true, "not": true, "with": true, "that": true}

// carries reports whether a message has a word, or one that begins with it.
func carries(words map[string]bool, w string) bool {
	if words[w] {
		return true
	}
	if len(w) < 4 {
		return false
	}
	for have := range words {
		if strings.HasPrefix(have, w) {
			return true
		}
	}
	return false
}

// shares counts the words that a message's principal wording has: among equals
// it goes before other wordings.
func shares(shown string, words []string) int {
	has := map[string]bool{}
	for _, w := range tokens(shown) {
		has[w] = true
	}
	n := 0
	for _, w := range words {
		if carries(has, w) {
			n++
		}
	}
	return n
}

// weight is larger for words that few messages have.
func weight(w string) float64 {
	n := 0
	for i := range index {
		if carries(index[i], w) {
			n++
		}
	}
	return math.Log(1 + float64(len(Messages))/float64(n+1))
}
