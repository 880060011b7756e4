package listing

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
)

// efibootmgr(8).

var bootLine = regexp.MustCompile(`^(Boot[0-9A-Fa-f]{4}[* ] |BootOrder: |BootCurrent: )`)

func isEfibootmgr(t *text) bool { return anyLine(t, bootLine.MatchString) }

func anyLine(t *text, is func(string) bool) bool {
	for _, s := range t.lines {
		if is(s) {
			return true
		}
	}
	return false
}

func readEfibootmgr(t *text, l *Listing) {
	l.Entries, l.Mode = &firmware.Entries{All: map[uint16]firmware.Entry{}, NextOpen: true},
		fact.Known(firmware.UEFI, fact.Source{Origin: fact.Text, Structure: "efibootmgr -v"})
	lines := t.unwrap(bootLine.MatchString)
	whole := make([]string, len(lines))
	for i, one := range lines {
		whole[i] = one.text
	}
	cut := capture.Widest(whole)
	for _, one := range lines {
		means, err := capture.BootEntryLine(l.Entries, one.text, one.line, cut(one.text) || one.last && t.broken)
		switch {
		case err != nil && !isPrompt(one.text):
			l.unread(one.line, "expected BootOrder:, BootNext: or Boot####")
		case means != "":
			l.mark(one.line, Understood, "%s", means)
		case err == nil:
			l.mark(one.line, Passed, "")
		}
	}
	capture.FinishEntries(l.Entries)
	if l.Entries.Next == nil && !t.begins && strings.HasPrefix(t.first(), "BootCurrent") {
		l.Entries.NextOpen = true // what may stand before it was not pasted
	}
}

// first is the first line of a text that holds something.
func (t *text) first() string {
	for _, s := range t.lines {
		if strings.TrimSpace(s) != "" {
			return s
		}
	}
	return ""
}

// sfdisk(8), "--dump".

var (
	sfdiskHead = regexp.MustCompile(`^(label|label-id|device|unit|first-lba|last-lba|table-length|sector-size|grain): *(.*)$`)
	sfdiskPart = regexp.MustCompile(`^(\S+) *: *((?:start|size|type|Id|uuid|name|attrs|bootable)\b.*)$`)
)

func isSfdiskDump(t *text) bool {
	return anyLine(t, func(s string) bool { return strings.HasPrefix(s, "label: ") }) || anyLine(t, sfdiskPart.MatchString)
}

func readSfdiskDump(t *text, l *Listing) {
	var d *machine.Described
	sector := int64(512)
	made := map[string]bool{} // disks of this output: a second one of a name is another disk
	cut := capture.Widest(t.lines)
	for _, one := range t.unwrap(func(s string) bool {
		return sfdiskHead.MatchString(s) ||
			sfdiskPart.MatchString(s)
	}) {
		s, n := strings.TrimSpace(one.text), one.line
		head, part := sfdiskHead.FindStringSubmatch(s), sfdiskPart.FindStringSubmatch(s)
		if d == nil && (head != nil || part != nil) || head != nil && head[1] == "label" && d.StyleLine > 0 {
			l.endOfDisk(d)
			sector = 512
			if d = l.disk(sfdiskName(l), n); d == nil {
				return
			}
		}
		if head != nil && one.last && t.broken {
			l.unread(n, "what the text ends with may lack its end")
			continue
		}
		if head != nil {
			switch key, value := head[1], head[2]; key {
			case "label":
				d.Style, d.StyleLine = styleNamed(value), n
			case "label-id":
				d.ID, d.IDLine = diskID(value), n
			case "device":
				d = sfdiskDevice(l, d, path.Base(value), made)
				d.Line = n
			case "sector-size":
				if v, err := strconv.ParseInt(value, 10, 32); err == nil {
					sector, d.SectorSize = v, int(v)
				}
			}
			l.mark(n, Understood, "%s", head[1])
			continue
		}
		if part != nil {
			readSfdiskPart(l, d, part[1], part[2], sector, n, cut(one.text) || one.last && t.broken)
		}
	}
	if d != nil {
		d.Whole = t.goesOn(d)
	}
	l.Disks = slices.DeleteFunc(l.Disks, func(d machine.Described) bool {
		return strings.HasPrefix(d.Name, unnamed) && d.Style == "" && len(d.Partitions) == 0
	})
}

// sfdiskDevice gives a disk the name that its dump tells, or joins it to what another
// command of the text told of the disk.
func sfdiskDevice(l *Listing, d *machine.Described, name string, made map[string]bool) *machine.Described {
	known := slices.IndexFunc(l.Disks, func(x machine.Described) bool { return x.Name == name })
	switch {
	case known >= 0 && !made[name] && d == &l.Disks[len(l.Disks)-1] && known < len(l.Disks)-1:
		l.Disks[known].Style, l.Disks[known].StyleLine = d.Style, d.StyleLine
		l.Disks[known].ID, l.Disks[known].IDLine = d.ID, d.IDLine
		l.Disks = l.Disks[:len(l.Disks)-1]
		d = &l.Disks[known]
	case known < 0:
		d.Name = name
	}
	made[name] = true
	return d
}

// unnamed is what a disk is called that a listing does not name.
const unnamed = "disk"

// sfdiskName names the next disk of a text until its own line does.
func sfdiskName(l *Listing) string {
	name := unnamed
	for n := 2; slices.ContainsFunc(l.Disks, func(d machine.Described) bool { return d.Name == name }); n++ {
		name = fmt.Sprintf("%s %d", unnamed, n)
	}
	return name
}

// sfdiskField is a field with its end, as far as that can be seen.
var sfdiskField = regexp.MustCompile(`^(?:(?:start|size|type|Id|uuid) *= *[^\s"]+|(?:name|attrs) *= *"[^"]*"|bootable)$`)

// readSfdiskPart reads the fields of a partition: comma-separated, with names in
// quotation marks.
func readSfdiskPart(l *Listing, d *machine.Described, node, fields string, sector int64, n int, cut bool) {
	p := partition(d, trailingNumber(node), n)
	if p == nil {
		return
	}
	list := splitQuoted(fields)
	cut = cut || !sfdiskField.MatchString(strings.TrimSpace(list[len(list)-1]))
	if !cut && d.Style == disk.StyleMBR {
		p.Active = fact.Known(false, fact.Source{})
	}
	for i, f := range list {
		last := cut && i == len(list)-1 // perhaps without its end
		key, value, _ := strings.Cut(f, "=")
		if value = strings.TrimSpace(value); strings.Count(value, `"`)%2 != 0 {
			continue // a name without its end
		}
		value = strings.Trim(value, `"`)
		switch strings.TrimSpace(key) {
		case "start":
			if v, err := strconv.ParseInt(value, 10, 54); err == nil && !last {
				p.Start = v * sector
			}
		case "size":
			if v, err := strconv.ParseInt(value, 10, 54); err == nil && !last {
				p.Length = v * sector
			}
		case "type", "Id":
			if setType(p, value); last && p.Type.IsZero() {
				p.MBRType, p.TypeOpen = 0, true
			}
		case "uuid":
			p.GUID, _ = disk.ParseGUID(value)
		case "name":
			p.Name = value
		case "bootable":
			p.Active = fact.Known(true, fact.Source{})
		}
	}
	if p.Start < 0 || p.Length == 0 {
		l.unread(n, "expected start= and size= in sectors")
		return
	}
	l.mark(n, Understood, "partition %d", p.Number)
}

func splitQuoted(s string) []string {
	var out []string
	quoted, from := false, 0
	for i, r := range s {
		switch {
		case r == '"':
			quoted = !quoted
		case r == ',' && !quoted:
			out = append(out, s[from:i])
			from = i + 1
		}
	}
	return append(out, s[from:])
}

// setType takes a partition type in any of the forms that commands print.
func setType(p *machine.DescribedPartition, value string) {
	value = strings.Trim(value, "{} ")
	if g, err := disk.ParseGUID(value); err == nil {
		p.Type = g
		return
	}
	if v, err := strconv.ParseUint(strings.TrimPrefix(strings.ToLower(value), "0x"), 16, 8); err == nil {
		p.MBRType = byte(v)
	}
}

func styleNamed(s string) disk.Style {
	switch strings.ToLower(strings.TrimSpace(s)) {
	case "gpt":
		return disk.StyleGPT
	case "dos", "mbr", "msdos":
		return disk.StyleMBR
	case "raw", "loop", "unknown":
		return disk.StyleNone
	}
	return ""
}

// diskID brings a disk's identifier into the form that the tables give.
func diskID(s string) string {
	s = strings.Trim(s, "{} ")
	if g, err := disk.ParseGUID(s); err == nil {
		return g.String()
	}
	if n, err := strconv.ParseUint(strings.TrimPrefix(strings.ToLower(s), "0x"), 16, 32); err == nil {
		return fmt.Sprintf("%08X", n)
	}
	return ""
}

func trailingNumber(s string) int {
	digits := s[len(strings.TrimRight(s, "0123456789")):]
	n, _ := strconv.Atoi(digits)
	return n
}

// sfdisk(8), "--json".

func isSfdiskJSON(t *text) bool {
	return strings.Contains(strings.Join(t.head(40), ""), `"partitiontable"`)
}

func (t *text) head(n int) []string { return t.lines[:min(n, len(t.lines))] }

func readSfdiskJSON(t *text, l *Listing) {
	root := l.json(t)
	table := root.get("partitiontable")
	if table == nil {
		return
	}
	name := sfdiskName(l)
	if table.has("device") {
		name = path.Base(table.str("device"))
	}
	d := l.disk(name, table.line)
	d.Style, d.StyleLine = styleNamed(table.str("label")), table.lineOf("label")
	d.ID, d.IDLine = diskID(table.str("id")), table.lineOf("id")
	sector := table.num("sectorsize")
	if sector == 0 {
		sector = 512
	}
	d.SectorSize = int(sector)
	for _, v := range table.list("partitions") {
		if !v.has("node") {
			l.unread(v.line, "expected the partition's name")
			continue
		}
		p := partition(d, trailingNumber(v.str("node")), v.line)
		if p == nil {
			continue
		}
		if start, told := v.count("start"); told && start < 1<<50 {
			p.Start = start * sector
		}
		p.Length, p.Name = v.num("size")%(1<<50)*sector, v.str("name")
		switch {
		case d.Style == disk.StyleMBR && v.has("bootable"):
			p.Active = v.truth("bootable")
		case d.Style == disk.StyleMBR && l.Problem == "":
			p.Active = fact.Known(false, fact.Source{}) // it names the field of that one alone
		}
		setType(p, v.str("type"))
		p.GUID, _ = disk.ParseGUID(v.str("uuid"))
		l.mark(v.line, Understood, "partition %d", p.Number)
	}
	d.Whole = l.Problem == "" && len(d.Partitions) > 0
}

// goesOn reports whether something else follows the last partition of a disk: a text
// that ends with it may have been cut off.
func (t *text) goesOn(d *machine.Described) bool {
	switch {
	case len(d.Partitions) == 0:
		return false // a disk without partitions, or one that the command could not read
	case t.after:
		return true
	case t.broken:
		return false // what follows may be a partition's, without its end
	}
	last := d.Line
	for _, p := range d.Partitions {
		last = max(last, p.Line)
	}
	return t.follows(last)
}

// follows reports whether something stands behind a line, counted from 1.
func (t *text) follows(line int) bool {
	words := func(s string) bool { return strings.TrimSpace(s) != "" }
	return slices.ContainsFunc(t.lines[min(line, len(t.lines)):], words)
}
