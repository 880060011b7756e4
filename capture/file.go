package capture

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
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
	maxManifest  = 8 << 20
	maxSectors   = 64 << 20
	maxExtents   = 100_000
	maxVariables = 1000
	maxCounts    = 1000
	maxVariable  = 64 << 10
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
	// Running: the system that took the capture ran from this very disk.
	Running bool      `json:"running,omitempty"`
	Source  string    `json:"source"` // what was captured, as it was named
	TakenAt time.Time `json:"takenAt"`
	Extents []Extent  `json:"extents"` // in the order of sectors.bin
	// Counts are figures that were counted over bytes which the capture leaves out.
	Counts []disk.Count `json:"counts,omitempty"`
}

// Captured is an open capture file.
type Captured struct {
	Manifest
	Sectors   *Sparse
	Variables map[string][]byte // the firmware's boot variables, by file name
}

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

// ReadCapture opens a capture file of size bytes. Its sectors are held in memory,
// at most 64 MiB of them. Errors name the member and what was expected.
func ReadCapture(r io.ReaderAt, size int64) (*Captured, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, fmt.Errorf("capture: %w", err)
	}
	c := &Captured{Variables: map[string][]byte{}}
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
	sectors, err := member(z, sectorsName, maxSectors)
	if err != nil {
		return nil, err
	}
	if err := c.open(sectors); err != nil {
		return nil, fmt.Errorf("capture: %w", err)
	}
	return c, c.readVariables(z)
}

func (m *Manifest) check() error {
	switch {
	case m.Format != formatName:
		return fmt.Errorf("format is %q, expected %q", m.Format, formatName)
	case m.Version != formatNumber:
		return fmt.Errorf("version is %d, expected %d", m.Version, formatNumber)
	case m.LogicalSectorSize != 512 && m.LogicalSectorSize != 4096:
		return fmt.Errorf("logicalSectorSize is %d, expected 512 or 4096", m.LogicalSectorSize)
	case m.Capacity < int64(m.LogicalSectorSize):
		return fmt.Errorf("capacity is %d bytes, expected at least one sector", m.Capacity)
	case len(m.Counts) > maxCounts:
		return fmt.Errorf("%d counts, expected at most %d", len(m.Counts), maxCounts)
	case len(m.Extents) > maxExtents:
		return fmt.Errorf("%d extents, expected at most %d", len(m.Extents), maxExtents)
	}
	return nil
}

// open lays the sectors out at their places.
func (c *Captured) open(sectors []byte) error {
	var total int64
	at := make([]int64, len(c.Extents))
	for i, x := range c.Extents {
		if x.Length <= 0 || x.Offset < 0 || x.Length > c.Capacity-x.Offset || x.Length > maxSectors {
			return fmt.Errorf("extent %d (%d bytes at %d) lies outside the disk of %d bytes", i, x.Length, x.Offset, c.Capacity)
		}
		at[i] = total
		total += x.Length
	}
	if total != int64(len(sectors)) {
		return fmt.Errorf("%s has %d bytes, the extents make %d", sectorsName, len(sectors), total)
	}
	sparse, err := NewSparse(&laidOut{c.Extents, at, sectors}, c.Extents)
	c.Sectors = sparse
	return err
}

// laidOut maps the disk's bytes to where they stand in sectors.bin.
type laidOut struct {
	extents []Extent
	at      []int64
	sectors []byte
}

func (l *laidOut) ReadAt(p []byte, off int64) (int, error) {
	i := sort.Search(len(l.extents), func(i int) bool { x := l.extents[i]; return x.Offset+x.Length > off })
	if i == len(l.extents) || l.extents[i].Offset > off {
		return 0, io.EOF
	}
	x := l.extents[i]
	n := copy(p, l.sectors[l.at[i]+off-x.Offset:l.at[i]+x.Length])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (c *Captured) readVariables(z *zip.Reader) error {
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
		c.Variables[name] = raw
	}
	return nil
}

// member reads a whole member of at most limit bytes.
func member(z *zip.Reader, name string, limit int64) ([]byte, error) {
	f, err := z.Open(name)
	if err != nil {
		return nil, fmt.Errorf("capture: there is no %s in the archive: %w", name, errNotCapture)
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

var errNotCapture = errors.New("it is no capture of this application")
