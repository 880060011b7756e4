package judge

import (
	"fmt"
	"time"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/core/volume"
	"latchkey/server/store"
)

// Size is a size as a technician meets it.
type Size struct {
	Bytes  int64  `json:"bytes"`
	Label  string `json:"label" doc:"In decimal units, as on the label"`
	Binary string `json:"binary" doc:"In binary units, as on the screen"`
}

func sizeOf(bytes int64) Size {
	return Size{bytes, disk.Label(bytes), disk.Binary(bytes)}
}

// Drive is a drive with its pins and what is known of its disk.
type Drive struct {
	Role     machine.Role  `json:"role"`
	Model    string        `json:"model"`
	Bus      string        `json:"bus,omitempty"`
	Attached *bool         `json:"attached,omitempty"`
	Pins     []startup.Pin `json:"pins"`
	Disk     *Disk         `json:"disk,omitempty" doc:"Absent when nothing of the disk is in evidence"`
}

// Disk is a disk as found.
type Disk struct {
	Size       *Size          `json:"size,omitempty" doc:"Absent when nobody told the capacity"`
	SectorSize int            `json:"sectorSize" doc:"Logical, in bytes"`
	Sectors    uint64         `json:"sectors,omitempty"`
	Style      disk.Style     `json:"style" enum:"GPT,MBR,none,unknown"`
	ID         string         `json:"id,omitempty" doc:"Disk GUID or disk signature"`
	IDTail     string         `json:"idTail,omitempty" doc:"Last four digits of the identifier"`
	Partitions []Partition    `json:"partitions"`
	Found      []string       `json:"found,omitempty" doc:"File systems that lie on the disk without a table that tells of them"`
	Problems   []disk.Problem `json:"problems"`
	Facts      []machine.Fact `json:"facts" doc:"What is known of the disk itself, each with its source"`
	Rounded    bool           `json:"rounded" doc:"The capacity was read off a screen"`
	Filename   string         `json:"filename,omitempty" doc:"Of the bytes in force; absent when no byte is in evidence"`
	ReceivedAt *time.Time     `json:"receivedAt,omitempty"`
	Held       Size           `json:"held" doc:"How much is in evidence"`
}

// Partition is a partition as found.
type Partition struct {
	Number int         `json:"number"`
	Type   string      `json:"type"`
	Role   disk.Role   `json:"role" enum:"boot,system,reserved,recovery,data,other,unknown"`
	Name   string      `json:"name,omitempty"`
	GUID   string      `json:"guid,omitempty"`
	Start  uint64      `json:"start" doc:"First sector"`
	Length uint64      `json:"length" doc:"In sectors"`
	Size   Size        `json:"size"`
	Kind   string      `json:"kind" doc:"What the volume holds"`
	Label  string      `json:"label,omitempty"`
	Serial string      `json:"serial,omitempty"`
	Active bool        `json:"active"`
	Used   *Size       `json:"used,omitempty" doc:"How much of it is in use"`
	State  []string    `json:"state,omitempty" doc:"What is worth knowing of the file system: unclean, asleep"`
	Within []string    `json:"within,omitempty" doc:"What lies in it: logical volumes, the data of a RAID"`
	Letter string      `json:"letter,omitempty"`
	Placed bool        `json:"placed" doc:"Whether its place on the disk is known"`
	Lost   bool        `json:"lost" doc:"It ends beyond the end of the disk"`
	Source fact.Source `json:"source"`
}

func describe(d *machine.Drive, pins []startup.Pin, s *store.Drive) Drive {
	bus, _ := d.Bus.Get()
	out := Drive{Role: d.Role, Model: s.Model, Bus: bus, Pins: pins}
	if attached, ok := d.Attached.Get(); ok {
		out.Attached = &attached
	}
	if d.Contents != nil {
		out.Disk = describeDisk(d, s.Evidence)
	}
	return out
}

// named is what a volume is, with its label.
func named(v volume.Volume) string {
	if v.Label == "" {
		return string(v.Kind)
	}
	return fmt.Sprintf("%s “%s”", v.Kind, v.Label)
}

// within says what lies in a volume.
func within(v *machine.Volume) (list []string) {
	for i := range v.Inner {
		n := &v.Inner[i]
		name := n.Name
		if name == "" {
			name = "its data"
		}
		if n.Unread {
			list = append(list, name+": in several pieces, not looked into")
			continue
		}
		list = append(list, fmt.Sprintf("%s: %s, %s", name, named(n.Volume.Volume), disk.Binary(n.Length)))
	}
	return list
}

func cited(d *machine.Drive, label, value string, s fact.Source) machine.Fact {
	s.Drive = d.Name
	return machine.Fact{Label: label, Value: value, Source: s}
}

func describeDisk(d *machine.Drive, e *store.Evidence) *Disk {
	l := &d.Contents.Layout
	id, _ := l.DiskID().Get()
	capacity, _ := d.Contents.Size()
	out := &Disk{
		SectorSize: l.SectorSize, Style: l.Style, ID: id, IDTail: tail(id),
		Partitions: []Partition{}, Problems: append([]disk.Problem{}, l.Problems...), Facts: []machine.Fact{},
	}
	if capacity > 0 {
		size := sizeOf(capacity)
		out.Size, out.Sectors, out.Rounded = &size, l.Sectors, d.Contents.Rounded
		out.Facts = append(out.Facts, cited(d, "Capacity", disk.Both(capacity), d.Contents.Capacity))
	}
	if l.Style != disk.StyleUnknown {
		out.Facts = append(out.Facts, cited(d, "Partition style", string(l.Style), d.Contents.StyleSource()))
	}
	if id != "" {
		out.Facts = append(out.Facts, cited(d, "Disk identifier", id, l.DiskID().Source()))
	}
	if e != nil {
		out.Filename, out.ReceivedAt, out.Held = e.Filename, &e.ReceivedAt, sizeOf(e.Held)
	}
	for i, p := range l.Partitions {
		v := &d.Contents.Volumes[i]
		part := Partition{
			Number: p.Number, Type: p.Type.Name, Role: p.Type.Role, Name: p.Name, Start: p.Start, Length: p.Length,
			Size: sizeOf(int64(p.Length) * int64(l.SectorSize)), Kind: string(v.Kind), Label: v.Label, Serial: v.Serial,
			Active: p.Active, Lost: d.Contents.Lost(p), Source: p.Source, Placed: !p.Unplaced, Letter: v.Letter,
		}
		if used, known := v.Used.Get(); known {
			size := sizeOf(int64(used))
			part.Used = &size
		}
		if unclean, _ := v.Unclean.Get(); unclean {
			part.State = append(part.State, "unclean")
		}
		if asleep, _ := v.Hibernated.Get(); asleep {
			part.State = append(part.State, "asleep")
		}
		if p.Active {
			part.Role = disk.RoleBoot // whatever its type, boot code looks here
		}
		part.Within = within(v)
		if !p.GUID.IsZero() {
			part.GUID = p.GUID.String()
		}
		part.Source.Drive = d.Name
		out.Partitions = append(out.Partitions, part)
		out.Problems = append(out.Problems, v.Problems...)
	}
	for _, f := range d.Contents.Found {
		text := fmt.Sprintf("%s at sector %d", named(f.Volume.Volume), f.Partition.Start)
		if f.Partition.Length > 0 {
			text += ", " + disk.Binary(disk.Span(f.Partition.Length, l.SectorSize))
		}
		out.Found = append(out.Found, text)
	}
	for i := range out.Problems {
		out.Problems[i].Source.Drive = d.Name
	}
	return out
}
