// Command firmware-truth starts the generated disks in real firmware and holds
// the simulation against what happened.
package main

import (
	"flag"
	"fmt"
	"os"
	"regexp"

	"latchkey/truth"
)

func main() {
	only := flag.String("only", "", "regular expression over the scenarios' names")
	workers := flag.Int("workers", 2, "machines side by side")
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
	agree := 0
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
		if *serial {
			fmt.Println(r.Result.Serial)
		}
	})
	fmt.Printf("%d of %d agree\n", agree, len(chosen))
	if agree != len(chosen) {
		os.Exit(1)
	}
}
