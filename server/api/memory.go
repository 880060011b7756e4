package api

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/core/command"
	"latchkey/core/course"
	"latchkey/core/startup"
	"latchkey/server/judge"
	"latchkey/server/store"
)

func (a *API) registerMemory(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "model-memory", Method: http.MethodGet, Path: "/cases/{id}/model", Summary: "What other cases of the machine's model say of its firmware"}, a.modelMemory)
	huma.Register(api, huma.Operation{OperationID: "take-model-memory", Method: http.MethodPost, Path: "/cases/{id}/model", Summary: "Take over what they say"}, a.takeModelMemory)
	huma.Register(api, huma.Operation{OperationID: "fleet", Method: http.MethodGet, Path: "/fleet", Summary: "How many cases were judged by the present rules, and whose verdict changed"}, a.fleet)
	huma.Register(api, huma.Operation{OperationID: "judge-fleet", Method: http.MethodPost, Path: "/fleet", Summary: "Judge all cases again", Metadata: leads,
		DefaultStatus: http.StatusAccepted}, a.judgeFleet)
	huma.Register(api, huma.Operation{OperationID: "figures", Method: http.MethodGet, Path: "/figures", Summary: "The bench's figures"}, a.figures)
	huma.Register(api, huma.Operation{OperationID: "figures-csv", Method: http.MethodGet, Path: "/figures.csv", Summary: "The figures as comma-separated values"}, a.figuresCSV)
}

type memoryOutput struct{ Body judge.ModelMemory }

func (a *API) modelMemory(ctx context.Context, in *CaseID) (*memoryOutput, error) {
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	m, err := a.judge.Memory(ctx, c)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return &memoryOutput{*m}, nil
}

type takeMemoryInput struct {
	CaseID
	IfMatch
	Body struct {
		Keys []string `json:"keys" minItems:"1" maxItems:"30" doc:"Of the facts that are taken over"`
	}
}

func (a *API) takeModelMemory(ctx context.Context, in *takeMemoryInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	m, err := a.judge.Memory(ctx, c)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	for _, key := range in.Body.Keys {
		i := slices.IndexFunc(m.Facts, func(f judge.ModelFact) bool { return f.Key == key })
		if i < 0 || !m.Facts[i].Known || m.Facts[i].Told {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("keys: %q is nothing that other cases of the model agree in, and that this one does not know.", clean(key)))
		}
	}
	return a.takeOver(ctx, c, version, m, in.Body.Keys)
}

// takeOver tells a case what others of its model agree in.
func (a *API) takeOver(ctx context.Context, c *store.Case, version uint32, m *judge.ModelMemory,
	keys []string) (*caseOutput, error) {
	var labels []string
	for _, f := range m.Facts {
		if !f.Known || f.Told || !slices.Contains(keys, f.Key) {
			continue
		}
		value := map[bool]string{true: "yes", false: "no"}[f.Value]
		if err := c.State(store.ChoiceFact(f.Key), value); err != nil {
			return nil, a.problem(ctx, err)
		}
		var cases []string
		for _, t := range f.From[:min(len(f.From), 5)] {
			cases = append(cases, strconv.FormatUint(t.Case, 10))
		}
		c.Say(store.ChoiceFact(f.Key), store.Saying{Model: true, Answer: fmt.Sprintf("%s, as other cases of the %s say: %s", value, m.Model,
			strings.Join(cases, ", "))})
		labels = append(labels, f.Label)
	}
	if len(labels) == 0 {
		return a.recheck(ctx, c.ID)
	}
	c.Version = version
	if err := a.store.Update(ctx, c, by(ctx, store.WhatRemembered, strings.Join(labels, "; "))); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.recheck(ctx, c.ID)
}

// remembered lets a case that was just stored take over what its model's cases say, where
// the bench has set so, and judges it.
func (a *API) remembered(ctx context.Context, id uint64) (*caseOutput, error) {
	takes, err := a.store.TakesModel(ctx)
	if err != nil {
		return nil, a.stored(ctx, err)
	}
	if !takes {
		return a.recheck(ctx, id)
	}
	c, err := a.store.Get(ctx, id)
	if err != nil {
		return nil, a.stored(ctx, err)
	}
	m, err := a.judge.Memory(ctx, c)
	if err != nil {
		return nil, a.stored(ctx, err)
	}
	var keys []string
	for _, f := range m.Facts {
		keys = append(keys, f.Key)
	}
	return a.takeOver(ctx, c, c.Version, m, keys)
}

// Fleet is how far judging all cases by the present rules is.
type Fleet struct {
	Rules   string          `json:"rules"`
	All     int64           `json:"all"`
	Judged  int64           `json:"judged"`
	Changes []VerdictChange `json:"changes" doc:"Verdicts that are others by newer rules, the newest first"`
}

// VerdictChange is a case whose verdict is another one by newer rules.
type VerdictChange struct {
	Case        uint64    `json:"case"`
	Title       string    `json:"title"`
	At          time.Time `json:"at"`
	RulesBefore string    `json:"rulesBefore"`
	Rules       string    `json:"rules"`
	Before      string    `json:"before"`
	After       string    `json:"after"`
	Why         string    `json:"why"`
}

type fleetOutput struct{ Body Fleet }

func (a *API) fleet(ctx context.Context, _ *struct{}) (*fleetOutput, error) {
	f, err := a.store.Fleet(ctx, startup.RulesVersion)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	changes, err := a.store.Changes(ctx)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	out := &fleetOutput{Fleet{startup.RulesVersion, f.All, f.Judged, []VerdictChange{}}}
	for _, c := range changes {
		out.Body.Changes = append(out.Body.Changes, VerdictChange{c.CaseID, c.Title, c.At, c.RulesBefore, c.Rules,
			c.BeforeText, c.AfterText, c.Why})
	}
	return out, nil
}

func (a *API) judgeFleet(ctx context.Context, _ *struct{}) (*fleetOutput, error) {
	if err := a.store.JudgeAgain(ctx); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.fleet(ctx, nil)
}

// Figures are a bench's figures.
type Figures struct {
	Groups []FigureGroup `json:"groups"`
}

// FigureGroup is one drawing of bars.
type FigureGroup struct {
	Key   string `json:"key" enum:"stage,model,drive,action,time" doc:"By what its cases are found"`
	Title string `json:"title"`
	Good  string `json:"good" doc:"What the full part of a bar counts"`
	Bars  []Bar  `json:"bars"`
}

// Bar is a bar with what it counts.
type Bar struct {
	Name  string `json:"name" doc:"By which its cases are found"`
	Label string `json:"label"`
	All   int64  `json:"all"`
	Good  int64  `json:"good"`
}

type figuresOutput struct{ Body Figures }

func (a *API) figures(ctx context.Context, _ *struct{}) (*figuresOutput, error) {
	f, err := a.store.Figures(ctx)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	stage := func(s string) string { return course.Stage(s).Title() }
	plain := func(s string) string { return s }
	const started = "seen to start since"
	return &figuresOutput{Figures{[]FigureGroup{
		group("stage", "Where clones stopped", started, f.Stages, stage),
		group("action", "Steps of repairs that were done", started, f.Actions, plain),
		group("model", "By the machine's model", "seen to start", f.Models, plain),
		group("drive", "By the new drive's model", "seen to start", f.Drives, plain),
		group("time", "From the case to the first start", "seen to start", f.Times, plain),
	}}}, nil
}

func group(key, title, good string, figures []store.Figure, label func(string) string) FigureGroup {
	g := FigureGroup{Key: key, Title: title, Good: good, Bars: []Bar{}}
	for _, f := range figures {
		bar := Bar{f.Name, f.Label, f.All, f.Good}
		if bar.Label == "" {
			bar.Label = label(f.Name)
		}
		g.Bars = append(g.Bars, bar)
	}
	return g
}

func (a *API) figuresCSV(ctx context.Context, _ *struct{}) (*fileOutput, error) {
	f, err := a.figures(ctx, nil)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	rows := [][]string{{"figure", "of", "cases", "seen to start"}}
	for _, g := range f.Body.Groups {
		for _, bar := range g.Bars {
			rows = append(rows, command.Cells(g.Title, bar.Label, strconv.FormatInt(bar.All, 10),
				strconv.FormatInt(bar.Good, 10)))
		}
	}
	if err := w.WriteAll(rows); err != nil {
		return nil, a.problem(ctx, err)
	}
	return &fileOutput{"text/csv; charset=utf-8", `attachment; filename="figures.csv"`, b.Bytes()}, nil
}
