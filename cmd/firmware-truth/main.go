// Command firmware-truth starts the generated disks in real firmware and holds
// the simulation against what happened.
package main

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"regexp"
	"time"

	"latchkey/truth"
)

func main() {
	only := flag.String("only", "", "regular expression over the scenarios' names")
	workers := flag.Int("workers", 2, "machines side by side")
	table := flag.String("table", "", "file to write the table of results to")
	serial := flag.Bool("serial", false, "print the serial port's output")
	flag.Parse()
	if err := truth.Ready(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	pattern, err := regexp.Compile(*only)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	var chosen []truth.Scenario
	for _, s := range truth.Scenarios() {
		if pattern.MatchString(string(s.Firmware) + ": " + s.Name) {
			chosen = append(chosen, s)
		}
	}
	agree, began := 0, time.Now()
	var reports []truth.Report
	truth.RunAll(chosen, *workers, func(r truth.Report) {
		switch {
		case r.Err != nil:
			fmt.Printf("ERROR %s: %s: %v\n", r.Scenario.Firmware, r.Scenario.Name, r.Err)
		case r.Differs != "":
			fmt.Printf("DIFF  %s: %s: %s\n", r.Scenario.Firmware, r.Scenario.Name, r.Differs)
		default:
			agree++
			fmt.Printf("ok    %s: %s: %s%s (%s)\n", r.Scenario.Firmware, r.Scenario.Name, r.Trace.Verdict, r.Trace.Stage, r.Result.Ended)
		}
		reports = append(reports, r)
		if *serial {
			fmt.Println(r.Result.Serial)
		}
	})
	fmt.Printf("%d of %d agree\n", agree, len(chosen))
	if *table != "" {
		if err := writeTable(*table, reports, time.Since(began)); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
	}
	if agree != len(chosen) {
		os.Exit(1)
	}
}

func writeTable(path string, reports []truth.Report, took time.Duration) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	err = truth.WriteTable(f, reports, time.Now(), took)
	return errors.Join(err, f.Close())
}
