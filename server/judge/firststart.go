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
	var size shown
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
		size = shown{d.Size, d.Rounded}
	}
	if strings.TrimSpace(s.Capacity) != "" {
		var err error
		if size.bytes, size.rounded, err = disk.ParseSize(s.Capacity, disk.EitherUnits); err != nil {
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
	p := prove(a.machine, plainID(id), shown{bytes: taken.Capacity})
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
func prove(m machine.Machine, id string, size shown) Proof {
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
	id   string // hexadecimal, plain; "" when unknown
	size int64  // bytes, 0 when unknown
	gone bool   // it is known not to be attached
}

func traitsOf(d *machine.Drive) traits {
	t := traits{}
	attached, known := d.Attached.Get()
	t.gone = known && !attached
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

// shown is a capacity as it was seen; zero is not told.
type shown struct {
	bytes   int64
	rounded bool
}

// is reports whether a drive may have the capacity: a rounded one is that of every drive
// within a hundredth of it, as screens round in either units.
func (s shown) is(bytes int64) bool {
	switch {
	case s.bytes <= 0 || bytes <= 0:
		return false
	case s.rounded:
		return max(s.bytes-bytes, bytes-s.bytes) <= bytes/100
	}
	return s.bytes == bytes
}

// judged says from which disk a system came up. Nothing is concluded from what is not known
// of a disk: it may be the one as long as nothing that was seen speaks against it.
func judged(clone, original traits, id string, size shown) Proof {
	mayBe := func(t traits) bool {
		return (id == "" || t.id == "" || id == t.id) && (size.bytes == 0 || t.size == 0 || size.is(t.size))
	}
	byClone, byOriginal := id != "" && id == clone.id, id != "" && id == original.id
	seenClone, seenOriginal := byClone || size.is(clone.size), byOriginal || size.is(original.size)
	switch {
	case id == "" && size.bytes == 0:
		return Proof{"open", "Nothing was told of the disk."}
	case !mayBe(clone) && !mayBe(original) && (seenClone || seenOriginal):
		return Proof{"open", "Identifier and capacity tell of different disks. If the copy's identifier was changed since, take a new capture of the clone."}
	case !mayBe(clone) && !mayBe(original) && id != "":
		return Proof{"neither", "The identifier is of neither disk of the case. If the copy's identifier was changed since, take a new capture of the clone."}
	case !mayBe(clone) && !mayBe(original):
		return Proof{"neither", "The capacity is of neither disk of the case."}
	case mayBe(clone) && !mayBe(original) && seenClone:
		return Proof{"clone", "The " + toldBy(byClone && !byOriginal) + " is the clone's, and only the clone's."}
	case mayBe(original) && !mayBe(clone) && seenOriginal:
		return Proof{"original", "The " + toldBy(byOriginal && !byClone) + " is the original's: the machine came up from the old drive."}
	case !seenClone && !seenOriginal:
		return Proof{"open", "What was seen fits no disk of which it is known: take a capture of the clone."}
	case original.gone && seenClone:
		return Proof{"clone", "The " + toldBy(byClone) + " is the clone's, and the original, which may carry the same, is not attached."}
	}
	return Proof{"open", "Both disks answer to what was seen: unplug the original and start once more."}
}

// toldBy is what tells a disk.
func toldBy(byID bool) string {
	if byID {
		return "identifier"
	}
	return "capacity"
}
