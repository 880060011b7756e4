// Package listing reads the output of the operating systems' own commands: it
// recognises which command it is, and says of every line what was made of it.
package listing

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

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
	SfdiskDump   Format = "sfdisk --dump"
	SfdiskJSON   Format = "sfdisk --json"
	Lsblk        Format = "lsblk --json -b -O"
	Blkid        Format = "blkid"
	Parted       Format = "parted -m unit s print"
	Efibootmgr   Format = "efibootmgr -v"
	Efivar       Format = "efivarfs variable"
	Bcdedit      Format = "bcdedit /enum all /v"
	Diskpart     Format = "diskpart"
	GetDisk      Format = "Get-Disk | ConvertTo-Json"
	GetPartition Format = "Get-Partition | ConvertTo-Json"
	GetVolume    Format = "Get-Volume | ConvertTo-Json"
	Diskutil     Format = "diskutil -plist"
)

// Formats lists all formats, in the order in which they are tried.
var Formats = []Format{Efivar, SfdiskDump, SfdiskJSON, Lsblk, Blkid, Parted, Efibootmgr, Bcdedit, Diskpart, GetDisk,
	GetPartition, GetVolume, Diskutil}

// readers holds how each format is recognised and read.
var readers = map[Format]struct {
	is   func(t *text) bool
	read func(t *text, l *Listing)
}{
	SfdiskDump: {isSfdiskDump, readSfdiskDump}, SfdiskJSON: {isSfdiskJSON, readSfdiskJSON},
	Lsblk: {isLsblk, readLsblk}, Blkid: {isBlkid, readBlkid},
	Parted: {isParted, readParted}, Efibootmgr: {isEfibootmgr, readEfibootmgr}, Bcdedit: {isBcdedit, readBcdedit},
	Diskpart: {isDiskpart, readDiskpart},
	GetDisk:  {isGetDisk, readPowerShell}, GetPartition: {isGetPartition, readPowerShell},
	GetVolume: {isGetVolume, readPowerShell}, Diskutil: {isDiskutil, readDiskutil},
	Efivar: {isEfivar, readEfivar},
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
	// Problem says what broke the listing off; "" for a whole one.
	Problem string
}

// text is a listing in lines.
type text struct {
	name  string // of the file it came in
	raw   []byte
	lines []string
}

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
		decoded = strings.ReplaceAll(strings.ReplaceAll(decoded, "\r\n", "\n"), "\r", "\n")
		if n := strings.Count(decoded, "\n") + 1; n > maxLines {
			return nil, &Error{fmt.Sprintf("The listing has %d lines: at most %d are taken.", n, maxLines)}
		}
		t.lines = strings.Split(decoded, "\n")
	}
	if format == "" {
		if format = recognise(t); format == "" {
			return nil, &Error{"The text is none of the listings that are known. Expected the output of one of: " + strings.Join(names(), ", ") + "."}
		}
	}
	r, ok := readers[format]
	if !ok {
		return nil, &Error{fmt.Sprintf("The format %q is not known. Expected one of: %s.", format, strings.Join(names(), ", "))}
	}
	l := &Listing{Format: format}
	for i, s := range t.lines {
		state := Unread
		if strings.TrimSpace(s) == "" || isPrompt(s) {
			state = Passed
		}
		l.Lines = append(l.Lines, Line{Number: i + 1, Text: clip(s), State: state})
	}
	r.read(t, l)
	l.source()
	return l, nil
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
	return len(l.Disks) == 0 && l.Entries == nil && l.Store == nil
}

// source names the listing as the source of what it tells.
func (l *Listing) source() {
	for i := range l.Disks {
		l.Disks[i].Source = fact.Source{Origin: fact.Text, Structure: string(l.Format)}
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
	for i := range l.Disks {
		if l.Disks[i].Name == name {
			return &l.Disks[i]
		}
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

// decode turns a listing into text: UTF-8 or UTF-16, with or without a mark at its
// beginning, and the code page of Western Windows for what is neither.
func decode(raw []byte) (string, error) {
	order, marked := unicode.LittleEndian, false
	switch {
	case bytes.HasPrefix(raw, []byte{0xFF, 0xFE}):
		marked = true
	case bytes.HasPrefix(raw, []byte{0xFE, 0xFF}):
		order, marked = unicode.BigEndian, true
	case wideZeros(raw, 1):
		marked = true
	case wideZeros(raw, 0):
		order, marked = unicode.BigEndian, true
	}
	if marked {
		out, err := unicode.UTF16(order, unicode.UseBOM).NewDecoder().Bytes(raw[:len(raw)-len(raw)%2])
		if err != nil {
			return "", &Error{"The text looks like UTF-16, but " + err.Error() + "."}
		}
		return string(out), nil
	}
	raw = bytes.TrimPrefix(raw, []byte{0xEF, 0xBB, 0xBF})
	if bytes.IndexByte(raw, 0) >= 0 {
		return "", &Error{"The file is not text: it holds zero bytes. Expected the output of a command; a disk's sectors go into the field for its disk."}
	}
	if utf8.Valid(raw) {
		return string(raw), nil
	}
	out, err := charmap.Windows1252.NewDecoder().Bytes(raw)
	return string(out), err
}

// wideZeros reports whether every second byte of the beginning is a zero, as in
// UTF-16 text without a mark.
func wideZeros(raw []byte, at int) bool {
	n, zeros := 0, 0
	for i := at; i < min(len(raw), 200); i += 2 {
		n++
		if raw[i] == 0 {
			zeros++
		}
	}
	return n >= 4 && zeros*10 >= n*9
}

// isPrompt recognises lines of a terminal around a listing.
func isPrompt(s string) bool {
	s = strings.TrimSpace(s)
	for _, p := range []string{"$ ", "# ", "PS ", "C:\\", "X:\\", "DISKPART>", "> ", "root@", "sudo "} {
		if strings.HasPrefix(s, p) {
			return true
		}
	}
	return strings.Contains(s, "@") && (strings.Contains(s, ":~$") || strings.Contains(s, ":~#") || strings.Contains(s, "% "))
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
