package judge

import (
	"context"
	"fmt"
	"strings"

	"latchkey/capture/listing"
	"latchkey/core/compare"
	"latchkey/core/repair"
	"latchkey/server/store"
)

// Plan plans the repair of a case from what was done of it so far.
func (j *Judge) Plan(ctx context.Context, c *store.Case, marks []store.Mark,
	allowed []repair.Toolbox) (*repair.Session, error) {
	a, err := j.assemble(ctx, c)
	if err != nil {
		return nil, err
	}
	var p repair.Progress
	for _, m := range marks {
		switch m.State {
		case store.MarkDone:
			p.Done = append(p.Done, m.Step)
		case store.MarkFailed, store.MarkSkipped:
			p.Failed = append(p.Failed, m.Step)
		}
	}
	back, err := j.room.simulating(ctx, a.machine, planTimes)
	if err != nil {
		return nil, err
	}
	defer back()
	s := repair.Continue(a.machine, p, allowed...)
	return &s, nil
}

// OfAnotherDisk reads a command's output that was pasted for a step, and says so
// when it is of the original and not of the clone; "" when it fits, or tells of no
// disk.
func (j *Judge) OfAnotherDisk(ctx context.Context, c *store.Case, pasted string) (string, error) {
	got, err := listing.Read("", []byte(pasted), "")
	if err != nil || len(got.Disks) == 0 {
		return "", nil // no listing of disks: what a command answered
	}
	a, err := j.assemble(ctx, c)
	if err != nil {
		return "", err
	}
	why := ""
	for i := range got.Disks {
		d := &got.Disks[i]
		switch fits, because := compare.Belongs(d.Contents(), d.Model, a.machine.Drives, models(c)); fits {
		case "clone":
			return "", nil
		case "original":
			why = fmt.Sprintf("this output (%s) is of the original and not of the clone, %s. Run the command on the clone.", got.Format, because)
		}
	}
	return why, nil
}

// failureWords stand in the answers of commands that did not do their work.
var failureWords = []string{"error", "failed", "failure", "cannot", "can't", "denied", "not found", "no such", "is not here", "not valid", "unable", "invalid"}

// Remark judges what was pasted for a step: what it is recognised as, and whether
// it speaks of a failure; "" when there is nothing to say of it.
func (j *Judge) Remark(pasted string) string {
	if pasted == "" {
		return ""
	}
	if known, ok := j.remarks.get(pasted); ok {
		return known
	}
	said := remark(pasted)
	j.remarks.add(pasted, said, int64(len(pasted)+len(said)))
	return said
}

func remark(pasted string) string {
	if got, err := listing.Read("", []byte(pasted), ""); err == nil && len(got.Disks) > 0 {
		return fmt.Sprintf("Recognised as %s; it tells of %d disks. Add it on the Evidence screen to have the plan made from it.", got.Format, len(got.Disks))
	}
	for line := range strings.Lines(pasted) {
		for _, word := range failureWords {
			if strings.Contains(strings.ToLower(line), word) {
				return "It speaks of a failure: " + strings.TrimSpace(line)
			}
		}
	}
	return ""
}
