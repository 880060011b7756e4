package main

import (
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/tables"
)

// tablesReport is what `tables --json` prints. The keys and words are a contract; see
// docs/formats.md.
type tablesReport struct {
	tables.Report
	Steps []planStep `json:"steps"`
}

func tablesCommand() *cobra.Command {
	var asJSON bool
	var sectorSize int
	cmd := &cobra.Command{
		Use: "tables DISK", Short: "Say what each copy of a disk's partition tables says, and what differs",
		Long: "Say what each copy of a disk's partition tables says, what is wrong or differs, what that means for a start, and what would make them one. DISK is an image, a capture, or a device, which is only read. Exit 0: nothing is wrong; 1: something is; 2: bad input.",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if sectorSize != 0 && sectorSize != 512 && sectorSize != 4096 {
				return fmt.Errorf("--sector-size %d: expected 512 or 4096", sectorSize)
			}
			contents, err := capture.LoadDisk(args[0], sectorSize)
			if err != nil {
				return err
			}
			r := tables.Of(machine.Drive{Name: filepath.Base(args[0]), Contents: contents})
			if asJSON {
				enc := json.NewEncoder(cmd.OutOrStdout())
				enc.SetIndent("", "  ")
				enc.SetEscapeHTML(false)
				err = enc.Encode(tablesOf(r))
			} else {
				err = printTables(cmd.OutOrStdout(), r)
			}
			if err == nil && len(r.Findings) > 0 {
				return exitWith(exitNot)
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the report as JSON")
	cmd.Flags().IntVar(&sectorSize, "sector-size", 0, "logical sector size in bytes, where the file does not tell it")
	return cmd
}

func tablesOf(r tables.Report) tablesReport {
	out := tablesReport{Report: r, Steps: []planStep{}}
	for _, s := range r.Steps {
		out.Steps = append(out.Steps, stepOf(s))
	}
	return out
}

func printTables(w io.Writer, r tables.Report) error {
	var b strings.Builder
	fmt.Fprintf(&b, "%s, %s, sectors of %d bytes\n", r.Style, disk.Both(disk.Span(r.Sectors, r.SectorSize)), r.SectorSize)
	for _, c := range r.Copies {
		fmt.Fprintf(&b, "\n%s", machine.UpperFirst(c.Name))
		if c.Sector > 0 {
			fmt.Fprintf(&b, " (sector %d)", c.Sector)
		}
		fmt.Fprintf(&b, ": %s", c.State)
		if c.ID != "" {
			fmt.Fprintf(&b, ", disk identifier %s", c.ID)
		}
		b.WriteString("\n")
		if len(c.Entries) > 0 {
			fmt.Fprintf(&b, "  %3s  %12s  %12s  %s\n", "no.", "first sector", "sectors", "type")
		}
		for _, e := range c.Entries {
			fmt.Fprintf(&b, "  %3d  %12d  %12d  %s", e.Number, e.First, e.Length, e.Type)
			if e.Active {
				b.WriteString(", active")
			}
			if e.Name != "" {
				fmt.Fprintf(&b, ", “%s”", e.Name)
			}
			b.WriteString("\n")
		}
	}
	fmt.Fprintf(&b, "\n%s\n", r.Says)
	for _, f := range r.Findings {
		fmt.Fprintf(&b, "\n! %s\n", f.Text)
		if f.Want != "" || f.Got != "" {
			fmt.Fprintf(&b, "  expected %s, found %s (%s %s, byte %d)\n", f.Want, f.Got, f.Source.Structure, f.Source.Field, f.Source.Offset)
		}
		fmt.Fprintf(&b, "  %s\n", f.Means)
	}
	for _, s := range r.Steps {
		fmt.Fprintf(&b, "\nTo bring them into order: %s (%s, risk %s)\n  %s\n", s.Title, s.Toolbox, s.Risk, s.Why)
		for _, c := range s.Commands {
			fmt.Fprintf(&b, "      %s\n", strings.ReplaceAll(line(s.Shell, c), "\n", "\n      "))
		}
	}
	_, err := io.WriteString(w, visible(b.String()))
	return err
}
