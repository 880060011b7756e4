package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"latchkey/capture"
	"latchkey/core/disk"
)

func captureCommand() *cobra.Command {
	var out string
	var sectorSize int
	cmd := &cobra.Command{
		Use: "capture DEVICE-OR-IMAGE -o FILE", Short: "Save the sectors of a disk that a check needs",
		Long: "Save the sectors of a disk that a check needs, and nothing else. The disk is opened for reading only.",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, written, err := takeCapture(args[0], out, sectorSize)
			if err != nil {
				return err
			}
			var held int64
			for _, x := range m.Extents {
				held += x.Length
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s: %s, sectors of %d bytes%s\n%s: %s of it in %d pieces, %s as a file\n",
				args[0], disk.Both(m.Capacity), m.LogicalSectorSize, told(m), out, disk.Binary(held), len(m.Extents), disk.Binary(written))
			return err
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the capture file to write")
	cmd.Flags().IntVar(&sectorSize, "sector-size", 0, "logical sector size in bytes, 512 or 4096, where the system does not tell")
	return cmd
}

func told(m capture.Manifest) string {
	text := ""
	for _, s := range []string{m.Model, m.Bus} {
		if s != "" {
			text += ", " + s
		}
	}
	return text
}

// takeCapture writes a capture beside its final place and moves it there when
// it is whole.
func takeCapture(device, out string, sectorSize int) (capture.Manifest, int64, error) {
	var none capture.Manifest
	if out == "" {
		return none, 0, errors.New("no file to write: give -o FILE")
	}
	if sectorSize != 0 && sectorSize != 512 && sectorSize != 4096 {
		return none, 0, fmt.Errorf("--sector-size is %d: expected 512 or 4096", sectorSize)
	}
	d, err := capture.OpenDevice(device)
	if err != nil {
		return none, 0, err
	}
	defer d.Close()
	if same(device, out) {
		return none, 0, fmt.Errorf("%s is what is to be captured: give another file to write", out)
	}
	m, err := capture.Take(d, filepath.Base(device), sectorSize, time.Now())
	if err != nil {
		return none, 0, err
	}
	part := out + ".part"
	f, err := os.Create(part)
	if err != nil {
		return none, 0, err
	}
	defer os.Remove(part)
	err = capture.WriteCapture(f, m, d, d.Variables)
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return none, 0, fmt.Errorf("%s: %w", out, err)
	}
	info, err := os.Stat(part)
	if err != nil {
		return none, 0, err
	}
	return m, info.Size(), os.Rename(part, out)
}

// same reports whether two names lead to one file.
func same(a, b string) bool {
	x, errA := os.Stat(a)
	y, errB := os.Stat(b)
	return errA == nil && errB == nil && os.SameFile(x, y)
}
