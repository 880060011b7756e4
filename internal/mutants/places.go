package main

import (
	"fmt"
	"go/ast"
	"go/constant"
	"go/token"
	"go/types"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/tools/go/packages"
)

// swaps are the operators that take each other's place: a condition is negated, or its
// bound moved by one; a sum becomes a difference.
var swaps = map[token.Token][]token.Token{
	token.EQL: {token.NEQ}, token.NEQ: {token.EQL},
	token.LSS: {token.GEQ, token.LEQ}, token.GEQ: {token.LSS, token.GTR},
	token.GTR: {token.LEQ, token.GEQ}, token.LEQ: {token.GTR, token.LSS},
	token.ADD: {token.SUB}, token.SUB: {token.ADD}, token.MUL: {token.QUO}, token.QUO: {token.MUL},
	token.REM:  {token.MUL},
	token.LAND: {token.LOR}, token.LOR: {token.LAND}, token.INC: {token.DEC}, token.DEC: {token.INC},
}

// calls are the functions of package switched that stand for an operator.
var calls = map[token.Token]string{
	token.LSS: "Less", token.GEQ: "AtLeast", token.GTR: "More", token.LEQ: "AtMost",
	token.ADD: "Add", token.SUB: "Sub", token.MUL: "Mul", token.QUO: "Quo", token.REM: "Rem",
}

// mutant is one change: an operator of a file in the place of another. Mutants are told
// apart by their numbers, from 1 on.
type mutant struct {
	at       token.Position
	old, new token.Token
}

func (m mutant) String() string {
	return fmt.Sprintf("%s:%d:%d %s → %s", filepath.Base(m.at.Filename), m.at.Line, m.at.Column, m.old, m.new)
}

// insertion is text that takes the place of the bytes from an offset on.
type insertion struct {
	offset, length int
	text           string
}

// rewriting is a package on its way to one that holds all its mutants.
type rewriting struct {
	pkg     *packages.Package
	mutants []mutant
	sources map[string][]byte // by path, as they are
	edits   map[string][]insertion
}

// rewritten gives the mutants of a package, and its files, by path, in which each of them
// can be switched on.
func rewritten(pattern string) ([]mutant, map[string][]byte, error) {
	loaded, err := packages.Load(&packages.Config{Mode: packages.LoadSyntax}, pattern)
	if err != nil {
		return nil, nil, err
	}
	if len(loaded) != 1 || len(loaded[0].Errors) > 0 {
		return nil, nil, fmt.Errorf("expected one package that compiles, not %q", pattern)
	}
	r := &rewriting{pkg: loaded[0], sources: map[string][]byte{}, edits: map[string][]insertion{}}
	for _, f := range loaded[0].Syntax {
		if err := r.file(f); err != nil {
			return nil, nil, err
		}
	}
	files := map[string][]byte{}
	for path, edits := range r.edits {
		files[path] = applied(r.sources[path], edits)
	}
	return r.mutants, files, nil
}

// file rewrites the operators of one file.
func (r *rewriting) file(f *ast.File) error {
	path := r.pkg.Fset.Position(f.Package).Filename
	source, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	r.sources[path] = source
	before := len(r.mutants)
	ast.Inspect(f, func(n ast.Node) bool {
		switch x := n.(type) {
		case *ast.BinaryExpr:
			r.binary(x)
		case *ast.IncDecStmt:
			r.step(x)
		}
		return true
	})
	if len(r.mutants) > before {
		r.put(f.Name.End(), 0, `; import switched "latchkey/internal/mutants/switched"`)
	}
	return nil
}

// number gives an operator's changes their numbers and returns the first.
func (r *rewriting) number(pos token.Pos, old token.Token) int {
	first := len(r.mutants) + 1
	for _, swap := range swaps[old] {
		r.mutants = append(r.mutants, mutant{r.pkg.Fset.Position(pos), old, swap})
	}
	return first
}

// put writes text in the place of what stands from a position on.
func (r *rewriting) put(pos token.Pos, length int, text string) {
	at := r.pkg.Fset.Position(pos)
	r.edits[at.Filename] = append(r.edits[at.Filename], insertion{at.Offset, length, text})
}

// binary rewrites an operator of two operands. Constants and texts have no other operator.
func (r *rewriting) binary(x *ast.BinaryExpr) {
	if len(swaps[x.Op]) == 0 || !r.plain(x) {
		return
	}
	id := r.number(x.OpPos, x.Op)
	on := fmt.Sprintf("switched.On(%d)", id)
	length := len(x.Op.String())
	switch x.Op {
	case token.EQL, token.NEQ:
		r.put(x.X.Pos(), 0, "("+on+" != (")
		r.put(x.Y.End(), 0, "))")
	case token.LAND, token.LOR: // by De Morgan, so that no operand stands twice
		r.put(x.X.Pos(), 0, "(((")
		r.put(x.OpPos, length, ") != "+on+" "+x.Op.String()+" (")
		r.put(x.Y.End(), 0, ") != "+on+") != "+on+")")
	default:
		r.put(x.X.Pos(), 0, fmt.Sprintf("switched.%s(%d, ", calls[x.Op], id))
		r.put(x.OpPos, length, ",")
		r.put(x.Y.End(), 0, ")")
	}
}

// plain reports whether an expression is calculated as the program runs, with operands
// whose type its own text tells.
func (r *rewriting) plain(x *ast.BinaryExpr) bool {
	kind := func(e ast.Expr) types.Type { return r.pkg.TypesInfo.TypeOf(e) }
	value := func(e ast.Expr) constant.Value { return r.pkg.TypesInfo.Types[e].Value }
	if value(x) != nil || strings.Contains(kind(x.X).Underlying().String(), "string") && x.Op == token.ADD {
		return false
	}
	if x.Op == token.LAND || x.Op == token.LOR {
		return basic(kind(x.X)) && basic(kind(x.Y))
	}
	return x.Op == token.EQL || x.Op == token.NEQ || !shifts(x.X) && !shifts(x.Y)
}

// basic reports whether a type is a plain truth value and none of a name of its own.
func basic(t types.Type) bool {
	_, is := t.(*types.Basic)
	return is
}

// shifts reports whether an operand shifts a constant: its type comes from where it stands.
func shifts(e ast.Expr) bool {
	found := false
	ast.Inspect(e, func(n ast.Node) bool {
		if b, ok := n.(*ast.BinaryExpr); ok && b.Op == token.SHL {
			_, literal := b.X.(*ast.BasicLit)
			found = found || literal
		}
		return true
	})
	return found
}

// step rewrites the counting by one.
func (r *rewriting) step(x *ast.IncDecStmt) {
	start, end := r.pkg.Fset.Position(x.X.Pos()), r.pkg.Fset.Position(x.X.End())
	counted := string(r.sources[start.Filename][start.Offset:end.Offset])
	op := map[token.Token]string{token.INC: "+=", token.DEC: "-="}[x.Tok]
	r.put(x.TokPos, len(x.Tok.String()), fmt.Sprintf(" %s switched.Step(%d, %s)", op, r.number(x.TokPos, x.Tok), counted))
}

// applied makes the edits. Of those at one place, what closes stands before what opens,
// and what was met first, the outer one, opens first and closes last.
func applied(source []byte, edits []insertion) []byte {
	ordered := make([]insertion, len(edits))
	copy(ordered, edits)
	slices.SortStableFunc(ordered, func(a, b insertion) int { return a.offset - b.offset })
	var out []byte
	at := 0
	for i := 0; i < len(ordered); {
		same := i
		for same < len(ordered) && ordered[same].offset == ordered[i].offset {
			same++
		}
		here := ordered[i:same]
		out = append(out, source[at:here[0].offset]...)
		at = here[0].offset
		for _, e := range slices.Backward(here) {
			if strings.HasSuffix(e.text, ")") && e.length == 0 {
				out = append(out, e.text...)
			}
		}
		for _, e := range here {
			if !strings.HasSuffix(e.text, ")") || e.length > 0 {
				out = append(out, e.text...)
				at += e.length
			}
		}
		i = same
	}
	return append(out, source[at:]...)
}
