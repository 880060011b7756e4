package judge

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"latchkey/capture"
	"latchkey/capture/running"
	"latchkey/core/compare"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/server/store"
)

// Seen is what a person saw after a start of the disk that the system came
// up from.
type Seen struct {
	ID       string `json:"id,omitempty" maxLength:"60" doc:"Disk GUID or signature of the disk the system runs from"`
	Capacity string `json:"capacity,omitempty" maxLength:"40" doc:"Its capacity, as a screen shows it or in bytes"`
	Answer   string `json:"answer,omitempty" maxLength:"20000" doc:"What the command printed that asks which disk the system runs from"`
}

// Proof is what the seen things prove.
type Proof struct {
	From string `json:"from" enum:"clone,original,neither,open" doc:"Which disk the system came up from; open when what was seen does not tell"`
	Why  string `json:"why"`
}

// StartedFrom judges from which disk a system came up. Two things tell: the
// identifier, where it is the clone's alone, and the capacity, where the disks
// differ in it.
func (j *Judge) StartedFrom(ctx context.Context, c *store.Case, s Seen) (*Proof, error) {
	var size int64
	why := ""
	if strings.TrimSpace(s.Answer) != "" {
		d, ok := running.From(s.Answer)
		if !ok {
			return nil, &BadChange{"answer: expected what one of the commands prints of one disk, with its size and its identifier."}
		}
		why = "By what the running system answered. "
		if s.ID == "" {
			s.ID = d.ID
		}
		if s.Capacity == "" && d.Size > 0 {
			s.Capacity = strconv.FormatInt(d.Size, 10)
		}
	}
	if strings.TrimSpace(s.Capacity) != "" {
		var err error
		if size, _, err = disk.ParseSize(s.Capacity, disk.EitherUnits); err != nil {
			return nil, &BadChange{"capacity: " + err.Error()}
		}
	}
	a, err := j.assemble(ctx, c)
	if err != nil {
		return nil, err
	}
	p := prove(a.machine, plainID(s.ID), size)
	p.Why = why + p.Why
	return &p, nil
}

// StartedCaptured judges by a capture that the system itself took of the disk
// it came up from.
func (j *Judge) StartedCaptured(ctx context.Context, c *store.Case, taken *capture.Captured) (*Proof, error) {
	if !taken.Running {
		return nil, &BadChange{"file: the capture does not say that the system which took it runs from this disk. Start the machine from the clone, and take the capture there: latchkey-capture of the disk that the system runs from."}
	}
	on, err := disk.New(taken.Sectors, taken.Capacity, taken.LogicalSectorSize)
	if err != nil {
		return nil, &BadChange{"file: " + err.Error()}
	}
	l := disk.ReadLayout(on)
	id, _ := l.DiskID().Get()
	a, err := j.assemble(ctx, c)
	if err != nil {
		return nil, err
	}
	p := prove(a.machine, plainID(id), taken.Capacity)
	if p.From == "open" { // one identifier and one capacity: what else the capture tells
		if role, why := compare.Belongs(machine.Examine(on), taken.Model, a.machine.Drives, models(c)); role != "" {
			p.From, p.Why = role, fmt.Sprintf("The disk is the %s: %s.", role, why)
		}
	}
	p.Why = "By a capture that the running system took of its own disk. " + p.Why
	return &p, nil
}

// models are the drives' models by their roles.
func models(c *store.Case) map[string]string {
	m := map[string]string{}
	for _, d := range c.Drives {
		m[d.Role] = d.Model
	}
	return m
}

// prove holds an identifier and a capacity against the disks of a case.
func prove(m machine.Machine, id string, size int64) Proof {
	var known [2]traits
	for i, role := range []machine.Role{machine.RoleClone, machine.RoleOriginal} {
		for _, d := range m.Drives {
			if d.Role == role {
				known[i] = traitsOf(&d)
			}
		}
	}
	return judged(known[0], known[1], id, size)
}

// traits are what tells a disk from another.
type traits struct {
	id       string // hexadecimal, plain
	size     int64  // bytes, 0 when unknown
	attached bool
}

func traitsOf(d *machine.Drive) traits {
	t := traits{}
	t.attached, _ = d.Attached.Get()
	if d.Contents != nil {
		id, _ := d.Contents.Layout.DiskID().Get()
		t.id = plainID(id)
		t.size, _ = d.Contents.Size()
	}
	return t
}

// plainID is an identifier without its dress. A short one of decimal digits alone
// is a disk signature as Windows prints it.
func plainID(id string) string {
	id = strings.ToLower(strings.NewReplacer("{", "", "}", "", "-", "", " ", "", "0x", "").Replace(strings.TrimSpace(id)))
	if n, err := strconv.ParseUint(id, 10, 32); err == nil && len(id) != 8 {
		return fmt.Sprintf("%08x", n)
	}
	return id
}

func judged(clone, original traits, id string, size int64) Proof {
	sameSize := func(t traits) bool { return size > 0 && t.size > 0 && disk.Binary(size) == disk.Binary(t.size) }
	byClone, byOriginal := id != "" && id == clone.id, id != "" && id == original.id
	switch {
	case id == "" && size == 0:
		return Proof{"open", "Nothing was told of the disk."}
	case byClone && !byOriginal:
		return Proof{"clone", "The identifier is the clone's, and only the clone's."}
	case byOriginal && !byClone:
		return Proof{"original", "The identifier is the original's: the machine came up from the old drive."}
	case id != "" && !byClone:
		return Proof{"neither", "The identifier is of neither disk of the case. If the copy's identifier was changed since, take a new capture of the clone."}
	case byClone && !original.attached:
		return Proof{"clone", "The identifier is the clone's, and the original, which carries the same, is not attached."}
	case sameSize(clone) && !sameSize(original):
		return Proof{"clone", "The capacity is the clone's and not the original's."}
	case sameSize(original) && !sameSize(clone):
		return Proof{"original", "The capacity is the original's and not the clone's."}
	case size > 0 && !sameSize(clone):
		return Proof{"neither", "The capacity is of neither disk of the case."}
	}
	return Proof{"open", "Both disks answer to what was seen: unplug the original and start once more."}
}
