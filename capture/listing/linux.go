package listing

import (
	"fmt"
	"path"
	"regexp"
	"strconv"
	"strings"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/volume"
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
	cut := capture.Widest(t.lines)
	for i, s := range t.lines {
		means, err := capture.BootEntryLine(l.Entries, s, i+1, cut(s))
		switch {
		case err != nil && !isPrompt(s):
			l.unread(i+1, "expected BootOrder:, BootNext: or Boot####")
		case means != "":
			l.mark(i+1, Understood, "%s", means)
		case err == nil:
			l.mark(i+1, Passed, "")
		}
	}
	capture.FinishEntries(l.Entries)
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
	d := l.disk("disk", 1)
	sector, lastLBA := int64(512), int64(0)
	cut := capture.Widest(t.lines)
	for i, raw := range t.lines {
		s, n := strings.TrimSpace(raw), i+1
		if head := sfdiskHead.FindStringSubmatch(s); head != nil {
			switch key, value := head[1], head[2]; key {
			case "label":
				d.Style, d.StyleLine = styleNamed(value), n
			case "label-id":
				d.ID, d.IDLine = diskID(value), n
			case "device":
				d.Name, d.Line = path.Base(value), n
			case "sector-size":
				if v, err := strconv.ParseInt(value, 10, 32); err == nil {
					sector, d.SectorSize = v, int(v)
				}
			case "last-lba":
				lastLBA, _ = strconv.ParseInt(value, 10, 64)
			}
			l.mark(n, Understood, "%s", head[1])
			continue
		}
		if part := sfdiskPart.FindStringSubmatch(s); part != nil {
			readSfdiskPart(l, d, part[1], part[2], sector, n, cut(raw))
		}
	}
	d.Whole = t.goesOn(d)
	if d.Style == disk.StyleGPT && lastLBA > 0 {
		// The last usable sector is followed by the backup array and header.
		d.Size = (lastLBA + 1 + (128*128+sector-1)/sector + 1) * sector
	}
	if d.Style == "" && len(d.Partitions) == 0 {
		l.Disks = nil
	}
}

// readSfdiskPart reads the fields of a partition: comma-separated, with names in
// quotation marks.
func readSfdiskPart(l *Listing, d *machine.Described, node, fields string, sector int64, n int, cut bool) {
	p := partition(d, trailingNumber(node), n)
	if p == nil {
		return
	}
	list := splitQuoted(fields)
	if !cut && d.Style == disk.StyleMBR {
		p.Active = fact.Known(false, fact.Source{})
	}
	for i, f := range list {
		last := cut && i == len(list)-1 // perhaps without its end
		key, value, _ := strings.Cut(f, "=")
		value = strings.Trim(strings.TrimSpace(value), `"`)
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
			setType(p, value)
			p.TypeOpen = last && p.Type.IsZero()
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
	d := l.disk(path.Base(table.str("device")), table.line)
	d.Style, d.StyleLine = styleNamed(table.str("label")), table.lineOf("label")
	d.ID, d.IDLine = diskID(table.str("id")), table.lineOf("id")
	sector := table.num("sectorsize")
	if sector == 0 {
		sector = 512
	}
	d.SectorSize = int(sector)
	if last := table.num("lastlba"); d.Style == disk.StyleGPT && last > 0 {
		d.Size = (last + 1 + (128*128+sector-1)/sector + 1) * sector
	}
	for _, v := range table.list("partitions") {
		p := partition(d, trailingNumber(v.str("node")), v.line)
		if p == nil {
			continue
		}
		p.Start, p.Length, p.Name = v.num("start")*sector, v.num("size")*sector, v.str("name")
		if d.Style == disk.StyleMBR && (v.has("bootable") || l.Problem == "") {
			p.Active = fact.Known(v.truth("bootable"), fact.Source{})
		}
		setType(p, v.str("type"))
		p.GUID, _ = disk.ParseGUID(v.str("uuid"))
		l.mark(v.line, Understood, "partition %d", p.Number)
	}
	d.Whole = l.Problem == ""
}

// parted(8), "--machine".

func isParted(t *text) bool {
	return anyLine(t, func(s string) bool {
		return strings.TrimSpace(s) == "BYT;" || strings.TrimSpace(s) == "CHS;" || strings.TrimSpace(s) == "CYL;"
	})
}

func readParted(t *text, l *Listing) {
	var d *machine.Described
	sector := int64(512)
	for i, raw := range t.lines {
		s, n := strings.TrimSpace(raw), i+1
		fields := strings.Split(strings.TrimSuffix(s, ";"), ":")
		switch {
		case s == "BYT;":
			if d != nil {
				d.Whole = true // the next disk begins behind its last partition
			}
			d = nil
			l.mark(n, Passed, "")
		case s == "CHS;" || s == "CYL;":
			l.unread(n, "the figures are in cylinders: expected unit s")
			return
		case d == nil && len(fields) >= 7:
			if d = l.disk(path.Base(fields[0]), n); d == nil {
				return
			}
			if v, err := strconv.ParseInt(fields[3], 10, 32); err == nil && v > 0 {
				sector, d.SectorSize = v, int(v)
			}
			d.Size = partedSize(fields[1], sector)
			d.Bus = linuxBus(d.Name, fields[2])
			d.Style, d.StyleLine, d.Model = styleNamed(fields[5]), n, fields[6]
			d.Rounded = !exactPlaces(fields[1])
			l.mark(n, Understood, "disk %s", d.Name)
		case d != nil && len(fields) >= 6:
			partedPartition(l, d, fields, sector, n, strings.HasSuffix(s, ";"))
		case d != nil && s != "" && len(d.Partitions) > 0:
			d.Whole, d = true, nil // something else follows
		}
	}
}

func partedPartition(l *Listing, d *machine.Described, fields []string, sector int64, n int, whole bool) {
	number, err := strconv.Atoi(fields[0])
	if err != nil {
		l.unread(n, "expected number:start:end:size:file system:name:flags")
		return
	}
	p := partition(d, number, n)
	if p == nil {
		return
	}
	p.Start, p.Length = partedSize(fields[1], sector), partedSize(fields[3], sector)
	p.Kind, _ = volume.Named(fields[4])
	p.Name, p.Rounded = fields[5], !exactPlaces(fields[1])
	if whole {
		p.Role, p.Active = disk.RoleOther, fact.Known(false, fact.Source{})
	}
	flags := ""
	if len(fields) > 6 {
		flags = fields[6]
	}
	for _, f := range strings.Split(flags, ",") {
		switch f = strings.TrimSpace(f); {
		case f == "esp" && d.Style == disk.StyleMBR:
			p.MBRType = disk.MBRTypeESP
		case f == "esp":
			p.Type = disk.TypeESP
		case f == "bios_grub":
			p.Type = disk.TypeBIOSBoot
		case f == "msftres":
			p.Type = disk.TypeMSReserved
		case f == "msftdata":
			p.Type = disk.TypeBasicData
		case f == "diag" && d.Style == disk.StyleGPT:
			p.Type = disk.TypeWinRE
		case f == "swap" && d.Style == disk.StyleGPT:
			p.Kind = volume.KindSwap
		case f == "boot" && d.Style == disk.StyleMBR:
			p.Active = fact.Known(true, fact.Source{})
		case strings.HasPrefix(f, "type="):
			setType(p, f[5:])
		}
	}
	l.mark(n, Understood, "partition %d", number)
}

// exactPlaces reports whether parted's figures are told in sectors or bytes.
func exactPlaces(figure string) bool {
	return strings.HasSuffix(figure, "s") || strings.TrimRight(figure, "0123456789") == "B"
}

// partedSize reads a figure with its unit: s, B, or rounded ones.
func partedSize(s string, sector int64) int64 {
	if v, ok := strings.CutSuffix(s, "s"); ok {
		n, _ := strconv.ParseInt(v, 10, 54)
		return n * sector
	}
	n, _ := size(s)
	return n
}

// goesOn reports whether something else follows the last partition of a disk: a text
// that ends with it may have been cut off.
func (t *text) goesOn(d *machine.Described) bool {
	last := d.Line
	for _, p := range d.Partitions {
		last = max(last, p.Line)
	}
	for _, s := range t.lines[min(last, len(t.lines)):] {
		if strings.TrimSpace(s) != "" {
			return true
		}
	}
	return false
}
