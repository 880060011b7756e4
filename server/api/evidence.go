package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path/filepath"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/server/judge"
	"latchkey/server/store"
)

type evidenceInput struct {
	CaseID
	IfMatch
	Role    string `path:"role" enum:"original,clone"`
	RawBody huma.MultipartFormFiles[struct {
		File       huma.FormFile `form:"file" required:"true" doc:"A capture, a raw image or its first part, up to 64 MiB"`
		Tail       huma.FormFile `form:"tail" required:"false" doc:"The last part of the disk, when the file is only its beginning"`
		Capacity   int64         `form:"capacity" required:"false" doc:"The disk's real capacity in bytes, when the file is only its beginning"`
		SectorSize int           `form:"sectorSize" required:"false" doc:"Logical sector size in bytes, 512 or 4096; when absent that of the capture, or 512"`
		Confirm    bool          `form:"confirm" required:"false" doc:"Take a blank or badly damaged disk for one"`
	}]
}

func (a *API) registerEvidence(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "add-evidence", Method: http.MethodPost, Path: "/cases/{id}/drives/{role}/evidence",
		Summary: "Add the first bytes of a disk, or all of them", DefaultStatus: http.StatusCreated, MaxBodyBytes: maxBody,
	}, a.addEvidence)
}

func (a *API) addEvidence(ctx context.Context, in *evidenceInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	form := in.RawBody.Data()
	defer in.RawBody.Form.RemoveAll()
	for _, f := range []huma.FormFile{form.File, form.Tail} {
		if f.Size > maxUpload {
			return nil, tooLarge(f)
		}
	}
	sectorSize := form.SectorSize
	if sectorSize == 0 {
		sectorSize = 512
	}
	if sectorSize != 512 && sectorSize != 4096 {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("sectorSize is %d: expected 512 or 4096.", sectorSize))
	}
	head, err := readSome(form.File, 0)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("The file cannot be read: " + err.Error())
	}
	if capture.IsCapture(head) {
		return a.addCapture(ctx, in, version)
	}
	if err := recognise(head, form.Tail, form.Confirm); err != nil {
		return nil, err
	}
	capacity := form.Capacity
	if capacity == 0 {
		capacity = form.File.Size + tailSize(form.Tail)
	}
	e := &store.Evidence{
		CaseID: in.ID, Role: in.Role, Filename: filepath.Base(form.File.Filename),
		Capacity: capacity - capacity%int64(sectorSize), SectorSize: sectorSize,
	}
	var tail io.ReaderAt
	if form.Tail.IsSet {
		tail = form.Tail
	}
	headLen := form.File.Size
	if form.Capacity == 0 {
		headLen = e.Capacity - tailSize(form.Tail) // a whole number of sectors
	}
	held, err := capture.Ends(form.File, headLen, tail, tailSize(form.Tail), e.Capacity)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("The sizes do not fit together: " + err.Error() + ".")
	}
	if _, err := disk.New(held, e.Capacity, sectorSize); err != nil {
		return nil, huma.Error422UnprocessableEntity("capacity: " + err.Error() + ".")
	}
	e.Extents = held.Extents()
	if err := a.store.AddEvidence(ctx, e, version, held, "", ""); err != nil {
		return nil, problem(err)
	}
	return a.recheck(ctx, in.ID)
}

// addCapture takes a capture file, which tells capacity, sector size, model and
// bus itself.
func (a *API) addCapture(ctx context.Context, in *evidenceInput, version uint32) (*caseOutput, error) {
	form := in.RawBody.Data()
	c, err := capture.ReadCapture(form.File, form.File.Size)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("The file is an archive, but " + err.Error() + ".")
	}
	e := capturedEvidence(in.ID, in.Role, filepath.Base(form.File.Filename), c)
	if form.SectorSize == 512 || form.SectorSize == 4096 {
		e.SectorSize = form.SectorSize // as attached now
	}
	if err := a.store.AddEvidence(ctx, e, version, c.Sectors, c.Model, c.Bus); err != nil {
		return nil, problem(err)
	}
	return a.recheck(ctx, in.ID)
}

func capturedEvidence(id uint64, role, filename string, c *capture.Captured) *store.Evidence {
	return &store.Evidence{
		CaseID: id, Role: role, Filename: filename, Capacity: c.Capacity, SectorSize: c.LogicalSectorSize,
		Extents: c.Sectors.Extents(), Variables: c.Variables, Counts: c.Counts,
	}
}

func tooLarge(f huma.FormFile) error {
	return huma.Error413RequestEntityTooLarge(fmt.Sprintf("%s has %d bytes: at most 64 MiB are taken. The first MiB of the disk and its last MiB are enough for most checks.", f.Filename, f.Size))
}

func tailSize(f huma.FormFile) int64 {
	if !f.IsSet {
		return 0
	}
	return f.Size
}

// recognise refuses what is not a disk, with the reason. A blank or damaged one
// passes when the person insists.
func recognise(head []byte, tail huma.FormFile, confirmed bool) error {
	var end []byte
	if tail.IsSet {
		var err error
		if end, err = readSome(tail, tail.Size-recogniseLen); err != nil {
			return huma.Error422UnprocessableEntity("The second file cannot be read: " + err.Error())
		}
	}
	var not *capture.NotADisk
	if err := capture.Recognise(head, end); !errors.As(err, &not) || not.Confirmable && confirmed {
		return nil
	}
	reason := huma.Error422UnprocessableEntity(not.Reason)
	if model := new(huma.ErrorModel); not.Confirmable && errors.As(reason, &model) {
		model.Type = "urn:latchkey:confirm"
	}
	return reason
}

// recogniseLen is how much of a file is looked at to recognise a disk, in bytes.
const recogniseLen = 64 << 10

func readSome(f io.ReaderAt, from int64) ([]byte, error) {
	b := make([]byte, recogniseLen)
	n, err := f.ReadAt(b, max(from, 0))
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return b[:n], nil
}

type bytesInput struct {
	CaseID
	Role   string `path:"role" enum:"original,clone"`
	Offset int64  `query:"offset" minimum:"0"`
	Length int64  `query:"length" minimum:"1" maximum:"1024" default:"256"`
}

type bytesOutput struct{ Body judge.View }

func (a *API) bytes(ctx context.Context, in *bytesInput) (*bytesOutput, error) {
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, problem(err)
	}
	for _, d := range c.Drives {
		if d.Role == in.Role {
			v, err := a.judge.Bytes(ctx, d.Evidence, in.Offset, in.Length)
			if err != nil {
				return nil, problem(err)
			}
			return &bytesOutput{*v}, nil
		}
	}
	return nil, problem(store.ErrNotFound)
}
