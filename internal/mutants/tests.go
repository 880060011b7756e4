package main

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"latchkey/internal/mutants/switched"
)

// test is one test function of a package, with what it does to the mutants as they are.
type test struct {
	program *program
	name    string
	takes   time.Duration
	reaches []byte // by mutant: 1 where its place is reached
}

// program is a package's tests, built with all mutants in it.
type program struct {
	path, dir string
	order     int
	short     bool // without the tests that write whole disks
}

// house is where the changed files and the tests' programs lie.
type house struct {
	dir   string
	most  int // the highest number of a mutant
	tests []*test
}

// built builds the tests of some packages with the changed files in the place of the
// package's own, and measures each test.
func built(dir string, files map[string][]byte, most int, short bool, tests []string) (*house, error) {
	h := &house{dir: dir, most: most}
	overlay, err := h.overlay(files)
	if err != nil {
		return nil, err
	}
	for i, pkg := range tests {
		p := &program{path: filepath.Join(dir, fmt.Sprint("tests", i)), order: i, short: short}
		out, err := exec.Command("go", "list", "-f", "{{.Dir}}", pkg).Output()
		if err != nil {
			return nil, err
		}
		p.dir = strings.TrimSpace(string(out))
		build := exec.Command("go", "test", "-c", "-vet=off", "-overlay", overlay, "-o", p.path, pkg)
		if out, err := build.CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%s does not compile with its mutants:\n%s", pkg, out)
		}
		if _, err := os.Stat(p.path); err != nil { // a package without tests
			continue
		}
		if err := h.measure(p); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(h.tests, func(a, b *test) int {
		return cmp.Or(cmp.Compare(a.takes/time.Second, b.takes/time.Second), cmp.Compare(a.program.order,
			b.program.order))
	})
	return h, nil
}

// overlay writes the changed files and what tells the compiler of them.
func (h *house) overlay(files map[string][]byte) (string, error) {
	replace := map[string]string{}
	for path, content := range files {
		changed := filepath.Join(h.dir, filepath.Base(path))
		if err := os.WriteFile(changed, content, 0o600); err != nil {
			return "", err
		}
		replace[path] = changed
	}
	text, err := json.Marshal(map[string]map[string]string{"Replace": replace})
	if err != nil {
		return "", err
	}
	overlay := filepath.Join(h.dir, "overlay.json")
	return overlay, os.WriteFile(overlay, text, 0o600)
}

// measure runs each test of a program as it is.
func (h *house) measure(p *program) error {
	list := exec.Command(p.path, "-test.list", "^(Test|Example|Fuzz)")
	list.Dir = p.dir
	names, err := list.Output()
	if err != nil {
		return err
	}
	for _, name := range strings.Fields(string(names)) {
		if slices.ContainsFunc(h.tests, func(t *test) bool { return t.name == name }) {
			continue // several packages hold themselves to the same expectations
		}
		seen := filepath.Join(h.dir, "seen")
		if err := os.WriteFile(seen, make([]byte, h.most+1), 0o600); err != nil {
			return err
		}
		start := time.Now()
		if out, err := p.run(name, time.Hour, switched.Seen+"="+seen); err != nil {
			return fmt.Errorf("%s does not pass as it is:\n%s", name, out)
		}
		reaches, err := os.ReadFile(seen)
		if err != nil {
			return err
		}
		h.tests = append(h.tests, &test{p, name, time.Since(start), reaches})
	}
	return nil
}

// run runs tests of a program, by a pattern of their names.
func (p *program) run(names string, most time.Duration, environment string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(context.Background(), most)
	defer cancel()
	cmd := exec.CommandContext(ctx, p.path, fmt.Sprint("-test.short=", p.short), "-test.failfast", "-test.run", "^("+names+")$")
	cmd.Dir, cmd.Env, cmd.WaitDelay = p.dir, append(os.Environ(), environment), time.Second
	out, err := cmd.CombinedOutput()
	if bytes.Contains(out, []byte("no tests to run")) {
		return out, errors.New("no test was run")
	}
	return out, err
}

// fate is what became of a mutant.
type fate string

const (
	killed    fate = "killed"
	lived     fate = "LIVED"
	unreached fate = "NOT REACHED"
)

// try runs the tests that reach a mutant, quick ones first, until one fails. A change that
// makes a loop endless is noticed by the time that it takes.
func (h *house) try(id int) fate {
	f := unreached
	for _, t := range h.tests {
		if t.reaches[id] == 0 {
			continue
		}
		f = lived
		if _, err := t.program.run(t.name, 5*t.takes+10*time.Second, fmt.Sprint(switched.Made, "=", id)); err != nil {
			return killed
		}
	}
	return f
}
