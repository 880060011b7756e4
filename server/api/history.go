package api

import (
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/server/people"
	"latchkey/server/store"
)

// Entry is a line of a case's history.
type Entry struct {
	ID     uint64    `json:"id"`
	At     time.Time `json:"at"`
	Who    string    `json:"who"`
	What   string    `json:"what"`
	Detail string    `json:"detail,omitempty"`
}

type historyInput struct {
	CaseID
	BeforeInput
}

type historyOutput struct{ Body []Entry }

type deleteInput struct {
	CaseID
	IfMatch
	Body struct {
		Title string `json:"title" maxLength:"200" doc:"The case's name, typed once more"`
	}
}

type closeInput struct {
	CaseID
	IfMatch
	Body struct {
		Closed bool `json:"closed"`
	}
}

func (a *API) registerHistory(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "case-history", Method: http.MethodGet, Path: "/cases/{id}/history", Summary: "Who did what with a case, the newest first"}, a.history)
	huma.Register(api, huma.Operation{OperationID: "delete-case", Method: http.MethodPost, Path: "/cases/{id}/deletion", Summary: "Delete a case with its evidence",
		DefaultStatus: http.StatusNoContent, Metadata: leads}, a.deleteCase)
	huma.Register(api, huma.Operation{OperationID: "close-case", Method: http.MethodPut, Path: "/cases/{id}/closed", Summary: "Close a case, or open it again"}, a.closeCase)
}

func (a *API) history(ctx context.Context, in *historyInput) (*historyOutput, error) {
	entries, err := a.store.History(ctx, in.ID, in.Before)
	if err == nil && len(entries) == 0 {
		_, err = a.store.Get(ctx, in.ID) // is there such a case?
	}
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	out := &historyOutput{Body: []Entry{}}
	for _, e := range entries {
		out.Body = append(out.Body, Entry{e.ID, e.At, e.Who, e.What, e.Detail})
	}
	return out, nil
}

func (a *API) deleteCase(ctx context.Context, in *deleteInput) (*struct{}, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	if strings.TrimSpace(in.Body.Title) != c.Title {
		return nil, huma.Error422UnprocessableEntity("title: expected the case's own name, as it stands at the top. Nothing was deleted.")
	}
	if err := a.store.Delete(ctx, in.ID, version); err != nil {
		return nil, a.problem(ctx, err)
	}
	a.people.Log(ctx, person(ctx).Name, people.EventDeleted, c.Title, address(ctx))
	return nil, nil
}

func (a *API) closeCase(ctx context.Context, in *closeInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	what := store.WhatOpened
	if in.Body.Closed {
		what = store.WhatClosed
	}
	if err := a.store.CloseCase(ctx, in.ID, in.Body.Closed, by(ctx, what, ""), version); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.get(ctx, &in.CaseID)
}
