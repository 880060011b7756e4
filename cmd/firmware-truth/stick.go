package main

import (
	"fmt"
	"os"
	"regexp"

	"latchkey/truth"
)

// fromStick repairs machines from the stick, and returns the command's exit.
func fromStick(pattern *regexp.Regexp, workers int, shown bool) int {
	list, err := truth.StickScenarios()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 2
	}
	good, all := 0, 0
	truth.OnStickAll(list, pattern, workers, func(r truth.Sticked) {
		all++
		name := fmt.Sprintf("%s: %s", r.Scenario.Firmware, r.Scenario.Name)
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
