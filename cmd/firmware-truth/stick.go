package main

import (
	"fmt"
	"os"
	"regexp"
	"strings"

	"latchkey/truth"
)

// fromStick repairs machines from the stick, and returns the command's exit.
func fromStick(pattern *regexp.Regexp, workers int, shown bool) int {
	list, err := truth.StickScenarios(pattern)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 2
	}
	good, all := 0, 0
	truth.OnStickAll(list, workers, func(r truth.Sticked) {
		all++
		name := r.Scenario.Called()
		switch {
		case r.Err != nil:
			fmt.Printf("ERROR %s: %v\n", name, r.Err)
		case !r.Good():
			fmt.Printf("DIFF  %s: same answer %v, original kept %v, started %v (%s %s)\n%s\n", name, r.Same, r.Kept, r.Started, r.Result.Mark,
				r.Result.Ended, r.Result.Serial)
		default:
			good++
			fmt.Printf("ok    %s: first page after %.0f s\n", name, r.First.Seconds())
		}
		if shown {
			for _, page := range r.Shown {
				fmt.Println(page)
			}
		}
	})
	fmt.Printf("%d of %d were repaired from the stick and start\n", good, all)
	if good != all || all == 0 {
		return 1
	}
	return 0
}

// hardOnStick starts the stick in machines that make it hard, and returns the command's exit.
func hardOnStick(pattern *regexp.Regexp, workers int, pages bool) int {
	good, all := 0, 0
	truth.HardStarts(pattern, workers, func(h truth.Hard) {
		all++
		said := "BAD  "
		if h.Err == nil && h.Lacks == "" && h.Kept {
			good++
			said = "ok   "
		}
		fmt.Printf("%s %s: evidence after %.0f s; drives as before %v; lacks %q %v\n", said, h.Name, h.First.Seconds(), h.Kept, h.Lacks, h.Err)
		if pages || said == "BAD  " {
			fmt.Println(strings.Join(h.Shown, "\n"))
		}
	})
	fmt.Printf("%d of %d said what they were to say\n", good, all)
	if good < all || all == 0 {
		return 1
	}
	return 0
}

// cutOnStick cuts the power while the stick repairs machines, and returns the command's exit.
func cutOnStick(seed, count uint64, pattern *regexp.Regexp, workers int, pages bool) int {
	good, met, all := 0, 0, 0
	err := truth.RandomCuts(seed, count, pattern, workers, func(c truth.Cut) {
		all++
		if c.Met {
			met++
		}
		said := "ok   "
		if good++; !c.Good {
			good--
			said = "BAD  "
		}
		fmt.Printf("%s %d %s: %s, cut at %s (in the middle: %v); %s; sectors beside %v; original kept %v; %s %s %v\n", said, c.Seed, c.Name, c.Step,
			c.Where, c.Met, c.After, c.Beside, c.Kept, c.Result.Ended, c.Result.Mark, c.Err)
		if pages {
			fmt.Println(strings.Join(c.Shown, "\n"))
		}
	})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 2
	}
	fmt.Printf("%d of %d came out as they are to be, %d of them cut in the middle of a step\n", good, all, met)
	if good < all || all == 0 {
		return 1
	}
	return 0
}
