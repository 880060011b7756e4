package command

import "strings"

// Node is a command, or several that belong together.
type Node interface{ posix(b *shell) }

// Simple is a program with its arguments.
type Simple struct {
	words  []Word
	env    []binding
	input  Word // file that it reads
	output Word // file that it writes
	hushed bool // what it says of errors is dropped
}

type binding struct {
	name string
	word Word
}

// Run is a program with its arguments; each is a Word, a string or a number.
func Run(args ...any) Simple { return Simple{words: words(args)} }

// With sets a variable for the program alone.
func (s Simple) With(name Name, v any) Simple {
	s.env = append(s.env[:len(s.env):len(s.env)], binding{string(name), word(v)})
	return s
}

// From reads a file.
func (s Simple) From(file any) Simple { s.input = word(file); return s }

// To writes a file.
func (s Simple) To(file any) Simple { s.output = word(file); return s }

// Hushed drops what the program says of errors.
func (s Simple) Hushed() Simple { s.hushed = true; return s }

// Set gives a variable of the shell a value.
func Set(name Name, v any) Node { return assignment{string(name), word(v)} }

type assignment struct {
	name string
	word Word
}

// list is several commands with one operator between them.
type list struct {
	operator string
	nodes    []Node
}

// The operators of the shell.
const (
	and      = " && "
	or       = " || "
	sequence = "; "
	pipe     = " | "
)

// All runs each command if the one before it succeeded.
func All(nodes ...Node) Node { return list{and, nodes} }

// Either runs each command if the one before it failed.
func Either(nodes ...Node) Node { return list{or, nodes} }

// Sequence runs commands one after the other.
func Sequence(nodes ...Node) Node { return list{sequence, nodes} }

// Pipe hands what each command says to the next.
func Pipe(nodes ...Node) Node { return list{pipe, nodes} }

// Each runs a command for each of some words.
func Each(name Name, in Word, do Node) Node { return loop{string(name), in, do} }

type loop struct {
	name string
	in   Word
	do   Node
}

// Fixed is a line of the POSIX shell in which nothing varies.
func Fixed(line constant) Node { return fixed(line) }

type fixed string

// GoesOn reports whether a script that is to stop at the first failure (set -e) goes
// on when a part of the command failed. IEEE Std 1003.1-2017, set, -e.
func GoesOn(n Node) bool {
	switch n := n.(type) {
	case list:
		return n.operator == and || n.operator == or
	case fixed:
		return strings.Contains(string(n), and) && !strings.Contains(string(n), or)
	}
	return false
}
