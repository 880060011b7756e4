package command

import (
	"regexp"
	"strings"
)

// Lines of a batch file for Windows' command interpreter. Its rules are documented
// by its maker ("cmd", "call", "if"); that a percent sign is looked at even within
// quotation marks is common practice, no source.

// Line is a line of a batch file, or several that belong together.
type Line interface{ batch(b *file) }

// file is a batch file in the making.
type file struct {
	strings.Builder
	err error
}

// Batch renders lines for a batch file, each with its end of line but the last.
func Batch(lines ...Line) (string, error) {
	var b file
	for i, l := range lines {
		if i > 0 {
			b.WriteString("\r\n")
		}
		l.batch(&b)
	}
	return b.String(), b.err
}

func (s Simple) batch(b *file) {
	for i, w := range s.words {
		if i > 0 {
			b.WriteByte(' ')
		}
		b.word(w)
	}
	if s.output != nil {
		b.WriteString(" >")
		b.word(s.output)
	}
}

// Stop ends the batch file with a sentence when the line before it failed.
func Stop(sentence string) Line { return stop(sentence) }

type stop string

func (s stop) batch(b *file) {
	b.WriteString("if errorlevel 1 (echo " + sentence(string(s)) + "& exit /b 1)")
}

// Say is what the batch file says: each part a sentence, or a variable of the
// interpreter as a Word, with spaces between them.
func Say(parts ...any) Line { return say(words(parts)) }

type say []Word

func (s say) batch(b *file) {
	b.WriteString("echo")
	for _, w := range s {
		b.WriteByte(' ')
		for _, p := range w {
			if p.kind == variable {
				b.WriteString("%" + p.text + "%")
			} else {
				b.WriteString(sentence(p.text))
			}
		}
	}
}

// Typed is the variable of what a person typed.
const Typed Name = "TYPED"

// Prompt asks the person who runs the batch file for the value of Typed, which is empty where
// nothing is typed.
func Prompt(question string) Line { return prompt(question) }

type prompt string

func (p prompt) batch(b *file) {
	b.WriteString("set " + string(Typed) + "=\r\n  set /p " + string(Typed) + "=" + sentence(string(p)) + " ")
}

// If runs lines where a file is there.
func If(path Word, lines ...Line) Line { return condition{"if exist ", path, lines} }

// Unless runs lines where a file is not there.
func Unless(path Word, lines ...Line) Line { return condition{"if not exist ", path, lines} }

type condition struct {
	when  string
	path  Word
	lines []Line
}

func (c condition) batch(b *file) {
	b.WriteString(c.when)
	b.word(c.path)
	b.WriteString(" (")
	for _, l := range c.lines {
		b.WriteString("\r\n  ")
		l.batch(b)
	}
	b.WriteString("\r\n)")
}

// Ask feeds lines to a program that reads them from the file that its last argument
// names. Each line is words with spaces between them.
func Ask(program Simple, file Word, lines ...[]any) Line { return ask{program, file, lines} }

type ask struct {
	program Simple
	file    Word
	lines   [][]any
}

func (a ask) batch(b *file) {
	// The redirection stands first, so that no number at a line's end is taken for a
	// stream's.
	for i, l := range a.lines {
		b.WriteString(map[bool]string{true: ">", false: ">>"}[i == 0])
		b.word(a.file)
		b.WriteString(" echo")
		for _, w := range words(l) {
			b.WriteString(" " + b.plain(w, saidInBatch))
		}
		b.WriteString("\r\n")
	}
	a.program.batch(b)
}

// What a word of a batch file may hold: bareInBatch means itself without quotation
// marks, carriedInBatch does so within them. Percent signs, quotation marks and
// exclamation marks mean something even there, stars and question marks stand for
// names, and what is no sign of ASCII is read in one code page or another.
var (
	bareInBatch    = regexp.MustCompile(`^([a-z]+=)?[A-Za-z0-9_@:./\\{}-]+$|^[0-9]+\+[0-9]+$`)
	carriedInBatch = regexp.MustCompile("^[ #$&'()+,./0-9:;<=>@A-Z\\[\\\\\\]^_`a-z{|}~-]*$")
	saidInBatch    = regexp.MustCompile(`^[A-Za-z0-9_=:{}. -]+$`)
)

// word quotes a word; one that no quotation marks make safe is an error.
func (b *file) word(w Word) {
	text, bare := b.plain(w, carriedInBatch), true
	for _, p := range w {
		bare = bare && p.text != "TEMP" && p.text != string(Typed) // they may hold spaces
	}
	if shape := strings.ReplaceAll(text, "%", ""); bare && bareInBatch.MatchString(shape) {
		b.WriteString(text)
		return
	}
	if strings.HasSuffix(text, `\`) { // it would take the closing mark with it
		b.err = &Unfit{text}
	}
	b.WriteString(`"` + text + `"`)
}

// plain is a word without quotation marks; its values must match a form.
func (b *file) plain(w Word, form *regexp.Regexp) string {
	text := ""
	for _, p := range w {
		switch {
		case p.kind == variable:
			text += "%" + p.text + "%"
		case p.kind == value && form.MatchString(p.text):
			text += p.text
		default:
			b.err = &Unfit{p.text}
		}
	}
	return text
}

// sentence is a text that a batch file says or holds as a remark: one line without
// the signs that the interpreter acts on.
func sentence(s string) string {
	return Clean(strings.Map(func(r rune) rune {
		switch {
		case strings.ContainsRune("|<>^%!", r):
			return -1
		case r == '·':
			return ','
		case r == '…':
			return '.'
		case r > '~':
			return '?'
		}
		if other, ok := harmless[r]; ok {
			return other
		}
		return r
	}, Clean(s)))
}

var harmless = map[rune]rune{'(': '[', ')': ']', '"': '\'', '&': '+'}

// Comment is a text as one line of remark: of the POSIX shell, or of a batch file.
func Comment(s string, batch bool) string {
	if batch {
		return "rem " + sentence(s)
	}
	return "# " + Clean(s)
}
