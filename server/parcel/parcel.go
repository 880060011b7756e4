// Package parcel writes a whole case into one file and reads it again: a zip archive with
// the case as JSON and its evidence beside it, as docs/formats.md describes it.
package parcel

import (
	"archive/zip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"latchkey/capture"
	"latchkey/capture/listing"
	"latchkey/capture/told"
	"latchkey/server/store"
)

const (
	formatName   = "latchkey case"
	formatNumber = 1
	documentName = "case.json"
)

// Bounds of a parcel.
const (
	maxDocument = 8 << 20 // bytes
	maxMembers  = 400
	maxPieces   = 100
	maxSectors  = 70 << 20  // bytes of one capture within
	maxAll      = 512 << 20 // bytes of all that is unpacked
	maxRows     = 5000      // of a history
)

// Document is a case as it stands in the archive.
type Document struct {
	Format      string             `json:"format"`
	Version     int                `json:"version"`
	Made        time.Time          `json:"made"`
	By          string             `json:"by"`
	Case        Case               `json:"case"`
	Drives      []Drive            `json:"drives"`
	Evidence    []Evidence         `json:"evidence"`
	Listings    []Listing          `json:"listings"`
	Answers     []Answer           `json:"answers"`
	Marks       []Mark             `json:"marks"`
	Starts      []Start            `json:"starts"`
	History     []Line             `json:"history"`
	Preparation *store.Preparation `json:"preparation,omitempty"`
	Handover    *store.Handover    `json:"handOver,omitempty"`
}

// Case is what a person entered.
type Case struct {
	Title       string                  `json:"title"`
	Machine     string                  `json:"machine"`
	Firmware    store.Firmware          `json:"firmware"`
	DeviceOrder []string                `json:"deviceOrder"`
	Said        string                  `json:"said,omitempty"`
	Stands      string                  `json:"stands,omitempty"`
	Reach       string                  `json:"reach,omitempty"`
	Sayings     map[string]store.Saying `json:"sayings,omitempty"`
	Made        time.Time               `json:"made"`
	Closed      *time.Time              `json:"closed,omitempty"`
}

// Drive is a drive as it is entered and told.
type Drive struct {
	Role     string     `json:"role"`
	Model    string     `json:"model,omitempty"`
	Bus      *string    `json:"bus,omitempty"`
	Attached *bool      `json:"attached,omitempty"`
	Told     *told.Disk `json:"told,omitempty"`
}

// Evidence is a capture in the archive.
type Evidence struct {
	Member    string     `json:"member"`
	Role      string     `json:"role"`
	Filename  string     `json:"filename"`
	Received  time.Time  `json:"received"`
	Withdrawn *time.Time `json:"withdrawn,omitempty"`
}

// Listing is a text in the archive.
type Listing struct {
	Member    string            `json:"member"`
	Filename  string            `json:"filename,omitempty"`
	Format    string            `json:"format"`
	Disks     map[string]string `json:"disks"`
	Received  time.Time         `json:"received"`
	Withdrawn *time.Time        `json:"withdrawn,omitempty"`
}

// Answer is what the running system answered.
type Answer struct {
	Member string    `json:"member"`
	At     time.Time `json:"at"`
	Who    string    `json:"who"`
}

// Mark is what was done with a step.
type Mark struct {
	Step  string    `json:"step"`
	Title string    `json:"title"`
	State string    `json:"state"`
	Note  string    `json:"note,omitempty"`
	Who   string    `json:"who"`
	At    time.Time `json:"at"`
}

// Start is a start that was seen.
type Start struct {
	At       time.Time `json:"at"`
	Recorded time.Time `json:"recorded"`
	Kind     string    `json:"kind"`
	From     string    `json:"from"`
	Why      string    `json:"why"`
	Note     string    `json:"note,omitempty"`
	Who      string    `json:"who"`
	// Evidence counts the captures from 1; 0 is none.
	Evidence int `json:"evidence,omitempty"`
}

// Line is a line of the history.
type Line struct {
	At     time.Time `json:"at"`
	Who    string    `json:"who"`
	What   string    `json:"what"`
	Detail string    `json:"detail,omitempty"`
}

// Parcel is an open parcel.
type Parcel struct {
	Document
	archive *zip.Reader
}

// Open opens a parcel of size bytes. Errors name the member and what was expected.
func Open(r io.ReaderAt, size int64) (*Parcel, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, errors.New("the file is no archive (zip): expected a case as Latchkey exports it")
	}
	if len(z.File) > maxMembers {
		return nil, fmt.Errorf("the archive has %d members: expected at most %d", len(z.File), maxMembers)
	}
	var all uint64
	for _, f := range z.File {
		if all += f.UncompressedSize64; f.UncompressedSize64 > maxSectors || all > maxAll {
			return nil, fmt.Errorf("%s: the archive unpacks to more than is taken", f.Name)
		}
	}
	p := &Parcel{archive: z}
	raw, err := p.member(documentName, maxDocument)
	if err != nil {
		return nil, fmt.Errorf("%w: expected a case as Latchkey exports it", err)
	}
	var head struct {
		Format  string `json:"format"`
		Version int    `json:"version"`
	}
	if err := json.Unmarshal(raw, &head); err != nil || head.Format != formatName {
		return nil, fmt.Errorf("%s is no case as Latchkey exports it: expected format %q", documentName, formatName)
	}
	if head.Version != formatNumber {
		return nil, fmt.Errorf("%s has version %d: this Latchkey reads version %d. A newer one wrote it, or it was changed", documentName, head.Version, formatNumber)
	}
	if err := json.Unmarshal(raw, &p.Document); err != nil {
		return nil, fmt.Errorf("%s: %w", documentName, err)
	}
	return p, p.check()
}

func (p *Parcel) check() error {
	for _, n := range []struct {
		what   string
		is, of int
	}{{"captures", len(p.Evidence), maxPieces}, {"listings", len(p.Listings), maxPieces}, {"answers", len(p.Answers), store.MaxAnswers},
		{"steps", len(p.Marks), maxRows}, {"starts", len(p.Starts), maxRows}, {"lines of history", len(p.History), maxRows}} {
		if n.is > n.of {
			return fmt.Errorf("%s has %d %s: expected at most %d", documentName, n.is, n.what, n.of)
		}
	}
	for i, s := range p.Starts {
		if s.Evidence < 0 || s.Evidence > len(p.Evidence) {
			return fmt.Errorf("%s: start %d names capture %d of %d", documentName, i+1, s.Evidence, len(p.Evidence))
		}
	}
	return nil
}

// member reads a whole member.
func (p *Parcel) member(name string, limit int64) ([]byte, error) {
	f, err := p.archive.Open(name)
	if err != nil {
		return nil, fmt.Errorf("there is no %s in the archive", name)
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if int64(len(raw)) > limit {
		return nil, fmt.Errorf("%s is larger than %d bytes", name, limit)
	}
	return raw, nil
}

// Text reads a listing or an answer.
func (p *Parcel) Text(member string) ([]byte, error) { return p.member(member, listing.MaxBytes) }

// Capture opens a capture within; it is to be closed.
func (p *Parcel) Capture(member string) (*capture.Captured, error) {
	f, err := p.archive.Open(member)
	if err != nil {
		return nil, fmt.Errorf("there is no %s in the archive", member)
	}
	defer f.Close()
	kept, err := capture.NewSpool(f, maxSectors)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", member, err)
	}
	defer kept.Close()
	c, err := capture.ReadCapture(kept, kept.Size)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", member, err)
	}
	return c, nil
}
