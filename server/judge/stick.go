package judge

import (
	"context"
	"errors"
	"fmt"
	"time"

	"latchkey/capture/planfile"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/server/store"
)

// ErrNoStickPlan is wrapped by why a case has no plan for the stick.
var ErrNoStickPlan = errors.New("no plan for the stick")

// StickPlan is the repair of a case as the stick carries it out: by the commands of a live
// Linux and in the firmware's screens alone, on the very disks of the case.
func (j *Judge) StickPlan(
	ctx context.Context,
	c *store.Case,
	marks []store.Mark,
	now time.Time,
) (planfile.File, error) {
	f := planfile.File{Made: now.UTC(), Case: c.Title, Answers: map[string]string{}}
	session, err := j.Plan(ctx, c, marks, []repair.Toolbox{repair.Linux, repair.Firmware})
	if err != nil {
		return f, err
	}
	if session.Verdict != startup.Starts || len(session.Steps) == 0 {
		return f, fmt.Errorf("%w: %s", ErrNoStickPlan, session.Reason)
	}
	for _, s := range session.Steps {
		f.Steps = append(f.Steps, planfile.Step{Key: s.Key, Title: s.Title})
	}
	a, err := j.assemble(ctx, c)
	if err != nil {
		return f, err
	}
	for question, answer := range a.machine.Answers {
		f.Answers[question] = answer
	}
	for i := range a.machine.Drives {
		d := &a.machine.Drives[i]
		if d.Role != machine.RoleOriginal && d.Role != machine.RoleClone || d.Contents == nil {
			continue
		}
		bytes, known := d.Contents.Size()
		if !known || d.Contents.Rounded {
			if d.Role == machine.RoleClone {
				return f, fmt.Errorf(
					"%w: the clone's capacity is not known to the byte, by which the stick tells it from others. Take a capture of it",
					ErrNoStickPlan,
				)
			}
			continue // an original that was told of is not looked for
		}
		id, _ := d.Contents.Layout.DiskID().Get()
		f.Drives = append(
			f.Drives,
			planfile.Drive{Role: d.Role, Bytes: bytes, ID: id, Serial: j.serialOf(ctx, c, string(d.Role))},
		)
	}
	return f, nil
}
