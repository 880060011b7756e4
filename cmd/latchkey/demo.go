package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"latchkey/capture"
	"latchkey/capture/listing"
	"latchkey/capture/told"
	"latchkey/core/disk"
	"latchkey/demo"
	"latchkey/server/judge"
	"latchkey/server/store"
)

func demoCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "demo", Short: "Load the demo world into the database", Args: cobra.NoArgs,
		Long: "Load the demo world into the database. Cases that are there already stay as they are."}
	dsn := databaseFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		s, _, err := openStore(cmd.Context(), *dsn, slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil)))
		if err != nil {
			return err
		}
		defer s.Close()
		made, err := loadDemo(cmd.Context(), s)
		if err == nil {
			fmt.Fprintf(cmd.OutOrStdout(), "%d demo cases made, %d were there.\n", made, len(demo.Cases())+len(demo.Before())-made)
		}
		return err
	}
	return cmd
}

// loadDemo makes the demo cases that are missing, the first declared one last,
// so that it stands first in the list.
func loadDemo(ctx context.Context, s *store.Store) (made int, err error) {
	if err := addDemoPeople(ctx, s); err != nil {
		return 0, err
	}
	j := judge.New(s)
	cases := append(demo.Cases(), demo.Before()...)
	for i := len(cases) - 1; i >= 0; i-- {
		_, err := s.FindDemo(ctx, cases[i].Name)
		if err == nil {
			continue
		}
		if !errors.Is(err, store.ErrNotFound) {
			return made, err
		}
		if err := makeDemoCase(ctx, s, j, cases[i]); err != nil {
			return made, fmt.Errorf("demo case %s: %w", cases[i].Name, err)
		}
		made++
	}
	return made, nil
}

// addDemoPeople makes the accounts of the demo world, where nobody has one yet.
func addDemoPeople(ctx context.Context, s *store.Store) error {
	if there, err := s.Accounts(ctx); err != nil || len(there) > 0 {
		return err
	}
	for _, p := range demo.People {
		if err := s.AddAccount(ctx, &store.Account{Name: p.Name, Role: store.Role(p.Role), Demo: true}); err != nil &&
			!errors.Is(err, store.ErrTaken) {
			return err
		}
	}
	return nil
}

// byDemo is the bench's lead, who made the cases.
func byDemo(what, detail string) store.Entry {
	return store.Entry{Who: demo.People[0].Name, What: what, Detail: detail}
}

func makeDemoCase(ctx context.Context, s *store.Store, j *judge.Judge, d demo.Case) error {
	f := d.Firmware
	c := &store.Case{
		Title: d.Title, Machine: d.Machine, DeviceOrder: d.DeviceOrder, Said: d.Said, Demo: &d.Name, Stands: d.Stands,
		Reach: d.Reach,
		Firmware: store.Firmware{Mode: optional(f.Mode), Arch: optional(f.Arch), SecureBoot: f.SecureBoot,
			Choices: f.Choices, Entries: f.Entries, Answers: f.Answers},
	}
	drives := map[string]demo.Drive{"original": d.Original, "clone": d.Clone}
	for _, role := range store.Roles {
		decl := drives[role]
		c.Drives = append(c.Drives, store.Drive{Role: role, Model: decl.Model, Bus: optional(decl.Bus),
			Attached: decl.Attached})
	}
	if d.After != nil {
		c.CreatedAt = time.Now().UTC().Add(-time.Duration(d.After.Starts[0].HoursAgo+2) * time.Hour)
	}
	if err := s.Create(ctx, c, byDemo(store.WhatMade, c.Title)); err != nil {
		return err
	}
	version := uint32(1)
	for _, role := range store.Roles {
		if drives[role].Disk == nil {
			continue
		}
		if err := addDemoDisk(ctx, s, c, role, drives[role], version); err != nil {
			return err
		}
		version++
	}
	if err := addDemoTexts(ctx, s, c.ID, d, drives); err != nil {
		return err
	}
	stored, err := s.Get(ctx, c.ID)
	if err != nil {
		return err
	}
	if _, err = j.Record(ctx, stored); err != nil {
		return err
	}
	if d.Copy != nil {
		return s.Prepare(ctx, c.ID, byDemo(store.WhatPrepared, "the plan"), stored.Version, planned(*d.Copy))
	}
	return playDemoRepair(ctx, s, j, c.ID, d)
}

// planned takes a demo case's plan over.
func planned(d demo.CopyPlan) func(*store.Preparation) {
	return func(p *store.Preparation) {
		p.Capacity, p.FromLink, p.FromMedium, p.ToLink, p.ToMedium = d.Capacity, d.FromLink, d.FromMedium, d.ToLink,
			d.ToMedium
		p.Ticks = map[string]store.Tick{}
		for key, who := range d.SeenTo {
			p.Ticks[key] = store.Tick{Who: who, At: time.Now().UTC()}
		}
	}
}

// playDemoRepair ticks off the first steps of a case's plan, and records what was seen
// after it.
func playDemoRepair(ctx context.Context, s *store.Store, j *judge.Judge, id uint64, d demo.Case) error {
	for _, tick := range d.Done {
		c, err := s.Get(ctx, id)
		if err != nil {
			return err
		}
		marks, err := s.Marks(ctx, id)
		if err != nil {
			return err
		}
		plan, err := j.Plan(ctx, c, store.InForce(marks, c.LatestEvidence()), nil)
		if err != nil {
			return err
		}
		if len(plan.Steps) == 0 {
			return errors.New("the plan has no step to tick off")
		}
		m := &store.Mark{CaseID: id, Step: plan.Steps[0].Key, Title: plan.Steps[0].Title, State: store.MarkDone,
			Who: tick.Who, Note: tick.Note}
		if err := s.AddMark(ctx, c.Version, m); err != nil {
			return err
		}
	}
	if d.After == nil {
		return nil
	}
	return playDemoHandOver(ctx, s, j, id, *d.After)
}

// playDemoHandOver records a case's starts and what was seen and decided after them.
func playDemoHandOver(ctx context.Context, s *store.Store, j *judge.Judge, id uint64, d demo.After) error {
	c, err := s.Get(ctx, id)
	if err != nil {
		return err
	}
	check, err := j.Case(ctx, c, judge.WhatIf{})
	if err != nil {
		return err
	}
	on := check.Drives[1].Disk
	proof, err := j.StartedFrom(ctx, c, judge.Seen{ID: on.ID})
	if err != nil {
		return err
	}
	now, version := time.Now().UTC(), c.Version
	for _, seen := range d.Starts {
		at := now.Add(-time.Duration(seen.HoursAgo) * time.Hour)
		if err := s.AddStart(ctx, version, &store.Start{CaseID: id, At: at, Kind: seen.Kind, Origin: proof.From,
			Why: proof.Why, Who: seen.Who}, store.Proof{}); err != nil {
			return err
		}
		version++
	}
	for _, text := range append(d.Answers, partitionList(on, d.Letters)) {
		by := byDemo(store.WhatHandOver, "the running system's answer")
		by.Who = d.Who
		if err := s.AddAnswer(ctx, &store.RunningAnswer{CaseID: id}, text, by, version); err != nil {
			return err
		}
		version++
	}
	return s.HandOver(ctx, id, byDemo(store.WhatHandOver, "the old drive"), version, func(h *store.Handover) {
		until := now.AddDate(0, 0, d.KeepDays)
		h.KeepUntil, h.Place, h.Serial, h.Seen = &until, d.Place, d.Serial, map[string]store.Tick{}
		for _, key := range d.Seen {
			h.Seen[key] = store.Tick{Who: d.Who, At: now}
		}
		for _, side := range store.Roles {
			if took, timed := d.Times[side]; timed {
				h.Times = append(h.Times, store.Timed{Side: side, Seconds: took, How: "stopwatch, from power-on to the desktop", Who: d.Who, At: now})
			}
		}
	})
}

// partitionList is what Get-Partition | Format-List prints of a disk.
func partitionList(d *judge.Disk, letters map[int]string) string {
	var b strings.Builder
	for _, p := range d.Partitions {
		fmt.Fprintf(&b, "DiskNumber      : 0\nPartitionNumber : %d\nDriveLetter     : %s\nOffset          : %d\nSize            : %d\n\n", p.Number, letters[p.Number],
			disk.Span(p.Start, d.SectorSize), p.Size.Bytes)
	}
	return b.String()
}

// addDemoTexts adds the listings and what was read off screens.
func addDemoTexts(ctx context.Context, s *store.Store, id uint64, d demo.Case, drives map[string]demo.Drive) error {
	for _, role := range store.Roles {
		said := drives[role].Told
		if said == nil {
			continue
		}
		c, err := s.Get(ctx, id)
		if err != nil {
			return err
		}
		t := &told.Disk{Whole: said.Whole, Style: said.Style, Capacity: said.Capacity}
		for _, p := range said.Partitions {
			t.Partitions = append(t.Partitions, told.Partition{Purpose: p.Purpose, Size: p.Size,
				FileSystem: p.FileSystem})
		}
		if err := s.TellDisk(ctx, id, role, t, byDemo(store.WhatTold, role), c.Version); err != nil {
			return err
		}
	}
	for _, l := range d.Listings {
		read, err := listing.Read(l.Filename, l.Text, "")
		if err != nil {
			return err
		}
		c, err := s.Get(ctx, id)
		if err != nil {
			return err
		}
		entry := &store.Listing{CaseID: id, Filename: l.Filename, Format: string(read.Format), Disks: l.Disks}
		if entry.Disks == nil {
			entry.Disks = map[string]string{}
		}
		if err := s.AddListing(ctx, entry, l.Text, byDemo(store.WhatEvidence, entry.Format), c.Version); err != nil {
			return err
		}
	}
	return nil
}

func addDemoDisk(ctx context.Context, s *store.Store, c *store.Case, role string, d demo.Drive, version uint32) error {
	image, err := d.Disk()
	if err != nil {
		return err
	}
	sectorSize := d.SectorSize
	if sectorSize == 0 {
		sectorSize = image.SectorSize
	}
	m, err := capture.Take(ctx, &capture.Device{ReaderAt: image, Size: image.Size, LogicalSectorSize: sectorSize},
		capture.Taking{Source: role, SectorSize: sectorSize, Now: time.Now()})
	if err != nil {
		return err
	}
	p := &store.Piece{
		Evidence: store.Evidence{CaseID: c.ID, Role: role, Filename: c.Title + ", " + role + ".lkcap", Capacity: m.Capacity,
			SectorSize: sectorSize},
		Inside: store.Inside{Extents: m.Extents, Unreadable: m.Unreadable, Counts: m.Counts}, Sectors: image,
	}
	return s.AddEvidence(ctx, p, byDemo(store.WhatEvidence, role+": "+p.Filename), version)
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}
