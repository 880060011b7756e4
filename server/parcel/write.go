package parcel

import (
	"archive/zip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"latchkey/capture"
	"latchkey/server/store"
)

// Write writes a case into one file.
func Write(ctx context.Context, w io.Writer, s *store.Store, id uint64, by string) error {
	c, err := s.Get(ctx, id)
	if err != nil {
		return err
	}
	z := zip.NewWriter(w)
	d := &Document{Format: formatName, Version: formatNumber, Made: time.Now().UTC(), By: by,
		Case: Case{c.Title, c.Machine, c.Firmware, c.DeviceOrder, c.Said, c.Stands, c.Reach, c.Sayings, c.CreatedAt,
			c.ClosedAt},
		Drives: []Drive{}, Evidence: []Evidence{}, Listings: []Listing{}, Answers: []Answer{},
		Marks: []Mark{}, Starts: []Start{}, History: []Line{},
		Preparation: c.Preparation, Handover: c.Handover}
	for _, v := range c.Drives {
		d.Drives = append(d.Drives, Drive{v.Role, v.Model, v.Bus, v.Attached, v.Told})
	}
	numbers, err := d.pieces(ctx, z, s, id)
	if err != nil {
		return err
	}
	if err := d.rows(ctx, s, id, numbers); err != nil {
		return err
	}
	answers, err := s.Answers(ctx, id)
	if err != nil {
		return err
	}
	for i := range answers {
		text, err := answers[i].Text()
		if err != nil {
			return err
		}
		name := fmt.Sprintf("answers/%d.txt", i+1)
		if err := put(z, name, []byte(text)); err != nil {
			return err
		}
		d.Answers = append(d.Answers, Answer{name, answers[i].At, answers[i].Who})
	}
	raw, err := json.MarshalIndent(d, "", " ")
	if err != nil {
		return err
	}
	if err := put(z, documentName, raw); err != nil {
		return err
	}
	return z.Close()
}

func put(z *zip.Writer, name string, raw []byte) error {
	m, err := z.Create(name)
	if err != nil {
		return err
	}
	_, err = m.Write(raw)
	return err
}

// pieces writes the evidence, and returns each capture's number by its ID.
func (d *Document) pieces(ctx context.Context, z *zip.Writer, s *store.Store, id uint64) (map[uint64]int, error) {
	pieces, listings, err := s.Pieces(ctx, id)
	if err != nil {
		return nil, err
	}
	numbers := map[uint64]int{}
	for i := len(pieces) - 1; i >= 0; i-- { // the oldest first
		e := &pieces[i]
		name := fmt.Sprintf("evidence/%d.lkcap", len(d.Evidence)+1)
		if err := writeCapture(ctx, z, s, e, name); err != nil {
			return nil, err
		}
		d.Evidence = append(d.Evidence, Evidence{name, e.Role, e.Filename, e.ReceivedAt, e.WithdrawnAt})
		numbers[e.ID] = len(d.Evidence)
	}
	for i := len(listings) - 1; i >= 0; i-- {
		l, err := s.Listing(ctx, id, listings[i].ID)
		if err != nil {
			return nil, err
		}
		text, err := l.Text()
		if err != nil {
			return nil, err
		}
		name := fmt.Sprintf("listings/%d.txt", len(d.Listings)+1)
		if err := put(z, name, text); err != nil {
			return nil, err
		}
		d.Listings = append(d.Listings, Listing{name, l.Filename, l.Format, l.Disks, l.ReceivedAt, l.WithdrawnAt})
	}
	return numbers, nil
}

func writeCapture(ctx context.Context, z *zip.Writer, s *store.Store, e *store.Evidence, name string) error {
	in, err := s.Inside(ctx, e.ID)
	if err != nil {
		return err
	}
	r, err := s.Open(ctx, e.ID, in)
	if err != nil {
		return err
	}
	m, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store}) // it is compressed itself
	if err != nil {
		return err
	}
	source := []rune(strings.ToValidUTF8(e.Filename, "?"))
	manifest := capture.Manifest{Capacity: e.Capacity, LogicalSectorSize: e.SectorSize, Bus: e.Bus, Serial: e.Serial,
		Source: string(source[:min(len(source), maxSource)]), TakenAt: e.TakenAt, Extents: in.Extents,
		Unreadable: in.Unreadable, Counts: in.Counts}
	return capture.WriteCapture(m, manifest, r, in.Variables)
}

// maxSource bounds the name of what was captured, in signs: a capture takes 200 bytes of it.
const maxSource = 50

// rows takes over what people did and saw.
func (d *Document) rows(ctx context.Context, s *store.Store, id uint64, numbers map[uint64]int) error {
	marks, err := s.Marks(ctx, id)
	if err != nil {
		return err
	}
	for _, m := range marks {
		d.Marks = append(d.Marks, Mark{m.Step, m.Title, m.State, m.Note, m.Who, m.At})
	}
	starts, err := s.Starts(ctx, id)
	if err != nil {
		return err
	}
	for _, t := range starts {
		start := Start{At: t.At, Recorded: t.RecordedAt, Kind: t.Kind, From: t.Origin, Why: t.Why, Note: t.Note,
			Who: t.Who}
		if t.EvidenceID != nil {
			start.Evidence = numbers[*t.EvidenceID]
		}
		d.Starts = append(d.Starts, start)
	}
	for before := uint64(0); ; {
		page, err := s.History(ctx, id, before)
		if err != nil {
			return err
		}
		if len(page) == 0 || len(d.History) >= maxRows {
			d.History = d.History[:min(len(d.History), maxRows)]
			return nil
		}
		for _, e := range page {
			d.History = append(d.History, Line{e.At, e.Who, e.What, e.Detail})
		}
		before = page[len(page)-1].ID
	}
}
