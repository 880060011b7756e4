// Package weaker takes evidence away from a machine: facts, files, bytes, lines. What is
// left must give the same answer, or none.
package weaker

import (
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"slices"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// Loss is something that evidence can lose. It reports false where there is nothing to
// lose.
type Loss struct {
	Name string
	Of   func(r *rand.Rand, m *machine.Machine) bool
}

// Copy copies a machine as far as a loss changes it.
func Copy(m machine.Machine) machine.Machine {
	m.Drives = slices.Clone(m.Drives)
	for i := range m.Drives {
		if c := m.Drives[i].Contents; c != nil {
			copied := *c
			copied.Layout.Partitions = slices.Clone(c.Layout.Partitions)
			copied.Volumes = slices.Clone(c.Volumes)
			m.Drives[i].Contents = &copied
		}
	}
	if e := m.Firmware.Entries; e != nil {
		copied := *e
		copied.Order, copied.All = slices.Clone(e.Order), maps.Clone(e.All)
		m.Firmware.Entries = &copied
	}
	return m
}

// drive picks a drive with contents.
func drive(r *rand.Rand, m *machine.Machine) *machine.Drive {
	var with []int
	for i := range m.Drives {
		if m.Drives[i].Contents != nil {
			with = append(with, i)
		}
	}
	if len(with) == 0 {
		return nil
	}
	return &m.Drives[with[r.IntN(len(with))]]
}

func anyDrive(r *rand.Rand, m *machine.Machine) *machine.Drive {
	return &m.Drives[r.IntN(len(m.Drives))]
}

// Facts are the facts of a machine that nobody may have told.
var Facts = []Loss{
	{"mode", func(_ *rand.Rand, m *machine.Machine) bool {
		m.Firmware.Mode = fact.Unknown[firmware.Mode]()
		return true
	}},
	{"arch", func(_ *rand.Rand, m *machine.Machine) bool {
		m.Firmware.Arch = fact.Unknown[firmware.Arch]()
		return true
	}},
	{"secure boot", func(_ *rand.Rand, m *machine.Machine) bool {
		m.Firmware.SecureBoot = fact.Unknown[bool]()
		return true
	}},
	{"controller mode", func(_ *rand.Rand, m *machine.Machine) bool {
		m.Firmware.StorageMode = fact.Unknown[string]()
		return true
	}},
	{"controller mode before", func(_ *rand.Rand, m *machine.Machine) bool {
		m.Firmware.StorageModeBefore = fact.Unknown[string]()
		return true
	}},
	{"a choice of the firmware", func(r *rand.Rand, m *machine.Machine) bool {
		c := firmware.Choices[r.IntN(len(firmware.Choices))]
		m.Firmware.Behaviour = m.Firmware.Behaviour.With(c, fact.Unknown[bool]())
		return true
	}},
	{"the firmware's behaviour", func(_ *rand.Rand, m *machine.Machine) bool {
		m.Firmware.Behaviour, _ = firmware.Named("generic")
		return true
	}},
	{"order of devices", func(_ *rand.Rand, m *machine.Machine) bool {
		m.DeviceOrder = nil
		return true
	}},
	{"bus", func(r *rand.Rand, m *machine.Machine) bool {
		anyDrive(r, m).Bus = fact.Unknown[string]()
		return true
	}},
	{"port", func(r *rand.Rand, m *machine.Machine) bool {
		anyDrive(r, m).Port = fact.Unknown[int]()
		return true
	}},
	{"controller", func(r *rand.Rand, m *machine.Machine) bool {
		anyDrive(r, m).Controller = fact.Unknown[string]()
		return true
	}},
	{"attached", func(r *rand.Rand, m *machine.Machine) bool {
		anyDrive(r, m).Attached = fact.Unknown[bool]()
		return true
	}},
	{"shown", func(r *rand.Rand, m *machine.Machine) bool {
		anyDrive(r, m).Shown = fact.Unknown[bool]()
		return true
	}},
	{"has an entry", func(r *rand.Rand, m *machine.Machine) bool {
		anyDrive(r, m).HasEntry = fact.Unknown[bool]()
		return true
	}},
	{"an answer", func(r *rand.Rand, m *machine.Machine) bool {
		if len(m.Answers) == 0 {
			return false
		}
		m.Answers = maps.Clone(m.Answers)
		delete(m.Answers, slices.Sorted(maps.Keys(m.Answers))[r.IntN(len(m.Answers))])
		return true
	}},
}

// Entries are what a listing of boot entries can lack.
var Entries = []Loss{
	{"the boot entries", func(_ *rand.Rand, m *machine.Machine) bool {
		had := m.Firmware.Entries != nil
		m.Firmware.Entries = nil
		return had
	}},
	{"an entry of a listing that was cut off", func(r *rand.Rand, m *machine.Machine) bool {
		e := m.Firmware.Entries
		if e == nil || len(e.All) == 0 {
			return false
		}
		e.Open = true
		delete(e.All, slices.Sorted(maps.Keys(e.All))[r.IntN(len(e.All))])
		return true
	}},
	{"the paths of the entries", func(_ *rand.Rand, m *machine.Machine) bool {
		if m.Firmware.Entries == nil {
			return false
		}
		for n, one := range m.Firmware.Entries.All {
			one.Path, one.Text = firmware.Path{Open: true}, ""
			m.Firmware.Entries.All[n] = one
		}
		return true
	}},
	{"the end of a path", func(r *rand.Rand, m *machine.Machine) bool {
		e := m.Firmware.Entries
		if e == nil || len(e.All) == 0 {
			return false
		}
		n := slices.Sorted(maps.Keys(e.All))[r.IntN(len(e.All))]
		one := e.All[n]
		one.Path, one.Text = firmware.Path{Partition: one.Path.Partition, Open: true}, ""
		e.All[n] = one
		return true
	}},
	{"whether there is an entry for the next start", func(_ *rand.Rand, m *machine.Machine) bool {
		e := m.Firmware.Entries
		if e == nil {
			return false
		}
		e.Next, e.NextOpen = nil, true
		return true
	}},
	{"the order of the entries", func(_ *rand.Rand, m *machine.Machine) bool {
		e := m.Firmware.Entries
		if e == nil || len(e.Order) == 0 {
			return false
		}
		e.Order, e.OrderOpen, e.Open = nil, true, true
		return true
	}},
}

// Disks are what the evidence of a disk can lack.
var Disks = []Loss{
	{"everything of a disk", func(r *rand.Rand, m *machine.Machine) bool {
		d := drive(r, m)
		if d == nil {
			return false
		}
		d.Contents = nil
		return true
	}},
	{"everything that lies in a partition", func(r *rand.Rand, m *machine.Machine) bool {
		d := drive(r, m)
		if d == nil || len(d.Contents.Volumes) == 0 {
			return false
		}
		lost := machine.Volume{Volume: volume.Volume{Kind: volume.NotCaptured}, LoaderErr: &disk.NotCaptured{}}
		d.Contents.Volumes[r.IntN(len(d.Contents.Volumes))] = lost
		return true
	}},
	{"the bytes of a program", func(r *rand.Rand, m *machine.Machine) bool {
		d := drive(r, m)
		if d == nil {
			return false
		}
		for i := range d.Contents.Volumes {
			if v := &d.Contents.Volumes[i]; len(v.Loaders) > 0 {
				v.Loaders = slices.Clone(v.Loaders)
				f := &v.Loaders[r.IntN(len(v.Loaders))]
				f.Err, f.Program = &disk.NotCaptured{}, loader.Program{}
				return true
			}
		}
		return false
	}},
	{"the bytes of a configuration", func(r *rand.Rand, m *machine.Machine) bool {
		d := drive(r, m)
		if d == nil {
			return false
		}
		for i := range d.Contents.Volumes {
			if v := &d.Contents.Volumes[i]; len(v.Configs) > 0 {
				v.Configs = slices.Clone(v.Configs)
				c := &v.Configs[r.IntN(len(v.Configs))]
				*c = machine.Config{Kind: c.Kind, Path: c.Path, Err: &disk.NotCaptured{}}
				return true
			}
		}
		return false
	}},
}

// Told replaces what was read of a disk by what a listing tells of it, weakened: types,
// marks, places, identifiers, file systems or partitions may be left out, sizes rounded.
func Told(r *rand.Rand, m *machine.Machine) string {
	d := drive(r, m)
	if d == nil {
		return ""
	}
	t := Listed(d.Contents)
	what := "a listing of " + d.Name
	for _, name := range slices.Sorted(maps.Keys(toldLosses)) { // the same draws for the same seed
		if r.IntN(4) == 0 {
			toldLosses[name](r, t)
			what += ", without " + name
		}
	}
	d.Contents = t.Contents()
	return what
}

// Listed is what a system's whole listing tells of a disk.
func Listed(c *machine.Contents) *machine.Described {
	l := &c.Layout
	size, _ := c.Size()
	id, _ := l.DiskID().Get()
	t := &machine.Described{Name: "disk", Source: fact.Source{Origin: fact.Text}, Size: size, SectorSize: l.SectorSize,
		Rounded: c.Rounded,
		Style:   l.Style, ID: id, Whole: c.TableKnown() && !l.Open}
	if l.SectorOpen {
		t.SectorSize = 0
	}
	for i, p := range l.Partitions {
		v := &c.Volumes[i]
		one := machine.DescribedPartition{Number: p.Number, Start: int64(p.Start) * int64(l.SectorSize),
			Length: int64(p.Length) * int64(l.SectorSize), Type: p.TypeGUID, MBRType: p.MBRType, GUID: p.GUID,
			Name: p.Name, Kind: v.Kind, Label: v.Label, Serial: v.Serial, TypeOpen: p.TypeOpen, Rounded: p.Rough}
		if p.Unplaced {
			one.Start = -1
		}
		if !p.ActiveOpen {
			one.Active = fact.Tell(p.Active)
		}
		if v.Kind == volume.NotCaptured || v.Kind == volume.Unknown || v.Kind == volume.Empty {
			one.Kind = ""
		}
		t.Partitions = append(t.Partitions, one)
	}
	return t
}

var toldLosses = map[string]func(r *rand.Rand, t *machine.Described){
	"style":       func(_ *rand.Rand, t *machine.Described) { t.Style = "" },
	"size":        func(_ *rand.Rand, t *machine.Described) { t.Size = 0 },
	"sector size": func(_ *rand.Rand, t *machine.Described) { t.SectorSize = 0 },
	"identifier":  func(_ *rand.Rand, t *machine.Described) { t.ID = "" },
	"exact size": func(_ *rand.Rand, t *machine.Described) {
		t.Size, t.Rounded = t.Size/(1<<20)*(1<<20), true
	},
	"its end": func(r *rand.Rand, t *machine.Described) {
		t.Partitions, t.Whole = t.Partitions[:r.IntN(len(t.Partitions)+1)], false
	},
	"types":  each(func(p *machine.DescribedPartition) { p.Type, p.MBRType, p.Role = disk.GUID{}, 0, "" }),
	"marks":  each(func(p *machine.DescribedPartition) { p.Active = fact.Unknown[bool]() }),
	"places": each(func(p *machine.DescribedPartition) { p.Start = -1 }),
	"exact places": each(func(p *machine.DescribedPartition) {
		p.Start, p.Length, p.Rounded = p.Start/(1<<20)*(1<<20), p.Length/(1<<20)*(1<<20), true
	}),
	"unique GUIDs":                each(func(p *machine.DescribedPartition) { p.GUID = disk.GUID{} }),
	"file systems":                each(func(p *machine.DescribedPartition) { p.Kind = "" }),
	"identifiers of file systems": each(func(p *machine.DescribedPartition) { p.Serial = "" }),
	"labels":                      each(func(p *machine.DescribedPartition) { p.Label = "" }),
}

// each leaves something out of one partition, or of all.
func each(leaveOut func(p *machine.DescribedPartition)) func(r *rand.Rand, t *machine.Described) {
	return func(r *rand.Rand, t *machine.Described) {
		if len(t.Partitions) == 0 {
			return
		}
		one := r.IntN(len(t.Partitions) * 2)
		for i := range t.Partitions {
			if one >= len(t.Partitions) || i == one {
				leaveOut(&t.Partitions[i])
			}
		}
	}
}

// Holes is a disk of which parts were not looked at.
type Holes struct {
	io.ReaderAt
	Held []Range
}

// Range is a range of bytes.
type Range struct{ From, To int64 }

// ReadAt implements io.ReaderAt; a read outside of what is held is a *disk.NotCaptured.
func (h *Holes) ReadAt(p []byte, off int64) (int, error) {
	for _, x := range h.Held {
		if off >= x.From && off+int64(len(p)) <= x.To {
			return h.ReaderAt.ReadAt(p, off)
		}
	}
	return 0, &disk.NotCaptured{Offset: off, Length: int64(len(p))}
}

// Part keeps parts of a disk of a size: its beginning, its end, or all but one piece.
func Part(r *rand.Rand, size int64) (held []Range, what string) {
	// Sizes are drawn over all orders of magnitude: most of a start lies in few sectors.
	some := func() int64 { return min(size, int64(512)<<r.IntN(24)) }
	switch from := some(); r.IntN(4) {
	case 0:
		return []Range{{0, from}}, fmt.Sprintf("all that follows byte %d", from)
	case 1:
		return []Range{{from, size}}, fmt.Sprintf("the first %d bytes", from)
	case 2:
		return []Range{{0, size - from}}, fmt.Sprintf("the last %d bytes", from)
	default:
		to := min(size, from+some())
		return []Range{{0, from}, {to, size}}, fmt.Sprintf("the bytes from %d to %d", from, to)
	}
}
