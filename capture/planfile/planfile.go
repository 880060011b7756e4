// Package planfile is the file by which a plan comes to a machine on the stick. It names the
// disks that it is for, and the steps by what they do: commands are never taken from it.
package planfile

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// Name is how the file is called on the stick.
const Name = "LATCHKEY-PLAN.json"

const (
	format  = "latchkey-plan"
	version = 1
	// MaxSize bounds the file, in bytes.
	MaxSize  = 256 << 10
	maxSteps = 24
	maxText  = 500
)

// File is a plan on its way. Docs/formats.md, "Plan for the stick".
type File struct {
	Format  string    `json:"format"`
	Version int       `json:"version"`
	Made    time.Time `json:"made"`
	Case    string    `json:"case"`
	Drives  []Drive   `json:"drives"`
	// Answers are those given in the case, by the questions' names, which name drives by role.
	Answers map[string]string `json:"answers"`
	Steps   []Step            `json:"steps"`
	// SHA256 is the sum of the file as it is without this field.
	SHA256 string `json:"sha256"`
}

// Drive tells a disk that a plan is for.
type Drive struct {
	Role   machine.Role `json:"role"`
	Bytes  int64        `json:"bytes"`
	ID     string       `json:"identifier"`   // disk GUID or signature; "" where the disk has none
	Serial string       `json:"serialNumber"` // "" where nothing told
}

// Step is a step of the plan.
type Step struct {
	Key   string `json:"key"`
	Title string `json:"title"`
}

// Encode is the file's bytes.
func (f File) Encode() ([]byte, error) {
	f.Format, f.Version = format, version
	if f.Answers == nil {
		f.Answers = map[string]string{}
	}
	sum, err := f.sum()
	if err != nil {
		return nil, err
	}
	f.SHA256 = sum
	raw, err := json.MarshalIndent(f, "", "  ")
	return append(raw, '\n'), err
}

func (f File) sum() (string, error) {
	f.SHA256, f.Made = "", f.Made.UTC()
	raw, err := json.Marshal(f)
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:]), err
}

// Decode reads the file. What was changed since it was made is refused.
func Decode(r io.Reader) (File, error) {
	var f File
	raw, err := io.ReadAll(io.LimitReader(r, MaxSize+1))
	if err != nil {
		return f, err
	}
	if len(raw) > MaxSize {
		return f, fmt.Errorf("the plan has more than %s", disk.Binary(MaxSize))
	}
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&f); err != nil {
		return File{}, fmt.Errorf("it is no plan: %w", err)
	}
	switch {
	case decoder.More():
		return File{}, errors.New("more stands behind the plan")
	case f.Format != format:
		return File{}, fmt.Errorf("its format is %q, expected %q", f.Format, format)
	case f.Version != version:
		return File{}, fmt.Errorf("it is of version %d, expected %d: make it anew", f.Version, version)
	}
	if sum, err := f.sum(); err != nil || sum != f.SHA256 {
		return File{}, errors.New("it was changed since it was made: make it anew")
	}
	return f, f.check()
}

// check holds a plan's parts to their bounds.
func (f *File) check() error {
	clones := 0
	for _, d := range f.Drives {
		if d.Role == machine.RoleClone {
			clones++
		} else if d.Role != machine.RoleOriginal {
			return fmt.Errorf("a drive has the role %q, expected %q or %q", d.Role, machine.RoleOriginal, machine.RoleClone)
		}
		if d.Bytes <= 0 || len(d.ID) > maxText || len(d.Serial) > maxText {
			return fmt.Errorf("the %s is not told by its capacity, identifier and serial number", d.Role)
		}
	}
	switch {
	case clones != 1 || len(f.Drives) > 2:
		return errors.New("it is not of one clone and at most one original")
	case len(f.Steps) == 0 || len(f.Steps) > maxSteps:
		return fmt.Errorf("it has %d steps, expected 1 to %d", len(f.Steps), maxSteps)
	case len(f.Answers) > maxText || len(f.Case) > maxText:
		return errors.New("it holds more than a plan does")
	}
	for _, s := range f.Steps {
		if s.Key == "" || len(s.Key) > maxText || len(s.Title) > maxText {
			return errors.New("a step has no name, or one that is too long")
		}
	}
	return nil
}

// Keys are the names of its steps.
func (f *File) Keys() (keys []string) {
	for _, s := range f.Steps {
		keys = append(keys, s.Key)
	}
	return keys
}

// tells reports whether a disk is the one that is told.
func (d Drive) tells(is Drive) bool {
	return d.Bytes == is.Bytes && strings.EqualFold(d.ID, is.ID) &&
		(d.Serial == "" || is.Serial == "" || d.Serial == is.Serial)
}

// Called tells a disk in a sentence.
func (d Drive) Called() string {
	text := disk.Both(d.Bytes)
	if d.ID != "" {
		text += ", identifier " + d.ID
	}
	if d.Serial != "" {
		text += ", serial number " + d.Serial
	}
	return text
}

// Match says which of a machine's disks have which role; the original may be away. The plan
// is for another machine where none is the clone, and for none where several may be.
func (f *File) Match(disks []Drive) (map[int]machine.Role, error) {
	roles := map[int]machine.Role{}
	for _, want := range f.Drives {
		var hits []int
		for i, is := range disks {
			if want.tells(is) {
				hits = append(hits, i)
			}
		}
		switch {
		case len(hits) == 0 && want.Role == machine.RoleClone:
			return nil, fmt.Errorf(
				"it is for another machine: its clone (%s) is not among the drives here",
				want.Called(),
			)
		case len(hits) > 1:
			return nil, fmt.Errorf(
				"two drives here may be its %s (%s), and nothing tells them apart: unplug one of them",
				want.Role,
				want.Called(),
			)
		case len(hits) == 1:
			if _, taken := roles[hits[0]]; taken {
				return nil, errors.New("one drive here may be its original and its clone: nothing tells them apart")
			}
			roles[hits[0]] = want.Role
		}
	}
	return roles, nil
}
