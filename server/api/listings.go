package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/capture/listing"
	"latchkey/capture/told"
	"latchkey/core/machine"
	"latchkey/server/judge"
	"latchkey/server/store"
)

// ListingInput is a listing as it is pasted or dropped.
type ListingInput struct {
	CaseID
	upload
}

// listingForm describes the form of a listing.
func listingForm(more map[string]*huma.Schema) map[string]*huma.Schema {
	fields := map[string]*huma.Schema{
		"file":   fileField("The text as it came, of at most 8 MiB; its name is kept, but for that of a pasted one: paste"),
		"format": textField("Overrules what is recognised"),
	}
	maps.Copy(fields, more)
	return fields
}

// pasted is the name of a text that came in no file.
const pasted = "paste"

// read takes a listing in. What it holds is bounded while it is read.
func (in *ListingInput) read(ctx context.Context, a *API) (name string, raw []byte, l *listing.Listing, err error) {
	f, err := in.file("file")
	if err != nil {
		return "", nil, nil, err
	}
	if f.Size > listing.MaxBytes {
		return "", nil, nil, huma.Error413RequestEntityTooLarge(fmt.Sprintf("The listing has %d bytes: at most 8 MiB are taken.", f.Size))
	}
	if name = f.Name; name == pasted {
		name = ""
	}
	back, err := a.judge.Room().Take(ctx, judge.ListingRoom(int(f.Size)))
	if err != nil {
		return "", nil, nil, a.problem(ctx, err)
	}
	defer back()
	raw = make([]byte, f.Size)
	if _, err := f.ReadAt(raw, 0); err != nil && !errors.Is(err, io.EOF) {
		return "", nil, nil, a.problem(ctx, err)
	}
	l, err = listing.Read(name, raw, listing.Format(in.Fields["format"]))
	if unread := new(listing.Error); errors.As(err, &unread) {
		return "", nil, nil, huma.Error422UnprocessableEntity(unread.Reason)
	}
	if err != nil {
		return "", nil, nil, a.problem(ctx, err)
	}
	return name, raw, l, nil
}

type readingOutput struct{ Body judge.Reading }

type addListingInput struct {
	ListingInput
	IfMatch
}

// ListingID is the number of a listing in an address.
type ListingID struct {
	Listing uint64 `path:"listing"`
}

// EvidenceID is the number of a piece of evidence in an address.
type EvidenceID struct {
	Evidence uint64 `path:"evidence"`
}

// WithdrawInput takes a piece of evidence out of a case, or puts it back.
type WithdrawInput struct {
	Withdrawn bool `json:"withdrawn"`
}

func (in WithdrawInput) by(ctx context.Context, piece string) store.Entry {
	if in.Withdrawn {
		return by(ctx, store.WhatWithdrawn, piece)
	}
	return by(ctx, store.WhatPutBack, piece)
}

type withdrawListingInput struct {
	CaseID
	ListingID
	IfMatch
	Body WithdrawInput
}

type withdrawEvidenceInput struct {
	CaseID
	EvidenceID
	IfMatch
	Body WithdrawInput
}

type toldInput struct {
	CaseID
	IfMatch
	Role string `path:"role" enum:"original,clone"`
	Body told.Disk
}

func (a *API) registerListings(api huma.API) {
	registerForm(api, huma.Operation{OperationID: "read-listing", Method: http.MethodPost, Path: "/cases/{id}/listings/reading",
		Summary: "Read a listing without keeping it", Metadata: reads}, listingForm(nil), a.readListing)
	registerForm(api, huma.Operation{OperationID: "add-listing", Method: http.MethodPost, Path: "/cases/{id}/listings",
		Summary: "Add the output of a command", DefaultStatus: http.StatusCreated},
		listingForm(map[string]*huma.Schema{"disks": textField("JSON: drive role by the name of a disk in the listing; store for a boot configuration store")}), a.addListing)
	huma.Register(api, huma.Operation{OperationID: "get-listing", Method: http.MethodGet, Path: "/cases/{id}/listings/{listing}", Summary: "Look at a listing, line by line"}, a.listing)
	huma.Register(api, huma.Operation{OperationID: "withdraw-listing", Method: http.MethodPut, Path: "/cases/{id}/listings/{listing}/withdrawn", Summary: "Withdraw a listing, or put it back"},
		a.withdrawListing)
	huma.Register(api, huma.Operation{OperationID: "withdraw-evidence", Method: http.MethodPut, Path: "/cases/{id}/evidence/{evidence}/withdrawn", Summary: "Withdraw the bytes of a disk, or put them back"},
		a.withdrawEvidence)
	huma.Register(api, huma.Operation{OperationID: "tell-disk", Method: http.MethodPut, Path: "/cases/{id}/drives/{role}/told", Summary: "Tell of a disk what a screen shows"}, a.tellDisk)
	huma.Register(api, huma.Operation{OperationID: "list-evidence", Method: http.MethodGet, Path: "/cases/{id}/evidence", Summary: "List every piece of evidence"}, a.pieces)
	huma.Register(api, huma.Operation{OperationID: "list-references", Method: http.MethodGet, Path: "/cases/{id}/references", Summary: "Who refers to which disk, partition or file system"}, a.references)
	huma.Register(api, huma.Operation{OperationID: "list-tables", Method: http.MethodGet, Path: "/cases/{id}/tables", Summary: "What each copy of the drives' partition tables says"}, a.tables)
	huma.Register(api, huma.Operation{OperationID: "export-references", Method: http.MethodGet, Path: "/cases/{id}/references.csv", Summary: "The references as comma-separated values"}, a.referencesCSV)
	huma.Register(api, huma.Operation{OperationID: "export-layout", Method: http.MethodGet, Path: "/cases/{id}/drives/{role}/layout", Summary: "A disk's layout in the form of sfdisk"}, a.layout)
}

func (a *API) readListing(ctx context.Context, in *ListingInput) (*readingOutput, error) {
	_, _, l, err := in.read(ctx, a)
	if err != nil {
		return nil, err
	}
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	r, err := a.judge.Suggest(ctx, c, l)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return &readingOutput{*r}, nil
}

// maxDiskNames bounds the disks of a listing that are given to drives.
const maxDiskNames = 100

// disks are the drives that a listing's disks are given to.
func (in *addListingInput) disks() (map[string]string, error) {
	given, disks := map[string]string{}, map[string]string{}
	if raw := in.Fields["disks"]; raw != "" {
		if err := json.Unmarshal([]byte(raw), &given); err != nil || len(given) > maxDiskNames {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("disks: expected an object in JSON with drive roles by disks' names, at most %d.", maxDiskNames))
		}
	}
	for name, role := range given {
		switch {
		case role == "":
		case !slices.Contains(store.Roles, role):
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("disks.%s is %q: expected original, clone or nothing.", clean(name), clean(role)))
		default:
			disks[name] = role
		}
	}
	return disks, nil
}

func (a *API) addListing(ctx context.Context, in *addListingInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	name, raw, l, err := in.read(ctx, a)
	if err != nil {
		return nil, err
	}
	if l.Empty() {
		return nil, huma.Error422UnprocessableEntity("Nothing of the listing was understood: there is nothing to keep. " + l.Problem)
	}
	disks, err := in.disks()
	if err != nil {
		return nil, err
	}
	entry := &store.Listing{CaseID: in.ID, Filename: name, Format: string(l.Format), Disks: disks}
	if err := a.store.AddListing(ctx, entry, raw,
		by(ctx, store.WhatEvidence, strings.TrimSpace(entry.Format+" "+name)), version); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.recheck(ctx, in.ID)
}

type getListingInput struct {
	CaseID
	ListingID
}

func (a *API) listing(ctx context.Context, in *getListingInput) (*readingOutput, error) {
	l, err := a.store.Listing(ctx, in.ID, in.Listing)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	got, err := a.judge.Reading(ctx, l)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return &readingOutput{judge.Show(got, l.Disks)}, nil
}

func (a *API) withdrawListing(ctx context.Context, in *withdrawListingInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	if err := a.store.WithdrawListing(ctx, in.ID, in.Listing, in.Body.Withdrawn,
		in.Body.by(ctx, fmt.Sprint("listing ", in.Listing)), version); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.recheck(ctx, in.ID)
}

func (a *API) withdrawEvidence(ctx context.Context, in *withdrawEvidenceInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	if err := a.store.WithdrawEvidence(ctx, in.ID, in.Evidence, in.Body.Withdrawn,
		in.Body.by(ctx, fmt.Sprint("bytes ", in.Evidence)), version); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.recheck(ctx, in.ID)
}

func (a *API) tellDisk(ctx context.Context, in *toldInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	disk := &in.Body
	d, err := disk.Describe()
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(clean(err.Error()) + ".")
	}
	if d.Contents() == nil {
		disk = nil
	}
	if err := a.store.TellDisk(ctx, in.ID, in.Role, disk, by(ctx, store.WhatTold, in.Role), version); err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.recheck(ctx, in.ID)
}

type piecesOutput struct{ Body judge.Pieces }

func (a *API) pieces(ctx context.Context, in *CaseID) (*piecesOutput, error) {
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	p, err := a.judge.Pieces(ctx, c)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return &piecesOutput{*p}, nil
}

type referencesOutput struct{ Body []machine.Reference }

func (a *API) references(ctx context.Context, in *CaseID) (*referencesOutput, error) {
	refs, err := a.referencesOf(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return &referencesOutput{refs}, nil
}

type tablesOutput struct{ Body []judge.DriveTables }

func (a *API) tables(ctx context.Context, in *CaseID) (*tablesOutput, error) {
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	list, err := a.judge.Tables(ctx, c)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return &tablesOutput{list}, nil
}

func (a *API) referencesOf(ctx context.Context, id uint64) ([]machine.Reference, error) {
	c, err := a.store.Get(ctx, id)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	refs, err := a.judge.References(ctx, c)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return refs, nil
}

type fileOutput struct {
	ContentType        string `header:"Content-Type"`
	ContentDisposition string `header:"Content-Disposition"`
	Body               []byte
}

func (a *API) referencesCSV(ctx context.Context, in *CaseID) (*fileOutput, error) {
	refs, err := a.referencesOf(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	raw, err := listing.ExportReferences(refs)
	return &fileOutput{"text/csv; charset=utf-8", fmt.Sprintf(`attachment; filename="case-%d-references.csv"`, in.ID), raw}, err
}

type layoutInput struct {
	CaseID
	Role string `path:"role" enum:"original,clone"`
	Form string `query:"form" enum:"sfdisk,json" default:"sfdisk"`
}

func (a *API) layout(ctx context.Context, in *layoutInput) (*fileOutput, error) {
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	l, err := a.judge.Layout(ctx, c, in.Role)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	export, kind, end := listing.ExportDump, "text/plain; charset=utf-8", "sfdisk"
	if in.Form == "json" {
		export, kind, end = listing.ExportJSON, "application/json", "json"
	}
	raw, err := export(l, in.Role)
	if err != nil {
		return nil, huma.Error409Conflict("The layout cannot be exported: " + clean(err.Error()) + ".")
	}
	return &fileOutput{kind, fmt.Sprintf(`attachment; filename="case-%d-%s.%s"`, in.ID, in.Role, end), raw}, nil
}
