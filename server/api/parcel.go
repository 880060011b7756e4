package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/capture/listing"
	"latchkey/server/judge"
	"latchkey/server/parcel"
	"latchkey/server/store"
)

func (a *API) registerParcel(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "export-case", Method: http.MethodGet, Path: "/cases/{id}/export", Summary: "The whole case as one file, with its evidence"}, a.exportCase)
	registerForm(api, huma.Operation{OperationID: "import-case", Method: http.MethodPost, Path: "/imports", Summary: "Take in a case that another bench exported",
		DefaultStatus: http.StatusCreated},
		map[string]*huma.Schema{"file": fileField("A case as it was exported")}, a.importCase)
}

func (a *API) exportCase(ctx context.Context, in *CaseID) (*fileOutput, error) {
	back, err := a.judge.Room().Take(ctx, captureRoom)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	defer back()
	var b bytes.Buffer
	if err := parcel.Write(ctx, &b, a.store, in.ID, person(ctx).Name); err != nil {
		return nil, a.problem(ctx, err)
	}
	return &fileOutput{"application/zip", fmt.Sprintf(`attachment; filename="case-%d.latchkey.zip"`, in.ID), b.Bytes()}, nil
}

type importInput struct{ upload }

// importCase takes in a whole case, or nothing of it.
func (a *API) importCase(ctx context.Context, in *importInput) (*caseOutput, error) {
	f, err := in.file("file")
	if err != nil {
		return nil, err
	}
	back, err := a.judge.Room().Take(ctx, captureRoom)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	defer back()
	p, err := parcel.Open(f, f.Size)
	if err != nil {
		return nil, refused(err)
	}
	im, err := taken(p)
	if err != nil {
		return nil, err
	}
	if err := im.readable(); err != nil {
		return nil, err
	}
	id, err := a.store.Import(ctx, &im.Imported, by(ctx, store.WhatImported, fmt.Sprintf("%s, exported by %s", f.Name, clean(p.By))))
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.recheck(ctx, id)
}

func refused(err error) error {
	return huma.Error422UnprocessableEntity("The case cannot be taken in: " + clean(err.Error()) + ". Nothing was stored.")
}

// imported is a parcel turned into what is stored.
type imported struct{ store.Imported }

// readable opens every capture once, before anything is stored.
func (im *imported) readable() error {
	for _, open := range im.Pieces {
		_, done, err := open()
		if err != nil {
			return refused(err)
		}
		done()
	}
	return nil
}

// elsewhere marks who did something at another bench.
func elsewhere(who string) string { return clip(clean(who), 66) + ", elsewhere" }

func clip(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n])
	}
	return s
}

// taken checks a parcel as a form is checked, and turns it into what is stored.
func taken(p *parcel.Parcel) (*imported, error) {
	body := CaseInput{Title: p.Case.Title, Machine: p.Case.Machine, Firmware: Firmware(p.Case.Firmware),
		DeviceOrder: p.Case.DeviceOrder, Said: p.Case.Said,
		Stands: p.Case.Stands, Reach: p.Case.Reach}
	for _, d := range p.Drives {
		body.Drives = append(body.Drives, DriveInput{d.Role, d.Model, d.Bus, d.Attached})
	}
	if err := valid("case", body); err != nil {
		return nil, err
	}
	c := &store.Case{CreatedAt: p.Case.Made, ClosedAt: p.Case.Closed, Sayings: map[string]store.Saying{},
		Preparation: p.Preparation, Handover: p.Handover}
	if err := body.fill(c); err != nil {
		return nil, err
	}
	for key, s := range p.Case.Sayings {
		if len(c.Sayings) < maxAnswers {
			s.Who, s.Question, s.Answer = elsewhere(s.Who), clip(clean(s.Question), 500), clip(clean(s.Answer), 500)
			c.Sayings[clip(clean(key), 120)] = s
		}
	}
	im := &imported{store.Imported{Case: c}}
	for _, step := range []func(*parcel.Parcel) error{im.drives, im.plans, im.pieces, im.texts, im.rows} {
		if err := step(p); err != nil {
			return nil, err
		}
	}
	return im, nil
}

// valid checks a value as a request's body is checked.
func valid(what string, v any) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return refused(err)
	}
	var plain any
	if err := json.Unmarshal(raw, &plain); err != nil {
		return refused(err)
	}
	registry := huma.NewMapRegistry("#/components/schemas/", schemaName)
	schema := huma.SchemaFromType(registry, reflect.TypeOf(v))
	var res huma.ValidateResult
	huma.Validate(registry, schema, huma.NewPathBuffer([]byte{}, 0), huma.ModeWriteToServer, plain, &res)
	if len(res.Errors) > 0 {
		return refused(fmt.Errorf("%s: %w", what, res.Errors[0]))
	}
	return nil
}

// drives takes over what was told of the disks.
func (im *imported) drives(p *parcel.Parcel) error {
	for _, d := range p.Drives {
		if d.Told == nil {
			continue
		}
		if err := valid("told of the "+d.Role, d.Told); err != nil {
			return err
		}
		if _, err := d.Told.Describe(); err != nil {
			return refused(err)
		}
		for i := range im.Case.Drives {
			if im.Case.Drives[i].Role == d.Role {
				im.Case.Drives[i].Told = d.Told
			}
		}
	}
	return nil
}

// plans bounds what was planned and decided.
func (im *imported) plans(p *parcel.Parcel) error {
	if prep := p.Preparation; prep != nil {
		plan := judge.PlanFrom(prep)
		if err := valid("preparation", plan); err != nil {
			return err
		}
		if err := sound(&plan); err != nil {
			return err
		}
		if len(prep.Ticks) > store.MaxTicks || len(prep.Seen) > store.MaxSeen {
			return refused(fmt.Errorf("preparation has more than %d ticks or %d readings", store.MaxTicks, store.MaxSeen))
		}
	}
	h := p.Handover
	if h == nil {
		return nil
	}
	if len(h.Seen) > store.MaxTicks || len(h.Times) > store.MaxTimes {
		return refused(fmt.Errorf("hand-over has more than %d ticks or %d times", store.MaxTicks, store.MaxTimes))
	}
	h.Place, h.Serial = clip(clean(h.Place), 120), clip(clean(h.Serial), 60)
	if h.Fate != "" && !slices.Contains([]string{"kept", "data", "wiped"}, h.Fate) {
		return refused(fmt.Errorf("hand-over: fate is %q, expected kept, data or wiped", h.Fate))
	}
	for i := range h.Times {
		t := &h.Times[i]
		if t.How = clip(clean(t.How), 120); !slices.Contains(store.Roles, t.Side) ||
			!(t.Seconds > 0 && t.Seconds < 86400) {
			return refused(fmt.Errorf("hand-over: time %d is of no drive, or not within a day", i+1))
		}
	}
	return nil
}

func (im *imported) pieces(p *parcel.Parcel) error {
	for _, e := range p.Evidence {
		if !slices.Contains(store.Roles, e.Role) {
			return refused(fmt.Errorf("%s is of the drive %q, expected original or clone", e.Member, e.Role))
		}
		im.Pieces = append(im.Pieces, func() (*store.Piece, func(), error) {
			c, err := p.Capture(e.Member)
			if err != nil {
				return nil, nil, err
			}
			piece := capturedPiece(0, e.Role, clean(e.Filename), c)
			piece.ReceivedAt, piece.WithdrawnAt = e.Received, e.Withdrawn
			return piece, func() { _ = c.Close() }, nil
		})
	}
	return nil
}

func (im *imported) texts(p *parcel.Parcel) error {
	for _, l := range p.Listings {
		text, err := p.Text(l.Member)
		if err == nil {
			_, err = listing.Read(l.Filename, text, listing.Format(l.Format))
		}
		if err != nil {
			return refused(fmt.Errorf("%s: %w", l.Member, err))
		}
		disks := map[string]string{}
		for name, role := range l.Disks {
			if role != "" && !slices.Contains(store.Roles, role) || len(disks) > 64 {
				return refused(fmt.Errorf("%s gives a disk to %q, expected original or clone", l.Member, role))
			}
			disks[name] = role
		}
		im.Listings = append(im.Listings, store.Listing{Filename: clip(clean(l.Filename), 255), Format: l.Format,
			Disks: disks, Body: store.PackText(text), Length: len(text),
			ReceivedAt: l.Received, WithdrawnAt: l.Withdrawn})
	}
	for _, answer := range p.Answers {
		text, err := p.Text(answer.Member)
		if err != nil {
			return refused(err)
		}
		im.Answers = append(im.Answers, store.RunningAnswer{At: answer.At, Who: elsewhere(answer.Who),
			Body: store.PackText(text)})
	}
	return nil
}

func (im *imported) rows(p *parcel.Parcel) error {
	states := []string{store.MarkDone, store.MarkFailed, store.MarkSkipped, store.MarkUndone}
	for i, m := range p.Marks {
		if !slices.Contains(states, m.State) || len(m.Step) > 80 {
			return refused(fmt.Errorf("step %d is %q: expected one of %s", i+1, m.State, strings.Join(states, ", ")))
		}
		im.Marks = append(im.Marks, store.Mark{Step: m.Step, Title: clip(m.Title, 300), State: m.State,
			Note: clip(m.Note, 20000), Who: elsewhere(m.Who), At: m.At})
	}
	for i, s := range p.Starts {
		if !slices.Contains([]string{"cold", "warm", "unknown"}, s.Kind) || !slices.Contains([]string{"clone", "original", "neither", "open", "failed"}, s.From) {
			return refused(fmt.Errorf("start %d is %q from %q: expected cold, warm or unknown, from clone, original, neither, open or failed", i+1, s.Kind, s.From))
		}
		im.Starts = append(im.Starts, store.Start{At: s.At, RecordedAt: s.Recorded, Kind: s.Kind, Origin: s.From,
			Why: clip(s.Why, 500), Note: clip(s.Note, 2000), Who: elsewhere(s.Who)})
		im.ProvedBy = append(im.ProvedBy, s.Evidence)
	}
	for _, l := range slices.Backward(p.History) {
		im.History = append(im.History, store.Entry{At: l.At, Who: elsewhere(l.Who), What: clip(l.What, 40),
			Detail: clip(l.Detail, 500)})
	}
	return nil
}
