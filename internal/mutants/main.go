// Command mutants changes a package in one place at a time and says which changes its
// tests do not notice. Conditions of switches are changed, too, which coverage knows
// nothing of.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// limit is how long the tests of a changed package may take: a change that makes a loop
// endless is noticed by that.
const limit = 2 * time.Minute

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

// mutant is one change: an operator of a file in the place of another.
type mutant struct {
	file     string
	offset   int
	at       token.Position
	old, new token.Token
}

func (m mutant) String() string {
	return fmt.Sprintf("%s:%d:%d %s → %s", filepath.Base(m.file), m.at.Line, m.at.Column, m.old, m.new)
}

// of lists the mutants of a file.
func of(path string) ([]mutant, error) {
	fset := token.NewFileSet()
	parsed, err := parser.ParseFile(fset, path, nil, 0)
	if err != nil {
		return nil, err
	}
	var list []mutant
	add := func(pos token.Pos, old token.Token) {
		for _, swap := range swaps[old] {
			list = append(list, mutant{path, fset.Position(pos).Offset, fset.Position(pos), old, swap})
		}
	}
	ast.Inspect(parsed, func(n ast.Node) bool {
		switch x := n.(type) {
		case *ast.BinaryExpr:
			if !text(x) {
				add(x.OpPos, x.Op)
			}
		case *ast.IncDecStmt:
			add(x.TokPos, x.Tok)
		}
		return true
	})
	return list, nil
}

// text reports whether a sum joins texts, which has no difference.
func text(x *ast.BinaryExpr) bool {
	joins := false
	ast.Inspect(x, func(n ast.Node) bool {
		if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING {
			joins = joins || x.Op == token.ADD
		}
		return true
	})
	return joins
}

// fate is what became of a mutant.
type fate string

const (
	killed  fate = "killed"
	lived   fate = "LIVED"
	unbuilt fate = "does not compile"
)

// try runs the tests with the change.
func try(m mutant, tests []string) (fate, error) {
	dir, err := os.MkdirTemp("", "mutant-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	source, err := os.ReadFile(m.file)
	if err != nil {
		return "", err
	}
	changed := slices.Concat(source[:m.offset], []byte(m.new.String()), source[m.offset+len(m.old.String()):])
	file, overlay := filepath.Join(dir, "changed.go"), filepath.Join(dir, "overlay.json")
	whole, err := filepath.Abs(m.file)
	if err != nil {
		return "", err
	}
	replace, err := json.Marshal(map[string]map[string]string{"Replace": {whole: file}})
	if err != nil {
		return "", err
	}
	for name, content := range map[string][]byte{file: changed, overlay: replace} {
		if err := os.WriteFile(name, content, 0o600); err != nil {
			return "", err
		}
	}
	for _, pkg := range tests { // the package's own first: most are noticed there
		if f := noticed(overlay, pkg); f != lived {
			return f, nil
		}
	}
	return lived, nil
}

// noticed runs the tests of one package with the change.
func noticed(overlay, pkg string) fate {
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	out, err := exec.CommandContext(ctx, "go", "test", "-short", "-failfast", "-count=1", "-vet=off", "-overlay", overlay, pkg).CombinedOutput()
	switch {
	case err == nil:
		return lived
	case bytes.Contains(out, []byte("[build failed]")):
		return unbuilt
	}
	return killed
}

// listed lists the mutants of a package: all, or as many as are wanted, drawn evenly and
// the same at each run.
func listed(pkg string, most int) ([]mutant, error) {
	paths, err := filepath.Glob(filepath.Join(pkg, "*.go"))
	if err != nil {
		return nil, err
	}
	var all []mutant
	for _, path := range paths {
		if !strings.HasSuffix(path, "_test.go") {
			list, err := of(path)
			if err != nil {
				return nil, err
			}
			all = append(all, list...)
		}
	}
	if most > 0 && len(all) > most {
		rand.New(rand.NewPCG(1, 1)).Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		all = all[:most]
	}
	return all, nil
}

// covered runs the tests as they are and tells how much of the package they run.
func covered(pkg string, tests []string) (string, error) {
	profile, err := os.CreateTemp("", "covered-")
	if err != nil {
		return "", err
	}
	defer os.Remove(profile.Name())
	profile.Close()
	args := append([]string{"test", "-short", "-count=1", "-coverpkg", pkg, "-coverprofile", profile.Name()}, tests...)
	if out, err := exec.Command("go", args...).CombinedOutput(); err != nil {
		return "", fmt.Errorf("the tests do not pass as they are:\n%s", out)
	}
	out, err := exec.Command("go", "tool", "cover", "-func", profile.Name()).Output()
	fields := strings.Fields(string(out))
	if err != nil || len(fields) == 0 {
		return "", fmt.Errorf("the coverage cannot be read: %w", err)
	}
	return fields[len(fields)-1], nil
}

// run tries the mutants of a package against its tests and those of the packages beside.
func run(pkg string, most int, beside []string) error {
	tests := append([]string{pkg}, beside...)
	all, err := listed(pkg, most)
	if err != nil {
		return err
	}
	share, err := covered(pkg, tests)
	if err != nil {
		return err
	}
	var mu sync.Mutex
	fates := map[fate]int{}
	var wg sync.WaitGroup
	turns := make(chan struct{}, 2)
	for _, m := range all {
		turns <- struct{}{}
		wg.Go(func() {
			defer func() { <-turns }()
			f, err := try(m, tests)
			mu.Lock()
			defer mu.Unlock()
			fates[f]++
			if err != nil {
				fmt.Fprintln(os.Stderr, m, err)
			}
			if f == lived {
				fmt.Println(f, m)
			}
		})
	}
	wg.Wait()
	tried := fates[killed] + fates[lived]
	fmt.Printf("%s: %d of %d mutants killed (%.1f %%), %d did not compile; %s of the statements covered\n", pkg,
		fates[killed], tried, 100*float64(fates[killed])/float64(max(tried, 1)), fates[unbuilt], share)
	return nil
}

func main() {
	most := flag.Int("most", 0, "try as many mutants at most, drawn evenly; 0 is all")
	flag.Parse()
	if flag.NArg() < 1 {
		fmt.Fprintln(os.Stderr, "expected a package, such as ./core/firmware, and packages whose tests count, too")
		os.Exit(2)
	}
	if err := run(flag.Arg(0), *most, flag.Args()[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
