// Package command holds commands as words, never as text: a program and its
// arguments, and how they belong together. One renderer for each language quotes
// every word, so that nothing that was read from a disk or typed can become a
// command of its own.
package command

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Word is one word of a command, in parts that stand side by side.
type Word []part

// part is what a word is made of.
type part struct {
	kind partKind
	text string // a value, a variable's name, or a pattern
	node Node   // whose output it is
}

type partKind int

const (
	value    partKind = iota // taken as it is, whatever it holds
	variable                 // of the shell
	output                   // of another command
	fields                   // the same, split into words
	pattern                  // file names that match it
)

// constant is a type that only a constant of the program can be given for: what is
// rendered as it stands never holds a value.
type constant string

// Text is a word that means itself, whatever it holds.
func Text(s string) Word { return Word{{kind: value, text: s}} }

// Name is a variable of a shell. A name never comes from evidence.
type Name string

// Var is the value of a shell's variable.
func Var(name Name) Word { return Word{{kind: variable, text: string(name)}} }

// Output is what a command says, as one word.
func Output(n Node) Word { return Word{{kind: output, node: n}} }

// Fields are the words of what a command says.
func Fields(n Node) Word { return Word{{kind: fields, node: n}} }

// Files are the names that a pattern of the POSIX shell matches.
func Files(p constant) Word { return Word{{kind: pattern, text: string(p)}} }

// Join puts parts side by side in one word. Each is a Word, a string or a number;
// strings mean themselves.
func Join(parts ...any) Word {
	var w Word
	for _, p := range parts {
		w = append(w, word(p)...)
	}
	return w
}

// word makes a word of what a caller gives for one.
func word(v any) Word {
	switch v := v.(type) {
	case Word:
		return v
	case string:
		return Text(v)
	case int:
		return Text(strconv.Itoa(v))
	case int64:
		return Text(strconv.FormatInt(v, 10))
	case uint64:
		return Text(strconv.FormatUint(v, 10))
	}
	panic(fmt.Sprintf("%T is no word of a command", v)) // a mistake of the program
}

func words(list []any) []Word {
	var out []Word
	for _, v := range list {
		out = append(out, word(v))
	}
	return out
}

// Clean makes one line of a text for comments and for what is shown: every run of
// spaces and of signs that cannot be seen is one space.
func Clean(s string) string {
	seen := func(r rune) rune {
		if r == utf8.RuneError || !unicode.IsPrint(r) {
			return ' '
		}
		return r
	}
	return strings.Join(strings.Fields(strings.Map(seen, s)), " ")
}

// Plain reports whether a text is one line that can be seen as it is.
func Plain(s string) bool { return s != "" && Clean(s) == s }
