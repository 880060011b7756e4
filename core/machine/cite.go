package machine

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/realmode"
)

// RanFact tells what the code did in the model.
func (d *Drive) RanFact() Fact {
	run := d.Contents.Run
	var did []string
	for i, r := range run.Reads {
		if i < 4 {
			did = append(did, fmt.Sprintf("reads sector %d", r.Sector))
		}
	}
	if text := strings.TrimSpace(run.Output); text != "" {
		did = append(did, fmt.Sprintf("says %q", text))
	}
	switch run.End {
	case realmode.PassesOn:
		did = append(did, fmt.Sprintf("runs sector %d", run.Sector))
		if message, complains := run.Then.Complaint(); complains {
			did = append(did, fmt.Sprintf("which says %q", message))
		}
	default:
		did = append(did, string(run.End))
	}
	return d.Cite("The boot code, run in a model", strings.Join(did, ", "), fact.Source{Origin: fact.Computed})
}

// PartitionFacts cites the partitions of a drive: type, size and what lies in each.
func PartitionFacts(d *Drive) []Fact {
	var facts []Fact
	for i, p := range d.Contents.Layout.Partitions {
		facts = append(facts, d.Cite(fmt.Sprintf("Partition %d", p.Number),
			fmt.Sprintf("%s, %s, %s", p.Type.Name, disk.Both(disk.Span(p.Length, d.Contents.Layout.SectorSize)),
				d.Contents.Volumes[i].Kind), p.Source))
	}
	if facts == nil {
		facts = append(facts, d.Cite("Partitions", "none", disk.Problem{}.Source))
	}
	return facts
}

// LoaderFact cites a boot loader in partition i by the machine it is built for.
func (d *Drive) LoaderFact(i int, f loader.Found) Fact {
	value := string(f.Program.Arch)
	if f.Program.Arch == "" {
		value = fmt.Sprintf("machine 0x%04X", f.Program.Machine)
	}
	switch by := f.Program.Signature.By(); {
	case by != "":
		value += ", signed by " + by
	case f.Program.Signed:
		value += ", signed"
	default:
		value += ", not signed"
	}
	if f.Err != nil {
		value = f.Err.Error()
	}
	p := d.Contents.Layout.Partitions[i]
	s := p.Source
	s.Structure, s.Field, s.Length = "FAT directory entry", f.File.Name, 32
	s.Offset = disk.Span(p.Start, d.Contents.Layout.SectorSize) + f.File.Offset
	return d.Cite(f.Path, value, s)
}

// CodeFact cites the boot code of sector 0 by its family.
func (d *Drive) CodeFact() Fact {
	return d.Cite("Boot code", string(d.Contents.Code), fact.Source{Origin: fact.Bytes, Structure: "MBR", Field: "boot code", Offset: 0,
		Length: 440})
}

// CoreFact cites where GRUB's core image looks for its files.
func (d *Drive) CoreFact() Fact {
	return d.Cite("GRUB's prefix", prefixOf(d), fact.Source{Origin: fact.Bytes, Structure: "GRUB core image", Field: "prefix",
		Offset: int64(d.Contents.Core.Sector) * 512, Length: 512})
}

func prefixOf(d *Drive) string {
	if d.Contents.Core.Image != nil {
		return d.Contents.Core.Image.Prefix
	}
	return "built in"
}

// Fact is a fact as a finding cites it.
type Fact struct {
	Label  string      `json:"label"`
	Value  string      `json:"value"`
	Source fact.Source `json:"source"`
}

// ProblemFact cites what is wrong in a structure, with what was expected.
func ProblemFact(p disk.Problem, drive string) Fact {
	f := Fact{Label: p.Source.Structure + " " + p.Source.Field, Value: p.Got, Source: p.Source}
	if p.Want != "" {
		f.Value = p.Got + " (expected " + p.Want + ")"
	}
	f.Source.Drive = drive
	return f
}

// Cite states a fact of this drive with where it was read.
func (d *Drive) Cite(label, value string, s fact.Source) Fact {
	s = d.Contents.placed(s)
	s.Drive = d.Name
	return Fact{Label: label, Value: value, Source: s}
}

// LowerFirst writes a label inside a sentence: the first letter small, names and
// abbreviations as they are.
func LowerFirst(s string) string {
	first, _, _ := strings.Cut(s, " ")
	if len(s) < 2 || s[1] >= 'A' && s[1] <= 'Z' || s[0] == '\\' || first == "Windows" || first == "Linux" {
		return s
	}
	return string(s[0]|0x20) + s[1:]
}

// UpperFirst begins a sentence with what stood within one.
func UpperFirst(s string) string {
	if s == "" || s[0] < 'a' || s[0] > 'z' {
		return s
	}
	return string(s[0]&^0x20) + s[1:]
}

// ProblemFacts cites everything that is wrong with the tables of a drive.
func ProblemFacts(l *disk.Layout, drive string) []Fact {
	var facts []Fact
	for _, p := range l.Problems {
		facts = append(facts, ProblemFact(p, drive))
	}
	return facts
}
