package judge

import (
	"context"
	"fmt"

	"latchkey/capture/listing"
	"latchkey/core/compare"
	"latchkey/core/repair"
	"latchkey/server/store"
)

// Plan plans the repair of a case from what was done of it so far.
func (j *Judge) Plan(ctx context.Context, c *store.Case, marks []store.Mark, allowed []repair.Toolbox) (*repair.Session, error) {
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
	models := map[string]string{}
	for _, d := range c.Drives {
		models[d.Role] = d.Model
	}
	why := ""
	for i := range got.Disks {
		d := &got.Disks[i]
		switch fits, because := compare.Belongs(d.Contents(), d.Model, a.machine.Drives, models); fits {
		case "clone":
			return "", nil
		case "original":
			why = fmt.Sprintf("this output (%s) is of the original and not of the clone, %s. Run the command on the clone.", got.Format, because)
		}
	}
	return why, nil
}
