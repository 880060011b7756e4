package truth_test

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/reference"
	"latchkey/truth"
)

var update = flag.Bool("update", false, "write the expectations anew")

// expectations holds what is computed of every machine, which real firmware has been
// held against: a change of an outcome is seen in the diff of this file.
const expectations = "testdata/expectations.txt"

// prepared is a scenario with its machine as the check sees it.
type prepared struct {
	truth.Scenario
	machine machine.Machine
}

var prepareAll = sync.OnceValues(func() ([]prepared, error) {
	scenarios := truth.Scenarios()
	all, errs := make([]prepared, len(scenarios)), make([]error, len(scenarios))
	var wg sync.WaitGroup
	turns := make(chan struct{}, 2)
	for i, s := range scenarios {
		wg.Go(func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			dir, err := os.MkdirTemp("", "latchkey-machine-")
			if err != nil {
				errs[i] = err
				return
			}
			defer os.RemoveAll(dir)
			description, err := s.Prepare(dir)
			if err != nil {
				errs[i] = fmt.Errorf("%s: %w", s.Name, err)
				return
			}
			all[i].Scenario = s
			all[i].machine, errs[i] = capture.Load(description)
		})
	}
	wg.Wait()
	i := slices.IndexFunc(errs, func(err error) bool { return err != nil })
	if i >= 0 {
		return nil, errs[i]
	}
	return all, nil
})

// machines are all scenarios; they need the tools that make their disks, and no QEMU.
func machines(t *testing.T) []prepared {
	t.Helper()
	all, err := prepareAll()
	if err != nil {
		reference.Lacks(t, "%v", err)
	}
	return all
}

// outcome says how a machine's start ends, and what is found on the way, by the names
// of the rules.
func outcome(t startup.Trace) string {
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

func TestEveryMachineEndsAsExpected(t *testing.T) {
	got := map[string]string{}
	for _, p := range machines(t) {
		got[string(p.Firmware)+": "+p.Name] = outcome(startup.Simulate(p.machine))
	}
	names := slices.Sorted(func(yield func(string) bool) {
		for name := range got {
			if !yield(name) {
				return
			}
		}
	})
	if *update {
		var text strings.Builder
		for _, name := range names {
			fmt.Fprintf(&text, "%s\n\t%s\n\n", name, got[name])
		}
		require.NoError(t, os.WriteFile(expectations, []byte(text.String()), 0o644))
	}
	raw, err := os.ReadFile(expectations)
	require.NoError(t, err)
	want := map[string]string{}
	for block := range strings.SplitSeq(strings.TrimSpace(string(raw)), "\n\n") {
		name, ends, _ := strings.Cut(block, "\n\t")
		want[name] = ends
	}
	for _, name := range names {
		assert.Equal(t, want[name], got[name], "%s\n(go test ./truth -run Expected -update writes what is computed now)", name)
	}
	for name := range want {
		if _, there := got[name]; !there && truth.KernelFolder() != "" {
			assert.Fail(t, "a machine is no more", name)
		}
	}
}

// What the named firmwares are said to choose is held by machines that real firmware
// was started on: nothing is left open on any, and each choice, made the other way,
// ends some machine in another way.
func TestEveryNamedChoiceIsHeldByAMachine(t *testing.T) {
	all := machines(t)
	for _, p := range all {
		trace := startup.Simulate(p.machine)
		assert.Equal(t, 1, trace.Worlds, "%s: %v", p.Name, trace.Missing)
	}
	for _, name := range []string{"edk2", "seabios"} {
		behaviour, ok := firmware.Named(name)
		require.True(t, ok)
		for _, c := range firmware.Choices {
			made, known := behaviour.Of(c).Get()
			if !known {
				continue
			}
			held := 0
			for _, p := range all {
				m := p.machine
				if now, _ := m.Firmware.Behaviour.Of(c).Get(); now != made ||
					m.Firmware.Behaviour.Of(c).Source().Structure != name {
					continue
				}
				if len(m.Drives) == 1 {
					m.DeviceOrder = nil // what the boot list shows is not in question otherwise
				}
				before := outcome(startup.Simulate(m))
				m.Firmware.Behaviour = m.Firmware.Behaviour.With(c, fact.Tell(!made))
				if outcome(startup.Simulate(m)) != before {
					held++
				}
			}
			assert.Positive(t, held, "%s of %s decides on no machine", c.Key, name)
		}
	}
}
