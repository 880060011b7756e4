package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/core/course"
	"latchkey/server/judge"
	"latchkey/server/store"
)

func (a *API) registerStatements(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "answer-question", Method: http.MethodPost, Path: "/cases/{id}/answers", Summary: "Answer a question of the check"}, a.answer)
	huma.Register(api, huma.Operation{OperationID: "withdraw-statement", Method: http.MethodDelete, Path: "/cases/{id}/statements/{fact}", Summary: "Withdraw what was told of the machine"}, a.withdraw)
}

// Statement is what a person told of the machine.
type Statement struct {
	Fact  string     `json:"fact" doc:"Names it, to withdraw it by"`
	Label string     `json:"label"`
	Says  string     `json:"says"`
	Who   string     `json:"who,omitempty" doc:"Absent for what was told before this was kept"`
	At    *time.Time `json:"at,omitempty"`
}

func statementsOf(c *store.Case) []Statement {
	list := []Statement{}
	for _, s := range c.Statements() {
		one := Statement{Fact: s.Fact.String(), Label: s.Label(), Says: s.Says(), Who: s.Who}
		if !s.At.IsZero() {
			one.At = &s.At
		}
		list = append(list, one)
	}
	return list
}

type answerInput struct {
	PlanInput
	IfMatch
	Body struct {
		Question string `json:"question" maxLength:"200" doc:"By its ID"`
		Option   string `json:"option" maxLength:"120"`
	}
}

// answer tells what a question of the present check asks, or of the plan.
func (a *API) answer(ctx context.Context, in *answerInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	asked, err := a.asked(ctx, c, in)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(asked, func(q course.Question) bool { return q.ID == in.Body.Question })
	if i < 0 {
		return nil, huma.Error409Conflict(fmt.Sprintf("The check does not ask %q any more: look at it again.", clean(in.Body.Question)))
	}
	q := asked[i]
	o := slices.IndexFunc(q.Options, func(o course.Option) bool { return o.ID == in.Body.Option })
	if o < 0 {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("option: %q is no answer to the question: expected one of its options.", clean(in.Body.Option)))
	}
	return a.state(ctx, c, version, q.Fact, q.Options[o].ID, store.Saying{Question: q.Text, Answer: q.Options[o].Label})
}

// asked lists the questions of the check, or where it asks nothing of that ID, that of the plan.
func (a *API) asked(ctx context.Context, c *store.Case, in *answerInput) ([]course.Question, error) {
	k, err := a.judge.Case(ctx, c, judge.WhatIf{})
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	if slices.ContainsFunc(k.Trace.Missing, func(q course.Question) bool { return q.ID == in.Body.Question }) {
		return k.Trace.Missing, nil
	}
	allowed, err := in.allowed()
	if err != nil {
		return nil, err
	}
	session, _, err := a.session(ctx, c, allowed)
	if err != nil || session.Ask == nil {
		return nil, err
	}
	return []course.Question{*session.Ask}, nil
}

type withdrawInput struct {
	CaseID
	IfMatch
	Fact string `path:"fact" maxLength:"200"`
}

func (a *API) withdraw(ctx context.Context, in *withdrawInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	i := slices.IndexFunc(c.Statements(), func(s store.Statement) bool { return s.Fact.String() == in.Fact })
	if i < 0 {
		return nil, huma.Error404NotFound(fmt.Sprintf("Nothing is told by the name of %q.", clean(in.Fact)))
	}
	s := c.Statements()[i]
	return a.state(ctx, c, version, s.Fact, "", store.Saying{Question: s.Label(), Answer: s.Says()})
}

// state stores a statement, or its withdrawal, and checks the case anew.
func (a *API) state(ctx context.Context, c *store.Case, version uint32, fact course.FactName, value string,
	said store.Saying) (*caseOutput, error) {
	if err := c.State(fact, value); err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	what, detail := store.WhatAnswered, said.Question+" → "+said.Answer
	if value == "" {
		what = store.WhatTakenBack
	} else if fact.Of == course.OfAnswer {
		c.Say(fact, said)
	}
	c.Version = version
	if err := a.store.Update(ctx, c, by(ctx, what, detail)); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.recheck(ctx, c.ID)
}
