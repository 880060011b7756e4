package firmware

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
)

// Entries are the boot variables. UEFI Specification 2.10, section 3.3.
type Entries struct {
	Next  *uint16 // BootNext
	Order []uint16
	All   map[uint16]Entry
	// Open is set where entries may be left out, as in a listing that was cut off: a
	// number of the order without an entry is then one that is not told.
	Open bool
	// OrderOpen is set where the order is not told, or not to its end.
	OrderOpen bool
	// NoOrder is set where it is known that there is none.
	NoOrder bool
	// NextOpen is set where it is not told whether there is a BootNext.
	NextOpen bool
	// Current is the entry by which the system was started that read the variables; nil where that
	// is not told. UEFI Specification 2.10, section 3.3.
	Current *uint16
	// Menu is what a boot loader keeps of its own menu beside them; nil where that is not in
	// evidence.
	Menu *LoaderMenu
	// Keys are whom the firmware trusts under secure boot; nil where that is not in evidence.
	Keys *Keys
}

// Told reports whether entries are told of, or it is known that there are none.
func (e *Entries) Told() bool { return e != nil && (!e.Open || len(e.All) > 0 || len(e.Order) > 0) }

// Entry is one Boot#### variable. UEFI Specification 2.10, section 3.1.3.
type Entry struct {
	Number      uint16
	Description string
	Active      bool // LOAD_OPTION_ACTIVE
	App         bool // LOAD_OPTION_CATEGORY_APP: only started by hand
	Path        Path
	Text        string // the device path as the listing gave it
	Source      fact.Source
	// Options is what a program is given, where it is text. OptionsOpen is set where that is
	// not told, or is no text.
	Options     string
	OptionsOpen bool
	// Named is set where the listing tells entries by their names alone: the number then
	// only keeps them apart, and is none of the firmware's.
	Named bool
}

// ID tells an entry from the others of its listing.
func (e Entry) ID() string { return fmt.Sprintf("%04X", e.Number) }

// Name is what a person knows an entry by: its number, or where that is not told, what it
// is called.
func (e Entry) Name() string {
	switch {
	case !e.Named:
		return e.ID()
	case e.Description == "":
		return "without a name"
	}
	return "“" + e.Description + "”"
}

// Path is what an entry's device path leads to.
type Path struct {
	// Partition is set for a hard drive node; the file lies in that partition.
	Partition *PartitionNode
	// Bus is "sata", "nvme" or "usb" for a path that begins at the hardware: to a
	// whole device, or by way of it.
	Bus string
	// Port is the port of a SATA or USB path; nil for other paths.
	Port *int
	// Controller is the way from the root of the PCI bus to what the device hangs on, as its nodes
	// read, such as Pci(0x1C,0x4)/Pci(0x0,0x0); empty where it is not told, or begins at another root.
	Controller string
	// File is the program's path, empty for a whole device or partition.
	File string
	// Alone is set for a path of a file and nothing else, which is looked for on every drive.
	// UEFI Specification 2.10, section 3.1.2.
	Alone bool
	// Internal is set for a program within the firmware itself.
	Internal bool
	// Open is set where the path, or its end, is not told.
	Open bool
	// FileTold is set on an open path of which the file is told whole, and only the drive
	// and the partition are not.
	FileTold bool
}

// Program is the path of the program as firmware takes it: doubled separators
// count once, and it begins at the root. A slash is no separator (seen in edk2).
func (p Path) Program() string {
	if p.File == "" {
		return ""
	}
	return `\` + strings.Join(strings.FieldsFunc(p.File, func(r rune) bool { return r == '\\' }), `\`)
}

// PartitionNode is a hard drive media device path node. UEFI Specification
// 2.10, section 10.3.5.1.
type PartitionNode struct {
	Number    uint32
	Start     uint64 // sectors
	Size      uint64 // sectors
	MBR       bool   // signature type 1, else GUID
	GUID      disk.GUID
	Signature uint32
}

// Sequence returns the entries in the order in which the boot manager tries
// them: BootNext, then the active ones of BootOrder. UEFI Specification 2.10,
// sections 3.1.1 and 3.3.
func (e *Entries) Sequence() []Entry {
	var seq []Entry
	if e.Next != nil {
		if entry, ok := e.Entry(*e.Next); ok {
			seq = append(seq, entry)
		}
	}
	for _, n := range e.Order {
		if entry, ok := e.Entry(n); ok && entry.Active && !entry.App {
			seq = append(seq, entry)
		}
	}
	return seq
}

// Entry returns an entry by its number; one that is not told leads who knows where.
func (e *Entries) Entry(n uint16) (Entry, bool) {
	entry, ok := e.All[n]
	if !ok && e.Open {
		return Entry{Number: n, Active: true, Path: Path{Open: true}}, true
	}
	return entry, ok
}

// Named reports whether the entries are told by their names alone.
func (e *Entries) Named() bool {
	for _, entry := range e.All {
		return entry.Named
	}
	return false
}

// Fill takes over what another listing of the same firmware tells and this one
// does not; evidence names that listing.
//
// Entries that are told by names alone, and those with numbers, are never mixed: which is
// which cannot be told, and the numbers tell more.
func (e *Entries) Fill(other *Entries, evidence uint64) {
	if len(e.All) > 0 && len(other.All) > 0 && e.Named() != other.Named() {
		if other.Named() {
			return
		}
		*e = Entries{All: map[uint16]Entry{}, Open: true, OrderOpen: true, NextOpen: true}
	}
	if e.NextOpen {
		e.Next, e.NextOpen = other.Next, other.NextOpen
	}
	if len(e.Order) == 0 || e.OrderOpen && !other.OrderOpen {
		e.Order, e.OrderOpen = other.Order, other.OrderOpen
	}
	e.Open = e.Open && other.Open
	e.Menu, e.Keys = cmp.Or(e.Menu, other.Menu), e.Keys.with(other.Keys)
	for n, entry := range other.All {
		if have, known := e.All[n]; !known || have.Path.Open && !entry.Path.Open {
			entry.Source.Evidence = evidence
			e.All[n] = entry
		}
	}
}

// Files lists the programs that the entries name, in the order of their numbers.
func (e *Entries) Files() []string {
	var files []string
	for _, n := range slices.Sorted(maps.Keys(e.All)) {
		entry := e.All[n]
		if path := entry.Path.Program(); path != "" && !strings.Contains(path, "/") {
			files = append(files, path)
		}
	}
	return files
}
