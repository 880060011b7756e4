package api

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/capture/listing"
	"latchkey/core/startup"
	"latchkey/server/judge"
	"latchkey/server/store"
)

// maxListingBody bounds a request with a listing: 8 MiB in base64.
const maxListingBody = listing.MaxBytes*4/3 + 64<<10

// ListingInput is a listing as it is pasted or dropped.
type ListingInput struct {
	Filename string `json:"filename,omitempty" maxLength:"255"`
	Data     string `json:"data" doc:"The text as it came, in base64"`
	Format   string `json:"format,omitempty" maxLength:"40" doc:"Overrules what is recognised"`
}

func (in ListingInput) read() ([]byte, *listing.Listing, error) {
	raw, err := base64.StdEncoding.DecodeString(in.Data)
	if err != nil {
		return nil, nil, huma.Error422UnprocessableEntity("data: expected base64.")
	}
	l, err := listing.Read(filepath.Base(in.Filename), raw, listing.Format(in.Format))
	var unread *listing.Error
	if errors.As(err, &unread) {
		return nil, nil, huma.Error422UnprocessableEntity(unread.Reason)
	}
	return raw, l, err
}

type readInput struct {
	CaseID
	Body ListingInput
}

type readingOutput struct{ Body judge.Reading }

type addListingInput struct {
	CaseID
	IfMatch
	Body AddListingInput
}

// AddListingInput is a listing with the drive that each of its disks is.
type AddListingInput struct {
	ListingInput
	Disks map[string]string `json:"disks,omitempty" doc:"Drive role by the name of a disk in the listing; store for a boot configuration store"`
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
	Body store.ToldDisk
}

func (a *API) registerListings(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "read-listing", Method: http.MethodPost, Path: "/cases/{id}/listings/reading",
		Summary: "Read a listing without keeping it", MaxBodyBytes: maxListingBody}, a.readListing)
	huma.Register(api, huma.Operation{OperationID: "add-listing", Method: http.MethodPost, Path: "/cases/{id}/listings",
		Summary: "Add the output of a command", DefaultStatus: http.StatusCreated, MaxBodyBytes: maxListingBody}, a.addListing)
	huma.Register(api, huma.Operation{OperationID: "get-listing", Method: http.MethodGet, Path: "/cases/{id}/listings/{listing}", Summary: "Look at a listing, line by line"}, a.listing)
	huma.Register(api, huma.Operation{OperationID: "withdraw-listing", Method: http.MethodPut, Path: "/cases/{id}/listings/{listing}/withdrawn", Summary: "Withdraw a listing, or put it back"}, a.withdrawListing)
	huma.Register(api, huma.Operation{OperationID: "withdraw-evidence", Method: http.MethodPut, Path: "/cases/{id}/evidence/{evidence}/withdrawn", Summary: "Withdraw the bytes of a disk, or put them back"}, a.withdrawEvidence)
	huma.Register(api, huma.Operation{OperationID: "tell-disk", Method: http.MethodPut, Path: "/cases/{id}/drives/{role}/told", Summary: "Tell of a disk what a screen shows"}, a.tellDisk)
	huma.Register(api, huma.Operation{OperationID: "list-evidence", Method: http.MethodGet, Path: "/cases/{id}/evidence", Summary: "List every piece of evidence"}, a.pieces)
	huma.Register(api, huma.Operation{OperationID: "list-references", Method: http.MethodGet, Path: "/cases/{id}/references", Summary: "Who refers to which disk, partition or file system"}, a.references)
	huma.Register(api, huma.Operation{OperationID: "export-references", Method: http.MethodGet, Path: "/cases/{id}/references.csv", Summary: "The references as comma-separated values"}, a.referencesCSV)
	huma.Register(api, huma.Operation{OperationID: "export-layout", Method: http.MethodGet, Path: "/cases/{id}/drives/{role}/layout", Summary: "A disk's layout in the form of sfdisk"}, a.layout)
}

func (a *API) readListing(ctx context.Context, in *readInput) (*readingOutput, error) {
	_, l, err := in.Body.read()
	if err != nil {
		return nil, err
	}
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, problem(err)
	}
	r, err := a.judge.Suggest(ctx, c, l)
	if err != nil {
		return nil, problem(err)
	}
	return &readingOutput{*r}, nil
}

func (a *API) addListing(ctx context.Context, in *addListingInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	raw, l, err := in.Body.read()
	if err != nil {
		return nil, err
	}
	if l.Empty() {
		return nil, huma.Error422UnprocessableEntity("Nothing of the listing was understood: there is nothing to keep. " + l.Problem)
	}
	for name, role := range in.Body.Disks {
		if role != "" && !slices.Contains(store.Roles, role) {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("disks.%s is %q: expected original, clone or nothing.", name, role))
		}
	}
	entry := &store.Listing{CaseID: in.ID, Filename: filepath.Base(in.Body.Filename), Format: string(l.Format), Disks: map[string]string{}}
	if in.Body.Filename == "" {
		entry.Filename = ""
	}
	for name, role := range in.Body.Disks {
		if role != "" {
			entry.Disks[name] = role
		}
	}
	if err := a.store.AddListing(ctx, entry, raw, version); err != nil {
		return nil, problem(err)
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
		return nil, problem(err)
	}
	got, err := a.judge.Reading(l)
	if err != nil {
		return nil, problem(err)
	}
	return &readingOutput{judge.Show(got, l.Disks)}, nil
}

func (a *API) withdrawListing(ctx context.Context, in *withdrawListingInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	if err := a.store.WithdrawListing(ctx, in.ID, in.Listing, in.Body.Withdrawn, version); err != nil {
		return nil, problem(err)
	}
	return a.recheck(ctx, in.ID)
}

func (a *API) withdrawEvidence(ctx context.Context, in *withdrawEvidenceInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	if err := a.store.WithdrawEvidence(ctx, in.ID, in.Evidence, in.Body.Withdrawn, version); err != nil {
		return nil, problem(err)
	}
	return a.recheck(ctx, in.ID)
}

func (a *API) tellDisk(ctx context.Context, in *toldInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	told := &in.Body
	d, err := judge.Describe(told)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error() + ".")
	}
	if d.Contents() == nil {
		told = nil
	}
	if err := a.store.TellDisk(ctx, in.ID, in.Role, told, version); err != nil {
		return nil, problem(err)
	}
	return a.recheck(ctx, in.ID)
}

type piecesOutput struct{ Body judge.Pieces }

func (a *API) pieces(ctx context.Context, in *CaseID) (*piecesOutput, error) {
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, problem(err)
	}
	p, err := a.judge.Pieces(ctx, c)
	if err != nil {
		return nil, problem(err)
	}
	return &piecesOutput{*p}, nil
}

type referencesOutput struct{ Body []startup.Reference }

func (a *API) references(ctx context.Context, in *CaseID) (*referencesOutput, error) {
	refs, err := a.referencesOf(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return &referencesOutput{refs}, nil
}

func (a *API) referencesOf(ctx context.Context, id uint64) ([]startup.Reference, error) {
	c, err := a.store.Get(ctx, id)
	if err != nil {
		return nil, problem(err)
	}
	refs, err := a.judge.References(ctx, c)
	if err != nil {
		return nil, problem(err)
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
		return nil, problem(err)
	}
	l, err := a.judge.Layout(ctx, c, in.Role)
	if err != nil {
		return nil, problem(err)
	}
	export, kind, end := listing.ExportDump, "text/plain; charset=utf-8", "sfdisk"
	if in.Form == "json" {
		export, kind, end = listing.ExportJSON, "application/json", "json"
	}
	raw, err := export(l, in.Role)
	if err != nil {
		return nil, huma.Error409Conflict("The layout cannot be exported: " + err.Error() + ".")
	}
	return &fileOutput{kind, fmt.Sprintf(`attachment; filename="case-%d-%s.%s"`, in.ID, in.Role, end), raw}, nil
}
