package capture

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"sort"
	"strings"
	"time"

	"latchkey/core/disk"
)

// Names within a capture file, a zip archive; see docs/formats.md.
const (
	manifestName = "manifest.json"
	sectorsName  = "sectors.bin"
	efivarsDir   = "efivars/"
	formatName   = "latchkey capture"
	formatNumber = 1
)

// Bounds of a capture file, in bytes and pieces.
const (
	maxManifest     = 8 << 20
	maxSectors      = 64 << 20
	maxExtents      = 100_000
	maxFailed       = 10_000
	maxVariables    = 1000
	maxCounts       = 1000
	maxVariable     = 64 << 10
	maxAllVariables = 1 << 20 // of all of them; a machine keeps its own in less
	maxDirectory    = 1 << 20 // of the archive's own directory
	maxText         = 200     // of a model, or of the name of what was captured
	maxBus          = 10
	maxIdentifier   = 64
)

// Manifest says what a capture holds and of what disk.
type Manifest struct {
	Format             string `json:"format"`
	Version            int    `json:"version"`
	Capacity           int64  `json:"capacity"`                     // bytes
	LogicalSectorSize  int    `json:"logicalSectorSize"`            // bytes
	PhysicalSectorSize int    `json:"physicalSectorSize,omitempty"` // bytes
	Bus                string `json:"bus,omitempty"`
	Model              string `json:"model,omitempty"`
	// What tells the drive from another one: its serial number, as the system tells it,
	// and the identifier that its partition table bears.
	Serial string `json:"serial,omitempty"`
	DiskID string `json:"diskID,omitempty"`
	// Running: the system that took the capture ran from this very disk.
	Running bool      `json:"running,omitempty"`
	Source  string    `json:"source"` // what was captured, as it was named
	TakenAt time.Time `json:"takenAt"`
	Extents []Extent  `json:"extents"` // in the order of sectors.bin
	// Unreadable are the sectors that the drive would not give.
	Unreadable []Extent `json:"unreadable,omitempty"`
	// Counts are figures that were counted over bytes which the capture leaves out.
	Counts []disk.Count `json:"counts,omitempty"`
}

// Captured is an open capture file.
type Captured struct {
	Manifest
	Sectors   *Sparse
	Variables map[string][]byte // the firmware's boot variables, by file name
	kept      *Spool
}

// Close lets go of the sectors.
func (c *Captured) Close() error { return c.kept.Close() }

// IsCapture reports whether a file's beginning is that of a zip archive, as
// captures are.
func IsCapture(head []byte) bool { return bytes.HasPrefix(head, []byte("PK\x03\x04")) }

// WriteCapture writes the extents of r and the boot variables as a capture file.
func WriteCapture(w io.Writer, m Manifest, r io.ReaderAt, variables map[string][]byte) error {
	m.Format, m.Version = formatName, formatNumber
	z := zip.NewWriter(w)
	raw, err := json.MarshalIndent(m, "", " ")
	if err != nil {
		return err
	}
	if err := writeMember(z, manifestName, bytes.NewReader(raw)); err != nil {
		return err
	}
	parts := make([]io.Reader, 0, len(m.Extents))
	for _, x := range m.Extents {
		parts = append(parts, io.NewSectionReader(r, x.Offset, x.Length))
	}
	if err := writeMember(z, sectorsName, io.MultiReader(parts...)); err != nil {
		return err
	}
	names := make([]string, 0, len(variables))
	for name := range variables {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		if err := writeMember(z, efivarsDir+name, bytes.NewReader(variables[name])); err != nil {
			return err
		}
	}
	return z.Close()
}

func writeMember(z *zip.Writer, name string, r io.Reader) error {
	w, err := z.Create(name)
	if err != nil {
		return err
	}
	_, err = io.Copy(w, r)
	return err
}

// ReadCapture opens a capture file of size bytes. Its sectors, at most 64 MiB, are
// unpacked into a temporary file, so that memory is bounded whatever the file claims.
// Errors name the member and what was expected.
func ReadCapture(r io.ReaderAt, size int64) (c *Captured, err error) {
	z, err := openArchive(r, size)
	if err != nil {
		return nil, fmt.Errorf("capture: %w", err)
	}
	c = &Captured{Variables: map[string][]byte{}}
	raw, err := member(z, manifestName, maxManifest)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(raw, &c.Manifest); err != nil {
		return nil, fmt.Errorf("capture: %s: %w", manifestName, err)
	}
	if err := c.Manifest.check(); err != nil {
		return nil, fmt.Errorf("capture: %s: %w", manifestName, err)
	}
	if err := c.readVariables(z); err != nil {
		return nil, err
	}
	sectors, err := z.Open(sectorsName)
	if err != nil {
		return nil, missing(sectorsName)
	}
	defer sectors.Close()
	if c.kept, err = NewSpool(sectors, maxSectors); err != nil {
		return nil, fmt.Errorf("capture: %s: %w", sectorsName, err)
	}
	if err := c.open(); err != nil {
		return nil, errors.Join(fmt.Errorf("capture: %w", err), c.Close())
	}
	return c, nil
}

// openArchive opens a zip archive; one whose directory is longer than a capture's is
// refused before it is read.
func openArchive(r io.ReaderAt, size int64) (*zip.Reader, error) {
	head := &upTo{r: r, left: maxDirectory}
	z, err := zip.NewReader(head, size)
	if head.left < 0 {
		return nil, fmt.Errorf("the archive's directory is larger than %d bytes", maxDirectory)
	}
	if err != nil {
		return nil, err
	}
	if len(z.File) > maxVariables+2 {
		return nil, fmt.Errorf("the archive has %d members, expected at most %d", len(z.File), maxVariables+2)
	}
	head.left = math.MaxInt64 // the members are bounded one by one
	return z, nil
}

// upTo reads so many bytes and no more.
type upTo struct {
	r    io.ReaderAt
	left int64
}

func (u *upTo) ReadAt(p []byte, off int64) (int, error) {
	if u.left -= int64(len(p)); u.left < 0 {
		return 0, errors.New("more than its bound")
	}
	return u.r.ReadAt(p, off)
}

func (m *Manifest) check() error {
	switch {
	case m.Format != formatName:
		return fmt.Errorf("format is %q, expected %q", m.Format, formatName)
	case m.Version != formatNumber:
		return fmt.Errorf("version is %d, expected %d", m.Version, formatNumber)
	case m.LogicalSectorSize != 512 && m.LogicalSectorSize != 4096:
		return fmt.Errorf("logicalSectorSize is %d, expected 512 or 4096", m.LogicalSectorSize)
	case m.Capacity < int64(m.LogicalSectorSize) || m.Capacity > disk.MaxSize:
		return fmt.Errorf("capacity is %d bytes, expected one sector to %s", m.Capacity, disk.Binary(disk.MaxSize))
	case m.PhysicalSectorSize < 0 || m.PhysicalSectorSize > 1<<20:
		return fmt.Errorf("physicalSectorSize is %d bytes, expected at most 1 MiB", m.PhysicalSectorSize)
	case len(m.Model) > maxText || len(m.Bus) > maxBus || len(m.Source) > maxText:
		return fmt.Errorf("model, bus or source has more than %d, %d or %d bytes", maxText, maxBus, maxText)
	case len(m.Serial) > maxIdentifier || len(m.DiskID) > maxIdentifier:
		return fmt.Errorf("serial or diskID has more than %d bytes", maxIdentifier)
	case len(m.Counts) > maxCounts:
		return fmt.Errorf("%d counts, expected at most %d", len(m.Counts), maxCounts)
	case len(m.Extents) > maxExtents || len(m.Unreadable) > maxFailed:
		return fmt.Errorf("%d extents and %d unreadable ones, expected at most %d and %d", len(m.Extents), len(m.Unreadable), maxExtents, maxFailed)
	}
	return nil
}

// open lays the sectors out at their places.
func (c *Captured) open() error {
	var total int64
	for i, x := range c.Extents {
		if x.Length <= 0 || x.Offset < 0 || x.Length > c.Capacity-x.Offset || x.Length > maxSectors {
			return fmt.Errorf("extent %d (%d bytes at %d) lies outside the disk of %d bytes", i, x.Length, x.Offset, c.Capacity)
		}
		total += x.Length
	}
	if total != c.kept.Size {
		return fmt.Errorf("%s has %d bytes, the extents make %d", sectorsName, c.kept.Size, total)
	}
	for i, x := range c.Unreadable {
		if x.Length <= 0 || x.Offset < 0 || x.Length > c.Capacity-x.Offset {
			return fmt.Errorf("unreadable extent %d (%d bytes at %d) lies outside the disk of %d bytes", i, x.Length, x.Offset, c.Capacity)
		}
	}
	sparse, err := NewPacked(c.kept, c.Extents)
	if err != nil {
		return err
	}
	c.Sectors = sparse.Failed(c.Unreadable)
	return nil
}

func (c *Captured) readVariables(z *zip.Reader) error {
	total := 0
	for _, f := range z.File {
		name, inside := strings.CutPrefix(f.Name, efivarsDir)
		if !inside || name == "" {
			continue
		}
		if len(c.Variables) >= maxVariables {
			return fmt.Errorf("capture: more than %d boot variables", maxVariables)
		}
		raw, err := member(z, f.Name, maxVariable)
		if err != nil {
			return err
		}
		if total += len(raw) + len(name); total > maxAllVariables {
			return fmt.Errorf("capture: the boot variables have more than %d bytes", maxAllVariables)
		}
		c.Variables[name] = raw
	}
	return nil
}

// member reads a whole member of at most limit bytes.
func member(z *zip.Reader, name string, limit int64) ([]byte, error) {
	f, err := z.Open(name)
	if err != nil {
		return nil, missing(name)
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err != nil {
		return nil, fmt.Errorf("capture: %s: %w", name, err)
	}
	if int64(len(raw)) > limit {
		return nil, fmt.Errorf("capture: %s is larger than %d bytes", name, limit)
	}
	return raw, nil
}

func missing(name string) error {
	return fmt.Errorf("capture: there is no %s in the archive: %w", name, errNotCapture)
}

var errNotCapture = errors.New("it is no capture of this application")
