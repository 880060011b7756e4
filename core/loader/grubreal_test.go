package loader_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/loader"
	"latchkey/internal/reference"
)

// Scripts at random, run by GRUB itself, as its developers build it for a running system
// (grub-emu): the entry that it starts when nobody chooses, and the words that it gives to
// the kernel, are held against what is read here.

// writer writes scripts of what menus are made of.
type writer struct {
	*rand.Rand
	b       strings.Builder
	entries int
	depth   int
	loose   bool // in a function, which is not run where it stands
}

var (
	someVars   = []string{"v1", "v2", "saved_entry", "next_entry", "feature_menuentry_id", "unset_one"}
	someValues = []string{"a", "b", "1", "2", "y", "''", `"$v1"`, `"x${v2}y"`, "$saved_entry", `"two words"`, `'$v1'`, `a\ b`}
)

func pick(r *rand.Rand, list []string) string { return list[r.IntN(len(list))] }

func (w *writer) line(format string, args ...any) { fmt.Fprintf(&w.b, format+"\n", args...) }

func (w *writer) condition() string {
	v := pick(w.Rand, someVars)
	one := pick(w.Rand, []string{
		`"${` + v + `}" = ` + pick(w.Rand, []string{"a", "b", "y", `""`}), "x$" + v + " = xy", `"$` + v + `" != "a"`, `-n "$` + v + `"`, `-z "${` + v + `}"`,
		`"${` + v + `}"`, "1 -eq 1", "2 -lt 1", "3 -ge 03", "-f $prefix/grubenv", "-s $prefix/empty", "-f $prefix/nothing", "-e $prefix/more.cfg",
	})
	switch w.IntN(8) {
	case 0:
		return "[ " + one + ` -a "$v1" = a ]`
	case 1:
		return "[ " + one + ` -o "$v2" = b ]`
	case 2:
		return "[ ! " + one + " ]"
	case 3:
		return pick(w.Rand, []string{"true", "false", "test -n x"})
	}
	return "[ " + one + " ]"
}

func (w *writer) statement() {
	if w.depth++; w.depth > 4 {
		w.depth--
		w.line("true")
		return
	}
	defer func() { w.depth-- }()
	switch w.IntN(13) {
	case 0, 1, 2:
		w.line("%s%s=%s", pick(w.Rand, []string{"set ", "", "set "}), pick(w.Rand, someVars), pick(w.Rand, someValues))
	case 3, 4:
		w.line("if %s; then", w.condition())
		w.statement()
		if w.IntN(3) == 0 {
			w.line("elif %s ; then", w.condition())
			w.statement()
		}
		if w.IntN(2) == 0 {
			w.line("else")
			w.statement()
		}
		w.line("  true\nfi")
	case 5:
		w.line("unset %s # gone", pick(w.Rand, someVars))
	case 6:
		w.line("load_env%s", pick(w.Rand, []string{"", " saved_entry", " --file $prefix/grubenv next_entry", " -f $prefix/nothing"}))
	case 7:
		w.line("set default=%s", pick(w.Rand, []string{"0", "1", "2", `"${saved_entry}"`, `"${next_entry}"`, "id3", `"entry 2"`, "9", `"1>0"`, `"sub>id4"`, "$v1"}))
	case 8:
		if !w.loose {
			w.line("source $prefix/%s", pick(w.Rand, []string{"more.cfg", "nothing"}))
		} else {
			w.line("true")
		}
	case 9:
		w.line("change%s", pick(w.Rand, []string{"", " a b", ` "$v1" c`, " $v2", ` "a b" y x`}))
	case 10:
		v := pick(w.Rand, someVars[:2])
		w.line("for %s in %s; do", v, pick(w.Rand, []string{"a b", `"$v1" c`, "$v2", `"a b" $v1 y`, ""}))
		w.statement()
		w.line("  true\ndone")
	default:
		w.menu()
	}
}

func (w *writer) menu() {
	if w.loose || w.entries > 8 {
		w.line("true")
		return
	}
	w.entries++
	n := w.entries
	title := pick(w.Rand, []string{fmt.Sprintf("'entry %d'", n), fmt.Sprintf(`"entry %d"`, n), fmt.Sprintf("'entry '%d", n)})
	id := pick(w.Rand, []string{"", fmt.Sprintf("--id id%d", n), fmt.Sprintf("$menuentry_id_option 'id%d'", n), "--class os --unrestricted"})
	if w.depth < 3 && w.IntN(4) == 0 {
		w.line("submenu %s --id sub {", title)
		w.depth++
		for range 1 + w.IntN(3) {
			w.menu()
		}
		w.depth--
		w.line("}")
		return
	}
	w.line("menuentry %s %s%s {", title, id, pick(w.Rand, []string{"", "", " more words", ` "$v1"`}))
	if w.IntN(4) == 0 {
		w.line("  set v2=\"$2$1x-$#\"")
	}
	if w.IntN(6) == 0 {
		w.line("  shift%s; v1=\"$1\"", pick(w.Rand, []string{"", " 2", " 9"}))
	}
	if w.IntN(3) == 0 {
		w.line("  set v1=%s", pick(w.Rand, someValues))
	}
	if w.IntN(4) == 0 {
		w.line("  if %s; then v2=c; fi", w.condition())
	}
	w.line("  @LOAD@ /k%d one $v1 \"[$v2]\" ${unset_one}end\n}", n)
}

// script is a whole menu.
func script(seed uint64) string {
	w := &writer{Rand: rand.New(rand.NewPCG(seed, 7))}
	w.line("set timeout=0")
	if w.IntN(3) > 0 {
		w.line("if [ x\"${feature_menuentry_id}\" = xy ]; then\n  menuentry_id_option=\"--id\"\nelse\n  menuentry_id_option=\"\"\nfi")
	}
	w.line("function change {")
	w.loose = true
	w.statement()
	w.loose = false
	if w.IntN(2) == 0 {
		w.line("  if %s; then return; fi", w.condition())
	}
	w.line("  v2=\"%s\"\n}", pick(w.Rand, []string{"changed", "$1", "$*", "$#$2"}))
	for range 3 + w.IntN(8) {
		w.statement()
	}
	w.depth = 0
	w.menu()
	return w.b.String()
}

var colours = regexp.MustCompile(`\x1b\[[0-9;]*[A-Za-z]`)

// emulated returns what GRUB's own interpreter loads when nobody chooses.
func emulated(t *testing.T, folder, text string) string {
	t.Helper()
	text = strings.ReplaceAll(text, "@LOAD@", "echo LOADS")
	text = regexp.MustCompile(`(?m)(echo LOADS.*)$`).ReplaceAllString(text, "$1\n  halt")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "grub.cfg"), []byte(text+"\necho\n"), 0o600))
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, "script", "-qc", "grub-emu -d "+folder, "/dev/null")
	cmd.Env = append(os.Environ(), "TERM=dumb", "COLUMNS=200")
	out, _ := cmd.CombinedOutput()
	for _, line := range strings.Split(colours.ReplaceAllString(string(out), ""), "\n") {
		if _, loads, ok := strings.Cut(line, "LOADS "); ok {
			return strings.TrimSpace(loads)
		}
	}
	t.Fatalf("GRUB's own program started nothing:\n%s\n%s", text, out)
	return ""
}

func TestMenusAsGRUBItselfRunsThem(t *testing.T) {
	reference.Need(t, "grub-emu", "script")
	folder := t.TempDir()
	env := []byte("# GRUB Environment Block\nsaved_entry=id2\nnext_entry=\nv1=from the block\n")
	env = append(env, []byte(strings.Repeat("#", 1024-len(env)))...)
	beside := map[string][]byte{"grubenv": env, "empty": {}, "more.cfg": []byte("set v2=sourced\nmenuentry 'from another file' --id more {\n  @LOAD@ /more $v2\n}\n")}
	for name, raw := range beside {
		raw = []byte(strings.ReplaceAll(string(raw), "@LOAD@", "echo LOADS"))
		raw = []byte(strings.ReplaceAll(string(raw), "$v2\n", "$v2\n  halt\n"))
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), raw, 0o600))
	}
	files := func(name string) ([]byte, bool, bool) {
		raw, ok := beside[filepath.Base(name)]
		return []byte(strings.ReplaceAll(string(raw), "@LOAD@", "linux")), ok, true
	}
	runs := uint64(300)
	if testing.Short() {
		runs = 15
	}
	sure := 0
	for seed := range runs {
		text := script(seed)
		c := loader.RunGRUBConfig([]byte(strings.ReplaceAll(text, "@LOAD@", "linux")), "/boot/grub", files)
		e, certain, err := c.DefaultEntry()
		require.NoError(t, err)
		if !certain || e.Submenu { // an empty submenu starts nothing, and waits for a key
			continue
		}
		got := strings.TrimSpace(e.Linux + " " + e.Options)
		if strings.Contains(got, "\x00") { // a word that is only known at the start
			continue
		}
		sure++
		assert.Equal(t, emulated(t, folder, text), got, "seed %d:\n%s", seed, text)
		if t.Failed() {
			return
		}
	}
	assert.Greater(t, sure, int(runs)*9/10, "of %d scripts little is left open", runs)
}
