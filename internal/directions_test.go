package internal_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layers lists the packages from the bottom to the top: a package imports only
// packages before it. Packages on one line do not import each other.
var layers = [][]string{
	{"core/fact", "core/command", "internal/alone", "internal/reference"},
	{"core/disk", "core/realmode"},
	{"core/guard"},
	{"core/volume"},
	{"core/firmware"},
	{"core/loader"},
	{"core/machine"},
	{"core/course"},
	{"core/linux", "core/windows", "core/mac"},
	{"core/startup"},
	{"core/compare", "core/symptom", "core/repair", "core/learn"},
	{"core/fit", "core/handover", "core/tables"},
	{"capture", "internal/diskmaker"},
	{"capture/listing", "capture/told", "capture/planfile"},
	{"capture/running"},
	{"demo"},
	{"server/store"},
	{"server/store/storetest"},
	{"server/judge", "server/people", "server/form"},
	{"server/report", "server/parcel"},
	{"server/api", "web"},
	{"cmd/capturing", "stick"},
	{"stick/screen", "stick/image/legacy", "internal/terminal"},
	{"truth", "internal/standin", "internal/shellwords"},
	{"internal/field"},
	{"internal/expected", "internal/mutants/switched", "internal/sample", "internal/weaker"},
	{"cmd/latchkey", "cmd/latchkey-capture", "cmd/latchkey-stick", "cmd/firmware-truth", "internal/mutants"},
}

// forbidden lists what the layers would allow and the architecture does not: the
// server knows nothing of the demo world.
var forbidden = map[string][]string{"server/": {"demo", "internal/diskmaker"}, "demo": {"capture", "server/"}}

// outside lists the decoders that the core may use besides the standard library.
var outside = map[string]bool{
	"www.velocidex.com/golang/go-ntfs/parser": true, "www.velocidex.com/golang/regparser": true, "github.com/ulikunitz/xz/lzma": true,
	"golang.org/x/arch/x86/x86asm": true, "github.com/anchore/go-lzo": true, "github.com/klauspost/compress/zstd": true,
	"github.com/pierrec/lz4/v4": true,
}

func TestImportsPointOneWay(t *testing.T) {
	rank := map[string]int{}
	for i, layer := range layers {
		for _, p := range layer {
			rank[p] = i
		}
	}
	seen := map[string]bool{}
	for _, imported := range imports(t) {
		from, to := imported[0], imported[1]
		if strings.HasPrefix(from, "internal/reference") || from == "internal" {
			continue
		}
		seen[from] = true
		require.Contains(t, rank, from, "the package has no place in the layers")
		if inner, ok := strings.CutPrefix(to, "latchkey/"); ok {
			require.Contains(t, rank, inner)
			seen[inner] = true
			assert.Less(t, rank[inner], rank[from], "%s imports %s", from, inner)
			for prefix, list := range forbidden {
				for _, bad := range list {
					assert.False(t, strings.HasPrefix(from, prefix) && strings.HasPrefix(inner, bad), "%s imports %s", from, inner)
				}
			}
		} else if strings.HasPrefix(from, "core/") && strings.Contains(strings.Split(to, "/")[0], ".") {
			assert.True(t, outside[to], "%s imports %s", from, to)
		}
	}
	for p := range rank {
		assert.True(t, seen[p], "%s is in the layers and does not exist", p)
	}
}

func TestNoPackageOfEverything(t *testing.T) {
	for _, imported := range imports(t) {
		for _, name := range []string{"util", "utils", "common", "helper", "helpers", "model", "models", "types"} {
			assert.NotEqual(t, name, filepath.Base(imported[0]))
		}
	}
}

// imports lists the project's packages with what they import; tests are left
// out.
func imports(t *testing.T) [][2]string {
	t.Helper()
	var list [][2]string
	err := filepath.WalkDir("..", func(path string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && (entry.Name() == "node_modules" || len(entry.Name()) > 2 && entry.Name()[0] == '.'):
			return filepath.SkipDir
		case !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go"):
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		from, err := filepath.Rel("..", filepath.Dir(path))
		for _, spec := range file.Imports {
			to, _ := strconv.Unquote(spec.Path.Value)
			list = append(list, [2]string{filepath.ToSlash(from), to})
		}
		return err
	})
	require.NoError(t, err)
	require.NotEmpty(t, list)
	return list
}
