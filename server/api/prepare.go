package api

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/core/fit"
	"latchkey/server/judge"
	"latchkey/server/store"
)

func (a *API) registerPrepare(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "prepare", Method: http.MethodGet, Path: "/cases/{id}/prepare",
		Summary: "Compute before a copy: does it fit, will it start, how long, what must be ready"}, a.prepare)
	huma.Register(api, huma.Operation{OperationID: "preview-copy", Method: http.MethodPost, Path: "/cases/{id}/prepare/preview",
		Summary: "Compute with another plan, saving nothing", Metadata: reads}, a.previewCopy)
	huma.Register(api, huma.Operation{OperationID: "plan-copy", Method: http.MethodPut, Path: "/cases/{id}/prepare",
		Summary: "Keep the plan of a copy"}, a.planCopy)
	huma.Register(api, huma.Operation{OperationID: "tick-ready", Method: http.MethodPut, Path: "/cases/{id}/prepare/ready/{key}",
		Summary: "Say that a line of the list was seen to, or not"}, a.tick)
	huma.Register(api, huma.Operation{OperationID: "tell-progress", Method: http.MethodPost, Path: "/cases/{id}/prepare/progress",
		Summary: "Tell what the copying program shows"}, a.progress)
	huma.Register(api, huma.Operation{OperationID: "forget-progress", Method: http.MethodDelete, Path: "/cases/{id}/prepare/progress",
		Summary: "Forget what was read off the copying program"}, a.forgetProgress)
}

type prepareOutput struct{ Body judge.Preparing }

func (a *API) prepare(ctx context.Context, in *CaseID) (*prepareOutput, error) {
	return a.prepared(ctx, in.ID, nil)
}

type previewInput struct {
	CaseID
	Body judge.PlanOfCopy
}

func (a *API) previewCopy(ctx context.Context, in *previewInput) (*prepareOutput, error) {
	if err := sound(&in.Body); err != nil {
		return nil, err
	}
	return a.prepared(ctx, in.ID, &in.Body)
}

func (a *API) prepared(ctx context.Context, id uint64, plan *judge.PlanOfCopy) (*prepareOutput, error) {
	c, err := a.store.Get(ctx, id)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	p, err := a.judge.Prepare(ctx, c, plan, time.Now().UTC())
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return &prepareOutput{*p}, nil
}

// maxSizes bounds the partitions that are given a size by hand.
const maxSizes = 256

// sound checks what a person plans.
func sound(p *judge.PlanOfCopy) error {
	for _, one := range []struct {
		field, key string
		list       []fit.Rate
	}{{"fromLink", p.FromLink, fit.Links}, {"toLink", p.ToLink, fit.Links}, {"fromMedium", p.FromMedium, fit.Media}, {"toMedium", p.ToMedium, fit.Media}} {
		if one.key != "" && !slices.ContainsFunc(one.list, func(r fit.Rate) bool { return r.Key == one.key }) {
			var keys []string
			for _, r := range one.list {
				keys = append(keys, r.Key)
			}
			return huma.Error422UnprocessableEntity(fmt.Sprintf("%s is %q: expected one of %v.", one.field, clean(one.key), keys))
		}
	}
	if p.Way != "" && !slices.ContainsFunc(fit.Ways, func(w fit.Way) bool { return w.Key == p.Way }) {
		return huma.Error422UnprocessableEntity(fmt.Sprintf("way is %q: expected one of the ways of copying.", clean(p.Way)))
	}
	if len(p.Sizes) > maxSizes {
		return huma.Error422UnprocessableEntity(fmt.Sprintf("sizes has %d partitions: expected at most %d.", len(p.Sizes), maxSizes))
	}
	for number, bytes := range p.Sizes {
		if bytes <= 0 {
			return huma.Error422UnprocessableEntity(fmt.Sprintf("sizes.%s is %d: expected a number of bytes above zero.", clean(number), bytes))
		}
	}
	return nil
}

type planCopyInput struct {
	CaseID
	IfMatch
	Body judge.PlanOfCopy
}

func (a *API) planCopy(ctx context.Context, in *planCopyInput) (*caseOutput, error) {
	if err := sound(&in.Body); err != nil {
		return nil, err
	}
	if err := in.Body.Sound(); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.changePreparation(ctx, in.ID, in.IfMatch, "the plan", in.Body.Into)
}

// changePreparation changes what is kept, and says so in the case's history.
func (a *API) changePreparation(ctx context.Context, id uint64, match IfMatch, what string,
	change func(*store.Preparation)) (*caseOutput, error) {
	version, err := match.parse()
	if err != nil {
		return nil, err
	}
	if err := a.store.Prepare(ctx, id, by(ctx, store.WhatPrepared, what), version, change); err != nil {
		return nil, a.problem(ctx, err)
	}
	c, err := a.store.Get(ctx, id)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return reply(c), nil
}

type tickInput struct {
	CaseID
	IfMatch
	Key  string `path:"key" maxLength:"40" pattern:"^[a-z0-9-]+$" doc:"Of the line"`
	Body struct {
		Done bool `json:"done"`
	}
}

func (a *API) tick(ctx context.Context, in *tickInput) (*caseOutput, error) {
	who := by(ctx, store.WhatPrepared, "")
	what := in.Key + " seen to"
	if !in.Body.Done {
		what = in.Key + " open again"
	}
	return a.changePreparation(ctx, in.ID, in.IfMatch, what, func(p *store.Preparation) {
		if p.Ticks == nil {
			p.Ticks = map[string]store.Tick{}
		}
		if in.Body.Done && len(p.Ticks) < store.MaxTicks {
			p.Ticks[in.Key] = store.Tick{Who: who.Who, At: time.Now().UTC()}
		} else {
			delete(p.Ticks, in.Key)
		}
	})
}

type progressInput struct {
	CaseID
	IfMatch
	Body struct {
		PerCent   *float64   `json:"perCent,omitempty" minimum:"0" maximum:"100"`
		Gigabytes *float64   `json:"gigabytes,omitempty" minimum:"0" doc:"That are done, in decimal units"`
		Of        *float64   `json:"of,omitempty" doc:"Of how many gigabytes in all"`
		At        *time.Time `json:"at,omitempty" doc:"When it was read off; absent is now"`
	}
}

func (a *API) progress(ctx context.Context, in *progressInput) (*caseOutput, error) {
	b := in.Body
	done := 0.0
	switch {
	case b.PerCent != nil:
		done = *b.PerCent / 100
	case b.Gigabytes != nil && b.Of != nil && *b.Of > 0 && *b.Gigabytes <= *b.Of:
		done = *b.Gigabytes / *b.Of
	default:
		return nil, huma.Error422UnprocessableEntity("Expected perCent, or gigabytes and of: how many are done, of how many in all, which are not fewer.")
	}
	at := time.Now().UTC()
	if b.At != nil {
		at = b.At.UTC()
	}
	if math.IsNaN(done) || at.After(time.Now().Add(time.Minute)) {
		return nil, huma.Error422UnprocessableEntity("at is in the future: expected when it was read off.")
	}
	return a.changePreparation(ctx, in.ID, in.IfMatch, fmt.Sprintf("the copy is at %.0f %%", done*100), func(p *store.Preparation) {
		p.Seen = append(p.Seen, store.Seen{At: at, Done: done})
		if len(p.Seen) > store.MaxSeen {
			p.Seen = p.Seen[len(p.Seen)-store.MaxSeen:]
		}
	})
}

type forgetInput struct {
	CaseID
	IfMatch
}

func (a *API) forgetProgress(ctx context.Context, in *forgetInput) (*caseOutput, error) {
	return a.changePreparation(ctx, in.ID, in.IfMatch, "the readings forgotten", func(p *store.Preparation) { p.Seen = nil })
}
