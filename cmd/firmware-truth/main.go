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

// asked is what the command line asks for.
type asked struct {
	only    *regexp.Regexp
	workers int
	serial  bool
	seed    uint64
	table   string
	run     func(truth.Scenario) truth.Report
	repair  func(truth.Scenario) truth.Repaired
}

func main() {
	a := asked{run: truth.Run, repair: truth.Repair}
	only := flag.String("only", "", "regular expression over the scenarios' names")
	flag.IntVar(&a.workers, "workers", 2, "machines side by side")
	flag.StringVar(&a.table, "table", "", "file to write the table of results to: all that is started, and repaired and started")
	record := flag.String("record", "", "file that keeps what was started: what stands in it is not started again, "+
		"but computed anew and held against that start")
	flag.BoolVar(&a.serial, "serial", false, "print the serial port's output")
	repairs := flag.Bool("repair", false, "repair the machines that do not start, in a live Linux, and start them again")
	random := flag.Uint64("random", 0, "start so many machines that are made at random; with -repair, what their plans leave")
	menus := flag.Bool("menus", false, "with -random: menus of a boot loader that puts them together of files")
	systems := flag.Bool("systems", false, "with -random: real Debians that come up by their mount table and kernel line")
	searches := flag.Bool("searches", false, "with -random: GRUB's searches for what it starts")
	flag.Uint64Var(&a.seed, "seed", 1, "the first of them")
	sweep := flag.Bool("sweep", false, "start machines of which one byte is another one; -only chooses the structures")
	onStick := flag.Bool("stick", false, "repair the machines that do not start from the stick, as a person would, and start them without it")
	cuts := flag.Uint64("cuts", 0, "with -stick: cut the power so many times in the middle of a step, from -seed on")
	hard := flag.Bool("hard", false, "with -stick: start it in machines with failing, late, large or equal drives, and little memory")
	flag.Parse()
	demand(truth.Ready())
	var err error
	a.only, err = regexp.Compile(*only)
	demand(err)
	if *record != "" {
		kept, err := truth.OpenRecord(*record)
		demand(err)
		a.run, a.repair = kept.Run, kept.Repair
	}
	switch {
	case *onStick && *cuts > 0:
		os.Exit(cutOnStick(a.seed, *cuts, a.only, a.workers, a.serial))
	case *onStick && *hard:
		os.Exit(hardOnStick(a.only, a.workers, a.serial))
	case *onStick:
		os.Exit(fromStick(a.only, a.workers, a.serial))
	case *random > 0 && *menus:
		os.Exit(a.tally(func(each func(truth.Tried)) { truth.TryMenus(a.seed, *random, a.workers, each) }))
	case *random > 0 && *systems:
		os.Exit(a.tally(func(each func(truth.Tried)) { truth.TrySystems(a.seed, *random, a.workers, each) }))
	case *random > 0 && *searches:
		os.Exit(a.tally(func(each func(truth.Tried)) { truth.TryGRUBs(a.seed, *random, a.workers, each) }))
	case *random > 0 && *repairs:
		os.Exit(repairRandom(a.seed, *random, a.workers))
	case *random > 0:
		os.Exit(a.tally(func(each func(truth.Tried)) {
			truth.TryAll(a.seed, *random, a.only, a.workers, func(_ uint64, t truth.Tried) { each(t) })
		}))
	case *sweep:
		os.Exit(a.tally(func(each func(truth.Tried)) { truth.Sweep(a.only, a.workers, each) }))
	case *repairs:
		_, exit := a.repairAll()
		os.Exit(exit)
	}
	os.Exit(a.startAll())
}

// demand ends the command with what is wrong.
func demand(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
}

// tally counts what became of machines, tells which differ, and returns the command's exit.
func (a *asked) tally(try func(each func(truth.Tried))) int {
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
			if a.serial {
				fmt.Println(t.Result.Serial)
			}
		default:
			agree++
		}
	})
	fmt.Printf("%d agree, %d are open, %d differ\n", agree, open, differ)
	return min(1, differ)
}
