package command

import (
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// POSIX renders a command for the POSIX shell. IEEE Std 1003.1-2017, Shell Command
// Language, sections 2.2 (Quoting) and 2.9 (Shell Commands).
func POSIX(n Node) (string, error) {
	var b shell
	n.posix(&b)
	return b.String(), b.err
}

// Unfit is a value that a language cannot carry as a word.
type Unfit struct{ Value string }

func (e *Unfit) Error() string {
	return fmt.Sprintf("%q cannot be written as a word of a command", e.Value)
}

// shell is a line of the POSIX shell in the making.
type shell struct {
	strings.Builder
	err error
}

func (f fixed) posix(b *shell) { b.WriteString(string(f)) }

func (a assignment) posix(b *shell) {
	b.WriteString(a.name + "=")
	b.word(a.word)
}

func (s Simple) posix(b *shell) {
	for _, e := range s.env {
		assignment(e).posix(b)
		b.WriteByte(' ')
	}
	for i, w := range s.words {
		if i > 0 {
			b.WriteByte(' ')
		}
		b.word(w)
	}
	for _, r := range []struct {
		sign string
		file Word
	}{{" <", s.input}, {" >", s.output}} {
		if r.file != nil {
			b.WriteString(r.sign)
			b.word(r.file)
		}
	}
	if s.hushed {
		b.WriteString(" 2>/dev/null")
	}
}

func (l list) posix(b *shell) {
	for i, n := range l.nodes {
		if i > 0 {
			b.WriteString(l.operator)
		}
		if inner, ok := n.(list); ok && inner.operator != l.operator && binds(inner.operator) <= binds(l.operator) {
			b.WriteString("{ ")
			inner.posix(b)
			b.WriteString("; }")
		} else {
			n.posix(b)
		}
	}
}

// binds tells how tightly an operator binds; those that bind alike are told apart by
// braces.
func binds(operator string) int {
	switch operator {
	case pipe:
		return 3
	case sequence:
		return 1
	}
	return 2
}

func (l loop) posix(b *shell) {
	b.WriteString("for " + l.name + " in ")
	b.word(l.in)
	b.WriteString("; do ")
	l.do.posix(b)
	b.WriteString("; done")
}

// word quotes a word: its values so that they mean themselves, its variables and
// outputs so that they stay one word.
func (b *shell) word(w Word) {
	if len(w) == 0 {
		b.WriteString("''")
	}
	double := false // within double quotes
	quotes := func(want bool) {
		if double != want {
			b.WriteByte('"')
			double = want
		}
	}
	for _, p := range w {
		quotes(p.kind == variable || p.kind == output)
		switch p.kind {
		case value:
			if strings.IndexByte(p.text, 0) >= 0 {
				b.err = &Unfit{p.text}
			}
			b.WriteString(quoted(p.text))
		case variable:
			b.WriteString("$" + p.text)
		case output, fields:
			b.WriteString("$(")
			p.node.posix(b)
			b.WriteByte(')')
		case pattern:
			b.WriteString(p.text)
		}
	}
	quotes(false)
}

// bare is a value that needs no quotes.
var bare = regexp.MustCompile(`^[A-Za-z0-9_@%+:,./-][A-Za-z0-9_@%+=:,./-]*$|^(\[|\]|=|!=|!)$`)

// quoted is a value as one word. Signs that cannot be seen, which a terminal would
// take for keys, are written by their numbers.
func quoted(s string) string {
	if bare.MatchString(s) {
		return s
	}
	var b strings.Builder
	for s != "" {
		plain := len(s)
		for i, r := range s {
			if !shown(r) {
				plain = i
				break
			}
		}
		if plain > 0 {
			b.WriteString("'" + strings.ReplaceAll(s[:plain], "'", `'\''`) + "'")
			s = s[plain:]
			continue
		}
		n := 0
		for n < len(s) {
			r, size := utf8.DecodeRuneInString(s[n:])
			if shown(r) {
				break
			}
			n += size
		}
		b.WriteString(byNumber(s[:n]))
		s = s[n:]
	}
	if b.Len() == 0 {
		return "''"
	}
	return b.String()
}

func shown(r rune) bool { return r == '\n' || r != utf8.RuneError && unicode.IsPrint(r) }

// byNumber writes bytes by their numbers in base eight, as printf(1) takes them.
func byNumber(s string) string {
	var b strings.Builder
	for i := range len(s) {
		fmt.Fprintf(&b, `\%03o`, s[i])
	}
	return `"$(printf '` + b.String() + `')"`
}
