package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/capture/running"
	"latchkey/core/handover"
	"latchkey/core/repair"
	"latchkey/server/judge"
	"latchkey/server/store"
)

func (a *API) registerHandover(api huma.API) {
	op := func(id, method, path, summary string) huma.Operation {
		return huma.Operation{OperationID: id, Method: method, Path: "/cases/{id}" + path, Summary: summary}
	}
	huma.Register(api, op("hand-over", http.MethodGet, "/hand-over", "What follows the first good start, and how long until the old drive's release"), a.handOver)
	huma.Register(api, op("decide-old-drive", http.MethodPut, "/hand-over", "Decide of the old drive: how long it is kept, where it lies"), a.decideOld)
	huma.Register(api, op("look-at", http.MethodPut, "/hand-over/looks/{key}", "Say that something in the running system is right, or look again"), a.lookAt)
	huma.Register(api, op("add-answer", http.MethodPost, "/hand-over/answers", "Paste what the running system answered"), a.addAnswer)
	huma.Register(api, op("withdraw-answer", http.MethodDelete, "/hand-over/answers/{answer}", "Take back an answer"), a.withdrawAnswer)
	huma.Register(api, op("time-start", http.MethodPost, "/hand-over/times", "Tell how long a start took, by a stopwatch or the system's own record"), a.timeStart)
	huma.Register(api, op("forget-times", http.MethodDelete, "/hand-over/times", "Forget how long starts took"), a.forgetTimes)
	huma.Register(api, op("release-old-drive", http.MethodPut, "/hand-over/release", "Release the old drive, or take that back"), a.releaseOld)
	huma.Register(api, op("old-drive-commands", http.MethodGet, "/hand-over/old-drive", "The commands that make the old drive a drive for data, or wipe it"), a.oldDriveCommands)
	huma.Register(api, op("hide-recovery", http.MethodGet, "/hand-over/recovery-letter", "The commands that take the letter off a recovery partition"), a.hideRecovery)
}

type handOverOutput struct{ Body judge.HandOver }

func (a *API) handOver(ctx context.Context, in *CaseID) (*handOverOutput, error) {
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	h, err := a.judge.HandOver(ctx, c, time.Now().UTC())
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return &handOverOutput{*h}, nil
}

// changeHandOver changes what is kept, and says so in the case's history.
func (a *API) changeHandOver(ctx context.Context, id uint64, match IfMatch, what, detail string,
	change func(*store.Handover)) (*caseOutput, error) {
	version, err := match.parse()
	if err != nil {
		return nil, err
	}
	if err := a.store.HandOver(ctx, id, by(ctx, what, detail), version, change); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.get(ctx, &CaseID{id})
}

type decideOldInput struct {
	CaseID
	IfMatch
	Body struct {
		KeepUntil *time.Time `json:"keepUntil,omitempty" doc:"The old drive stays as it is until then; absent is no date"`
		Place     string     `json:"place,omitempty" maxLength:"120" doc:"Where it lies"`
		Serial    string     `json:"serial,omitempty" maxLength:"60" doc:"Its serial number, off its label"`
		Beside    bool       `json:"beside,omitempty" doc:"It will hang in the machine beside the clone"`
		Saved     bool       `json:"saved,omitempty" doc:"There is an image or copy of what is on it"`
	}
}

func (a *API) decideOld(ctx context.Context, in *decideOldInput) (*caseOutput, error) {
	b := in.Body
	_, err := a.changeHandOver(ctx, in.ID, in.IfMatch, store.WhatHandOver, "the old drive", func(h *store.Handover) {
		h.KeepUntil, h.Beside = b.KeepUntil, b.Beside
		h.Place, h.Serial = strings.TrimSpace(clean(b.Place)), strings.TrimSpace(clean(b.Serial))
		switch {
		case !b.Saved:
			h.Saved = nil
		case h.Saved == nil:
			h.Saved = &store.Tick{Who: person(ctx).Name, At: time.Now().UTC()}
		}
	})
	if err != nil {
		return nil, err
	}
	return a.recheck(ctx, in.ID) // it is found by its place and serial number, too
}

type lookInput struct {
	CaseID
	IfMatch
	Key  string `path:"key" maxLength:"40" pattern:"^[a-z0-9-]+$" doc:"Of the look"`
	Body struct {
		Seen bool `json:"seen"`
	}
}

func (a *API) lookAt(ctx context.Context, in *lookInput) (*caseOutput, error) {
	now, err := a.handOver(ctx, &in.CaseID)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(now.Body.Looks, func(l judge.LookAt) bool { return l.Key == in.Key && l.ByHand })
	if at < 0 {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("key is %q: this case has nothing of that name to look at by hand.", clean(in.Key)))
	}
	what := in.Key + " looked at"
	if !in.Body.Seen {
		what = in.Key + " open again"
	}
	return a.changeHandOver(ctx, in.ID, in.IfMatch, store.WhatHandOver, what, func(h *store.Handover) {
		if h.Seen == nil {
			h.Seen = map[string]store.Tick{}
		}
		if in.Body.Seen && len(h.Seen) < store.MaxTicks {
			h.Seen[in.Key] = store.Tick{Who: person(ctx).Name, At: time.Now().UTC()}
		} else {
			delete(h.Seen, in.Key)
		}
	})
}

type runningAnswerInput struct {
	CaseID
	IfMatch
	Body struct {
		Text string `json:"text" minLength:"1" maxLength:"200000" doc:"As the commands printed it, one or several"`
	}
}

func (a *API) addAnswer(ctx context.Context, in *runningAnswerInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	if len(in.Body.Text) > running.MaxBytes {
		return nil, huma.Error422UnprocessableEntity("text: expected at most 256 KiB.")
	}
	got := running.Read(in.Body.Text)
	if len(got.Means) == 0 {
		return nil, huma.Error422UnprocessableEntity("text: nothing of this was recognised. Expected what one of the commands beside the list prints, with its headings. Nothing was kept.")
	}
	answer := &store.RunningAnswer{CaseID: in.ID}
	err = a.store.AddAnswer(ctx, answer, in.Body.Text, by(ctx, store.WhatHandOver, "the running system's answer"), version)
	if errors.Is(err, store.ErrFull) {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("text: a case keeps at most %d answers. Take back one that is not needed any more.", store.MaxAnswers))
	}
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.get(ctx, &in.CaseID)
}

type withdrawAnswerInput struct {
	CaseID
	IfMatch
	Answer uint64 `path:"answer"`
}

func (a *API) withdrawAnswer(ctx context.Context, in *withdrawAnswerInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	if err := a.store.WithdrawAnswer(ctx, in.ID, in.Answer, by(ctx, store.WhatHandOver, "an answer taken back"), version); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.get(ctx, &in.CaseID)
}

type timeInput struct {
	CaseID
	IfMatch
	Body struct {
		Side string `json:"side" enum:"original,clone"`
		Text string `json:"text" minLength:"1" maxLength:"200000" doc:"A time by the stopwatch, such as 31 s or 1:05, or what systemd-analyze or Windows' record of starts printed"`
	}
}

const stopwatch = "stopwatch, from power-on to the desktop"

func (a *API) timeStart(ctx context.Context, in *timeInput) (*caseOutput, error) {
	var times []store.Timed
	who, now := person(ctx).Name, time.Now().UTC()
	if took, ok := running.Timer(in.Body.Text); ok {
		times = []store.Timed{{Side: in.Body.Side, Seconds: took.Seconds(), How: stopwatch, Who: who, At: now}}
	}
	for _, b := range running.Read(in.Body.Text).Boots {
		at := b.At
		if at.IsZero() {
			at = now
		}
		times = append(times, store.Timed{Side: in.Body.Side, Seconds: b.Took.Seconds(), How: b.What, Who: who, At: at})
	}
	if len(times) == 0 {
		return nil, huma.Error422UnprocessableEntity("text: expected a time such as 31 s or 1:05, or what systemd-analyze or Windows' record of starts prints.")
	}
	return a.changeHandOver(ctx, in.ID, in.IfMatch, store.WhatHandOver, "how long a start took", func(h *store.Handover) {
		h.Times = append(h.Times, times...)
		h.Times = h.Times[max(0, len(h.Times)-store.MaxTimes):]
	})
}

type forgetTimesInput struct {
	CaseID
	IfMatch
}

func (a *API) forgetTimes(ctx context.Context, in *forgetTimesInput) (*caseOutput, error) {
	return a.changeHandOver(ctx, in.ID, in.IfMatch, store.WhatHandOver, "the times forgotten", func(h *store.Handover) { h.Times = nil })
}

type releaseInput struct {
	CaseID
	IfMatch
	Body struct {
		Fate string `json:"fate" enum:"kept,data,wiped,none" doc:"What became of the old drive; none takes the release back"`
	}
}

// releaseOld releases the old drive once the bench's rule is met.
func (a *API) releaseOld(ctx context.Context, in *releaseInput) (*caseOutput, error) {
	now, err := a.handOver(ctx, &in.CaseID)
	if err != nil {
		return nil, err
	}
	if in.Body.Fate == "none" {
		return a.changeHandOver(ctx, in.ID, in.IfMatch, store.WhatReleased, "taken back",
			func(h *store.Handover) { h.Released, h.Fate = nil, "" })
	}
	if p := now.Body.Phase; p != handover.Ready && p != handover.Released {
		return nil, huma.Error422UnprocessableEntity(strings.TrimSpace("The old drive cannot be released yet. " + now.Body.Headline + " " + now.Body.Still))
	}
	return a.changeHandOver(ctx, in.ID, in.IfMatch, store.WhatReleased, in.Body.Fate, func(h *store.Handover) {
		if h.Released == nil {
			h.Released = &store.Tick{Who: person(ctx).Name, At: time.Now().UTC()}
		}
		h.Fate = in.Body.Fate
	})
}

type oldDriveInput struct {
	CaseID
	Fate   string `query:"fate" enum:"image,data,wiped" required:"true" doc:"An image copies it into a file, and only reads it"`
	System string `query:"system" enum:"windows,linux" required:"true" doc:"In which system they are run"`
}

type workOutput struct{ Body repair.Work }

func (a *API) oldDriveCommands(ctx context.Context, in *oldDriveInput) (*workOutput, error) {
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	w, err := a.judge.Release(ctx, c, repair.Fate(in.Fate), repair.System(in.System), time.Now().UTC())
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return &workOutput{*w}, nil
}

type hideInput struct {
	CaseID
	Partition int `query:"partition" required:"true" minimum:"1" maximum:"1024" doc:"Its number on the clone"`
}

func (a *API) hideRecovery(ctx context.Context, in *hideInput) (*workOutput, error) {
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	w, err := a.judge.HideRecovery(ctx, c, in.Partition)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return &workOutput{*w}, nil
}
