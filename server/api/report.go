package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/server/judge"
	"latchkey/server/report"
)

func (a *API) registerReport(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "report-pdf", Method: http.MethodGet, Path: "/cases/{id}/report.pdf", Summary: "The report as PDF"}, a.reportPDF)
	huma.Register(api, huma.Operation{OperationID: "report-markdown", Method: http.MethodGet, Path: "/cases/{id}/report.md", Summary: "The report as Markdown"}, a.reportMarkdown)
	huma.Register(api, huma.Operation{OperationID: "report-json", Method: http.MethodGet, Path: "/cases/{id}/report.json", Summary: "The report as JSON, as docs/formats.md describes it"}, a.reportJSON)
}

// reportOf puts a case's report together.
func (a *API) reportOf(ctx context.Context, id uint64) (*report.Report, error) {
	c, err := a.store.Get(ctx, id)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	p := report.Parts{Case: c, By: person(ctx).Name, Now: time.Now().UTC()}
	if p.Check, err = a.judge.Case(ctx, c, judge.WhatIf{}); err != nil {
		return nil, a.problem(ctx, err)
	}
	if p.HandOver, err = a.judge.HandOver(ctx, c, p.Now); err != nil {
		return nil, a.problem(ctx, err)
	}
	if p.Marks, err = a.store.Marks(ctx, id); err != nil {
		return nil, a.problem(ctx, err)
	}
	if p.History, err = a.store.History(ctx, id, 0); err != nil {
		return nil, a.problem(ctx, err)
	}
	if p.Evidence, p.Listings, err = a.store.Pieces(ctx, id); err != nil {
		return nil, a.problem(ctx, err)
	}
	return report.New(p), nil
}

func (a *API) reported(ctx context.Context, id uint64, kind, suffix string,
	render func(*report.Report) ([]byte, error)) (*fileOutput, error) {
	r, err := a.reportOf(ctx, id)
	if err != nil {
		return nil, err
	}
	raw, err := render(r)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return &fileOutput{kind, fmt.Sprintf(`attachment; filename="case-%d-report.%s"`, id, suffix), raw}, nil
}

func (a *API) reportPDF(ctx context.Context, in *CaseID) (*fileOutput, error) {
	return a.reported(ctx, in.ID, "application/pdf", "pdf", (*report.Report).PDF)
}

func (a *API) reportMarkdown(ctx context.Context, in *CaseID) (*fileOutput, error) {
	return a.reported(ctx, in.ID, "text/markdown; charset=utf-8", "md", func(r *report.Report) ([]byte, error) { return r.Markdown(), nil })
}

func (a *API) reportJSON(ctx context.Context, in *CaseID) (*fileOutput, error) {
	return a.reported(ctx, in.ID, "application/json", "json", func(r *report.Report) ([]byte, error) { return json.MarshalIndent(r, "", "  ") })
}
