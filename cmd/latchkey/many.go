package main

import (
	"encoding/json"
	"fmt"
	"io"
	"runtime"

	"golang.org/x/sync/errgroup"

	"latchkey/capture"
	"latchkey/core/startup"
)

// checked is what became of one of many machines.
type checked struct {
	File  string `json:"file"`
	Error string `json:"error,omitempty"`
	*report
	headline string
	verdict  startup.Verdict
}

// checkMany judges machines side by side and prints a line for each, in the order
// of the files.
func checkMany(w io.Writer, files []string, asJSON bool) error {
	results := make([]checked, len(files))
	var group errgroup.Group
	group.SetLimit(runtime.NumCPU())
	for i, file := range files {
		group.Go(func() error {
			results[i] = checkOne(file)
			return nil
		})
	}
	_ = group.Wait() // no check fails as a whole
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	gravest := 0
	for _, r := range results {
		var err error
		switch {
		case asJSON:
			err = enc.Encode(r)
		case r.Error != "":
			_, err = fmt.Fprintf(w, "%s: %s\n", r.File, visible(r.Error))
		default:
			_, err = fmt.Fprintf(w, "%s: %s\n", r.File, visible(r.headline))
		}
		if err != nil {
			return err
		}
		gravest = graver(gravest, r.exit())
	}
	if gravest == 0 {
		return nil
	}
	return exitWith(gravest)
}

func checkOne(file string) checked {
	m, err := capture.Load(file)
	if err != nil {
		return checked{File: file, Error: err.Error()}
	}
	trace := startup.Simulate(m)
	r := reportOf(trace)
	return checked{File: file, report: &r, headline: trace.Headline, verdict: trace.Verdict}
}

func (c *checked) exit() int {
	switch {
	case c.Error != "":
		return exitBad
	case c.verdict == startup.Starts:
		return 0
	case c.verdict == startup.Depends:
		return exitDepends
	}
	return exitNot
}

// graver returns the graver of two exits: bad input, not from the clone, depends.
func graver(a, b int) int {
	weight := map[int]int{0: 0, exitDepends: 1, exitNot: 2, exitBad: 3}
	if weight[b] > weight[a] {
		return b
	}
	return a
}
