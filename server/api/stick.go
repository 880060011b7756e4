package api

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/capture/planfile"
	"latchkey/core/command"
	"latchkey/core/repair"
	"latchkey/server/judge"
	"latchkey/server/store"
)

func (a *API) registerStick(api huma.API) {
	huma.Register(
		api,
		huma.Operation{
			OperationID: "get-stick-plan",
			Method:      http.MethodGet,
			Path:        "/cases/{id}/plan/stick",
			Summary:     "The plan as a file for the stick",
		},
		a.stickPlan,
	)
	huma.Register(
		api,
		huma.Operation{
			OperationID: "add-stick-record",
			Method:      http.MethodPost,
			Path:        "/cases/{id}/stick-record",
			Summary:     "Take what the stick did into the case's history",
		},
		a.addStickRecord,
	)
}

// forStick reports whether all steps of a plan have commands for a live Linux, or are done in
// the firmware's screens, and some have commands.
func forStick(p repair.Plan) bool {
	has := func(s repair.PlanStep, t repair.Toolbox) bool {
		return s.Toolbox == t || slices.ContainsFunc(s.Also, func(f repair.Form) bool { return f.Toolbox == t })
	}
	commands := 0
	for _, s := range p.Steps {
		switch {
		case has(s, repair.Linux):
			commands++
		case !has(s, repair.Firmware):
			return false
		}
	}
	return commands > 0
}

// stickPlan hands out the plan for the stick: its file names the disks and the steps.
func (a *API) stickPlan(ctx context.Context, in *CaseID) (*scriptOutput, error) {
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	marks, err := a.store.Marks(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	f, err := a.judge.StickPlan(ctx, c, store.InForce(marks, c.LatestEvidence()), time.Now())
	if errors.Is(err, judge.ErrNoStickPlan) {
		return nil, huma.Error409Conflict("There is " + err.Error() + ".")
	}
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	raw, err := f.Encode()
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	if err := a.store.Note(ctx, in.ID, by(ctx, store.WhatScript, planfile.Name+", SHA-256 "+sumOf(string(raw)))); err != nil {
		return nil, a.problem(ctx, err)
	}
	return attachment(planfile.Name, "application/json", raw), nil
}

type stickRecordInput struct {
	CaseID
	IfMatch
	Body struct {
		Steps  string `json:"steps,omitempty" maxLength:"262144" doc:"The file steps.json of the stick's folder"`
		Record string `json:"record,omitempty" maxLength:"262144" doc:"The file record.txt of the stick's folder"`
	}
}

type stickRecordOutput struct {
	Body struct {
		Added int `json:"added" doc:"Steps and lines that the case did not hold yet"`
	}
}

// maxRecordLines bounds the lines that are taken of a record.
const maxRecordLines = 300

// addStickRecord takes in what the stick did. The evidence of afterwards is in the captures
// that came with it: a step is told as history, with the time of the machine's clock.
func (a *API) addStickRecord(ctx context.Context, in *stickRecordInput) (*stickRecordOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	took := store.Sticked{Who: person(ctx).Name}
	if in.Body.Steps != "" {
		steps, err := planfile.ReadRecords(strings.NewReader(in.Body.Steps))
		if err != nil {
			return nil, huma.Error422UnprocessableEntity("steps: " + clean(err.Error()) + ".")
		}
		for _, s := range steps {
			took.Marks = append(
				took.Marks,
				store.Mark{Step: s.Key, Title: command.Clean(s.Title), State: s.State, Who: took.Who,
					Note: "On the stick. " + command.Clean(s.Now), At: before(s.Ended, c.LatestEvidence())},
			)
		}
	}
	lines := bufio.NewScanner(strings.NewReader(in.Body.Record))
	for lines.Scan() && len(took.Lines) < maxRecordLines {
		at, said, two := strings.Cut(strings.TrimSpace(lines.Text()), " ")
		if _, err := time.Parse(time.RFC3339, at); err != nil || !two {
			return nil, huma.Error422UnprocessableEntity(
				fmt.Sprintf(
					"record: line %d does not begin with a time, as in 2026-11-27T01:02:03Z.",
					len(took.Lines)+1,
				),
			)
		}
		took.Lines = append(took.Lines, command.Clean(at+" "+said))
	}
	if err := lines.Err(); err != nil {
		return nil, huma.Error422UnprocessableEntity("record: a line is longer than a record's.")
	}
	added, err := a.store.AddSticked(ctx, in.ID, version, took)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	out := &stickRecordOutput{}
	out.Body.Added = added
	return out, nil
}

// before is a time by the machine's clock, which may be ahead, and not after the evidence
// that tells how the step ended.
func before(at, evidence time.Time) time.Time {
	if limit := evidence.Add(-time.Second); at.After(limit) {
		return limit
	}
	return at
}
