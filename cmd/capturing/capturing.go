// Package capturing is the command that takes captures: part of the one binary,
// and on its own for machines that are only captured from.
package capturing

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/mattn/go-isatty"
	"github.com/spf13/cobra"

	"latchkey/capture"
	"latchkey/core/disk"
)

// Command returns the command.
func Command() *cobra.Command {
	var out string
	var sectorSize int
	var only string
	var overwrite, thorough bool
	cmd := &cobra.Command{
		Use: "capture [DEVICE-OR-IMAGE -o FILE]", Short: "Save the sectors of a disk that a check needs",
		Long: "Save the sectors of a disk that a check needs, and nothing else. The disk is opened for reading only. Without a disk, the disks of this computer are listed.",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return listDisks(cmd.OutOrStdout())
			}
			ctx, search, stop := interrupts(cmd.Context(), thorough)
			defer stop()
			if err := mayWrite(cmd, args[0], out, overwrite); err != nil {
				return err
			}
			progress := showProgress(cmd.ErrOrStderr())
			m, written, err := takeCapture(ctx, args[0], out, only, capture.Taking{Source: filepath.Base(args[0]),
				SectorSize: sectorSize, Now: time.Now(), Report: progress, Thorough: search})
			progress(capture.Progress{})
			if err != nil {
				return err
			}
			var held int64
			for _, x := range m.Extents {
				held += x.Length
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s: %s, sectors of %d bytes%s\n%s: %s of it in %d pieces, %s as a file\n",
				args[0], disk.Both(m.Capacity), m.LogicalSectorSize, told(m), out, disk.Binary(held), len(m.Extents),
				disk.Binary(written))
			if err == nil {
				err = tellSearch(cmd.OutOrStdout(), m)
			}
			if err == nil && len(m.Unreadable) > 0 {
				return &Unreadable{out, m.Unreadable}
			}
			return err
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the capture file to write")
	cmd.Flags().IntVar(&sectorSize, "sector-size", 0, "logical sector size in bytes, 512 or 4096, where the system does not tell")
	cmd.Flags().StringVar(&only, "sectors", "", "save just these sectors, FIRST+COUNT, before something overwrites them")
	cmd.Flags().BoolVar(&thorough, "thorough", false, "look for volumes at every place where one may begin and no table tells of one; Ctrl+C ends the search and keeps what it found")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write the file though one of its name is there")
	cmd.AddCommand(putBackCommand(), makeStickCommand())
	return cmd
}

// interrupts are the contexts that a person ends by Ctrl+C: at once, or where a search goes on
// first the search and then the rest. The search is nil where there shall be none.
func interrupts(parent context.Context, thorough bool) (all, search context.Context, stop func()) {
	if !thorough {
		all, stop = signal.NotifyContext(parent, os.Interrupt)
		return all, nil, stop
	}
	all, endAll := context.WithCancel(parent)
	search, endSearch := context.WithCancel(all)
	pressed := make(chan os.Signal, 2)
	signal.Notify(pressed, os.Interrupt)
	go func() {
		for range pressed {
			if search.Err() != nil {
				endAll()
			}
			endSearch()
		}
	}()
	return all, search, func() {
		signal.Stop(pressed)
		close(pressed)
		endSearch()
		endAll()
	}
}

// tellSearch says how far volumes were looked for that no table tells of.
func tellSearch(w io.Writer, m capture.Taken) error {
	s := m.Search
	if s.UpTo == 0 {
		return nil
	}
	text := fmt.Sprintf("Volumes that no table tells of: %d found, looked for up to %s of %s.", s.Found, disk.Binary(s.UpTo), disk.Binary(m.Capacity))
	if s.Left > 0 {
		text += fmt.Sprintf(" A thorough search (--thorough) looks through %s more and reads %s of them", disk.Binary(s.Left), disk.Binary(s.Reads))
		if s.Takes >= time.Second {
			text += fmt.Sprintf(", in about %s at this drive's pace", s.Takes.Round(time.Second))
		}
		text += "."
	}
	_, err := fmt.Fprintln(w, text)
	return err
}

// Unreadable reports that a capture was written, and that the drive would not give some
// of what was asked of it.
type Unreadable struct {
	out    string
	ranges []capture.Extent
}

func (u *Unreadable) Error() string {
	var bytes int64
	for _, x := range u.ranges {
		bytes += x.Length
	}
	return fmt.Sprintf("%s was written, but %d bytes in %d places could not be read, the first at byte %d: the drive is failing, or came loose. Copy what it holds before anything else is done to it",
		u.out, bytes, len(u.ranges), u.ranges[0].Offset)
}

// listDisks prints the disks of this computer, to choose from.
func listDisks(w io.Writer) error {
	list, err := capture.Disks()
	if err != nil {
		return fmt.Errorf("the disks of this computer: %w", err)
	}
	if len(list) == 0 {
		return errors.New("no disk was found on this computer")
	}
	for _, d := range list {
		runs := ""
		if d.Running {
			runs = "  this system runs from it"
		}
		fmt.Fprintf(w, "%-22s %-24s %-5s %s%s\n", d.Path, disk.Both(d.Size), d.Bus, d.Model, runs)
	}
	_, err = fmt.Fprintf(w, "\nTake one by its path: %s %s -o FILE.lkcap\n", program(), list[0].Path)
	return err
}

// program is how the command was called.
func program() string {
	name := filepath.Base(os.Args[0])
	if strings.HasPrefix(name, "latchkey-capture") {
		return name
	}
	return name + " capture"
}

// showProgress writes how much was read onto one line of a terminal, and clears
// it at the end; a file or a pipe gets nothing.
func showProgress(w io.Writer) func(capture.Progress) {
	f, ok := w.(*os.File)
	if !ok {
		return func(capture.Progress) {}
	}
	if !isatty.IsTerminal(f.Fd()) {
		return func(capture.Progress) {}
	}
	var last time.Time
	shown := false
	return func(p capture.Progress) {
		switch now := time.Now(); {
		case p.Reads == 0 && shown:
			fmt.Fprintf(f, "\r%78s\r", "")
		case p.Of > 0 && now.Sub(last) > 200*time.Millisecond:
			last, shown = now, true
			fmt.Fprintf(f, "\rlooking for volumes: %d %%, %s of %s, %d found; Ctrl+C ends it", 100*p.Searched/p.Of,
				disk.Binary(p.Searched), disk.Binary(p.Of), p.Found)
		case p.Reads > 0 && now.Sub(last) > 200*time.Millisecond:
			last, shown = now, true
			fmt.Fprintf(f, "\r%d reads, %s read, %s kept", p.Reads, disk.Binary(p.Read), disk.Binary(p.Kept))
		}
	}
}

func told(m capture.Taken) string {
	text := ""
	for _, s := range []string{m.Model, m.Bus} {
		if s != "" {
			text += ", " + s
		}
	}
	return text
}

// mayWrite reports why a file must not be written. Where somebody sits before it,
// the one who does is asked before a file is overwritten.
func mayWrite(cmd *cobra.Command, device, out string, overwrite bool) error {
	if out == "" {
		return errors.New("no file to write: give -o FILE")
	}
	info, err := os.Stat(out)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case same(device, out):
		return fmt.Errorf("%s is what is to be captured: give another file to write", out)
	case !info.Mode().IsRegular():
		return fmt.Errorf("%s is no file: a capture is written into a file of its own, never onto a device", out)
	case overwrite:
		return nil
	}
	if in, ok := cmd.InOrStdin().(*os.File); ok && isatty.IsTerminal(in.Fd()) {
		fmt.Fprintf(cmd.ErrOrStderr(), "%s is there already. Overwrite it? Type yes: ", out)
		answer, _ := bufio.NewReader(in).ReadString('\n')
		if strings.TrimSpace(answer) == "yes" {
			return nil
		}
	}
	return fmt.Errorf("%s is there already, and was left as it is: give another name, or --overwrite", out)
}

// takeCapture writes a capture beside its final place and moves it there when
// it is whole.
func takeCapture(ctx context.Context, device, out, only string, t capture.Taking) (capture.Taken, int64, error) {
	var none capture.Taken
	if t.SectorSize != 0 && t.SectorSize != 512 && t.SectorSize != 4096 {
		return none, 0, fmt.Errorf("--sector-size is %d: expected 512 or 4096", t.SectorSize)
	}
	d, err := capture.OpenDevice(device)
	if err != nil {
		return none, 0, err
	}
	defer d.Close()
	m, err := take(ctx, d, only, t)
	if err != nil {
		return none, 0, err
	}
	f, err := os.CreateTemp(filepath.Dir(out), filepath.Base(out)+".*.part")
	if err != nil {
		return none, 0, err
	}
	part := f.Name()
	defer os.Remove(part)
	err = capture.WriteCapture(f, m.Manifest, d, d.Variables)
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

func take(ctx context.Context, d *capture.Device, only string, t capture.Taking) (capture.Taken, error) {
	if only == "" {
		return capture.Take(ctx, d, t)
	}
	first, count, found := strings.Cut(only, "+")
	from, errFrom := strconv.ParseUint(first, 10, 64)
	n, errCount := strconv.ParseUint(count, 10, 64)
	if !found || errFrom != nil || errCount != nil {
		return capture.Taken{}, fmt.Errorf("--sectors %q: expected FIRST+COUNT, such as 0+34", only)
	}
	m, err := capture.TakeSectors(d, t.Source, d.SectorSizeOr(t.SectorSize), from, n, t.Now)
	return capture.Taken{Manifest: m}, err
}

func putBackCommand() *cobra.Command {
	var sure bool
	cmd := &cobra.Command{
		Use: "put-back FILE DEVICE-OR-IMAGE", Short: "Write saved sectors back to the disk that they were saved of",
		Long: "Write the sectors that a file holds back to the disk that they were saved of, and read them again. A disk of another capacity or serial number is refused, and where no serial number is known, one of another identifier.",
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			info, err := f.Stat()
			if err != nil {
				return err
			}
			kept, err := capture.ReadCapture(f, info.Size())
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			defer kept.Close()
			written, err := capture.PutBack(kept, args[1], sure)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s: %s put back, and read again: the same bytes\n", args[1], disk.Binary(written))
			return err
		},
	}
	cmd.Flags().BoolVar(&sure, "same-disk", false, "it is the disk that the sectors were saved of, though neither serial number nor identifier tells it")
	return cmd
}

// same reports whether two names lead to one file.
func same(a, b string) bool {
	x, errA := os.Stat(a)
	y, errB := os.Stat(b)
	return errA == nil && errB == nil && os.SameFile(x, y)
}
