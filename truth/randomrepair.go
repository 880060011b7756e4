package truth

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"latchkey/core/repair"
	"latchkey/core/startup"
)

// onDisk are the actions whose commands go by the disk and by no device of a
// partition: they can be carried out on an image, without a running Linux of its own.
var onDisk = []string{"rebuild-table", "correct-table", "restore-primary", "rewrite-backup", "protective-mbr", "unhide",
	"partition-type", "set-active", "boot-code", "copy-boot-sector", "copy-fat", "hidden-sectors"}

// ErrNoRepair says that a random machine gives nothing to repair: it starts, or it has no
// plan whose commands go by the disk alone.
var ErrNoRepair = errors.New("nothing to carry out")

// RepairRandom takes the random machine of a seed; where it does not start and has a plan,
// the plan's commands are carried out on the image as they stand, and the machine is started
// in real firmware.
func RepairRandom(seed uint64) (r Repaired) {
	r.Scenario = Random(seed)
	dir, err := os.MkdirTemp("", "truth")
	if err != nil {
		r.Err = err
		return r
	}
	defer os.RemoveAll(dir)
	s := &r.Scenario
	if r.Plan, r.Err = s.plan(dir, repair.Linux); r.Err != nil {
		return r
	}
	r.Err = ErrNoRepair
	if len(r.Plan.Steps) == 0 || r.Plan.Verdict != startup.Starts {
		return r
	}
	clone := slices.IndexFunc(s.Drives, func(d Drive) bool { return d.Role == "clone" })
	if clone < 0 || !OnDiskAlone(r.Plan) {
		return r
	}
	if r.Answer, r.Err = CarryOut(filepath.Join(dir, s.Drives[clone].Name+".img"), r.Plan); r.Err != nil {
		return r
	}
	if r.Result, r.Err = s.Try(dir, s.limit()); r.Err == nil {
		r.Started = r.startedFromClone()
	}
	return r
}

// OnDiskAlone reports whether all of a plan's commands go by the disk alone.
func OnDiskAlone(plan repair.Plan) bool {
	return !slices.ContainsFunc(plan.Steps, func(s repair.PlanStep) bool { return !slices.Contains(onDisk, s.Action) })
}

// CarryOut runs a plan's lines on an image, and returns what a line said that failed. Finding
// the drive and saving are left out: an image has neither a name nor a serial number.
func CarryOut(image string, plan repair.Plan) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	for _, step := range plan.Steps {
		for _, c := range step.Commands {
			if strings.Contains(c.Text, "lsblk") || strings.Contains(c.Text, "before-") {
				continue
			}
			cmd := exec.CommandContext(ctx, "sh", "-ec", "clone="+image+"\n"+c.Text)
			cmd.Dir = filepath.Dir(image)
			cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin", "LC_ALL=C")
			if out, err := cmd.CombinedOutput(); err != nil {
				return string(out), fmt.Errorf("%s: %s: %w\n%s", step.Action, c.Text, err, out)
			}
		}
	}
	return "", nil
}

// RepairAllRandom repairs machines of seeds in a row, workers at a time.
func RepairAllRandom(from, count uint64, workers int, each func(seed uint64, r Repaired)) {
	seeds := make([]uint64, count)
	for i := range seeds {
		seeds[i] = from + uint64(i)
	}
	sideBySide(seeds, workers, RepairRandom, func(i int, r Repaired) { each(seeds[i], r) })
}
