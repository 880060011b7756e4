package main

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"latchkey/capture"
	"latchkey/demo"
	"latchkey/server/judge"
	"latchkey/server/store"
)

func demoCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "demo", Short: "Load the demo world into the database", Args: cobra.NoArgs,
		Long: "Load the demo world into the database. Cases that are there already stay as they are."}
	dsn := databaseFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		s, err := openStore(cmd.Context(), *dsn)
		if err != nil {
			return err
		}
		defer s.Close()
		made, err := loadDemo(cmd.Context(), s)
		if err == nil {
			fmt.Fprintf(cmd.OutOrStdout(), "%d demo cases made, %d were there.\n", made, len(demo.Cases())-made)
		}
		return err
	}
	return cmd
}

// loadDemo makes the demo cases that are missing, the first declared one last,
// so that it stands first in the list.
func loadDemo(ctx context.Context, s *store.Store) (made int, err error) {
	j := judge.New(s)
	cases := demo.Cases()
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

func makeDemoCase(ctx context.Context, s *store.Store, j *judge.Judge, d demo.Case) error {
	f := d.Firmware
	c := &store.Case{
		Title: d.Title, Machine: d.Machine, DeviceOrder: d.DeviceOrder, Demo: &d.Name,
		Firmware: store.Firmware{Mode: optional(f.Mode), Arch: optional(f.Arch), SecureBoot: f.SecureBoot, BehaviourFacts: capture.BehaviourFacts{
			FallbackOnFixedDisks: f.Fallback, StartsFromNVMe: f.StartsFromNVMe, StartsFromUSB: f.StartsFromUSB, ReadsMacVolumes: f.ReadsMacVolumes,
		}},
	}
	drives := map[string]demo.Drive{"original": d.Original, "clone": d.Clone}
	for _, role := range store.Roles {
		decl := drives[role]
		c.Drives = append(c.Drives, store.Drive{Role: role, Model: decl.Model, Bus: optional(decl.Bus), Attached: decl.Attached})
	}
	if err := s.Create(ctx, c); err != nil {
		return err
	}
	for i, role := range store.Roles {
		if err := addDemoDisk(ctx, s, c, role, drives[role], uint32(i)+1); err != nil {
			return err
		}
	}
	stored, err := s.Get(ctx, c.ID)
	if err != nil {
		return err
	}
	_, err = j.Record(ctx, stored)
	return err
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
	m, err := capture.Take(ctx, &capture.Device{ReaderAt: image, Size: image.Size, LogicalSectorSize: sectorSize}, role, sectorSize, time.Now(), nil)
	if err != nil {
		return err
	}
	e := &store.Evidence{
		CaseID: c.ID, Role: role, Filename: c.Title + ", " + role + ".lkcap", Capacity: m.Capacity, SectorSize: sectorSize, Extents: m.Extents, Counts: m.Counts,
	}
	return s.AddEvidence(ctx, e, version, image, "", "")
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}
