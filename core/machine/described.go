package machine

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// Described is a disk as a listing or a person tells of it, without its bytes.
// Zero values are unknown.
type Described struct {
	Name       string      // what the system calls it: sda, Disk 0, disk2
	Source     fact.Source // what was read; the lines below fill in where
	Model      string
	Serial     string
	Bus        string // as core names buses
	Size       int64  // bytes
	Rounded    bool   // the size was read off a screen
	SectorSize int    // logical, bytes
	Style      disk.Style
	ID         string // disk GUID or signature
	Partitions []DescribedPartition
	Whole      bool // every partition is listed: the list is known to have its end
	Line       int  // where the disk itself is told of
	StyleLine  int
	IDLine     int
	// Warned is what the tool that listed the disk says of its tables.
	Warned []Warning
}

// DescribedPartition is a partition as it is told of. Zero values are unknown.
type DescribedPartition struct {
	Number  int
	Start   int64 // bytes; -1 is unknown
	Length  int64 // bytes
	Type    disk.GUID
	MBRType byte
	Role    disk.Role // where only what it is for is known
	// TypeOpen is set where the type may not be told to its end.
	TypeOpen bool
	GUID     disk.GUID
	Name     string
	Active   fact.Of[bool]
	Kind     volume.Kind
	Label    string
	Serial   string // volume serial number or UUID
	Rounded  bool   // place or length are rounded
	Used     int64  // bytes
	Unclean  fact.Of[bool]
	Letter   string
	// Unlettered is set where it is told to have no letter.
	Unlettered bool
	// Apple are the volumes of a Mac's container; nil where none are told.
	Apple *volume.Apple
	Line  int
}

// at returns the source of a fact on a line.
func (d *Described) at(line int) fact.Source {
	s := d.Source
	s.Line = line
	if line > 0 {
		s.Field = fmt.Sprintf("line %d", line)
	}
	return s
}

// Contents makes what is told into contents of which no byte is held; nil when
// nothing is told.
func (d *Described) Contents() *Contents {
	if d == nil || d.Size == 0 && d.Style == "" && d.ID == "" && len(d.Partitions) == 0 {
		return nil
	}
	sectorSize := 512
	if d.SectorSize == 4096 {
		sectorSize = 4096
	}
	c := &Contents{Code: loader.CodeUnknown}
	l := &c.Layout
	l.SectorOpen = d.SectorSize != 512 && d.SectorSize != 4096
	l.SectorSize, l.Style, l.Sectors = sectorSize, d.Style, disk.SectorsUnknown
	if d.Size >= int64(sectorSize) && d.Size <= disk.MaxSize {
		l.Sectors = uint64(d.Size) / uint64(sectorSize)
		c.Capacity, c.Rounded = d.at(d.Line), d.Rounded
	}
	// What is listed as an MBR with a protective entry in it is a GPT to the firmware, of which
	// the system found none that is sound. UEFI Specification 2.10, section 5.2.3.
	protective := func(p DescribedPartition) bool { return p.MBRType == disk.MBRTypeProtective }
	if l.Style == "" || l.Style == disk.StyleMBR && slices.ContainsFunc(d.Partitions, protective) {
		l.Style = disk.StyleUnknown
	}
	d.tellTables(l)
	// A tool that knows no table may meet one that firmware goes by: the GPT's backup, or a GPT
	// without its protective record.
	l.Open = !d.Whole || l.Style == disk.StyleNone && d.Source.Origin == fact.Text
	next := uint64(2048)
	for _, p := range d.Partitions {
		part := d.partition(p, sectorSize, next)
		next = part.End()
		l.Partitions = append(l.Partitions, part)
		c.Volumes = append(c.Volumes, d.volume(p))
	}
	return c
}

// tellTables stands in for the tables that the system read.
func (d *Described) tellTables(l *disk.Layout) {
	if d.ID != "" {
		l.DiskIDTold = fact.Known(d.ID, d.at(d.IDLine))
	}
	switch l.Style {
	case disk.StyleGPT:
		l.MBR = &disk.MBR{Signature: true}
		l.MBR.Entries[0] = disk.MBREntry{Number: 1, Type: disk.MBRTypeProtective, Start: 1, Length: 1}
		l.GPT = &disk.GPT{Primary: disk.GPTCopy{Which: "primary", State: disk.CopyTold},
			Backup: disk.GPTCopy{Which: "backup", State: disk.CopyTold}}
		d.warn(l)
	case disk.StyleMBR:
		l.MBR = &disk.MBR{Signature: true}
		if n, err := strconv.ParseUint(strings.TrimPrefix(strings.ToLower(d.ID), "0x"), 16, 32); err == nil {
			l.MBR.DiskSignature = uint32(n)
			l.DiskIDTold = fact.Known(fmt.Sprintf("%08X", n), d.at(d.IDLine))
		}
	}
}

func (d *Described) partition(p DescribedPartition, sectorSize int, next uint64) disk.Partition {
	part := disk.Partition{
		Number: p.Number, TypeGUID: p.Type, MBRType: p.MBRType, GUID: p.GUID, Name: p.Name,
		Length: uint64(max(p.Length, 0)) / uint64(sectorSize), Start: next, Unplaced: true,
		Rough: p.Rounded || p.Length <= 0, Source: d.at(p.Line),
	}
	part.TypeOpen = p.TypeOpen
	part.Logical = d.Style == disk.StyleMBR && p.Number > 4
	active, told := p.Active.Get()
	part.Active, part.ActiveOpen = active, !told && d.Style != disk.StyleGPT
	if p.Start >= 0 {
		part.Start, part.Unplaced = uint64(p.Start)/uint64(sectorSize), false
	}
	switch {
	case !p.Type.IsZero():
		part.Type = disk.GPTType(p.Type)
	case p.MBRType != 0:
		part.Type = disk.MBRType(p.MBRType)
	case p.Role == disk.RoleBoot && d.Style != disk.StyleMBR:
		part.TypeGUID = disk.TypeESP
		part.Type = disk.GPTType(disk.TypeESP)
	default:
		part.Type = disk.KnownType{Name: describedAs(p), Role: p.Role}
		part.TypeOpen = p.Role == "" || d.Style != disk.StyleGPT && p.Role != disk.RoleOther
		if p.Role == "" {
			part.Type.Role = disk.RoleUnknown
		}
	}
	return part
}

// told names a partition of which the type itself is not told.
func describedAs(p DescribedPartition) string {
	switch {
	case p.Role != "" && p.Role != disk.RoleOther:
		return strings.ToUpper(string(p.Role[:1])) + string(p.Role[1:]) + " partition"
	case p.Kind != "":
		return string(p.Kind)
	}
	return "Type not told"
}

func (d *Described) volume(p DescribedPartition) Volume {
	missing := &disk.NotCaptured{}
	v := Volume{Told: true, LoaderErr: missing, Letter: p.Letter}
	v.Kind, v.Label, v.Serial, v.FilesErr = p.Kind, p.Label, p.Serial, missing
	if v.Kind == "" {
		v.Kind = volume.NotCaptured
	}
	v.Unclean, v.Apple = p.Unclean, p.Apple
	if p.Used > 0 {
		v.Used = fact.Known(uint64(p.Used), d.at(p.Line))
	}
	return v
}

// TellStore adds a boot configuration store that a listing tells of, to the
// partition that the firmware or the boot code starts from.
func (c *Contents) TellStore(path string, s *loader.Store, src fact.Source) {
	for i, p := range c.Layout.Partitions {
		if path == loader.StoreUEFI && p.IsESP() || path == loader.StoreLegacy && p.Active {
			if v := &c.Volumes[i]; v.Config(ConfigStore, path) == nil {
				v.Configs = append(append([]Config{}, v.Configs...), Config{Kind: ConfigStore, Path: path, Store: s,
					From: src})
			}
			return
		}
	}
}
