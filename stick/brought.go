package stick

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"latchkey/capture/planfile"
	"latchkey/core/machine"
	"latchkey/core/repair"
)

// Brought is a plan that the application put on the stick.
type Brought struct {
	planfile.File
	Err error // why it is not carried out here; nil while it is
}

// FindPlan reads the plan that lies on the stick; nil where there is none.
func FindPlan(stick string) *Brought {
	f, err := os.Open(filepath.Join(stick, planfile.Name))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return &Brought{Err: err}
	}
	defer f.Close()
	b := &Brought{}
	b.File, b.Err = planfile.Decode(f)
	return b
}

// Bring takes a plan for this machine: its drives must be the plan's, by capacity, identifier
// and serial number. Then they have the plan's roles and answers. A plan that is refused
// keeps why, and changes nothing.
func (s *Session) Bring(b *Brought) {
	s.brought = nil
	if b.Err != nil {
		s.Log("the plan on the stick is not carried out: %v", b.Err)
		return
	}
	var disks []planfile.Drive
	for _, d := range s.Drives {
		is := planfile.Drive{Bytes: d.Size, Serial: d.Serial}
		if d.Contents != nil {
			is.ID, _ = d.Contents.Layout.DiskID().Get()
		}
		disks = append(disks, is)
	}
	roles, err := b.Match(disks)
	if err != nil {
		b.Err = err
		s.Log("the plan on the stick is not carried out: %v", err)
		return
	}
	s.said = true
	for i, d := range s.Drives {
		d.Role = machine.RoleOther
		if role, ok := roles[i]; ok {
			d.Role = role
		}
	}
	for question, answer := range b.Answers {
		s.Answers[s.named(question)] = answer
	}
	s.brought = b
	s.Log("by the plan of the case %q", b.Case)
}

// named is a question of the case as it is asked of the drives here: the case calls them by
// their roles.
func (s *Session) named(question string) string {
	for _, d := range s.Drives {
		if about, ok := strings.CutSuffix(question, ":"+string(d.Role)); ok && d.Role != machine.RoleOther {
			return about + ":" + d.Name
		}
	}
	return question
}

// plan is the way to a start: what is left of the plan that was brought, else one that is made
// on the spot. Where that plan leads was proved by the case's evidence, which may tell more than
// what is here: it is followed unless what is here speaks against it.
func (s *Session) plan() repair.Plan {
	s.following = false
	if s.brought != nil {
		left := slices.DeleteFunc(s.brought.Keys(), func(key string) bool { return slices.Contains(s.done, key) })
		p, err := repair.Follow(s.Machine, left, repair.Linux, repair.Firmware)
		if err == nil || errors.Is(err, repair.ErrOpen) {
			if s.following = len(left) > 0 && !slices.ContainsFunc(left, s.hasFailed); s.following {
				return p
			}
		} else {
			s.brought.Err = err
			s.Log("the plan of the case is left: %v", err)
			s.brought = nil
		}
	}
	var keys []string
	for _, step := range s.failed {
		keys = append(keys, step.Key)
	}
	return repair.Continue(s.Machine, repair.Progress{Failed: keys}, repair.Linux, repair.Firmware).Plan
}

func (s *Session) hasFailed(key string) bool {
	return slices.ContainsFunc(s.failed, func(step repair.PlanStep) bool { return step.Key == key })
}

// Failed lists the titles of the steps that failed here and are left out of the plan since.
func (s *Session) Failed() (titles []string) {
	for _, step := range s.failed {
		if !slices.Contains(titles, step.Title) {
			titles = append(titles, step.Title)
		}
	}
	return titles
}

// TryAgain takes into account again what failed, and judges.
func (s *Session) TryAgain() error {
	s.failed = nil
	s.Log("what failed is offered again: so a person chose")
	return s.Judge()
}

// ByBrought reports whether the steps are those of the plan that was brought.
func (s *Session) ByBrought() bool { return s.following }

// Leave goes on without the plan that was brought; the drives keep its roles.
func (s *Session) Leave() {
	if s.brought != nil {
		s.Log("the plan of the case is left: so a person chose")
		s.brought = nil
	}
}
