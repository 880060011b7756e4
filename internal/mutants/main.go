// Command mutants changes a package in one place at a time and says which changes its
// tests do not notice. All changes stand in one program and are switched on one by one, so
// that nothing is built for each, and only tests that reach a change are run for it.
package main

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
)

// drawn gives the numbers of the mutants that are tried: all, or as many as are wanted,
// drawn evenly and the same at each run.
func drawn(count, most int) []int {
	ids := make([]int, count)
	for i := range ids {
		ids[i] = i + 1
	}
	if most > 0 && count > most {
		rand.New(rand.NewPCG(1, 1)).Shuffle(count, func(i, j int) { ids[i], ids[j] = ids[j], ids[i] })
		ids = ids[:most]
		slices.Sort(ids)
	}
	return ids
}

// covered runs the tests as they are and tells how much of the package they run.
func covered(pkg string, short bool, tests []string) (string, error) {
	profile, err := os.CreateTemp("", "covered-")
	if err != nil {
		return "", err
	}
	defer os.Remove(profile.Name())
	profile.Close()
	args := append([]string{"test", fmt.Sprint("-short=", short), "-count=1", "-coverpkg", pkg, "-coverprofile", profile.Name()}, tests...)
	if out, err := exec.Command("go", args...).CombinedOutput(); err != nil {
		return "", fmt.Errorf("the tests do not pass as they are:\n%s", out)
	}
	out, err := exec.Command("go", "tool", "cover", "-func", profile.Name()).Output()
	fields := strings.Fields(string(out))
	if err != nil || len(fields) == 0 {
		return "", fmt.Errorf("the coverage cannot be read: %w", err)
	}
	return fields[len(fields)-1], nil
}

// run tries the mutants of a package against its tests and those of the packages beside.
func run(pkg string, most int, short bool, beside []string) error {
	tests := append([]string{pkg}, beside...)
	share, err := covered(pkg, short, tests)
	if err != nil {
		return err
	}
	mutants, files, err := rewritten(pkg)
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "mutants-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	h, err := built(dir, files, len(mutants), short, tests)
	if err != nil {
		return err
	}
	ids := drawn(len(mutants), most)
	fates := tried(h, ids, mutants)
	fmt.Printf("%s: %d of %d mutants killed (%.1f %%), %d not reached; %d in all; %s of the statements covered\n", pkg,
		fates[killed], len(ids), 100*float64(fates[killed])/float64(max(len(ids), 1)), fates[unreached],
		len(mutants), share)
	return nil
}

// tried tries mutants, two at a time, says which are not noticed and counts what became of
// them.
func tried(h *house, ids []int, mutants []mutant) map[fate]int {
	var mu sync.Mutex
	var wg sync.WaitGroup
	fates := map[fate]int{}
	turns := make(chan struct{}, 2)
	for _, id := range ids {
		turns <- struct{}{}
		wg.Go(func() {
			defer func() { <-turns }()
			f := h.try(id)
			mu.Lock()
			defer mu.Unlock()
			fates[f]++
			if f != killed {
				fmt.Println(f, mutants[id-1])
			}
		})
	}
	wg.Wait()
	return fates
}

func main() {
	most := flag.Int("most", 0, "try as many mutants at most, drawn evenly; 0 is all")
	whole := flag.Bool("whole", false, "run the tests that write whole disks through loop devices, too")
	flag.Parse()
	if flag.NArg() < 1 {
		fmt.Fprintln(os.Stderr, "expected a package, such as ./core/firmware, and packages whose tests count, too")
		os.Exit(2)
	}
	if err := run(flag.Arg(0), *most, !*whole, flag.Args()[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
