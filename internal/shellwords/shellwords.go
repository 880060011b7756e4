// Package shellwords tells by an independent parser of the shell's language what a
// line runs, so that tests can hold what is rendered against what is meant.
package shellwords

import (
	"fmt"
	"strconv"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// Calls lists the programs that a text runs, each with its arguments as the shell
// hands them over, in the order in which they stand. A variable is shown as ${name},
// the output of a command as $(…), whose own calls follow. What a call reads or
// writes is an argument of its own, with its sign before it.
func Calls(text string, lang syntax.LangVariant) ([][]string, error) {
	file, err := syntax.NewParser(syntax.Variant(lang)).Parse(strings.NewReader(text), "")
	if err != nil {
		return nil, fmt.Errorf("%w in %q", err, text)
	}
	var calls [][]string
	var bad error
	syntax.Walk(file, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.CmdSubst:
			if _, ok := bytesOf(n); ok {
				return false
			}
		case *syntax.Stmt:
			if n.Background || n.Coprocess {
				bad = fmt.Errorf("something runs in the background in %q", text)
			}
			for _, r := range n.Redirs {
				if r.Hdoc != nil {
					bad = fmt.Errorf("a here-document in %q", text)
				}
				calls = append(calls, []string{r.Op.String(), word(r.Word, &bad)})
			}
		case *syntax.CallExpr:
			var call []string
			for _, a := range n.Assigns {
				call = append(call, a.Name.Value+"="+word(a.Value, &bad))
			}
			for _, w := range n.Args {
				call = append(call, word(w, &bad))
			}
			calls = append(calls, call)
		case *syntax.ForClause:
			if items, ok := n.Loop.(*syntax.WordIter); ok {
				call := []string{"for", items.Name.Value}
				for _, w := range items.Items {
					call = append(call, word(w, &bad))
				}
				calls = append(calls, call)
			}
		}
		return true
	})
	return calls, bad
}

// word is a word as the shell hands it over.
func word(w *syntax.Word, bad *error) string {
	if w == nil {
		return ""
	}
	return parts(w.Parts, bad)
}

func parts(list []syntax.WordPart, bad *error) string {
	var b strings.Builder
	for _, p := range list {
		switch p := p.(type) {
		case *syntax.Lit:
			b.WriteString(unescaped(p.Value))
		case *syntax.SglQuoted:
			b.WriteString(p.Value)
		case *syntax.DblQuoted:
			b.WriteString(parts(p.Parts, bad))
		case *syntax.ParamExp:
			b.WriteString("${" + p.Param.Value + "}")
		case *syntax.CmdSubst:
			if s, ok := bytesOf(p); ok {
				b.WriteString(s)
			} else {
				b.WriteString("$(…)")
			}
		default:
			*bad = fmt.Errorf("a %T in a word", p)
		}
	}
	return b.String()
}

func unescaped(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) {
			i++
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// bytesOf reads the output of printf with bytes by their numbers in base eight and
// nothing else.
func bytesOf(c *syntax.CmdSubst) (string, bool) {
	if len(c.Stmts) != 1 {
		return "", false
	}
	call, ok := c.Stmts[0].Cmd.(*syntax.CallExpr)
	if !ok || len(call.Args) != 2 || call.Args[0].Lit() != "printf" || len(call.Args[1].Parts) != 1 {
		return "", false
	}
	quoted, ok := call.Args[1].Parts[0].(*syntax.SglQuoted)
	if !ok || len(quoted.Value)%4 != 0 {
		return "", false
	}
	var b strings.Builder
	for rest := quoted.Value; rest != ""; rest = rest[4:] {
		n, err := strconv.ParseUint(rest[1:4], 8, 8)
		if rest[0] != '\\' || err != nil {
			return "", false
		}
		b.WriteByte(byte(n))
	}
	return b.String(), true
}
