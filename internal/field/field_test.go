package field_test

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/field"
	"latchkey/internal/sample"
)

// update has the page written anew that lists them.
var update = flag.Bool("update", false, "write docs/field.md anew")

const page = "../../docs/field.md"

// rows are those of the page, by their group.
var (
	rowsMu sync.Mutex
	rows   = map[string][]string{}
)

func TestMain(m *testing.M) {
	flag.Parse()
	exit := m.Run()
	if only := flag.Lookup("test.run").Value.String(); exit == 0 && only == "" && len(rows) > 0 {
		exit = paged()
	}
	os.Exit(exit)
}

// paged holds the page against what was computed, or writes it.
func paged() int {
	var b strings.Builder
	b.WriteString("# Machines as technicians meet them\n\nFamilies that no firmware here can start, laid out as they lay themselves out, each with what an experienced technician says of it " +
		"and what is computed.\nThe layouts are from the families' documentation and from memory; what a technician says is common practice, no source, where none is named.\n" +
		"Registries are written by hivex, file systems by their own tools. This page is written by `go test ./internal/field -update`.\n")
	all := 0
	for _, name := range slices.Sorted(maps.Keys(rows)) {
		fmt.Fprintf(&b, "\n## %s\n\n| machine | a technician | Latchkey | first step |\n|---|---|---|---|\n%s", name, strings.Join(rows[name], ""))
		all += len(rows[name])
	}
	fmt.Fprintf(&b, "\n%d machines.\n", all)
	if *update && !testing.Short() {
		if err := os.WriteFile(page, []byte(b.String()), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		return 0
	}
	was, err := os.ReadFile(page)
	same := err == nil && string(was) == b.String()
	if testing.Short() { // A quick round leaves out those that a file system is mounted for.
		all := slices.Concat(slices.Collect(maps.Values(rows))...)
		isNew := func(row string) bool { return !strings.Contains(string(was), row) }
		same = err == nil && !slices.ContainsFunc(all, isNew)
	}
	if !same {
		fmt.Fprintln(os.Stderr, "docs/field.md is another than what is computed: go test ./internal/field -update writes it anew, and its difference shows what changed.", err)
		return 1
	}
	return 0
}

// TestMachinesAsTechniciansMeetThem holds each against what is said of it.
func TestMachinesAsTechniciansMeetThem(t *testing.T) {
	for group, of := range field.Groups {
		t.Run(group, func(t *testing.T) {
			t.Parallel()
			for _, m := range of(t) {
				t.Run(m.Name, func(t *testing.T) { hold(t, group, m) })
			}
		})
	}
}

func hold(t *testing.T, group string, m field.Met) {
	at := m.At(t)
	trace := startup.Simulate(at)
	said := everything(trace)
	told := fmt.Sprintf("A technician: %s\n%s %s | %s | %s", m.Says, trace.Verdict, trace.Stage, trace.Headline, said)
	assert.Equal(t, m.Verdict, trace.Verdict, told)
	assert.Equal(t, m.Stage, trace.Stage, told)
	for words := range strings.SplitSeq(m.Words, " | ") {
		assert.Contains(t, said, words, told)
	}
	plan := repair.Find(at)
	first, step := "-", "none"
	if len(plan.Steps) > 0 {
		first, step = plan.Steps[0].Action, plan.Steps[0].Title
	}
	computed := trace.Headline
	if len(trace.Missing) > 0 {
		computed += " " + trace.Missing[0].Text
	}
	listed(group, fmt.Sprintf("| %s | %s | %s | %s |\n", m.Name, strings.ReplaceAll(m.Says, `\`, `\\`), computed, step))
	if m.First != "" {
		assert.Equal(t, m.First, first, "%s\nplan: %v %s %s", told, actions(plan), plan.Verdict, plan.Reason)
		assert.Contains(t, plan.Reason, m.Remains)
	}
}

// listed has a row on the page, in its group.
func listed(group, row string) {
	rowsMu.Lock()
	defer rowsMu.Unlock()
	rows[group] = append(rows[group], row)
}

func actions(p repair.Plan) (all []string) {
	for _, s := range p.Steps {
		all = append(all, s.Action)
	}
	return all
}

// everything that a trace says, with its findings.
func everything(t startup.Trace) string {
	all := sample.Words(t)
	for _, f := range t.Findings {
		all += " | " + f.Text
	}
	return all
}
