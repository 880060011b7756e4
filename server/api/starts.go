package api

import (
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/server/judge"
	"latchkey/server/store"
)

func (a *API) registerStarts(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "record-start", Method: http.MethodPost, Path: "/cases/{id}/starts",
		Summary: "Record a start, and from which disk it came up"}, a.recordStart)
	registerForm(api, huma.Operation{
		OperationID: "record-start-capture", Method: http.MethodPost, Path: "/cases/{id}/starts/capture",
		Summary: "Record a start by a capture that was taken in the system that came up",
	}, map[string]*huma.Schema{
		"file": fileField("A capture of the disk that the system runs from"),
		"kind": textField("cold, warm or unknown"),
		"at":   textField("When it was started, as RFC 3339 has it; absent is now"),
		"note": textField("What else was seen"),
	}, a.recordStartCapture)
	huma.Register(api, huma.Operation{OperationID: "withdraw-start", Method: http.MethodDelete, Path: "/cases/{id}/starts/{start}",
		Summary: "Take back a start that was recorded by mistake"}, a.withdrawStart)
}

type startInput struct {
	CaseID
	IfMatch
	Body struct {
		judge.Seen
		Kind   string     `json:"kind" enum:"cold,warm,unknown" doc:"From power-off, or a restart"`
		At     *time.Time `json:"at,omitempty" doc:"When it was started; absent is now"`
		Failed string     `json:"failed,omitempty" maxLength:"500" doc:"What the screen said, when it did not come up"`
		Note   string     `json:"note,omitempty" maxLength:"2000" doc:"What else was seen"`
	}
}

type startOutput struct {
	Body struct {
		judge.Proof
		Case Case `json:"case"`
	}
}

// startedAt is when a machine was started: now where nobody says.
func startedAt(at *time.Time) (time.Time, error) {
	now := time.Now().UTC()
	if at == nil {
		return now, nil
	}
	if at.After(now.Add(time.Minute)) || at.Before(now.AddDate(-5, 0, 0)) {
		return now, huma.Error422UnprocessableEntity("at: expected when the machine was started, not in the future and within the last five years.")
	}
	return at.UTC(), nil
}

// recordStart records a start. One that failed leads back to the repair with what the
// screen said; one from the clone proves the case.
func (a *API) recordStart(ctx context.Context, in *startInput) (*startOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	at, err := startedAt(in.Body.At)
	if err != nil {
		return nil, err
	}
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	proof := &judge.Proof{From: "failed", Why: "It did not come up: " + in.Body.Failed}
	if in.Body.Failed == "" {
		if proof, err = a.judge.StartedFrom(ctx, c, in.Body.Seen); err != nil {
			return nil, a.problem(ctx, err)
		}
	}
	t := &store.Start{CaseID: in.ID, At: at, Kind: in.Body.Kind, Note: in.Body.Note}
	return a.keepStart(ctx, version, c, t, proof, store.Proof{Said: in.Body.Failed})
}

type startCaptureInput struct {
	CaseID
	IfMatch
	upload
}

// recordStartCapture takes a capture as proof of a start. One of the clone becomes its
// evidence.
func (a *API) recordStartCapture(ctx context.Context, in *startCaptureInput) (*startOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	t, err := in.start()
	if err != nil {
		return nil, err
	}
	f, err := in.file("file")
	if err != nil {
		return nil, err
	}
	taken, err := a.readCapture(ctx, f)
	if err != nil {
		return nil, err
	}
	defer taken.Close()
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	proof, err := a.judge.StartedCaptured(ctx, c, taken)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	var evidence *store.Piece
	if proof.From == "clone" {
		evidence = capturedPiece(in.ID, proof.From, f.Name, taken)
	}
	return a.keepStart(ctx, version, c, t, proof, store.Proof{By: evidence})
}

// start reads what the form says of the start itself.
func (in *startCaptureInput) start() (*store.Start, error) {
	t := &store.Start{CaseID: in.ID, Kind: "unknown", Note: in.Fields["note"]}
	switch kind := in.Fields["kind"]; kind {
	case "":
	case "cold", "warm", "unknown":
		t.Kind = kind
	default:
		return nil, huma.Error422UnprocessableEntity("kind: expected cold, warm or unknown.")
	}
	var at *time.Time
	if text := strings.TrimSpace(in.Fields["at"]); text != "" {
		parsed, err := time.Parse(time.RFC3339, text)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity("at: expected a time as RFC 3339 has it, such as 2026-11-24T14:05:00Z.")
		}
		at = &parsed
	}
	var err error
	t.At, err = startedAt(at)
	return t, err
}

// keepStart keeps what a start showed.
func (a *API) keepStart(ctx context.Context, version uint32, c *store.Case, t *store.Start, proof *judge.Proof,
	with store.Proof) (*startOutput, error) {
	t.Origin, t.Why, t.Who = proof.From, proof.Why, person(ctx).Name
	var err error
	if with.Learned, err = a.judge.Observe(ctx, c, t.Origin, t.At); err != nil {
		return nil, a.problem(ctx, err)
	}
	err = a.storing(ctx, func() error { return a.store.AddStart(ctx, version, t, with) })
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	changed, err := a.recheck(ctx, t.CaseID)
	if err != nil {
		return nil, err
	}
	out := &startOutput{}
	out.Body.Proof, out.Body.Case = *proof, changed.Body
	return out, nil
}

type withdrawStartInput struct {
	CaseID
	IfMatch
	Start uint64 `path:"start"`
}

func (a *API) withdrawStart(ctx context.Context, in *withdrawStartInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	if err := a.store.WithdrawStart(ctx, in.ID, in.Start, by(ctx, store.WhatStartBack, ""), version); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.get(ctx, &in.CaseID)
}
