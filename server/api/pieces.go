package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/capture"
	"latchkey/capture/told"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/server/form"
	"latchkey/server/judge"
	"latchkey/server/store"
)

func (a *API) registerPieces(api huma.API) {
	registerForm(api, huma.Operation{
		OperationID: "recognise-piece", Method: http.MethodPost, Path: "/cases/{id}/pieces/reading",
		Summary: "Say what a file or a text is, and which disk it speaks of; nothing is kept",
	}, map[string]*huma.Schema{"file": fileField("A capture, a raw image or its first part, or what commands printed; a pasted text has the name paste")}, a.recognisePiece)
	huma.Register(api, huma.Operation{OperationID: "swap-disks", Method: http.MethodPost, Path: "/cases/{id}/swap",
		Summary: "Let what is known of the original be the clone's, and the other way round"}, a.swap)
	huma.Register(api, huma.Operation{OperationID: "tell-boot-list", Method: http.MethodPut, Path: "/cases/{id}/boot-list",
		Summary: "Tell the firmware's boot list in its order"}, a.tellBootList)
}

// Piece is what a file or a text is, before it is kept.
type Piece struct {
	Kind    string           `json:"kind" enum:"capture,sectors,listing,refused"`
	Says    string           `json:"says" doc:"What it is in a sentence, or why it is refused"`
	Disks   []judge.ReadDisk `json:"disks" doc:"The disks that it tells of"`
	Tells   []string         `json:"tells" doc:"What it tells of the machine as such"`
	Entries int              `json:"entries" doc:"Boot entries that it lists"`
	Problem string           `json:"problem,omitempty" doc:"What of it could not be read, and what to do"`
}

type pieceInput struct {
	CaseID
	upload
}

type pieceOutput struct{ Body Piece }

// recognisePiece says what a piece is. What is refused is an answer, and no error.
func (a *API) recognisePiece(ctx context.Context, in *pieceInput) (*pieceOutput, error) {
	f, err := in.file("file")
	if err != nil {
		return nil, err
	}
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	head, err := readSome(f, 0)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("The file cannot be read.")
	}
	var out *Piece
	switch {
	case capture.IsCapture(head):
		out, err = a.recogniseCapture(ctx, c, f)
	case f.Name != pasted && capture.Recognise(head, nil) == nil:
		out, err = a.recogniseSectors(ctx, c, f)
	default:
		out, err = a.recogniseText(ctx, c, &ListingInput{CaseID: in.CaseID, upload: in.upload})
	}
	var refused huma.StatusError
	if errors.As(err, &refused) && (refused.GetStatus() == http.StatusUnprocessableEntity ||
		refused.GetStatus() == http.StatusRequestEntityTooLarge) {
		return &pieceOutput{Piece{Kind: "refused", Says: refused.Error(), Disks: []judge.ReadDisk{}, Tells: []string{}}}, nil
	}
	if err != nil {
		return nil, err
	}
	return &pieceOutput{*out}, nil
}

func (a *API) recogniseCapture(ctx context.Context, c *store.Case, f *form.File) (*Piece, error) {
	got, err := a.readCapture(ctx, f)
	if err != nil {
		return nil, err
	}
	defer got.Close()
	on, err := disk.New(got.Sectors, got.Capacity, got.LogicalSectorSize)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("The file is an archive, but " + clean(err.Error()) + ".")
	}
	on.SetCounts(got.Counts)
	return a.recogniseDisk(ctx, c, "capture", "A capture"+takenAt(got), f.Name, clean(got.Model), on, len(got.Variables) > 0)
}

// takenAt says when a capture was taken.
func takenAt(c *capture.Captured) string {
	if c.TakenAt.IsZero() {
		return ""
	}
	return ", taken " + c.TakenAt.UTC().Format("2 Jan 2006 15:04") + " UTC"
}

func (a *API) recogniseSectors(ctx context.Context, c *store.Case, f *form.File) (*Piece, error) {
	on, err := disk.New(f, f.Size, 512)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(clean(err.Error()) + ".")
	}
	if l := disk.ReadLayout(on); goesBeyond(&l) {
		return nil, huma.Error422UnprocessableEntity("These are sectors whose table goes beyond the file, or was written for other sectors: perhaps the beginning of a disk. Add them under Evidence, with the disk's capacity in bytes and its sector size.")
	}
	return a.recogniseDisk(ctx, c, "sectors", "Raw sectors, "+disk.Binary(f.Size), f.Name, "", on, false)
}

// goesBeyond reports whether a table tells of more than the sectors that there are: taken
// for a whole disk they would be one that is cut off, which nobody has said.
func goesBeyond(l *disk.Layout) bool {
	_, larger := l.Find(disk.CodeGPTLargerDisk)
	_, beyond := l.Find(disk.CodeBeyondEnd)
	elsewhere := l.GPT != nil && l.GPT.Primary.State == disk.CopyGood && l.GPT.Primary.Header.AlternateLBA >= l.Sectors
	return l.WrittenFor != 0 || larger || beyond || elsewhere
}

// recogniseDisk examines a disk in bytes within the room that this takes.
func (a *API) recogniseDisk(ctx context.Context, c *store.Case, kind, says, name, model string, on *disk.Disk,
	variables bool) (*Piece, error) {
	back, err := a.judge.Room().Take(ctx, captureRoom)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	defer back()
	held := machine.Examine(on)
	read, err := a.judge.Place(ctx, c, held, model, name, kind == "sectors")
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	out := &Piece{Kind: kind, Says: says + ".", Disks: []judge.ReadDisk{read}, Tells: []string{}}
	if variables {
		out.Tells = append(out.Tells, "the firmware's boot entries")
	}
	if p, bad := held.Layout.Find(disk.CodeUnreadable); bad {
		out.Problem = p.Text
	}
	return out, nil
}

func (a *API) recogniseText(ctx context.Context, c *store.Case, in *ListingInput) (*Piece, error) {
	_, _, l, err := in.read(ctx, a)
	if err != nil {
		return nil, err
	}
	r, err := a.judge.Suggest(ctx, c, l)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	out := &Piece{Kind: "listing", Says: r.Format, Disks: r.Disks, Tells: r.Tells, Entries: r.Entries,
		Problem: r.Problem}
	if l.Empty() {
		out.Kind, out.Says = "refused", "Nothing of it was understood. "+l.Problem
	}
	return out, nil
}

type swapInput struct {
	CaseID
	IfMatch
}

func (a *API) swap(ctx context.Context, in *swapInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	if err := a.store.Swap(ctx, in.ID, by(ctx, store.WhatSwapped, ""), version); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.recheck(ctx, in.ID)
}

type bootListInput struct {
	CaseID
	IfMatch
	Body struct {
		Lines []string `json:"lines" maxItems:"40" doc:"The lines of the list from the top, as the screen shows them"`
	}
}

// BootListed is what of a boot list could be taken.
type BootListed struct {
	Case  Case                `json:"case"`
	Lines []told.BootListLine `json:"lines"`
}

type bootListOutput struct {
	ETag string `header:"ETag"`
	Body BootListed
}

func (a *API) tellBootList(ctx context.Context, in *bootListInput) (*bootListOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	models := map[string]string{}
	for _, d := range c.Drives {
		models[d.Role] = d.Model
	}
	lines := told.BootList(in.Body.Lines, models)
	if !slices.ContainsFunc(lines, func(l told.BootListLine) bool { return l.Role != "" }) {
		return nil, huma.Error422UnprocessableEntity("No line of the list names a drive: write \"original\" or \"clone\" behind it, or the drive's model.")
	}
	c.TakeBootList(lines)
	c.Version = version
	if err := a.store.Update(ctx, c, by(ctx, store.WhatTold, fmt.Sprintf("a boot list of %d lines", len(lines)))); err != nil {
		return nil, a.problem(ctx, err)
	}
	checked, err := a.recheck(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return &bootListOutput{checked.ETag, BootListed{checked.Body, lines}}, nil
}
