package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/server/judge"
)

type checkOutput struct{ Body judge.Check }

func (a *API) registerChecks(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "check-case", Method: http.MethodGet, Path: "/cases/{id}/check", Summary: "Run the start check"}, a.check)
	huma.Register(api, huma.Operation{OperationID: "what-if", Method: http.MethodPost, Path: "/cases/{id}/what-if", Summary: "Run the start check on a changed machine, saving nothing",
		Metadata: reads}, a.whatIf)
	huma.Register(api, huma.Operation{OperationID: "find-messages", Method: http.MethodGet, Path: "/messages", Summary: "Look up what a screen said"}, a.messages)
	huma.Register(api, huma.Operation{OperationID: "list-partition-types", Method: http.MethodGet, Path: "/partition-types", Summary: "List the known partition types"}, a.partitionTypes)
	huma.Register(api, huma.Operation{OperationID: "switch-on", Method: http.MethodPost, Path: "/bench", Summary: "Switch on a machine that was put together on the bench",
		Metadata: reads}, a.switchOn)
	huma.Register(api, huma.Operation{OperationID: "read-bytes", Method: http.MethodGet, Path: "/cases/{id}/drives/{role}/bytes", Summary: "Look at the bytes of a disk"}, a.bytes)
}

func (a *API) check(ctx context.Context, in *CaseID) (*checkOutput, error) {
	return a.judged(ctx, in.ID, judge.WhatIf{})
}

type whatIfInput struct {
	CaseID
	Body judge.WhatIf
}

func (a *API) whatIf(ctx context.Context, in *whatIfInput) (*checkOutput, error) {
	for role := range in.Body.Attached {
		if !judge.ValidRole(role) {
			return nil, huma.Error422UnprocessableEntity("attached." + role + ": expected original or clone.")
		}
	}
	for _, role := range in.Body.DeviceOrder {
		if !judge.ValidRole(role) {
			return nil, huma.Error422UnprocessableEntity("deviceOrder has " + role + ": expected original or clone.")
		}
	}
	return a.judged(ctx, in.ID, in.Body)
}

func (a *API) judged(ctx context.Context, id uint64, w judge.WhatIf) (*checkOutput, error) {
	c, err := a.store.Get(ctx, id)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	k, err := a.judge.Case(ctx, c, w)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return &checkOutput{*k}, nil
}
