package loader

import (
	"fmt"
	"strings"
)

// GRUB's scripting language, as far as menus are written in it. GNU GRUB Manual 2.06,
// "Shell-like scripting".

// grubPart is a piece of a word: a text, or a variable's name.
type grubPart struct {
	text     string
	variable bool
	quoted   bool
}

// grubWord is a word; sign is set for one of the signs that stand between commands.
type grubWord struct {
	parts  []grubPart
	sign   string // "\n", "{", "}", or "" for a word
	line   int
	offset int64
}

// plain returns a word that holds no variable and is not quoted, which alone can be a
// keyword.
func (w grubWord) plain() string {
	if len(w.parts) == 1 && !w.parts[0].variable && !w.parts[0].quoted {
		return w.parts[0].text
	}
	return ""
}

// Bounds of a script.
const (
	maxGRUBWords = 200_000
	maxGRUBDepth = 32
)

// grubLexer splits a script into words.
type grubLexer struct {
	raw    string
	at     int
	line   int
	words  []grubWord
	word   grubWord
	inWord bool
}

// grubLex splits a script.
func grubLex(raw []byte) []grubWord {
	x := &grubLexer{raw: string(raw), line: 1}
	for x.at < len(x.raw) && len(x.words) < maxGRUBWords {
		x.step()
	}
	x.end()
	return x.words
}

func (x *grubLexer) step() {
	switch ch := x.raw[x.at]; {
	case ch == '\n' || ch == ';':
		x.end()
		x.words = append(x.words, grubWord{sign: "\n", line: x.line, offset: int64(x.at)})
		if ch == '\n' {
			x.line++
		}
		x.at++
	case ch == ' ' || ch == '\t' || ch == '\r':
		x.end()
		x.at++
	case ch == '#' && !x.inWord:
		end := strings.IndexByte(x.raw[x.at:], '\n')
		if end < 0 {
			end = len(x.raw) - x.at
		}
		x.at += end
	case ch == '{' && !x.inWord, ch == '}' && !x.inWord:
		x.words = append(x.words, grubWord{sign: string(ch), line: x.line, offset: int64(x.at)})
		x.at++
	case ch == '\\' && strings.HasPrefix(x.raw[x.at:], "\\\n"):
		x.at += 2
		x.line++
	case ch == '\\' && x.at+1 < len(x.raw):
		x.text(x.raw[x.at+1:x.at+2], true)
		x.at += 2
	case ch == '\'':
		end := strings.IndexByte(x.raw[x.at+1:], '\'')
		if end < 0 {
			end = len(x.raw) - x.at - 1
		}
		x.text(x.raw[x.at+1:x.at+1+end], true)
		x.line += strings.Count(x.raw[x.at+1:x.at+1+end], "\n")
		x.at = min(len(x.raw), x.at+end+2)
	case ch == '"':
		x.quoted()
	case ch == '$':
		x.variable(false)
	default:
		end := strings.IndexAny(x.raw[x.at+1:], " \t\r\n;{}\\'\"$")
		if end < 0 {
			end = len(x.raw) - x.at - 1
		}
		x.text(x.raw[x.at:x.at+1+end], false)
		x.at += 1 + end
	}
}

// quoted reads a text in double quotes, in which variables are filled in.
func (x *grubLexer) quoted() {
	x.text("", true)
	for x.at++; x.at < len(x.raw) && x.raw[x.at] != '"'; {
		switch ch := x.raw[x.at]; {
		case ch == '\\' && x.at+1 < len(x.raw) && strings.IndexByte("$\"\\", x.raw[x.at+1]) >= 0:
			x.text(x.raw[x.at+1:x.at+2], true)
			x.at += 2
		case ch == '$':
			x.variable(true)
		default:
			end := strings.IndexAny(x.raw[x.at+1:], "\\\"$")
			if end < 0 {
				end = len(x.raw) - x.at - 1
			}
			x.line += strings.Count(x.raw[x.at:x.at+1+end], "\n")
			x.text(x.raw[x.at:x.at+1+end], true)
			x.at += 1 + end
		}
	}
	x.at = min(len(x.raw), x.at+1)
}

// variable reads $name or ${name}.
func (x *grubLexer) variable(quoted bool) {
	rest := x.raw[x.at+1:]
	name, length := "", 0
	if inner, ok := strings.CutPrefix(rest, "{"); ok {
		if end := strings.IndexByte(inner, '}'); end > 0 {
			name, length = inner[:end], end+2
		}
	} else {
		number := rest != "" && rest[0] >= '0' && rest[0] <= '9'
		for length < len(rest) && (!number && rest[length] == '_' || isAlnum(rest[length])) {
			if number && (rest[length] < '0' || rest[length] > '9') {
				break // a parameter's number ends at its last figure
			}
			length++
		}
		if name = rest[:length]; name == "" && len(rest) > 0 && strings.IndexByte("?@#*", rest[0]) >= 0 {
			name, length = rest[:1], 1
		}
	}
	x.begin()
	if name == "" {
		x.text("$", quoted)
		x.at++
		return
	}
	x.word.parts = append(x.word.parts, grubPart{name, true, quoted})
	x.at += 1 + length
}

func isAlnum(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

func (x *grubLexer) begin() {
	if !x.inWord {
		x.inWord, x.word = true, grubWord{line: x.line, offset: int64(x.at)}
	}
}

func (x *grubLexer) text(s string, quoted bool) {
	x.begin()
	if n := len(x.word.parts); n > 0 && !x.word.parts[n-1].variable && x.word.parts[n-1].quoted == quoted {
		x.word.parts[n-1].text += s
		return
	}
	x.word.parts = append(x.word.parts, grubPart{s, false, quoted})
}

func (x *grubLexer) end() {
	if x.inWord {
		x.words, x.inWord = append(x.words, x.word), false
	}
}

// grubCommand is a command with what stands in it.
type grubCommand struct {
	kind  string // "" for a simple command, else "if", "for", "while", "function"
	words []grubWord
	// conditions and bodies of an if belong together; a body more is the else.
	conditions [][]grubCommand
	bodies     [][]grubCommand
	line       int
	offset     int64
}

// grubSyntax reads commands out of words.
type grubSyntax struct {
	words []grubWord
	depth int
}

func (p *grubSyntax) peek() (grubWord, bool) {
	if len(p.words) == 0 {
		return grubWord{}, false
	}
	return p.words[0], true
}

// list reads commands up to one of the words that end it, which is taken.
func (p *grubSyntax) list(ends ...string) (commands []grubCommand, end string, err error) {
	if p.depth++; p.depth > maxGRUBDepth {
		return nil, "", fmt.Errorf("the script is nested deeper than %d", maxGRUBDepth)
	}
	defer func() { p.depth-- }()
	for {
		w, ok := p.peek()
		if !ok {
			return commands, "", nil
		}
		for _, e := range ends {
			if w.sign == e && e != "" && w.sign != "" || w.sign == "" && w.plain() == e {
				p.words = p.words[1:]
				return commands, e, nil
			}
		}
		if w.sign != "" {
			p.words = p.words[1:]
			continue
		}
		c, err := p.command()
		if err != nil {
			return commands, "", err
		}
		commands = append(commands, c)
	}
}

func (p *grubSyntax) command() (c grubCommand, err error) {
	first := p.words[0]
	c.line, c.offset = first.line, first.offset
	switch c.kind = first.plain(); c.kind {
	case "if":
		return c, p.ifs(&c)
	case "for", "while", "until":
		p.words = p.words[1:]
		c.words = p.simple()
		if _, _, err = p.list("do"); err != nil {
			return c, err
		}
		body, _, err := p.list("done")
		c.bodies = append(c.bodies, body)
		return c, err
	case "function":
		p.words = p.words[1:]
		c.words = p.simple()
		return c, p.block(&c)
	}
	c.kind, c.words = "", p.simple()
	if w, ok := p.peek(); ok && w.sign == "{" {
		return c, p.block(&c)
	}
	return c, nil
}

func (p *grubSyntax) ifs(c *grubCommand) error {
	for word := "if"; ; {
		p.words = p.words[min(1, len(p.words)):]
		condition, _, err := p.list("then")
		if err != nil {
			return err
		}
		body, end, err := p.list("elif", "else", "fi")
		if err != nil {
			return err
		}
		if len(condition) == 0 || len(body) == 0 {
			return fmt.Errorf("line %d: a branch of an if is empty, which GRUB refuses", c.line)
		}
		c.conditions, c.bodies = append(c.conditions, condition), append(c.bodies, body)
		switch word = end; word {
		case "elif":
			// list has taken the word: the loop takes one more.
			p.words = append([]grubWord{{}}, p.words...)
		case "else":
			body, _, err := p.list("fi")
			c.bodies = append(c.bodies, body)
			return err
		default:
			return nil
		}
	}
}

// block reads a body in braces.
func (p *grubSyntax) block(c *grubCommand) error {
	for len(p.words) > 0 && p.words[0].sign == "\n" {
		p.words = p.words[1:]
	}
	if len(p.words) == 0 || p.words[0].sign != "{" {
		return nil
	}
	p.words = p.words[1:]
	body, _, err := p.list("}")
	c.bodies = append(c.bodies, body)
	return err
}

// simple reads words up to the end of the command.
func (p *grubSyntax) simple() (words []grubWord) {
	for len(p.words) > 0 && p.words[0].sign == "" {
		words = append(words, p.words[0])
		p.words = p.words[1:]
	}
	return words
}
