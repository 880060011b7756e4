package api

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/server/judge"
	"latchkey/server/store"
)

func (a *API) registerFirstStart(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "first-start", Method: http.MethodPost, Path: "/cases/{id}/first-start", Summary: "Record a first start, and from which disk it came up"}, a.firstStart)
	registerForm(api, huma.Operation{
		OperationID: "first-start-capture", Method: http.MethodPost, Path: "/cases/{id}/first-start/capture",
		Summary: "Record a first start by a capture that was taken in the system that came up",
	}, map[string]*huma.Schema{
		"file":   fileField("A capture of the disk that the system runs from"),
		"looked": textField("What else was looked at and is as it was before: partitions, letters, files, activation, with commas between"),
	}, a.firstStartCapture)
}

type firstStartInput struct {
	CaseID
	IfMatch
	Body struct {
		judge.Seen
		Failed string   `json:"failed,omitempty" maxLength:"500" doc:"What the screen said, when it did not come up"`
		Looked []string `json:"looked,omitempty" maxItems:"4" enum:"partitions,letters,files,activation" doc:"What else was looked at, and is as it was before"`
	}
}

// looks are what a first start is looked at for besides the disk itself.
var looks = []struct{ key, words string }{
	{"partitions", "as many partitions as the clone has"}, {"letters", "the drive letters as before"},
	{"files", "programs and files there"}, {"activation", "the system activated"},
}

// lookedAt says what else was looked at, and what was not.
func lookedAt(keys []string) string {
	var seen, open []string
	for _, l := range looks {
		if slices.Contains(keys, l.key) {
			seen = append(seen, l.words)
		} else {
			open = append(open, l.words)
		}
	}
	text := ""
	if len(seen) > 0 {
		text += " Seen too: " + strings.Join(seen, ", ") + "."
	}
	if len(seen) > 0 && len(open) > 0 {
		text += " Not told: " + strings.Join(open, ", ") + "."
	}
	return text
}

type firstStartOutput struct {
	Body struct {
		judge.Proof
		Case Case `json:"case"`
	}
}

// firstStart records a first start. One that failed leads back to the repair with
// what the screen said; one from the clone proves the case.
func (a *API) firstStart(ctx context.Context, in *firstStartInput) (*firstStartOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	proof := &judge.Proof{From: "open", Why: "It did not come up: " + in.Body.Failed}
	if in.Body.Failed == "" {
		if proof, err = a.judge.FirstStart(ctx, c, in.Body.Seen); err != nil {
			return nil, a.problem(ctx, err)
		}
		proof.Why += lookedAt(in.Body.Looked)
	}
	return a.prove(ctx, in.ID, version, proof, in.Body.Failed, nil)
}

type firstStartCaptureInput struct {
	CaseID
	IfMatch
	upload
}

// firstStartCapture takes a capture as proof of a first start. One of the clone
// becomes its evidence.
func (a *API) firstStartCapture(ctx context.Context, in *firstStartCaptureInput) (*firstStartOutput, error) {
	version, err := in.parse()
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
	proof, err := a.judge.FirstStartCaptured(ctx, c, taken)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	proof.Why += lookedAt(strings.Split(in.Fields["looked"], ","))
	var evidence *store.Piece
	if proof.From == "clone" {
		evidence = capturedPiece(in.ID, proof.From, f.Name, taken)
	}
	return a.prove(ctx, in.ID, version, proof, "", evidence)
}

// prove keeps what a first start showed.
func (a *API) prove(ctx context.Context, id uint64, version uint32, proof *judge.Proof, failed string,
	evidence *store.Piece) (*firstStartOutput, error) {
	m := &store.Mark{CaseID: id, Step: store.FirstStart, Title: "First start", State: store.MarkFailed, Note: proof.Why,
		Who: person(ctx).Name}
	var at *time.Time
	if proof.From == "clone" {
		now := time.Now().UTC()
		at, m.State = &now, store.MarkDone
	}
	err := a.storing(ctx, func() error { return a.store.Prove(ctx, version, m, at, failed, evidence) })
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	changed, err := a.recheck(ctx, id)
	if err != nil {
		return nil, err
	}
	out := &firstStartOutput{}
	out.Body.Proof, out.Body.Case = *proof, changed.Body
	return out, nil
}
