package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/capture"
	"latchkey/core/command"
	"latchkey/core/disk"
	"latchkey/server/form"
	"latchkey/server/judge"
	"latchkey/server/store"
)

// clean is a name as it comes from outside, on one line.
func clean(s string) string { return command.Clean(s) }

type evidenceInput struct {
	CaseID
	IfMatch
	Role string `path:"role" enum:"original,clone"`
	upload
}

func (a *API) registerEvidence(api huma.API) {
	registerForm(api, huma.Operation{
		OperationID: "add-evidence", Method: http.MethodPost, Path: "/cases/{id}/drives/{role}/evidence",
		Summary: "Add the first bytes of a disk, or all of them", DefaultStatus: http.StatusCreated,
	}, map[string]*huma.Schema{
		"file":       fileField("A capture, a raw image or its first part, up to 64 MiB"),
		"tail":       fileField("The last part of the disk, when the file is only its beginning"),
		"capacity":   textField("The disk's real capacity, the exact number of bytes, when the file is only its beginning"),
		"sectorSize": numberField("Logical sector size in bytes, 512 or 4096; when absent that of the capture, or 512"),
		"confirm":    truthField("Take a blank or badly damaged disk for one"),
	}, a.addEvidence)
}

// captureRoom is what reading a capture takes in memory: its manifest and boot variables.
const captureRoom = 24 << 20

func (a *API) addEvidence(ctx context.Context, in *evidenceInput) (*caseOutput, error) {
	version, err := in.parse()
	if err != nil {
		return nil, err
	}
	main, err := in.file("file")
	if err != nil {
		return nil, err
	}
	sectorSize, err := in.number("sectorSize")
	if err != nil {
		return nil, err
	}
	if sectorSize != 0 && sectorSize != 512 && sectorSize != 4096 {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("sectorSize is %d: expected 512 or 4096.", sectorSize))
	}
	head, err := readSome(main, 0)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity("The file cannot be read.")
	}
	piece := &store.Piece{Evidence: store.Evidence{CaseID: in.ID, Role: in.Role, Filename: main.Name,
		SectorSize: int(sectorSize)}}
	if capture.IsCapture(head) {
		c, err := a.readCapture(ctx, main)
		if err != nil {
			return nil, err
		}
		defer c.Close()
		piece = capturedPiece(in.ID, in.Role, main.Name, c)
		if sectorSize != 0 {
			piece.SectorSize = int(sectorSize) // as attached now
		}
	} else if err := in.raw(piece, main, head); err != nil {
		return nil, err
	}
	err = a.storing(ctx, func() error {
		return a.store.AddEvidence(ctx, piece, by(ctx, store.WhatEvidence, in.Role+": "+main.Name), version)
	})
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return a.recheck(ctx, in.ID)
}

// raw takes raw sectors: the whole disk, or its beginning and perhaps its end.
func (in *evidenceInput) raw(piece *store.Piece, main *form.File, head []byte) error {
	tail := in.Files["tail"]
	if err := recognise(head, tail, in.Fields["confirm"] == "true"); err != nil {
		return err
	}
	var capacity int64
	if text := in.Fields["capacity"]; text != "" {
		exact, rounded, err := disk.ParseSize(text, disk.DecimalUnits)
		if err != nil || rounded {
			return huma.Error422UnprocessableEntity(fmt.Sprintf("capacity is %q: expected the exact number of bytes, as blockdev --getsize64 prints it.", clean(text)))
		}
		capacity = exact
	}
	if piece.SectorSize == 0 {
		piece.SectorSize = 512
	}
	var end io.ReaderAt
	var endLength int64
	if tail != nil {
		end, endLength = tail, tail.Size
	}
	headLength := main.Size
	if piece.Capacity = capacity; capacity == 0 {
		piece.Capacity = main.Size + endLength
	}
	piece.Capacity -= piece.Capacity % int64(piece.SectorSize)
	if capacity == 0 {
		headLength = piece.Capacity - endLength // a whole number of sectors
	}
	held, err := capture.Ends(main, headLength, end, endLength, piece.Capacity)
	if err != nil {
		return huma.Error422UnprocessableEntity("The sizes do not fit together: " + err.Error() + ".")
	}
	if _, err := disk.New(held, piece.Capacity, piece.SectorSize); err != nil {
		return huma.Error422UnprocessableEntity("capacity: " + err.Error() + ".")
	}
	piece.Extents, piece.Sectors = held.Extents(), held
	return nil
}

// readCapture opens a capture file that came in, which tells capacity, sector size,
// model and bus itself.
func (a *API) readCapture(ctx context.Context, f *form.File) (c *capture.Captured, err error) {
	back, err := a.judge.Room().Take(ctx, captureRoom)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	defer back()
	if c, err = capture.ReadCapture(f, f.Size); err != nil {
		return nil, huma.Error422UnprocessableEntity("The file is an archive, but " + clean(err.Error()) + ".")
	}
	return c, nil
}

// storing stores a piece of evidence within the room that this takes.
func (a *API) storing(ctx context.Context, store func() error) error {
	back, err := a.judge.Room().Take(ctx, captureRoom)
	if err != nil {
		return err
	}
	defer back()
	return store()
}

func capturedPiece(id uint64, role, filename string, c *capture.Captured) *store.Piece {
	return &store.Piece{
		Evidence: store.Evidence{CaseID: id, Role: role, Filename: filename, Capacity: c.Capacity,
			SectorSize: c.LogicalSectorSize, Bus: busOf(c), Serial: clean(c.Serial), TakenAt: c.TakenAt},
		Inside: store.Inside{Extents: c.Sectors.Extents(), Unreadable: c.Unreadable, Variables: c.Variables,
			Counts: c.Counts},
		Sectors: c.Sectors, Model: clean(c.Model),
	}
}

// busOf is the bus on which the drive hung when it was read; "" for none that is known.
func busOf(c *capture.Captured) string {
	if slices.Contains(capture.Buses, c.Bus) {
		return c.Bus
	}
	return ""
}

// recognise refuses what is not a disk, with the reason. A blank or damaged one
// passes when the person insists.
func recognise(head []byte, tail *form.File, confirmed bool) error {
	var end []byte
	if tail != nil {
		var err error
		if end, err = readSome(tail, tail.Size-recogniseLen); err != nil {
			return huma.Error422UnprocessableEntity("The second file cannot be read.")
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
	Role string `path:"role" enum:"original,clone"`
	// Evidence is the piece whose bytes are wanted: another one by now has none of them.
	Evidence uint64 `query:"evidence" doc:"The piece of evidence; absent is the one in force"`
	Offset   int64  `query:"offset" minimum:"0"`
	Length   int64  `query:"length" minimum:"1" maximum:"1024" default:"256"`
}

type bytesOutput struct{ Body judge.View }

func (a *API) bytes(ctx context.Context, in *bytesInput) (*bytesOutput, error) {
	c, err := a.store.Get(ctx, in.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	for _, d := range c.Drives {
		if d.Role == in.Role {
			if in.Evidence != 0 && (d.Evidence == nil || d.Evidence.ID != in.Evidence) {
				return nil, huma.Error404NotFound("This piece of evidence was replaced or withdrawn: load the case again.")
			}
			v, err := a.judge.Bytes(ctx, d.Evidence, in.Offset, in.Length)
			if err != nil {
				return nil, a.problem(ctx, err)
			}
			return &bytesOutput{*v}, nil
		}
	}
	return nil, a.problem(ctx, store.ErrNotFound)
}
