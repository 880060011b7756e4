package capture

import (
	"bufio"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
)

// maxListing bounds a listing of boot entries, in bytes.
const maxListing = 1 << 20

func readBootEntries(path string) (*firmware.Entries, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return readVariables(path)
	}
	if info.Size() > maxListing {
		return nil, fmt.Errorf("%s: more than %d bytes", path, maxListing)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	entries, err := ParseBootEntries(string(raw))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return entries, nil
}

// readVariables decodes a folder of raw variables, named as Linux' efivarfs
// names them.
func readVariables(folder string) (*firmware.Entries, error) {
	files, err := VariableFiles(folder)
	if err != nil {
		return nil, err
	}
	entries, err := firmware.DecodeVariables(files)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", folder, err)
	}
	return entries, nil
}

// VariableFiles reads the boot variables of a folder, by file name.
func VariableFiles(folder string) (map[string][]byte, error) {
	patterns := []string{"LoaderEntry*"}
	for _, v := range firmware.TrustVariables {
		patterns = append(patterns, v[0]+"-*")
	}
	var names []string
	for _, pattern := range append(patterns, "Boot*") { // of these there may be more than are read
		found, err := filepath.Glob(filepath.Join(folder, pattern))
		if err != nil {
			return nil, err
		}
		names = append(names, found...)
	}
	names = slices.DeleteFunc(names, func(file string) bool { return !firmware.IsBootVariable(filepath.Base(file)) })
	files := map[string][]byte{}
	for _, name := range names[:min(len(names), maxVariables)] {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		raw, err := io.ReadAll(io.LimitReader(f, maxVariable))
		f.Close()
		if err != nil {
			return nil, err
		}
		files[filepath.Base(name)] = raw
	}
	return files, nil
}

var (
	entryLine = regexp.MustCompile(`^Boot([0-9A-Fa-f]{4})(\*?)(\s+)(.*)$`)
	fieldLine = regexp.MustCompile(`^(BootCurrent|BootNext|BootOrder|Timeout|MirroredPercentageAbove4G|MirrorMemoryBelow4GB):\s*(.*)$`)
	moreLine  = regexp.MustCompile(`^\s+(dp|data):`)
	// A device path begins with one of these nodes. UEFI Specification 2.10,
	// section 10.6.1.6, table 10.58.
	pathStart = regexp.MustCompile(`\s((?:PciRoot|ACPI|Acpi|HD|FvVol|Fv|FvFile|VenHw|VenHardware|VenMsg|VenMedia|BBS|BIOS|USB|UsbClass|UsbWwid|NVMe|MAC|Vendor|Uri)\(.*)$`)
	hdNode    = regexp.MustCompile(`HD\((\d+),(GPT|MBR),([0-9A-Fa-fx-]+),(?:0x)?([0-9A-Fa-f]+),(?:0x)?([0-9A-Fa-f]+)\)`)
	portNode  = regexp.MustCompile(`(?:Sata|USB)\((0x[0-9A-Fa-f]+|\d+)`)
	fileNode  = regexp.MustCompile(`(?:File\(([^)]*)\)|/(\\[^()]*?\.[eE][fF][iI])|/(\\[^() ]+)$)`)
)

// ParseBootEntries reads the verbose listing of the firmware's boot variables as
// Linux' efibootmgr prints it, in the layout of version 17 (File(\path)) and in
// that of version 18 (/\path). Lines of no known form are an error that names
// the line.
func ParseBootEntries(text string) (*firmware.Entries, error) {
	entries := &firmware.Entries{All: map[uint16]firmware.Entry{}, NextOpen: true}
	var errs []error
	cut := Widest(strings.Split(text, "\n"))
	scanner := bufio.NewScanner(strings.NewReader(strings.TrimPrefix(text, "\uFEFF")))
	scanner.Buffer(nil, maxListing)
	for n := 1; scanner.Scan(); n++ {
		if _, err := BootEntryLine(entries, scanner.Text(), n, cut(scanner.Text())); err != nil {
			errs = append(errs, fmt.Errorf("line %d: %w", n, err))
		}
	}
	if err := scanner.Err(); err != nil {
		errs = append(errs, err)
	}
	FinishEntries(entries)
	return entries, errors.Join(errs...)
}

// Widest returns a test for the lines that a window may have cut off: those that are as
// long as the longest one. What such a line ends with may not be its end.
func Widest(lines []string) func(line string) bool {
	width := func(s string) int { return utf8.RuneCountInString(strings.TrimRight(s, "\r ")) }
	widest := 0
	for _, s := range lines {
		widest = max(widest, width(s))
	}
	return func(line string) bool { return width(line) == widest }
}

// FinishEntries settles what a listing as a whole leaves open: without its line the
// order is not told, a number of the order without an entry is of one that the listing
// was cut off before, and a text that begins with the listing's second line may have
// lost BootNext.
func FinishEntries(entries *firmware.Entries) {
	entries.Open = true
	entries.NextOpen = entries.NextOpen && entries.Next == nil
	entries.OrderOpen = entries.OrderOpen || len(entries.Order) == 0 && !entries.NoOrder
}

// noOrder is what efibootmgr says where the variable BootOrder is not there.
const noOrder = "No BootOrder is set"

// BootEntryLine takes one line of the listing into the entries and says what it
// means; "" for a line that tells nothing of the order. Cut says that the line may have
// been cut off at its end.
func BootEntryLine(entries *firmware.Entries, text string, number int, cut bool) (means string, err error) {
	line := strings.TrimRight(text, "\r ")
	switch field, entry := fieldLine.FindStringSubmatch(line), entryLine.FindStringSubmatch(line); {
	case strings.TrimSpace(line) == "", moreLine.MatchString(line):
		return "", nil
	case strings.HasPrefix(line, noOrder):
		entries.NoOrder = true
		return "there is no boot order", nil
	case field != nil:
		if field[1] == "BootCurrent" && number > 1 {
			entries.NextOpen = false // BootNext stands before it, where there is one
		}
		if field[1] != "BootNext" && field[1] != "BootOrder" {
			return "", nil
		}
		return field[1] + " " + field[2], setField(entries, field[1], field[2], cut)
	case entry != nil:
		e := parseEntry(entry, cut)
		e.Source = fact.Source{Origin: fact.Text, Structure: "efibootmgr -v", Field: fmt.Sprintf("line %d", number), Line: number}
		entries.All[e.Number] = e
		return "entry " + entry[1] + ": " + e.Description, nil
	}
	return "", fmt.Errorf("%q: expected BootOrder:, BootNext: or Boot####", clip(line))
}

func setField(e *firmware.Entries, name, value string, cut bool) error {
	e.OrderOpen = e.OrderOpen || cut && name == "BootOrder"
	for _, one := range strings.Split(value, ",") {
		if one = strings.TrimSpace(one); one == "" {
			continue
		}
		n, err := strconv.ParseUint(one, 16, 16)
		if cut && len(one) < 4 {
			continue
		}
		if err != nil || len(one) != 4 {
			return fmt.Errorf("%s has %q: expected four hexadecimal digits", name, clip(one))
		}
		number := uint16(n)
		if name == "BootNext" {
			e.Next = &number
		} else {
			e.Order = append(e.Order, number)
		}
	}
	return nil
}

func clip(s string) string {
	if r := []rune(s); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return s
}

func parseEntry(m []string, cut bool) firmware.Entry {
	number, _ := strconv.ParseUint(m[1], 16, 16)
	// A blank stands where the star of an active entry would; where neither does, it was lost.
	lost := m[2] == "" && m[3] == " "
	e := firmware.Entry{Number: uint16(number), Active: m[2] == "*" || lost, Description: strings.TrimSpace(m[4])}
	rest := " " + m[4]
	if at := pathStart.FindStringSubmatchIndex(rest); at != nil {
		e.Description, e.Text = strings.TrimSpace(rest[:at[2]]), strings.TrimSpace(rest[at[2]:])
		e.Path = parsePath(e.Text)
		e.Options, e.OptionsOpen = givenOptions(e.Text)
		e.Path.Open = e.Path.Open || cut && e.Path.File == "" && !e.Path.Internal ||
			strings.Count(e.Text, "(") > strings.Count(e.Text, ")")
	} else {
		e.Path.Open = true
	}
	e.Path.Open = e.Path.Open || lost
	return e
}

// What stands behind a program's path is the entry's optional data: as text with a dot for each
// zero byte, as text, or as hexadecimal digits; on a kernel without a suffix the digits follow
// its name. efibootmgr(8), seen in versions 15 to 18.
var (
	dottedData = regexp.MustCompile(`^(?:[ -~]\.)+$`)
	hexData    = regexp.MustCompile(`(?:[0-9a-f]{2}00){3,}$`)
)

// givenOptions reads the optional data as text, and says whether there are some that are none.
func givenOptions(text string) (options string, open bool) {
	at := fileNode.FindStringIndex(text)
	if at == nil {
		return "", false
	}
	tail := strings.TrimSpace(text[at[1]:])
	if kernel := hexData.FindString(text[at[0]:at[1]]); tail == "" && kernel != "" {
		tail = kernel
	}
	switch {
	case tail == "":
		return "", false
	case dottedData.MatchString(tail):
		for i := 0; i < len(tail); i += 2 {
			options += tail[i : i+1]
		}
		return strings.TrimSpace(options), false
	case hexData.FindString(tail) == tail:
		raw, err := hex.DecodeString(tail)
		options = strings.TrimSpace(strings.TrimRight(strings.ReplaceAll(string(raw), "\x00", ""), " "))
		return options, err != nil
	case strings.Contains(tail, "="):
		return tail, false
	}
	return "", true
}

func parsePath(text string) firmware.Path {
	p := firmware.Path{Internal: strings.HasPrefix(text, "Fv")}
	var guid error
	if m := hdNode.FindStringSubmatch(text); m != nil {
		node := &firmware.PartitionNode{MBR: m[2] == "MBR"}
		number, _ := strconv.ParseUint(m[1], 10, 32)
		node.Number = uint32(number)
		node.Start, _ = strconv.ParseUint(m[4], 16, 64)
		node.Size, _ = strconv.ParseUint(m[5], 16, 64)
		if node.MBR {
			sig, _ := strconv.ParseUint(strings.TrimPrefix(m[3], "0x"), 16, 32)
			node.Signature = uint32(sig)
		} else {
			node.GUID, guid = disk.ParseGUID(m[3])
		}
		if guid == nil {
			p.Partition = node
		}
	}
	if m := fileNode.FindStringSubmatch(text); m != nil {
		p.File = m[1] + m[2] + strings.TrimSuffix(m[3], hexData.FindString(m[3]))
		p.Alone = strings.HasPrefix(text, "File(")
	}
	// A path that cannot be told from what follows.
	p.Open = p.Partition != nil && p.File == "" && strings.Contains(text, `)/\`)
	if p.Partition == nil && strings.Contains(text, "HD(") {
		p.Open, p.FileTold = true, p.File != "" // a partition that is not told as it should be
	}
	for node, bus := range map[string]string{"Sata(": "sata", "NVMe(": "nvme", "USB(": "usb", "Scsi(": "scsi", "SD(": "sd", "Ata(": "ide"} {
		if strings.Contains(text, node) {
			p.Bus = bus
		}
	}
	p.Controller = firmware.ControllerOf(text)
	if m := portNode.FindStringSubmatch(text); m != nil {
		if n, err := strconv.ParseUint(m[1], 0, 16); err == nil {
			port := int(n)
			p.Port = &port
		}
	}
	return p
}
