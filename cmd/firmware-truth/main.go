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
	table := flag.String("table", "", "file to write the table of results to; with -only Layout, that section of it")
	serial := flag.Bool("serial", false, "print the serial port's output")
	repairs := flag.Bool("repair", false, "repair the machines that do not start, in a live Linux, and start them again")
	random := flag.Uint64("random", 0, "start so many machines that are made at random; with -repair, what their plans leave")
	menus := flag.Bool("menus", false, "with -random: menus of a boot loader that puts them together of files")
	systems := flag.Bool("systems", false, "with -random: real Debians that come up by their mount table and kernel line")
	searches := flag.Bool("searches", false, "with -random: GRUB's searches for what it starts")
	seed := flag.Uint64("seed", 1, "the first of them")
	sweep := flag.Bool("sweep", false, "start machines of which one byte is another one; -only chooses the structures")
	onStick := flag.Bool("stick", false, "repair the machines that do not start from the stick, as a person would, and start them without it")
	cuts := flag.Uint64("cuts", 0, "with -stick: cut the power so many times in the middle of a step, from -seed on")
	hard := flag.Bool("hard", false, "with -stick: start it in machines with failing, late, large or equal drives, and little memory")
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
	if *onStick && *cuts > 0 {
		os.Exit(cutOnStick(*seed, *cuts, pattern, *workers, *serial))
	}
	if *onStick && *hard {
		os.Exit(hardOnStick(pattern, *workers, *serial))
	}
	if *onStick {
		os.Exit(fromStick(pattern, *workers, *serial))
	}
	if *random > 0 && *menus {
		os.Exit(tally(*serial, func(each func(truth.Tried)) { truth.TryMenus(*seed, *random, *workers, each) }))
	}
	if *random > 0 && *systems {
		os.Exit(tally(*serial, func(each func(truth.Tried)) { truth.TrySystems(*seed, *random, *workers, each) }))
	}
	if *random > 0 && *searches {
		os.Exit(tally(*serial, func(each func(truth.Tried)) { truth.TryGRUBs(*seed, *random, *workers, each) }))
	}
	if *random > 0 && *repairs {
		os.Exit(repairRandom(*seed, *random, *workers))
	}
	if *random > 0 {
		os.Exit(tryRandom(*seed, *random, pattern, *workers, *serial))
	}
	if *repairs {
		os.Exit(repairAll(pattern, *workers, *serial, *table))
	}
	var chosen []truth.Scenario
	if *sweep {
		os.Exit(tally(*serial, func(each func(truth.Tried)) { truth.Sweep(pattern, *workers, each) }))
	}
	for _, s := range truth.Scenarios() {
		if pattern.MatchString(s.Called()) {
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
	if *table != "" && *only != "" {
		if err := rewrite(*table, func(page string) (string,
			error) {
			return truth.WithLayouts(page, reports)
		}); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
	} else if *table != "" {
		repaired, err := repairable(*workers)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
		if err := writeTable(*table, reports, repaired, time.Since(began)); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
	}
	if agree != len(chosen) {
		os.Exit(1)
	}
}

// tryRandom starts machines made at random, and returns the command's exit.
func tryRandom(seed, count uint64, pattern *regexp.Regexp, workers int, serial bool) int {
	return tally(serial, func(each func(truth.Tried)) {
		truth.TryAll(seed, count, pattern, workers, func(_ uint64, t truth.Tried) { each(t) })
	})
}

// tally counts what became of machines, and tells which differ.
func tally(serial bool, try func(each func(truth.Tried))) int {
	agree, open, differ := 0, 0, 0
	try(func(t truth.Tried) {
		if tried := agree + open + differ; tried%20 == 19 {
			fmt.Fprintf(os.Stderr, "%d tried, %d differ\n", tried+1, differ)
		}
		switch {
		case t.Err != nil:
			differ++
			fmt.Printf("ERROR %s: %v\n", t.Scenario.Name, t.Err)
		case t.Open:
			open++
		case t.Differs != "":
			differ++
			fmt.Printf("DIFF  %s %s: %s\n", t.Scenario.Firmware, t.Scenario.Name, t.Differs)
			if serial {
				fmt.Println(t.Result.Serial)
			}
		default:
			agree++
		}
	})
	fmt.Printf("%d agree, %d are open, %d differ\n", agree, open, differ)
	return min(1, differ)
}

// repairRandom repairs machines made at random, and returns the command's exit.
func repairRandom(seed, count uint64, workers int) int {
	started, failed := 0, 0
	truth.RepairAllRandom(seed, count, workers, func(seed uint64, r truth.Repaired) {
		switch {
		case errors.Is(r.Err, truth.ErrNoRepair):
		case r.Err != nil || !r.Started:
			failed++
			fmt.Printf("FAILED %s %s: %s: %s %v\n", r.Scenario.Firmware, r.Scenario.Name, truth.Actions(r.Plan), r.Result.Mark, r.Err)
		default:
			started++
		}
	})
	fmt.Printf("%d of %d machines had a plan that goes by the disk alone: %d start after it, %d do not\n", started+failed, count,
		started, failed)
	return min(1, failed)
}

// repairAll repairs what does not start, and returns the command's exit.
func repairAll(pattern *regexp.Regexp, workers int, serial bool, table string) int {
	chosen, err := truth.Repairs(pattern)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 2
	}
	started := 0
	var repaired []truth.Repaired
	truth.RepairAll(chosen, workers, func(r truth.Repaired) {
		repaired = append(repaired, r)
		word := "FAILED"
		if r.Started {
			word = "ok"
			started++
		}
		fmt.Printf("%-6s %s: %s: %s: %s %v\n", word, r.Scenario.Firmware, r.Scenario.Name, truth.Actions(r.Plan), r.Result.Mark, r.Err)
		if serial {
			fmt.Println(r.Answer, r.Result.Serial)
		}
	})
	fmt.Printf("%d of %d start after their repair\n", started, len(chosen))
	if table != "" {
		if err := rewrite(table, func(page string) (string,
			error) {
			return truth.WithRepairs(page, repaired)
		}); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 2
		}
	}
	if started != len(chosen) {
		return 1
	}
	return 0
}

// rewrite writes a section of the page of results anew.
func rewrite(path string, section func(page string) (string, error)) error {
	page, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	text, err := section(string(page))
	if err != nil {
		return err
	}
	return os.WriteFile(path, []byte(text), 0o644)
}

// repairable repairs everything that can be.
func repairable(workers int) ([]truth.Repaired, error) {
	all, err := truth.Repairs(regexp.MustCompile(""))
	if err != nil {
		return nil, err
	}
	var repaired []truth.Repaired
	truth.RepairAll(all, workers, func(r truth.Repaired) {
		fmt.Printf("repair %v %s: %s %v\n", r.Started, r.Scenario.Name, r.Result.Mark, r.Err)
		repaired = append(repaired, r)
	})
	return repaired, nil
}

func writeTable(path string, reports []truth.Report, repaired []truth.Repaired, took time.Duration) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	err = truth.WriteTable(f, reports, repaired, time.Now(), took)
	return errors.Join(err, f.Close())
}
