package api

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/core/repair"
	"latchkey/server/store"
)

func (a *API) registerRepair(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "get-plan", Method: http.MethodGet, Path: "/cases/{id}/plan", Summary: "Plan the repair from what was done so far"}, a.plan)
	huma.Register(api, huma.Operation{OperationID: "mark-step", Method: http.MethodPost, Path: "/cases/{id}/marks", Summary: "Tick off a step, or mark it as failed or skipped"}, a.mark)
	huma.Register(api, huma.Operation{OperationID: "get-script", Method: http.MethodGet, Path: "/cases/{id}/plan/script", Summary: "A toolbox's steps as a script"}, a.script)
}

// PlanInput asks for a plan of a case.
type PlanInput struct {
	CaseID
	Toolboxes string `query:"toolboxes" maxLength:"100" doc:"Names with commas between; empty allows all"`
}

func (in PlanInput) allowed() ([]repair.Toolbox, error) {
	var allowed []repair.Toolbox
	for name := range strings.SplitSeq(in.Toolboxes, ",") {
		switch {
		case name == "":
		case !slices.Contains(repair.Toolboxes, repair.Toolbox(name)):
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("toolboxes has %q: expected firmware, windows-recovery, linux, mac-recovery or old-drive.", name))
		default:
			allowed = append(allowed, repair.Toolbox(name))
		}
	}
	return allowed, nil
}

// Mark is what a person did with a step.
type Mark struct {
	Step  string `json:"step"`
	Title string `json:"title"`
	State string `json:"state" enum:"done,failed,skipped,undone"`
	Note  string `json:"note,omitempty"`
	// Remark is how the note was judged.
	Remark string    `json:"remark,omitempty"`
	Who    string    `json:"who"`
	At     time.Time `json:"at"`
}

// Repair is a plan under way with its history.
type Repair struct {
	repair.Session
	Marks   []Mark `json:"marks" doc:"Everything that was done, the oldest first"`
	Version uint32 `json:"version" doc:"Of the case, for the next mark"`
	// Scripts can be downloaded as files.
	Scripts     []Script `json:"scripts"`
	Fingerprint string   `json:"fingerprint" doc:"Of this very plan"`
	ForStick    bool     `json:"forStick" doc:"All its steps can be done from the stick, or in the firmware's screens"`
}

type planOutput struct {
	ETag string `header:"ETag"`
	Body Repair
}

func (a *API) plan(ctx context.Context, in *PlanInput) (*planOutput, error) {
	allowed, err := in.allowed()
	if err != nil {
		return nil, err
	}
	return a.planned(ctx, in.ID, allowed)
}

func (a *API) planned(ctx context.Context, id uint64, allowed []repair.Toolbox) (*planOutput, error) {
	c, err := a.store.Get(ctx, id)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	session, marks, err := a.session(ctx, c, allowed)
	if err != nil {
		return nil, err
	}
	out := &planOutput{ETag: fmt.Sprintf(`"%d"`, c.Version), Body: Repair{Session: *session, Marks: []Mark{},
		Version: c.Version}}
	out.Body.Scripts, out.Body.Fingerprint = scripts(session.Plan)
	out.Body.ForStick = forStick(session.Plan)
	for _, m := range marks {
		out.Body.Marks = append(out.Body.Marks, Mark{m.Step, m.Title, m.State, m.Note, a.judge.Remark(m.Note),
			m.Who, m.At})
	}
	return out, nil
}

// session plans the repair of a case from what was done of it.
func (a *API) session(ctx context.Context, c *store.Case, allowed []repair.Toolbox) (*repair.Session, []store.Mark,
	error) {
	marks, err := a.store.Marks(ctx, c.ID)
	if err != nil {
		return nil, nil, a.problem(ctx, err)
	}
	session, err := a.judge.Plan(ctx, c, store.InForce(marks, c.LatestEvidence()), allowed)
	if err != nil {
		return nil, nil, a.problem(ctx, err)
	}
	return session, marks, nil
}

type markInput struct {
	CaseID
	IfMatch
	Toolboxes string `query:"toolboxes" maxLength:"100"`
	Body      struct {
		Step  string `json:"step" minLength:"1" maxLength:"80"`
		State string `json:"state" enum:"done,failed,skipped,undone"`
		Note  string `json:"note,omitempty" maxLength:"20000"`
	}
}

func (a *API) mark(ctx context.Context, in *markInput) (*planOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	allowed, err := PlanInput{Toolboxes: in.Toolboxes}.allowed()
	if err != nil {
		return nil, err
	}
	now, err := a.planned(ctx, in.ID, allowed)
	if err != nil {
		return nil, err
	}
	title, known := titleOf(now.Body, in.Body.Step)
	if !known {
		return nil, huma.Error409Conflict("This step is not in the plan any more: the evidence or an earlier step has changed. Look at the plan as it is now.")
	}
	if err := a.fits(ctx, in.ID, in.Body.Note); err != nil {
		return nil, err
	}
	m := &store.Mark{CaseID: in.ID, Step: in.Body.Step, Title: title, State: in.Body.State, Note: in.Body.Note,
		Who: person(ctx).Name}
	if err := a.store.AddMark(ctx, version, m); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.planned(ctx, in.ID, allowed)
}

// fits refuses an answer that was pasted from another disk than the clone.
func (a *API) fits(ctx context.Context, id uint64, note string) error {
	if strings.TrimSpace(note) == "" {
		return nil
	}
	c, err := a.store.Get(ctx, id)
	if err != nil {
		return a.problem(ctx, err)
	}
	other, err := a.judge.OfAnotherDisk(ctx, c, note)
	if err != nil {
		return a.problem(ctx, err)
	}
	if other != "" {
		return huma.Error422UnprocessableEntity("note: " + other)
	}
	return nil
}

// titleOf finds a step by its key: in the plan, in its alternatives, or among what
// was done or marked before.
func titleOf(r Repair, key string) (string, bool) {
	for _, p := range append([]repair.Plan{r.Plan}, r.Alternatives...) {
		for _, s := range p.Steps {
			if s.Key == key {
				return s.Title, true
			}
		}
	}
	for _, s := range r.Afterwards {
		if s.Key == key {
			return s.Title, true
		}
	}
	for _, m := range r.Marks {
		if m.Step == key {
			return m.Title, true
		}
	}
	return "", false
}

type scriptInput struct {
	PlanInput
	Toolbox string `query:"toolbox" enum:"windows-recovery,linux,old-drive" required:"true"`
	Plan    string `query:"plan" maxLength:"64" doc:"The plan's fingerprint: the script is that of this very plan, or refused"`
}

type scriptOutput struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Digest      string `header:"Repr-Digest" doc:"SHA-256 of the script, as RFC 9530 has it"`
	Body        []byte
}

// script hands out a toolbox's steps of the plan that is on the screen.
func (a *API) script(ctx context.Context, in *scriptInput) (*scriptOutput, error) {
	allowed, err := in.allowed()
	if err != nil {
		return nil, err
	}
	r, err := a.planned(ctx, in.ID, allowed)
	if err != nil {
		return nil, err
	}
	if in.Plan != "" && in.Plan != r.Body.Fingerprint {
		return nil, huma.Error409Conflict("The plan has changed since it was shown: the evidence, or what was done, is another. Look at it as it is now, and download the script again.")
	}
	text, shell := repair.Script(r.Body.Plan, repair.Toolbox(in.Toolbox))
	if text == "" {
		return nil, huma.Error404NotFound("The plan has no step for this toolbox.")
	}
	if err := a.store.Note(ctx, in.ID, by(ctx, store.WhatScript, scriptName(shell)+" for "+in.Toolbox+", SHA-256 "+
		sumOf(text))); err != nil {
		return nil, a.problem(ctx, err)
	}
	return attachment(scriptName(shell), "text/plain; charset=utf-8", []byte(text)), nil
}

// attachment is a file to be kept, with its sum. RFC 9530.
func attachment(name, contentType string, raw []byte) *scriptOutput {
	sum := sha256.Sum256(raw)
	return &scriptOutput{contentType, fmt.Sprintf(`attachment; filename="%s"`, name),
		"sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":", raw}
}

func scriptName(shell repair.Shell) string {
	if shell == repair.Batch {
		return "repair.cmd"
	}
	return "repair.sh"
}

func sumOf(text string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(text))) }

// Script is what can be downloaded of a plan.
type Script struct {
	Toolbox repair.Toolbox `json:"toolbox" enum:"windows-recovery,linux,mac-recovery,old-drive"`
	Name    string         `json:"name"`
	SHA256  string         `json:"sha256" doc:"Of the file, in hexadecimal digits"`
}

// scripts lists the scripts of a plan, and the plan's fingerprint, which is one of all
// of them and its steps.
func scripts(p repair.Plan) (list []Script, fingerprint string) {
	list = []Script{}
	all := ""
	for _, s := range p.Steps {
		all += s.Key + "\n"
	}
	for _, t := range repair.Toolboxes {
		text, shell := repair.Script(p, t)
		if text != "" && t != repair.MacRecovery {
			list = append(list, Script{t, scriptName(shell), sumOf(text)})
			all += text
		}
	}
	return list, sumOf(all)[:16]
}
