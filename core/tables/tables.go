// Package tables says what each copy of a disk's partition tables says, what is wrong with
// them or differs between them, what that means for a start, and what would make them one.
package tables

import (
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/repair"
)

// Report is what a disk's tables say.
type Report struct {
	Style      disk.Style        `json:"style"`
	SectorSize int               `json:"sectorSize" doc:"Bytes"`
	Sectors    uint64            `json:"sectors" doc:"The disk's capacity in sectors"`
	Copies     []TableCopy       `json:"copies"`
	Says       string            `json:"says" doc:"Whether they agree, as far as the evidence tells"`
	Findings   []TableFault      `json:"findings"`
	Steps      []repair.PlanStep `json:"-"` // that would bring them into order
}

// TableCopy is one of the places in which a table stands.
type TableCopy struct {
	Name    string       `json:"name" doc:"sector 0, primary, backup, or as told"`
	Sector  uint64       `json:"sector"`
	State   string       `json:"state"`
	ID      string       `json:"id,omitempty" doc:"The disk's identifier as this copy has it"`
	Entries []TableEntry `json:"entries"`
}

// TableEntry is a partition as a copy has it.
type TableEntry struct {
	Number int    `json:"number"`
	First  uint64 `json:"first" doc:"First sector"`
	Length uint64 `json:"length" doc:"Sectors"`
	Type   string `json:"type"`
	ID     string `json:"id,omitempty" doc:"The unique identifier of a GPT entry"`
	Name   string `json:"name,omitempty"`
	Active bool   `json:"active,omitempty"`
	// Of what was told, not read.
	Unplaced bool `json:"unplaced,omitempty" doc:"Where it begins is not told"`
	Rough    bool `json:"rough,omitempty" doc:"Place and length were rounded, as on a screen"`
}

// TableFault is something wrong, with what it means for a start.
type TableFault struct {
	disk.Problem
	Means string `json:"means" doc:"What it means for a start"`
}

// Of reports on a disk as it was read.
func Of(d machine.Drive) Report {
	c := d.Contents
	if c == nil {
		return Report{}
	}
	l := &c.Layout
	r := Report{Style: l.Style, SectorSize: l.SectorSize, Sectors: l.Sectors, Copies: []TableCopy{},
		Steps: repair.TableSteps(d)}
	r.Findings = findings(c)
	g := l.GPT
	if g == nil {
		g = l.Stale
	}
	r.Says = r.says(l)
	if l.Told() {
		r.Copies = append(r.Copies, ofPartitions(l))
		return r
	}
	if l.MBR != nil {
		r.Copies = append(r.Copies, ofMBR(l.MBR))
	}
	if g != nil {
		r.Copies = append(r.Copies, ofGPT(&g.Primary), ofGPT(&g.Backup))
	}
	return r
}

// says is whether the tables agree; of copies that are not in evidence nothing is said.
func (r Report) says(l *disk.Layout) string {
	lacks := l.MBR == nil || l.Open
	if g := l.GPT; g != nil {
		lacks = lacks || g.Primary.State == disk.CopyNotCaptured || g.Backup.State == disk.CopyNotCaptured
	}
	switch {
	case l.Told():
		return "A listing or a person tells of the table: whether its copies agree is not known without their bytes."
	case len(r.Findings) > 0:
		return "Something is wrong with them, or differs."
	case lacks:
		return "What is in evidence agrees, and nothing is wrong with it. Not every copy is in evidence."
	}
	return "The copies agree, and nothing is wrong with them."
}

// ofPartitions is what was told of a table, whichever copy of it the listing went by.
func ofPartitions(l *disk.Layout) TableCopy {
	c := TableCopy{Name: "as told", State: "told, and not read", Entries: []TableEntry{}}
	c.ID, _ = l.DiskID().Get()
	for _, p := range l.Partitions {
		e := TableEntry{Number: p.Number, First: p.Start, Length: p.Length, Type: p.Type.Name, Name: p.Name,
			Active: p.Active, Unplaced: p.Unplaced, Rough: p.Rough}
		if p.Unplaced {
			e.First = 0
		}
		if !p.GUID.IsZero() {
			e.ID = p.GUID.String()
		}
		c.Entries = append(c.Entries, e)
	}
	return c
}

func ofMBR(m *disk.MBR) TableCopy {
	c := TableCopy{Name: "sector 0", Entries: []TableEntry{}, State: "signed 55 AA", ID: fmt.Sprintf("%08X", m.DiskSignature)}
	if !m.Signature {
		c.State = "without 55 AA"
	}
	for _, list := range [][]disk.MBREntry{m.Entries[:], m.Logical} {
		for _, e := range list {
			if e.Type != 0 || e.Status != 0 {
				c.Entries = append(c.Entries, TableEntry{Number: e.Number, First: e.Start, Length: e.Length,
					Type: fmt.Sprintf("%02X %s", e.Type, disk.MBRType(e.Type).Name), Active: e.Active()})
			}
		}
	}
	return c
}

func ofGPT(g *disk.GPTCopy) TableCopy {
	c := TableCopy{Name: g.Which, Entries: []TableEntry{}, Sector: g.Header.LBA, State: string(g.State)}
	if g.State != disk.CopyGood && g.State != disk.CopyDamaged {
		return c
	}
	c.ID = g.Header.DiskGUID.String()
	for _, e := range g.Entries {
		c.Entries = append(c.Entries, TableEntry{Number: e.Number, First: e.First,
			Length: max(e.Last, e.First) - e.First + 1,
			Type:   disk.GPTType(e.Type).Name, ID: e.GUID.String(), Name: e.Name})
	}
	return c
}

// findings are the problems of the tables, of what the volumes say of their places, and
// what no firmware asks for and a checker does.
func findings(c *machine.Contents) []TableFault {
	list := []TableFault{}
	add := func(p disk.Problem) {
		list = append(list, TableFault{p, Means(p.Code)})
	}
	for _, p := range c.Layout.Problems {
		add(p)
	}
	for i := range c.Volumes {
		for _, p := range c.Volumes[i].Problems {
			if Means(p.Code) != "" {
				add(p)
			}
		}
	}
	for _, p := range notes(&c.Layout) {
		add(p)
	}
	return list
}
