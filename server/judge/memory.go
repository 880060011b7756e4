package judge

import (
	"context"
	"slices"
	"time"

	"latchkey/core/firmware"
	"latchkey/core/learn"
	"latchkey/server/store"
)

// ModelMemory is what other cases of a machine's model say of its firmware.
type ModelMemory struct {
	Model string      `json:"model"`
	Cases int64       `json:"cases" doc:"Other cases of the model"`
	Facts []ModelFact `json:"facts"`
}

// ModelFact is what they say of one choice of the firmware.
type ModelFact struct {
	Key     string       `json:"key"`
	Label   string       `json:"label"`
	Value   bool         `json:"value"`
	Known   bool         `json:"known" doc:"All of them say the same; else it counts as not known"`
	Told    bool         `json:"told" doc:"This case knows it already"`
	Differs bool         `json:"differs" doc:"This case was told otherwise"`
	From    []ModelTells `json:"from"`
}

// ModelTells is a case that says so.
type ModelTells struct {
	Case  uint64 `json:"case"`
	Title string `json:"title"`
	Value bool   `json:"value"`
	Start bool   `json:"start" doc:"A start that was seen says so; else a person told it"`
}

// Memory is what other cases of a case's model say of the firmware.
func (j *Judge) Memory(ctx context.Context, c *store.Case) (*ModelMemory, error) {
	all, cases, err := j.store.ToldOfModel(ctx, c.Model, c.ID)
	if err != nil {
		return nil, err
	}
	m := &ModelMemory{Model: c.Model, Cases: cases, Facts: []ModelFact{}}
	for _, choice := range firmware.Choices {
		f := ModelFact{Key: choice.Key, Label: choice.Label, From: []ModelTells{}}
		var seen []learn.Observation
		for _, t := range all {
			if t.Choice == choice.Key {
				seen = append(seen, learn.Observation{Case: t.CaseID, Value: t.Value})
				f.From = append(f.From, ModelTells{t.CaseID, t.Title, t.Value, t.Start})
			}
		}
		if len(seen) == 0 {
			continue
		}
		f.Value, f.Known = learn.Agreed(seen)
		told, has := c.Firmware.Choices[choice.Key]
		f.Told, f.Differs = has, has && f.Known && told != f.Value
		m.Facts = append(m.Facts, f)
	}
	return m, nil
}

// Observe says what a start of the machine tells, of necessity, of its firmware. It tells
// nothing where the disks may have changed since they were looked at.
func (j *Judge) Observe(ctx context.Context, c *store.Case, origin string, at time.Time) (map[string]bool, error) {
	if !slices.Contains([]string{"clone", "original", "failed"}, origin) || c.Model == "" {
		return nil, nil
	}
	clone := stored(c, "clone")
	if clone.Evidence == nil || clone.Evidence.TakenAt.After(at) {
		return nil, nil
	}
	marks, err := j.store.Marks(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	done := func(m store.Mark) bool { return m.State == store.MarkDone }
	if slices.ContainsFunc(store.InForce(marks, c.LatestEvidence()), done) {
		return nil, nil
	}
	a, err := j.assemble(ctx, c)
	if err != nil {
		return nil, err
	}
	back, err := j.room.simulating(ctx, a.machine, int64(2*len(firmware.Choices)))
	if err != nil {
		return nil, err
	}
	defer back()
	learned, _ := learn.Necessary(a.machine, learn.Seen(origin))
	return learned, nil
}
