package truth

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"sync"
	"time"

	"latchkey/core/startup"
)

// Scenarios lists all scenarios. The markers are assembled; see Ready.
func Scenarios() []Scenario {
	all := slices.Concat(uefiScenarios(), armScenarios(), legacyScenarios())
	if KernelFolder() != "" {
		all = append(append(all, linuxScenarios()...), syslinuxScenarios()...)
	}
	if LayoutsFolder() != "" {
		all = append(all, layoutScenarios()...)
	}
	return append(all, comingUpScenarios()...)
}

// Ready reports what the machine lacks to try scenarios.
func Ready() error {
	var errs []error
	for _, tool := range []string{"qemu-system-x86_64", "qemu-system-aarch64", "nasm", armAssembler} {
		if _, err := exec.LookPath(tool); err != nil {
			errs = append(errs, err)
		}
	}
	for _, f := range firmwares[:len(firmwares)-1] {
		code, _ := f.files()
		if _, err := os.Stat(code); err != nil {
			errs = append(errs, err)
		}
	}
	if _, err := os.Stat(recordsFolder); err != nil {
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// Report is what became of a scenario.
type Report struct {
	Scenario Scenario
	Trace    startup.Trace
	Result   Result
	Differs  string // "" when both agree
	Err      error
	order    int // of the scenario among those that were run
}

// limit is how long a start may take; a hang costs it.
func (s *Scenario) limit() time.Duration {
	if s.Limit > 0 {
		return s.Limit
	}
	if s.Firmware == SeaBIOS && !s.Whole {
		return 12 * time.Second
	}
	return 90 * time.Second
}

// Run computes and tries a scenario. One that differs because nothing came in time, or its system
// waited in vain, gets another try: the machine that it runs on may have been busy.
func Run(s Scenario) Report {
	r := runWithin(s, s.limit())
	switch {
	case r.Differs == "":
	case r.Result.Ended == "hung" && s.limit() < 3*time.Minute:
		return runWithin(s, 3*s.limit())
	case r.Result.Ended == "shown":
		return runWithin(s, s.limit())
	}
	return r
}

func runWithin(s Scenario, limit time.Duration) Report {
	return s.report(func(dir string) (Result, error) { return s.Try(dir, limit) })
}

// report computes a scenario and holds it against a start of it, prepared in a folder.
func (s Scenario) report(start func(dir string) (Result, error)) (r Report) {
	r.Scenario = s
	dir, err := os.MkdirTemp("", "truth")
	if err != nil {
		r.Err = err
		return r
	}
	defer os.RemoveAll(dir)
	description, err := s.Prepare(dir)
	if err != nil {
		r.Err = fmt.Errorf("%s: %w", s.Name, err)
		return r
	}
	if r.Trace, r.Err = Compute(description); r.Err != nil {
		return r
	}
	if r.Result, r.Err = start(dir); r.Err == nil {
		r.Differs = s.Disagreement(r.Trace, r.Result)
	}
	return r
}

// RunAll runs scenarios side by side, by Run or a record's, and hands over each report as it comes.
func RunAll(scenarios []Scenario, workers int, run func(Scenario) Report, each func(Report)) {
	sideBySide(scenarios, workers, run, func(i int, r Report) {
		r.order = i
		each(r)
	})
}

// sideBySide does something with each of many, workers at a time, and hands over
// one result at a time as it comes.
func sideBySide[In, Out any](all []In, workers int, do func(In) Out, each func(int, Out)) {
	var group sync.WaitGroup
	var mu sync.Mutex
	work := make(chan int)
	for range workers {
		group.Go(func() {
			for i := range work {
				done := do(all[i])
				mu.Lock()
				each(i, done)
				mu.Unlock()
			}
		})
	}
	for i := range all {
		work <- i
	}
	close(work)
	group.Wait()
}
