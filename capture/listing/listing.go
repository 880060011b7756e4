// Package listing reads the output of the operating systems' own commands: it
// recognises which command it is, and says of every line what was made of it.
package listing

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// MaxBytes bounds a listing.
const MaxBytes = 8 << 20

// Bounds of what a listing may tell of.
const (
	maxLines      = 200_000
	maxDisks      = 64
	maxPartitions = 256
)

// Format is a command and the form of its output.
type Format string

// The formats that are read.
const (
	SfdiskDump     Format = "sfdisk --dump"
	SfdiskJSON     Format = "sfdisk --json"
	Lsblk          Format = "lsblk --json -b -O"
	LsblkTable     Format = "lsblk"
	Blkid          Format = "blkid"
	Fdisk          Format = "fdisk --list"
	Sgdisk         Format = "sgdisk --print"
	Parted         Format = "parted -m unit s print"
	PartedJSON     Format = "parted --json print"
	PartedPrint    Format = "parted print"
	Efibootmgr     Format = "efibootmgr -v"
	Efivar         Format = "efivarfs variable"
	Bcdedit        Format = "bcdedit /enum all /v"
	Diskpart       Format = "diskpart"
	DiskManagement Format = "disk-management screen"
	GetDisk        Format = "Get-Disk | ConvertTo-Json"
	GetPartition   Format = "Get-Partition | ConvertTo-Json"
	GetVolume      Format = "Get-Volume | ConvertTo-Json"
	PowerShell     Format = "Get-Disk, Get-Partition as a table"
	KeyedList      Format = "Get-Disk, Get-Partition as a list"
	Separated      Format = "Get-Disk, Get-Partition as CSV"
	Diskutil       Format = "diskutil -plist"
	DiskutilText   Format = "diskutil"
	GPTShow        Format = "gpt show"
	MacReport      Format = "system_profiler"
	Containers     Format = "diskutil apfs list"
	WMI            Format = "Win32_DiskDrive, Win32_DiskPartition"
	ManageBDE      Format = "manage-bde -status"
	VolumeReport   Format = "fsutil fsinfo ntfsinfo"
	DirtyQuery     Format = "fsutil dirty query"
	Mountvol       Format = "mountvol"
	Reagentc       Format = "reagentc /info"
	Members        Format = "pvs, mdadm, luksDump, mount"
	MountTable     Format = "/etc/fstab"
	Menu           Format = "grub.cfg"
	MacVariables   Format = "nvram -p"
	SystemSummary  Format = "system summary"
	// Several is a text that several commands printed.
	Several Format = "several commands"
)

// Formats lists all formats of one command, in the order in which they are tried.
var Formats = []Format{Efivar, SfdiskDump, SfdiskJSON, Lsblk, LsblkTable, Blkid, Fdisk, Parted, PartedJSON,
	PartedPrint, Efibootmgr, Sgdisk,
	Bcdedit, Diskpart, GetDisk, GetPartition, GetVolume, Separated, PowerShell, KeyedList, Diskutil, DiskutilText,
	GPTShow, MacReport, Containers, ManageBDE, VolumeReport, DirtyQuery, Mountvol, Reagentc, Members,
	MountTable, Menu, MacVariables,
	DiskManagement, SystemSummary, WMI}

// readers holds how each format is recognised and read.
var readers = map[Format]struct {
	is   func(t *text) bool
	read func(t *text, l *Listing)
}{
	SfdiskDump: {isSfdiskDump, readSfdiskDump}, SfdiskJSON: {isSfdiskJSON, readSfdiskJSON},
	Lsblk: {isLsblk, readLsblk}, LsblkTable: {isLsblkTable, readLsblkTable}, Blkid: {isBlkid, readBlkid},
	Fdisk: {isFdisk, readFdisk}, Sgdisk: {isSgdisk, readSgdisk},
	Parted: {isParted, readParted}, PartedJSON: {isPartedJSON, readPartedJSON},
	PartedPrint: {isPartedPrint, readPartedPrint},
	Efibootmgr:  {isEfibootmgr, readEfibootmgr}, Bcdedit: {isBcdedit, readBcdedit},
	Diskpart: {isDiskpart, readDiskpart}, DiskManagement: {isDiskManagement, readDiskManagement},
	GetDisk: {isGetDisk, readPowerShell}, GetPartition: {isGetPartition, readPowerShell},
	GetVolume: {isGetVolume, readPowerShell}, PowerShell: {isPowerShell, readPowerShellTable},
	KeyedList: {isKeyedList, readKeyedList}, Separated: {isSeparated, readSeparated},
	Diskutil: {isDiskutil, readDiskutil}, DiskutilText: {isDiskutilText, readDiskutilText},
	GPTShow: {isGPTShow, readGPTShow}, MacReport: {isMacReport, readMacReport},
	Containers: {isContainers, readContainers}, WMI: {isWMI, readWMI},
	ManageBDE: {isManageBDE, readManageBDE}, VolumeReport: {isVolumeReport, readVolumeReport},
	DirtyQuery: {isDirtyQuery, readDirtyQuery}, Mountvol: {isMountvol, readMountvol},
	Reagentc: {isReagentc, readReagentc}, Members: {isMembers, readMembers},
	MountTable: {isFstab, readFstab}, Menu: {isMenu, readMenu},
	MacVariables:  {isMacVariables, readMacVariables},
	SystemSummary: {isSystemSummary, readSystemSummary}, Efivar: {isEfivar, readEfivar},
}

// State is what was made of a line.
type State string

// The states of a line.
const (
	Understood State = "understood"
	Passed     State = "passed over"    // known, and of no use here
	Unread     State = "not understood" // not of the command's form
)

// Line is a line of a listing with what was made of it.
type Line struct {
	Number int    `json:"number"`
	Text   string `json:"text"`
	State  State  `json:"state" enum:"understood,passed over,not understood"`
	Means  string `json:"means,omitempty" doc:"What was taken from it, or what was expected"`
}

// Listing is what a listing tells.
type Listing struct {
	Format  Format
	Lines   []Line
	Disks   []machine.Described
	Entries *firmware.Entries // boot entries
	Store   *loader.Store     // a boot configuration store
	// StorePath is where the store lies, as the mode of its loaders tells.
	StorePath string
	Mode      fact.Of[firmware.Mode]
	// What a system's summary tells of the machine.
	SecureBoot  fact.Of[bool]
	StorageMode fact.Of[string]
	Model       string
	// Written are files of a Linux' configuration.
	Written []machine.Written
	// MacStart is the partition that a Mac was told to start.
	MacStart fact.Of[disk.GUID]
	// Parts are the commands that printed it, in their order.
	Parts []Format
	// Unplaced are the lines of volumes of which no partition is told.
	Unplaced []int
	volumes  []*value
	mounts   []mounted
	paths    map[string]string // of disks that are told of by a path alone, by their names
	// Problem says what broke the listing off; "" for a whole one.
	Problem string
}

// text is a listing in lines.
type text struct {
	name  string // of the file it came in
	raw   []byte
	lines []string
	// command is what printed it, where a prompt shows it; begins is set where its
	// beginning is seen, after where something follows it.
	command       string
	begins, after bool
	// broken is set where the text ends within a line, or may do so.
	broken bool
}

// brokenOff reports whether a line, counted from 0, is the last one and may lack its end.
func (t *text) brokenOff(i int) bool { return t.broken && i == len(t.lines)-1 }

// Error says why a listing cannot be read.
type Error struct{ Reason string }

func (e *Error) Error() string { return e.Reason }

// Read reads a listing. Without a format it is recognised. The name is that of
// the file it came in, "" for a pasted one.
func Read(name string, raw []byte, format Format) (*Listing, error) {
	if len(raw) > MaxBytes {
		return nil, &Error{fmt.Sprintf("The listing has %d bytes: at most 8 MiB are taken.", len(raw))}
	}
	if len(bytes.TrimSpace(raw)) == 0 {
		return nil, &Error{"The listing is empty."}
	}
	t := &text{name: name, raw: raw}
	if !isEfivar(t) {
		decoded, err := decode(raw)
		if err != nil {
			return nil, err
		}
		// wmic ends its lines with two carriage returns.
		decoded = plainRules(blanks.Replace(decoded))
		decoded = strings.NewReplacer("\r\r\n", "\n", "\r\n", "\n", "\r", "\n").Replace(decoded)
		if n := strings.Count(decoded, "\n") + 1; n > maxLines {
			return nil, &Error{fmt.Sprintf("The listing has %d lines: at most %d are taken.", n, maxLines)}
		}
		t.lines = withoutFences(strings.Split(strings.TrimRight(decoded, " \t"), "\n"))
		t.broken = endsWithin(t.lines)
	}
	if _, known := readers[format]; !known && format != "" && format != Several {
		return nil, &Error{fmt.Sprintf("The format %q is not known. Expected one of: %s.", format, strings.Join(names(), ", "))}
	}
	l, err := t.best(format)
	if err != nil {
		return nil, err
	}
	if l.Empty() && len(l.Unplaced) > 0 && l.Problem == "" {
		l.Problem = "These are volumes without the partitions they lie in: paste Get-Partition | ConvertTo-Json with them."
	}
	return l, nil
}

// read reads a text as a format, or part by part as what each is recognised for.
func (l *Listing) read(t *text, format Format) error {
	switch {
	case isEfivar(t) && format == "":
		format = Efivar
		fallthrough
	case format != "" && format != Several:
		l.Format, l.Parts = format, []Format{format}
		readers[format].read(t, l)
		l.doubt(t, 0)
		l.source(format)
		return nil
	}
	var problems []string
	all := t.parts()
	t.each(all, func(p part, only *text) {
		if p.format == "" {
			if says := saying(&text{lines: t.lines[p.from:p.to]}, all); says != "" {
				problems = append(problems, says)
				l.unread(p.from+1, "%s", says)
			}
			return
		}
		l.Problem = ""
		readers[p.format].read(only, l)
		l.doubt(only, p.from)
		if l.Problem != "" {
			problems = append(problems, l.Problem)
		}
		l.source(p.format)
		if len(l.Parts) == 0 || l.Parts[len(l.Parts)-1] != p.format {
			l.Parts = append(l.Parts, p.format)
		}
	})
	l.Problem = strings.Join(problems, " ")
	switch {
	case len(l.Parts) == 1:
		l.Format = l.Parts[0]
	case len(l.Parts) > 1:
		l.Format = Several
	case l.Problem != "":
		return &Error{l.Problem}
	default:
		return &Error{"The text is none of the listings that are known. In a running Linux: lsblk --json -b -O, and efibootmgr -v. In Windows: Get-Disk, Get-Partition, Get-Volume | ConvertTo-Json, or diskpart's list disk, detail disk and list partition. On a Mac: diskutil list -plist."}
	}
	return nil
}

func names() []string {
	var out []string
	for _, f := range Formats {
		out = append(out, string(f))
	}
	return out
}

func recognise(t *text) Format {
	for _, f := range Formats {
		if readers[f].is(t) {
			return f
		}
	}
	return ""
}

// Empty reports whether nothing at all was understood.
func (l *Listing) Empty() bool {
	_, mode := l.Mode.Get()
	_, secure := l.SecureBoot.Get()
	_, storage := l.StorageMode.Get()
	_, start := l.MacStart.Get()
	return !start && len(l.Disks) == 0 && l.Entries == nil && l.Store == nil && len(l.Written) == 0 && !mode &&
		!secure && !storage && l.Model == ""
}

// source names the command as the source of what it tells, where no other has told it.
func (l *Listing) source(format Format) {
	for i := range l.Disks {
		if l.Disks[i].Source.Structure == "" {
			l.Disks[i].Source = fact.Source{Origin: fact.Text, Structure: string(format)}
		}
	}
}

// mark says what was made of a line, counted from 1.
func (l *Listing) mark(number int, state State, format string, args ...any) {
	if number >= 1 && number <= len(l.Lines) {
		l.Lines[number-1].State, l.Lines[number-1].Means = state, clip(fmt.Sprintf(format, args...))
	}
}

// unread says what was expected on a line that was not understood.
func (l *Listing) unread(number int, format string, args ...any) {
	l.mark(number, Unread, format, args...)
}

// disk returns a disk by name, making it when it is new; nil beyond the bound.
func (l *Listing) disk(name string, line int) *machine.Described {
	if d := l.known(name); d != nil {
		return d
	}
	if len(l.Disks) >= maxDisks {
		return nil
	}
	l.Disks = append(l.Disks, machine.Described{Name: name, Line: line})
	return &l.Disks[len(l.Disks)-1]
}

// partition returns a disk's partition by number, making it when it is new; nil
// beyond the bound.
func partition(d *machine.Described, number, line int) *machine.DescribedPartition {
	for i := range d.Partitions {
		if d.Partitions[i].Number == number {
			return &d.Partitions[i]
		}
	}
	if len(d.Partitions) >= maxPartitions {
		return nil
	}
	d.Partitions = append(d.Partitions, machine.DescribedPartition{Number: number, Start: -1, Line: line})
	return &d.Partitions[len(d.Partitions)-1]
}

func clip(s string) string {
	if r := []rune(s); len(r) > 400 {
		return string(r[:400]) + "…"
	}
	return s
}

// isEfivar recognises a raw boot variable by its file name: the kernel's
// filesystems/efivarfs.
func isEfivar(t *text) bool {
	return firmware.IsBootVariable(t.name) && len(t.raw) >= 4 && binary.LittleEndian.Uint32(t.raw) < 0x100
}

func readEfivar(t *text, l *Listing) {
	entries, err := firmware.DecodeVariables(map[string][]byte{t.name: t.raw})
	// It is one variable of several.
	entries.Open, entries.OrderOpen, entries.NextOpen = true, len(entries.Order) == 0, entries.Next == nil
	if *entries.Menu == (firmware.LoaderMenu{}) {
		entries.Menu = nil
	}
	l.Entries, l.Mode = entries, uefi()
	l.Lines = []Line{{Number: 1, Text: fmt.Sprintf("%s, %d bytes", t.name, len(t.raw)), State: Understood, Means: "a boot variable"}}
	if err != nil {
		l.Problem = err.Error()
		l.unread(1, "%v", err)
	}
}

func uefi() fact.Of[firmware.Mode] {
	return fact.Known(firmware.UEFI, fact.Source{Origin: fact.Text, Structure: "boot entries"})
}
