package internal_test

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"go/types"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// circles lists the files of a package that may use each other, with the reason.
var circles = map[string]string{
	"core/command":  "commands are made of words, and words of commands' output",
	"core/realmode": "a processor runs code that calls the PC's firmware, which sets the processor",
	"core/course":   "a walk asks questions in a world, and a question is answered in a walk",
	"core/disk":     "a layout is read from tables whose problems and fields cite it",
	"core/loader":   "a program is known by its contents, and what is known is examined as a program",
	"core/machine":  "contents hold configurations, which are gathered from volumes and cited by drives",
	"core/volume":   "a volume opens the readers of its files, which say what kind of volume they are of",
	"core/compare":  "a comparison is made of groups of rows, which are rows of the comparison",
}

// No file of a package of the core uses a file that uses it in turn, but for those
// packages whose ideas do.
func TestFilesOfAPackagePointOneWay(t *testing.T) {
	packages, err := filepath.Glob("../core/*")
	require.NoError(t, err)
	require.Greater(t, len(packages), 12)
	for _, dir := range packages {
		name := "core/" + filepath.Base(dir)
		edges := fileEdges(t, dir)
		var found []string
		for a, uses := range edges {
			for b, what := range uses {
				if reaches(edges, b, a) {
					found = append(found, fmt.Sprintf("%s uses %s of %s", a, what, b))
				}
			}
		}
		slices.Sort(found)
		if circles[name] != "" {
			assert.NotEmpty(t, found, "%s needs no exception any more", name)
			continue
		}
		assert.Empty(t, found, name)
	}
}

// nothing imports nothing: names within a package are found all the same.
type nothing struct{}

func (nothing) Import(string) (*types.Package, error) { return nil, fmt.Errorf("not looked at") }

// fileEdges tells which file of a package uses what of which other file.
func fileEdges(t *testing.T, dir string) map[string]map[string]string {
	t.Helper()
	fset := token.NewFileSet()
	var files []*ast.File
	for path := range sources(t, dir) {
		f, err := parser.ParseFile(fset, path, nil, 0)
		require.NoError(t, err)
		files = append(files, f)
	}
	info := &types.Info{Uses: map[*ast.Ident]types.Object{}}
	config := types.Config{Importer: nothing{}, Error: func(error) {}}
	pkg, _ := config.Check(dir, fset, files, info)
	edges := map[string]map[string]string{}
	for id, object := range info.Uses {
		_, method := object.(*types.Func)
		if object.Pkg() != pkg || object.Parent() != pkg.Scope() && !method {
			continue
		}
		from, to := filepath.Base(fset.Position(id.Pos()).Filename), filepath.Base(fset.Position(object.Pos()).Filename)
		if from != to {
			if edges[from] == nil {
				edges[from] = map[string]string{}
			}
			edges[from][to] = object.Name()
		}
	}
	return edges
}

func reaches(edges map[string]map[string]string, from, to string) bool {
	seen := map[string]bool{from: true}
	for waiting := []string{from}; len(waiting) > 0; {
		at := waiting[0]
		waiting = waiting[1:]
		if at == to {
			return true
		}
		for next := range maps.Keys(edges[at]) {
			if !seen[next] {
				seen[next] = true
				waiting = append(waiting, next)
			}
		}
	}
	return false
}

// sources returns the lines of a folder's Go files, tests left out.
func sources(t *testing.T, dir string) map[string][]string {
	t.Helper()
	paths, err := filepath.Glob(filepath.Join(dir, "*.go"))
	require.NoError(t, err)
	lines := map[string][]string{}
	for _, path := range paths {
		if !strings.HasSuffix(path, "_test.go") {
			raw, err := os.ReadFile(path)
			require.NoError(t, err)
			lines[path] = strings.Split(string(raw), "\n")
		}
	}
	return lines
}

// Bounds of a file, in lines, and of a line, in columns with a tab as four. Text in
// quotes does not count: prose is not broken for its length.
const (
	maxLines   = 400
	maxColumns = 120
)

func TestFilesAndLinesAreShort(t *testing.T) {
	seen := 0
	err := filepath.WalkDir("..", func(path string, entry os.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && (entry.Name() == "node_modules" || len(entry.Name()) > 2 && entry.Name()[0] == '.'):
			return filepath.SkipDir
		case filepath.Ext(path) != ".go":
			return nil
		}
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		seen++
		widths := codeWidths(path, raw)
		assert.LessOrEqual(t, len(widths)-1, maxLines, path)
		for i, w := range widths {
			assert.LessOrEqual(t, w, maxColumns, "%s:%d", path, i+1)
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, seen, 150)
}

// codeWidths measures the lines of a file without the text of its strings.
func codeWidths(path string, raw []byte) []int {
	var widths []int
	for line := range strings.SplitSeq(string(raw), "\n") {
		widths = append(widths, len([]rune(line))+3*strings.Count(line, "\t"))
	}
	fset := token.NewFileSet()
	file := fset.AddFile(path, -1, len(raw))
	var s scanner.Scanner
	s.Init(file, raw, nil, 0)
	for {
		pos, tok, text := s.Scan()
		if tok == token.EOF {
			return widths
		}
		if tok == token.STRING {
			first := fset.Position(pos).Line - 1
			for i, part := range strings.Split(text, "\n") {
				widths[first+i] -= len([]rune(part)) + 3*strings.Count(part, "\t")
			}
		}
	}
}
