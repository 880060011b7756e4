package api

import (
	"context"

	"latchkey/core/disk"
	"latchkey/core/symptom"
	"latchkey/server/judge"
)

type messagesInput struct {
	Said string `query:"q" maxLength:"500" doc:"Words of what the screen said; empty lists everything"`
}

type messagesOutput struct {
	Body struct {
		Messages []symptom.Match `json:"messages"`
	}
}

func (a *API) messages(_ context.Context, in *messagesInput) (*messagesOutput, error) {
	out := &messagesOutput{}
	out.Body.Messages = symptom.Find(in.Said)
	return out, nil
}

type typesOutput struct {
	Body struct {
		Types []disk.TypeRow `json:"types"`
	}
}

func (a *API) partitionTypes(context.Context, *struct{}) (*typesOutput, error) {
	out := &typesOutput{}
	out.Body.Types = disk.Types()
	return out, nil
}

type benchInput struct{ Body judge.Bench }

type benchOutput struct{ Body judge.Benched }

func (a *API) switchOn(ctx context.Context, in *benchInput) (*benchOutput, error) {
	result, err := a.judge.SwitchOn(ctx, in.Body)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return &benchOutput{*result}, nil
}
