// Package expected holds how every machine that real firmware was started on must end
// by the rules, for the tests of the packages that hold the rules.
package expected

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"

	"latchkey/capture"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/reference"
	"latchkey/truth"
)

// Update is set by a test to write the expectations anew.
var Update bool

// beside is a file of this folder that holds what is computed of every machine, which real
// firmware has been held against: a change is seen in its diff.
func beside(file string) string {
	_, here, _, _ := runtime.Caller(0)
	return filepath.Join(filepath.Dir(here), file)
}

// Prepared is a scenario with its machine as the check sees it.
type Prepared struct {
	truth.Scenario
	Machine machine.Machine
}

// quick are the scenarios whose disks are declared alone, all those that are made by
// the systems' own tools, too.
var quick, all = sync.OnceValues(func() ([]Prepared, error) { return prepare(false) }),
	sync.OnceValues(func() ([]Prepared, error) { return prepare(true) })

func prepare(made bool) ([]Prepared, error) {
	var scenarios []truth.Scenario
	for _, s := range truth.Scenarios() {
		if made || !slices.ContainsFunc(s.Drives, func(d truth.Drive) bool { return d.Make != nil }) {
			scenarios = append(scenarios, s)
		}
	}
	list, errs := make([]Prepared, len(scenarios)), make([]error, len(scenarios))
	var wg sync.WaitGroup
	turns := make(chan struct{}, 2)
	for i, s := range scenarios {
		wg.Go(func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			list[i], errs[i] = one(s)
		})
	}
	wg.Wait()
	if i := slices.IndexFunc(errs, func(err error) bool { return err != nil }); i >= 0 {
		return nil, fmt.Errorf("%s: %w", scenarios[i].Name, errs[i])
	}
	return list, nil
}

func one(s truth.Scenario) (Prepared, error) {
	dir, err := os.MkdirTemp("", "latchkey-machine-")
	if err != nil {
		return Prepared{}, err
	}
	defer os.RemoveAll(dir)
	description, err := s.Prepare(dir)
	if err != nil {
		return Prepared{}, err
	}
	m, err := capture.Load(description)
	return Prepared{s, m}, err
}

// Machines are all scenarios; they need the tools that make their disks, and no QEMU.
func Machines(t testing.TB) []Prepared { return need(t, all) }

// Quick are the scenarios that need no tool at all.
func Quick(t testing.TB) []Prepared { return need(t, quick) }

// Of are some scenarios, whatever makes their disks.
func Of(t testing.TB, scenarios ...truth.Scenario) []Prepared {
	return need(t, func() (list []Prepared, err error) {
		for _, s := range scenarios {
			p, err := one(s)
			if err != nil {
				return nil, err
			}
			list = append(list, p)
		}
		return list, nil
	})
}

func need(t testing.TB, prepared func() ([]Prepared, error)) []Prepared {
	t.Helper()
	list, err := prepared()
	if err != nil {
		reference.Lacks(t, "%v", err)
	}
	return list
}

// Outcome says how a machine's start ends, and what is found on the way, by the names
// of the rules.
func Outcome(t startup.Trace) string {
	way := string(t.Verdict)
	for _, part := range []struct{ name, value string }{
		{"reaches", string(t.Reaches)}, {"drive", t.Drive}, {"partition", strings.TrimLeft(fmt.Sprint(t.Partition), "0")},
		{"loader", t.Loader}, {"entry", t.Entry}, {"stage", string(t.Stage)}, {"shows", string(t.SymptomID)},
	} {
		if part.value != "" && part.value != string(t.Verdict) {
			way += ", " + part.name + " " + part.value
		}
	}
	for _, f := range t.Findings {
		way += fmt.Sprintf("\n\t%s: %s: %s", f.Drive, f.Severity, f.Rule)
	}
	for _, q := range t.Missing {
		way += "\n\tasks: " + q.ID
	}
	return way
}

// Outcomes asserts that machines of package truth end as they are expected to, in
// seconds and without QEMU. The tests of the rules' packages call it; -update, given to
// that of package expected with all machines, writes the expectations anew.
func Outcomes(t *testing.T, machines []Prepared) {
	t.Helper()
	if Update && (testing.Short() || truth.KernelFolder() == "") {
		t.Fatal("the expectations are written of all machines: without -short, and with LATCHKEY_KERNEL=$(scripts/kernel)")
	}
	got := map[string]string{}
	for _, p := range machines {
		got[string(p.Firmware)+": "+p.Name] = Outcome(startup.Simulate(p.Machine))
	}
	hold(t, "expectations.txt", got, len(machines) == len(truth.Scenarios()) && truth.KernelFolder() != "")
}

// hold asserts that what was computed is what a file expects, by the machines' names;
// whole is set where the file has no others.
func hold(t *testing.T, file string, got map[string]string, whole bool) {
	t.Helper()
	names := slices.Sorted(maps.Keys(got))
	if Update {
		var text strings.Builder
		for _, name := range names {
			fmt.Fprintf(&text, "%s\n\t%s\n\n", name, got[name])
		}
		if err := os.WriteFile(beside(file), []byte(text.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	raw, err := os.ReadFile(beside(file))
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]string{}
	for block := range strings.SplitSeq(strings.TrimSpace(string(raw)), "\n\n") {
		name, ends, _ := strings.Cut(block, "\n\t")
		want[name] = ends
	}
	for _, name := range names {
		if want[name] != got[name] {
			t.Errorf("%s is\n\t%s\nand is expected to be\n\t%s\n(go test ./internal/expected -update writes what is computed now)",
				name, got[name], want[name])
		}
	}
	for name := range want {
		if _, there := got[name]; !there && whole {
			t.Errorf("%s is no more", name)
		}
	}
}
