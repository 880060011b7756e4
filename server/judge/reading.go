package judge

import (
	"context"
	"fmt"
	"strings"
	"time"

	"latchkey/capture/listing"
	"latchkey/capture/told"
	"latchkey/core/compare"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/tables"
	"latchkey/server/store"
)

// maxShown bounds the lines of a listing that are shown; what was not understood
// is shown first when there are more.
const maxShown = 2000

// Reading is what was made of a listing.
type Reading struct {
	Format     string         `json:"format"`
	Formats    []string       `json:"formats" doc:"All that are known, to overrule with"`
	Lines      []listing.Line `json:"lines"`
	LineCount  int            `json:"lineCount"`
	Understood int            `json:"understood" doc:"How many lines told something"`
	Unread     int            `json:"unread" doc:"How many lines were not understood"`
	Disks      []ReadDisk     `json:"disks"`
	Entries    int            `json:"entries" doc:"Boot entries it tells of"`
	Mode       string         `json:"mode,omitempty" doc:"The firmware mode that it proves"`
	Tells      []string       `json:"tells" doc:"What it tells of the machine as such"`
	Problem    string         `json:"problem,omitempty"`
}

// ReadDisk is a disk that a listing tells of, and which drive of the case it
// seems to be.
type ReadDisk struct {
	Name       string `json:"name"`
	Model      string `json:"model,omitempty"`
	Size       string `json:"size,omitempty"`
	Style      string `json:"style,omitempty"`
	Partitions int    `json:"partitions"`
	Holds      string `json:"holds,omitempty" doc:"Of the disk no more is told than this, which lies on it: a boot configuration store, a file"`
	Role       string `json:"role,omitempty" doc:"The drive of the case; absent when nothing tells"`
	Why        string `json:"why,omitempty"`
}

// Show shows a reading with the drives its disks were given to.
func Show(l *listing.Listing, roles map[string]string) Reading {
	r := Reading{Format: string(l.Format), Formats: []string{}, Lines: []listing.Line{}, LineCount: len(l.Lines),
		Disks: []ReadDisk{}, Tells: tells(l), Problem: l.Problem}
	for _, f := range listing.Formats {
		r.Formats = append(r.Formats, string(f))
	}
	for _, line := range l.Lines {
		switch line.State {
		case listing.Understood:
			r.Understood++
		case listing.Unread:
			r.Unread++
		}
		if len(r.Lines) < maxShown {
			r.Lines = append(r.Lines, line)
		}
	}
	if l.Entries != nil {
		r.Entries = len(l.Entries.All)
	}
	if mode, ok := l.Mode.Get(); ok {
		r.Mode = string(mode)
	}
	for i := range l.Disks {
		d := &l.Disks[i]
		one := ReadDisk{Name: d.Name, Model: d.Model, Style: string(d.Style), Partitions: len(d.Partitions),
			Role: roles[d.Name]}
		if d.Size > 0 {
			one.Size = disk.Both(d.Size)
		}
		r.Disks = append(r.Disks, one)
	}
	if l.Store != nil {
		r.Disks = append(r.Disks, ReadDisk{Name: storeName, Holds: "boot configuration store", Role: roles[storeName]})
	}
	for _, w := range l.Written {
		r.Disks = append(r.Disks, ReadDisk{Name: w.Name, Holds: w.Name, Role: roles[w.Name]})
	}
	return r
}

// tells lists what a listing tells of the machine as such.
func tells(l *listing.Listing) []string {
	out := []string{}
	if mode, ok := l.Mode.Get(); ok {
		out = append(out, map[firmware.Mode]string{firmware.UEFI: "UEFI", firmware.Legacy: "legacy"}[mode]+" mode")
	}
	if on, ok := l.SecureBoot.Get(); ok {
		out = append(out, "secure boot "+map[bool]string{true: "on", false: "off"}[on])
	}
	if mode, ok := l.StorageMode.Get(); ok {
		out = append(out, "controller "+strings.ToUpper(mode))
	}
	if _, told := l.MacStart.Get(); told {
		out = append(out, "the Mac's startup disk")
	}
	if l.Model != "" {
		out = append(out, l.Model)
	}
	return out
}

// Place says which drive of the case a disk in bytes seems to be; part is set where
// only its beginning may be held.
func (j *Judge) Place(ctx context.Context, c *store.Case, held *machine.Contents, model, name string,
	part bool) (ReadDisk, error) {
	a, err := j.assemble(ctx, c)
	if err != nil {
		return ReadDisk{}, err
	}
	one := ReadDisk{Name: name, Model: model, Style: string(held.Layout.Style), Partitions: len(held.Layout.Partitions)}
	if size, known := held.Size(); known && !part {
		one.Size = disk.Both(size)
	}
	one.Role, one.Why = a.place(c, held, model, name)
	for _, d := range c.Drives {
		if d.Role == one.Role && d.EvidenceID != nil && strings.Contains(one.Why, "identifier is the same") {
			one.Role, one.Why = "", "It bears what the "+d.Role+" bears, of which bytes are there already: a copy can bear the same. Which of the two is it?"
		}
	}
	if one.Role == "" && one.Why == "" {
		one.Why = "Nothing tells which disk of the case this is."
	}
	return one, nil
}

// place says which drive a piece belongs to: by what it has in common with what is known,
// else by its name, else because it is another disk than the only one that is known.
func (a *assembled) place(c *store.Case, piece *machine.Contents, model, name string) (role, why string) {
	if role, why = compare.Belongs(piece, model, a.machine.Drives, models(c)); role != "" || why != "" {
		return role, why
	}
	lower := strings.ToLower(name)
	if original, clone := strings.Contains(lower, "original"), strings.Contains(lower, "clone"); original != clone {
		return map[bool]string{true: "original", false: "clone"}[original], "because its name says so."
	}
	return compare.Other(piece, a.machine.Drives)
}

// Suggest shows a reading with the drives of the case that its disks seem to be,
// and why.
func (j *Judge) Suggest(ctx context.Context, c *store.Case, l *listing.Listing) (*Reading, error) {
	a, err := j.assemble(ctx, c)
	if err != nil {
		return nil, err
	}
	r := Show(l, nil)
	taken := map[string]bool{}
	for i := range l.Disks {
		role, why := a.place(c, l.Disks[i].Contents(), l.Disks[i].Model, l.Disks[i].Name)
		if role != "" && taken[role] {
			role, why = "", "It fits a disk that another one of the listing fits, too."
		}
		r.Disks[i].Role, r.Disks[i].Why = role, why
		taken[role] = role != ""
	}
	a.lies(&r, l)
	if len(l.Disks) == 2 && !taken["original"] && !taken["clone"] {
		first, why := compare.Guess(l.Disks[0].Contents(), l.Disks[1].Contents())
		if why != "" {
			roles := []string{"original", "clone"}
			if !first {
				roles = []string{"clone", "original"}
			}
			r.Disks[0].Role, r.Disks[1].Role = roles[0], roles[1]
			for i := range l.Disks {
				r.Disks[i].Why = "A guess: the original is taken to be the other one " + why
				if r.Disks[i].Role == "original" {
					r.Disks[i].Why = "A guess: taken for the original " + why
				}
			}
		}
	}
	for i := range r.Disks {
		if r.Disks[i].Role == "" && r.Disks[i].Why == "" {
			r.Disks[i].Why = "Nothing tells which disk of the case this is."
		}
	}
	return &r, nil
}

// lies says on which drive lie a store and files, of whose disk nothing else is told: a file
// names the volume that it lies on, which one drive alone may carry.
func (a *assembled) lies(r *Reading, l *listing.Listing) {
	at := len(l.Disks)
	if l.Store != nil {
		r.Disks[at].Why = "It lies on the disk that the machine was started from when the listing was made."
		at++
	}
	for _, w := range l.Written {
		one := &r.Disks[at]
		at++
		one.Why = "It lies on the disk of the system that it was read in."
		s, told := w.Home()
		if !told {
			continue
		}
		var carry []string
		for i := range a.machine.Drives {
			if d := &a.machine.Drives[i]; d.Carries(s) {
				carry = append(carry, d.Name)
			}
		}
		switch len(carry) {
		case 1:
			one.Role, one.Why = carry[0], fmt.Sprintf("It names its own volume by %s, which this drive carries.", s)
		case 2:
			one.Why = fmt.Sprintf("It names its own volume by %s, which both drives carry. Which of them was it read on?", s)
		}
	}
}

// Pieces lists every piece of a case's evidence.
type Pieces struct {
	Bytes    []BytesPiece   `json:"bytes"`
	Listings []ListingPiece `json:"listings"`
	Told     []ToldPiece    `json:"told"`
}

// BytesPiece is evidence in bytes.
type BytesPiece struct {
	ID          uint64     `json:"id"`
	Role        string     `json:"role"`
	Filename    string     `json:"filename"`
	Capacity    string     `json:"capacity"`
	Held        string     `json:"held"`
	ReceivedAt  time.Time  `json:"receivedAt"`
	TakenAt     time.Time  `json:"takenAt" doc:"When the bytes were read, as a capture tells; else when they came in"`
	InForce     bool       `json:"inForce"`
	WithdrawnAt *time.Time `json:"withdrawnAt,omitempty"`
}

// ListingPiece is evidence in text.
type ListingPiece struct {
	ID          uint64            `json:"id"`
	Filename    string            `json:"filename,omitempty"`
	Format      string            `json:"format"`
	Disks       map[string]string `json:"disks"`
	Length      int               `json:"length" doc:"In bytes"`
	ReceivedAt  time.Time         `json:"receivedAt"`
	WithdrawnAt *time.Time        `json:"withdrawnAt,omitempty"`
}

// ToldPiece is what a person told of a disk.
type ToldPiece struct {
	Role string    `json:"role"`
	Disk told.Disk `json:"disk"`
}

// Pieces lists every piece of a case's evidence, the replaced and withdrawn ones
// too.
func (j *Judge) Pieces(ctx context.Context, c *store.Case) (*Pieces, error) {
	bytes, listings, err := j.store.Pieces(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	out := &Pieces{Bytes: []BytesPiece{}, Listings: []ListingPiece{}, Told: []ToldPiece{}}
	inForce := map[uint64]bool{}
	for _, d := range c.Drives {
		if d.EvidenceID != nil {
			inForce[*d.EvidenceID] = true
		}
		if d.Told != nil {
			out.Told = append(out.Told, ToldPiece{d.Role, *d.Told})
		}
	}
	for _, e := range bytes {
		out.Bytes = append(out.Bytes, BytesPiece{e.ID, e.Role, e.Filename, disk.Both(e.Capacity), disk.Binary(e.Held),
			e.ReceivedAt, e.TakenAt, inForce[e.ID], e.WithdrawnAt})
	}
	for _, l := range listings {
		out.Listings = append(out.Listings, ListingPiece{l.ID, l.Filename, l.Format, l.Disks, l.Length, l.ReceivedAt,
			l.WithdrawnAt})
	}
	return out, nil
}

// References lists who refers to which disk, partition or file system of a case.
func (j *Judge) References(ctx context.Context, c *store.Case) ([]machine.Reference, error) {
	a, err := j.assemble(ctx, c)
	if err != nil {
		return nil, err
	}
	return machine.References(a.machine), nil
}

// DriveTables is what the tables of one of a case's drives say.
type DriveTables struct {
	Role string `json:"role"`
	tables.Report
	Steps []TableStep `json:"steps" doc:"What would bring them into order"`
}

// TableStep is a step that brings tables into order.
type TableStep struct {
	Title    string           `json:"title"`
	Why      string           `json:"why"`
	Toolbox  repair.Toolbox   `json:"toolbox"`
	Risk     repair.Risk      `json:"risk"`
	Commands []repair.Command `json:"commands"`
}

// Tables says what each copy of the drives' tables says.
func (j *Judge) Tables(ctx context.Context, c *store.Case) ([]DriveTables, error) {
	a, err := j.assemble(ctx, c)
	if err != nil {
		return nil, err
	}
	out := []DriveTables{}
	for _, d := range a.machine.Drives {
		if d.Contents == nil || d.Contents.Layout.Style == disk.StyleUnknown {
			continue
		}
		t := DriveTables{Role: string(d.Role), Report: tables.Of(d), Steps: []TableStep{}}
		for _, s := range t.Report.Steps {
			t.Steps = append(t.Steps, TableStep{s.Title, s.Why, s.Toolbox, s.Risk, s.Commands})
		}
		out = append(out, t)
	}
	return out, nil
}

// Layout returns the layout of a drive as all of its evidence tells it.
func (j *Judge) Layout(ctx context.Context, c *store.Case, role string) (*disk.Layout, error) {
	a, err := j.assemble(ctx, c)
	if err != nil {
		return nil, err
	}
	for i := range a.machine.Drives {
		if d := &a.machine.Drives[i]; d.Name == role && d.Contents != nil {
			return &d.Contents.Layout, nil
		}
	}
	return nil, fmt.Errorf("%w", ErrNoEvidence)
}
