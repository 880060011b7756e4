package judge

import (
	"context"

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
