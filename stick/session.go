// Package stick is what the stick does on a machine: it takes the evidence of every drive,
// judges the start, carries a plan out under its guards, and proves the result. It draws
// nothing; package stick/screen does.
package stick

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"latchkey/capture"
	"latchkey/capture/planfile"
	"latchkey/core/command"
	"latchkey/core/compare"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
)

// Drive is a drive of the machine, other than the stick.
type Drive struct {
	capture.Found
	Name     string // as the kernel calls it
	Serial   string
	File     string // of its capture, in the session's folder
	Role     machine.Role
	Err      error // why nothing of it could be read
	Lost     int64 // bytes that could not be read
	Search   capture.Search
	Contents *machine.Contents
}

// Called names a drive with everything that tells it apart.
func (d *Drive) Called() string {
	parts := []string{d.Name, disk.Both(d.Size), d.Bus, d.Model}
	if d.Serial != "" {
		parts = append(parts, "…"+d.Serial[max(0, len(d.Serial)-4):])
	}
	return strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), " · ")
}

// Session is what happens between the start of the stick and the end.
type Session struct {
	Folder  string // on the stick
	System  System
	Drives  []*Drive
	Answers map[string]string
	Machine machine.Machine
	Trace   startup.Trace
	Plan    repair.Plan
	said    bool // which drive is which was said, and is no guess
	steps   int  // that were begun
	record  []planfile.Record
	done    []string          // keys of the steps that were done well
	failed  []repair.PlanStep // whose commands did not do their work; they are not offered again unasked
	// ownEntry is the question which the stick answers by itself: where the entry leads that started it.
	ownEntry string
	brought  *Brought // the plan that came along; nil for none, or once it was left
	// following: the steps are those of the plan that came along.
	following bool
	now       func() time.Time
	world     world
}

// world is what a session needs of the running system.
type world struct {
	disks     func() ([]capture.Found, error)
	open      func(path string) (*capture.Device, error)
	variables string // folder of the firmware's variables
	run       func(script, typed string) (output []byte, err error)
	serials   string // folder in which the drives' serial numbers are put down; "" for nowhere
}

// Begin makes the session's folder on the stick, named by machine and time.
func Begin(stick string, system System, now func() time.Time) (*Session, error) {
	s := &Session{
		System:  system,
		Answers: map[string]string{},
		now:     now,
		world: world{capture.Disks, capture.OpenDevice,
			"/sys/firmware/efi/efivars", runScript, serialsFolder},
	}
	base := filepath.Join(stick, "LATCHKEY", system.folderName()+"-"+now().UTC().Format("20060102-150405"))
	for n := 0; ; n++ {
		s.Folder = base
		if n > 0 {
			s.Folder = fmt.Sprintf("%s-%d", base, n)
		}
		err := os.MkdirAll(filepath.Dir(s.Folder), 0o755)
		if err == nil {
			err = os.Mkdir(s.Folder, 0o755)
		}
		if !errors.Is(err, os.ErrExist) || n > 99 {
			return s, err
		}
	}
}

// Replace has the session ask others than the running system: for its disks, how one is
// opened, who runs a step's script and is typed at, and in which folder the firmware's variables lie.
func (s *Session) Replace(disks func() ([]capture.Found, error), open func(path string) (*capture.Device, error),
	run func(script, typed string) ([]byte, error), variables string) {
	s.world = world{disks, open, variables, run, ""}
}

// Log adds a line to the session's record, with the time.
func (s *Session) Log(format string, args ...any) {
	f, err := os.OpenFile(filepath.Join(s.Folder, "record.txt"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return // the screen shows what happens; a full stick is met where something is written for good
	}
	defer f.Close()
	fmt.Fprintf(f, "%s %s\r\n", s.now().UTC().Format(time.RFC3339),
		command.Clean(fmt.Sprintf(format, args...)))
	_ = f.Sync()
}

// ByRole returns the drive of a role; nil for none.
func (s *Session) ByRole(role machine.Role) *Drive {
	for _, d := range s.Drives {
		if d.Role == role {
			return d
		}
	}
	return nil
}

// SetRole gives a drive a role, which no other keeps.
func (s *Session) SetRole(d *Drive, role machine.Role) {
	s.said = true
	for _, other := range s.Drives {
		if other != d && other.Role == role && role != machine.RoleOther {
			other.Role = machine.RoleOther
		}
	}
	d.Role = role
}

// Unsaid says why no drive is known to be the clone, and what to do.
func (s *Session) Unsaid() string {
	id := func(d *Drive) (id string) {
		if d.Contents != nil {
			id, _ = d.Contents.Layout.DiskID().Get()
		}
		return id
	}
	for i, d := range s.Drives {
		for _, other := range s.Drives[:i] {
			if id(d) != "" && id(d) == id(other) {
				return fmt.Sprintf("%s and %s carry the same identifier, %s: one is a copy of the other, and nothing on them tells which. Say which is the original and which the clone, by their serial numbers.",
					other.Name, d.Name, id(d))
			}
		}
	}
	return "Nothing on the drives tells which is the clone: say it."
}

// guess gives roles to two drives that are alike: the larger, or the one that a copy fits, is
// taken for the clone. A person can say otherwise.
func (s *Session) guess() {
	var read []*Drive
	for _, d := range s.Drives {
		d.Role = machine.RoleOther
		if d.Contents != nil {
			read = append(read, d)
		}
	}
	switch len(read) {
	case 1:
		read[0].Role = machine.RoleClone
	case 2:
		first, why := compare.Guess(read[0].Contents, read[1].Contents)
		if why == "" {
			return
		}
		if !first {
			read[0], read[1] = read[1], read[0]
		}
		read[0].Role, read[1].Role = machine.RoleOriginal, machine.RoleClone
	}
}

// Judge writes the machine down as the evidence tells it, simulates its start without the
// stick, and plans the repair; of a machine of which it is not told which drive is the clone, no
// start is judged.
func (s *Session) Judge() error {
	desc := capture.Description{Answers: s.Answers}
	yes := true
	f := &desc.Firmware
	f.Mode, f.SecureBoot, f.Behaviour = &s.System.Mode, s.System.SecureBoot, s.System.Behaviour
	if s.System.Arch != "" {
		f.Arch = &s.System.Arch
	}
	if s.System.Storage != "" {
		f.StorageMode = &s.System.Storage
	}
	if s.System.Mode == "uefi" {
		f.BootEntries = "variables"
	}
	if err := s.nameByRole(); err != nil {
		return err
	}
	for _, d := range s.Drives {
		one := capture.DriveDescription{Name: d.Name, Role: string(d.Role), File: d.File, Attached: &yes}
		if slices.Contains(capture.Buses, d.Bus) {
			one.Bus = &d.Bus
		}
		if d.Controller != "" {
			one.Controller = &d.Controller
		}
		desc.Drives = append(desc.Drives, one)
	}
	raw, err := json.MarshalIndent(desc, "", "  ")
	if err != nil {
		return err
	}
	path := filepath.Join(s.Folder, "machine.json")
	if err := save(path, raw); err != nil {
		return err
	}
	if s.Machine, err = capture.Load(path); err != nil {
		return err
	}
	s.Trace, s.Plan = startup.Trace{}, repair.Plan{}
	if s.ByRole(machine.RoleClone) == nil {
		return s.sums()
	}
	if s.Trace = startup.Simulate(s.Machine); s.Trace.Verdict != startup.Starts {
		s.Plan = s.plan()
	}
	s.Log("check: %s %s", s.Trace.Headline, s.Trace.Reason)
	return s.sums()
}

// nameByRole has the captures tell by their names which drive they are of.
func (s *Session) nameByRole() error {
	rename := func(d *Drive, to string) error {
		if d.File == "" || d.File == to {
			return nil
		}
		err := os.Rename(filepath.Join(s.Folder, d.File), filepath.Join(s.Folder, to))
		if err == nil {
			d.File = to
		}
		return err
	}
	for _, d := range s.Drives { // two may change places
		if err := rename(d, "taking-"+d.Name); err != nil {
			return err
		}
	}
	for _, d := range s.Drives {
		name := string(d.Role)
		if d.Role == machine.RoleOther {
			name = d.Name
		}
		if s.steps > 0 {
			name += fmt.Sprintf("-after-%d", s.steps)
		}
		if err := rename(d, name+".lkcap"); err != nil {
			return err
		}
	}
	return nil
}

// save writes a file for good: a full stick, or one that was pulled out, is an error.
func save(path string, raw []byte) error {
	f, err := os.Create(path)
	if err != nil {
		return fmt.Errorf("the stick does not take %s: %w", filepath.Base(path), err)
	}
	_, err = f.Write(raw)
	if err == nil {
		err = f.Sync()
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return fmt.Errorf("the stick does not take %s: %w", filepath.Base(path), err)
	}
	return nil
}
