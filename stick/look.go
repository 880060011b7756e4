package stick

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/core/machine"
)

// Look takes the evidence of every drive but the stick, and the firmware's variables. A drive
// that cannot be read keeps why; an error is one of the stick.
func (s *Session) Look(ctx context.Context, stick string, report func(d *Drive, p capture.Progress)) error {
	found, err := s.world.disks()
	if err != nil {
		return fmt.Errorf("the machine's drives: %w", err)
	}
	if err := s.keepVariables(); err != nil {
		return err
	}
	before := s.Drives
	s.Drives = nil
	for _, f := range found {
		if f.Path == stick {
			continue
		}
		d := &Drive{Found: f, Name: filepath.Base(f.Path)}
		if err := s.take(ctx, nil, d, report); err != nil {
			return err
		}
		s.Drives = append(s.Drives, d)
	}
	s.keepRoles(before)
	for _, d := range s.Drives {
		switch {
		case d.Err != nil:
			s.Log("%s: nothing could be read: %v", d.Called(), d.Err)
		case d.Lost > 0:
			s.Log("%s: %d bytes could not be read: the drive is failing, or came loose", d.Called(), d.Lost)
		default:
			s.Log("%s: captured", d.Called())
		}
	}
	return s.summary()
}

// keepRoles keeps the roles of the drives that are still there, by their serial numbers and
// sizes; at first, and with drives that came late before anything was said or done, it is a
// guess.
func (s *Session) keepRoles(before []*Drive) {
	s.guess()
	was := make([]int, len(s.Drives))
	for i, d := range s.Drives {
		was[i] = slices.IndexFunc(before, func(b *Drive) bool {
			return b.Serial == d.Serial && b.Size == d.Size && b.Model == d.Model && b.Path == d.Path
		})
	}
	if len(before) == 0 || slices.Contains(was, -1) && !s.said && s.steps == 0 {
		return
	}
	for i, d := range s.Drives {
		d.Role = machine.RoleOther
		if was[i] >= 0 {
			d.Role = before[was[i]].Role
		}
	}
}

// LookThrough takes the evidence of one drive anew, with a search for volumes at every place
// where one may begin. When search is done, the search ends and what it found is kept.
func (s *Session) LookThrough(ctx, search context.Context, d *Drive, report func(d *Drive, p capture.Progress)) error {
	before := d.File
	if err := s.take(ctx, search, d, report); err != nil {
		return err
	}
	s.Log("%s: looked through for volumes up to %s, %d found", d.Called(), disk.Both(d.Search.UpTo), d.Search.Found)
	if before != d.File && before != "" {
		if err := os.Remove(filepath.Join(s.Folder, before)); err != nil {
			return err
		}
	}
	return s.Judge()
}

// take captures one drive, with a thorough search where there is one.
func (s *Session) take(ctx, search context.Context, d *Drive, report func(d *Drive, p capture.Progress)) error {
	device, err := s.world.open(d.Path)
	if err != nil {
		d.Err = err
		return nil
	}
	defer device.Close()
	d.Serial = device.Serial
	m, err := capture.Take(ctx, device, capture.Taking{Source: d.Path, Now: s.now(), Thorough: search,
		Report: func(p capture.Progress) {
			if report != nil {
				report(d, p)
			}
		}})
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		d.Err = err
		return nil
	}
	d.Search, d.Lost = m.Search, 0
	for _, x := range m.Unreadable {
		d.Lost += x.Length
	}
	name := "taking-" + d.Name
	f, err := os.Create(filepath.Join(s.Folder, name))
	if err != nil {
		return fmt.Errorf("the stick does not take %s: %w", name, err)
	}
	err = capture.WriteCapture(f, m.Manifest, device, device.Variables)
	if err == nil {
		err = f.Sync()
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		os.Remove(f.Name()) // half a capture is none
		return fmt.Errorf("the stick does not take %s: %w", name, err)
	}
	d.File = name
	d.Contents, err = capture.LoadDisk(f.Name(), 0)
	d.Err = err
	return nil
}

// keepVariables copies the firmware's boot variables.
func (s *Session) keepVariables() error {
	if s.System.Mode != "uefi" {
		return nil
	}
	files, err := capture.VariableFiles(s.world.variables)
	if err != nil {
		return fmt.Errorf("the firmware's variables: %w", err)
	}
	s.knowOwnEntry(files)
	folder := filepath.Join(s.Folder, "variables")
	if err := os.RemoveAll(folder); err != nil {
		return err
	}
	if err := os.Mkdir(folder, 0o755); err != nil {
		return fmt.Errorf("the stick does not take the variables: %w", err)
	}
	for name, raw := range files {
		if err := save(filepath.Join(folder, name), raw); err != nil {
			return err
		}
	}
	return nil
}

// summary writes what the machine says of itself, in words that Latchkey reads.
func (s *Session) summary() error {
	lines := []string{
		"System Model: " + s.System.Model,
		"BIOS Mode: " + map[string]string{"uefi": "UEFI", "legacy": "Legacy"}[s.System.Mode],
	}
	if on := s.System.SecureBoot; on != nil {
		lines = append(lines, "Secure Boot State: "+map[bool]string{true: "On", false: "Off"}[*on])
	}
	if s.System.Serial != "" {
		lines = append(lines, "Serial number: "+s.System.Serial)
	}
	for i, d := range s.Drives {
		lines = append(
			lines,
			fmt.Sprintf("Drive %d as the kernel lists them: %s", i+1, d.Called()),
		)
	}
	return save(filepath.Join(s.Folder, "machine.txt"), []byte(strings.Join(lines, "\r\n")+"\r\n"))
}

// sums writes the sums of all files of the folder, as sha256sum(1) reads them.
func (s *Session) sums() error {
	var b strings.Builder
	err := filepath.WalkDir(s.Folder, func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() || e.Name() == "SHA256SUMS" || e.Name() == "record.txt" {
			return err
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		name, err := filepath.Rel(s.Folder, path)
		fmt.Fprintf(&b, "%x  %s\n", sha256.Sum256(raw), filepath.ToSlash(name))
		return err
	})
	return errors.Join(err, save(filepath.Join(s.Folder, "SHA256SUMS"), []byte(b.String())))
}
