package main

import (
	"errors"
	"fmt"
	"os"
	"time"

	"latchkey/truth"
)

// startAll starts the scenarios that are meant, writes the table where one is asked for, and
// returns the command's exit.
func (a *asked) startAll() int {
	var chosen []truth.Scenario
	for _, s := range truth.Scenarios() {
		if a.only.MatchString(s.Called()) {
			chosen = append(chosen, s)
		}
	}
	agree, open := 0, 0
	var reports []truth.Report
	truth.RunAll(chosen, a.workers, a.run, func(r truth.Report) {
		switch v := r.Verdict(); {
		case r.Err != nil:
			fmt.Printf("ERROR %s: %v\n", r.Scenario.Called(), r.Err)
		case v == truth.Open:
			open++
			fmt.Printf("open  %s: %s\n", r.Scenario.Called(), r.Differs)
		case v != truth.Agrees:
			fmt.Printf("DIFF  %s: %s\n", r.Scenario.Called(), r.Differs)
		default:
			agree++
			fmt.Printf("ok    %s: %s%s (%s)\n", r.Scenario.Called(), r.Trace.Verdict, r.Trace.Stage, r.Result.Ended)
		}
		reports = append(reports, r)
		if a.serial {
			fmt.Println(r.Result.Serial)
		}
	})
	fmt.Printf("%d of %d agree, %d are open\n", agree, len(chosen), open)
	exit := 0
	if agree+open != len(chosen) || agree == 0 {
		exit = 1
	}
	if a.table == "" {
		return exit
	}
	repaired, failed := a.repairAll()
	demand(a.write(reports, repaired))
	return max(exit, failed)
}

func (a *asked) write(reports []truth.Report, repaired []truth.Repaired) error {
	f, err := os.Create(a.table)
	if err != nil {
		return err
	}
	err = truth.WriteTable(f, reports, repaired, time.Now())
	return errors.Join(err, f.Close())
}

// repairAll repairs what does not start, and returns what became of it and the command's exit.
func (a *asked) repairAll() ([]truth.Repaired, int) {
	chosen, err := truth.Repairs(a.only)
	demand(err)
	started := 0
	var repaired []truth.Repaired
	truth.RepairAll(chosen, a.workers, a.repair, func(r truth.Repaired) {
		repaired = append(repaired, r)
		word := "FAILED"
		if r.Started {
			word = "ok"
			started++
		}
		fmt.Printf("%-6s %s: %s: %s %v\n", word, r.Scenario.Called(), truth.Actions(r.Plan), r.Result.Mark, r.Err)
		if a.serial {
			fmt.Println(r.Answer, r.Result.Serial)
		}
	})
	fmt.Printf("%d of %d start after their repair\n", started, len(chosen))
	if started != len(chosen) {
		return repaired, 1
	}
	return repaired, 0
}

// repairRandom repairs machines made at random, and returns the command's exit.
func repairRandom(seed, count uint64, workers int) int {
	started, failed := 0, 0
	truth.RepairAllRandom(seed, count, workers, func(seed uint64, r truth.Repaired) {
		switch {
		case errors.Is(r.Err, truth.ErrNoRepair):
		case r.Err != nil || !r.Started:
			failed++
			fmt.Printf("FAILED %s: %s: %s %v\n", r.Scenario.Called(), truth.Actions(r.Plan), r.Result.Mark, r.Err)
		default:
			started++
		}
	})
	fmt.Printf("%d of %d machines had a plan that goes by the disk alone: %d start after it, %d do not\n", started+failed, count,
		started, failed)
	return min(1, failed)
}
