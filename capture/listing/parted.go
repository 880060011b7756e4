package listing

import (
	"path"
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// parted(8), "--machine".

func isParted(t *text) bool {
	return anyLine(t, func(s string) bool {
		return strings.TrimSpace(s) == "BYT;" || strings.TrimSpace(s) == "CHS;" || strings.TrimSpace(s) == "CYL;"
	})
}

func readParted(t *text, l *Listing) {
	var d *machine.Described
	begun, sector := false, int64(512)
	for i, raw := range t.lines {
		s, n := strings.TrimSpace(raw), i+1
		fields := strings.Split(strings.TrimSuffix(s, ";"), ":")
		switch {
		case s == "BYT;":
			if d != nil {
				l.endOfDisk(d) // the next disk begins behind its last partition
			}
			d, begun = nil, true
			l.mark(n, Passed, "")
		case s == "CHS;" || s == "CYL;":
			l.unread(n, "the figures are in cylinders: expected unit s")
			return
		case begun && s != "" && !wholeDisk(fields):
			l.unread(n, "expected path:size:transport:logical sector:physical sector:table:model")
			return // by which sectors the partitions are told is not known
		case d == nil && wholeDisk(fields):
			begun = false
			if d = l.disk(path.Base(fields[0]), n); d == nil {
				return
			}
			if v, err := strconv.ParseInt(fields[3], 10, 32); err == nil && v > 0 {
				sector, d.SectorSize = v, int(v)
			}
			d.Size, _ = partedFigure(fields[1], sector)
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

// wholeDisk reports whether a line tells of a disk, and is not cut off before its model.
func wholeDisk(fields []string) bool {
	_, err := strconv.Atoi(fields[0])
	return err != nil && len(fields) >= 7
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
	if v, ok := partedFigure(fields[1], sector); ok {
		p.Start = v
	}
	p.Length, _ = partedFigure(fields[3], sector)
	p.Kind, _ = volume.Named(fields[4])
	p.Name, p.Rounded = fields[5], !exactPlaces(fields[1])
	if whole {
		p.Role, p.Active = disk.RoleOther, fact.Known(false, fact.Source{})
	}
	flags := ""
	if len(fields) > 6 {
		flags = fields[6]
	}
	partedFlags(d, p, flags)
	l.mark(n, Understood, "partition %d", number)
}

// exactPlaces reports whether parted's figures are told in sectors or bytes.
func exactPlaces(figure string) bool {
	return strings.HasSuffix(figure, "s") || strings.TrimRight(figure, "0123456789") == "B"
}

// partedFigure reads a figure with its unit: s, B, or rounded ones in decimal or binary
// units.
func partedFigure(s string, sector int64) (int64, bool) {
	if v, ok := strings.CutSuffix(s, "s"); ok {
		n, err := strconv.ParseInt(v, 10, 50)
		return n * sector, err == nil
	}
	n, _, err := disk.ParseSize(s, disk.DecimalUnits)
	return n, err == nil
}

// partedFlags takes what the flags tell of a partition.
func partedFlags(d *machine.Described, p *machine.DescribedPartition, flags string) {
	for _, f := range strings.Split(flags, ",") {
		switch f = strings.TrimSpace(f); {
		case espWords[f] && d.Style == disk.StyleMBR:
			p.MBRType = disk.MBRTypeESP
		case espWords[f]:
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
		case bootWords[f] && d.Style == disk.StyleMBR:
			p.Active = fact.Known(true, fact.Source{})
		case strings.HasPrefix(f, "type="):
			setType(p, f[5:])
		}
	}
}

// parted(8), "--json".

func isPartedJSON(t *text) bool {
	return hasKeys(t, "disk", "logical-sector-size") || hasKeys(t, "disk", "max-partitions")
}

func readPartedJSON(t *text, l *Listing) {
	v := l.json(t).get("disk")
	if v == nil {
		return
	}
	d := l.disk(path.Base(v.str("path")), v.line)
	if d == nil {
		return
	}
	sector := int64(512)
	if n := v.num("logical-sector-size"); n > 0 && n <= 1<<16 {
		sector, d.SectorSize = n, int(n)
	}
	d.Model, d.Bus = v.str("model"), linuxBus(d.Name, v.str("transport"))
	d.Style, d.StyleLine = styleNamed(v.str("label")), v.lineOf("label")
	if n, ok := partedFigure(v.str("size"), sector); ok {
		d.Size, d.Rounded = n, !exactPlaces(v.str("size"))
	}
	for _, q := range v.list("partitions") {
		number, told := q.count("number")
		if !told || number == 0 || q.str("type") == "extended" {
			continue
		}
		p := partition(d, int(number), q.line)
		if p == nil {
			return
		}
		if n, ok := partedFigure(q.str("start"), sector); ok {
			p.Start = n
		}
		p.Length, _ = partedFigure(q.str("size"), sector)
		p.Rounded, p.Name = !exactPlaces(q.str("start")), q.str("name")
		p.Kind, _ = volume.Named(q.str("filesystem"))
		setType(p, q.str("type-uuid"))
		setType(p, q.str("type-id"))
		p.GUID, _ = disk.ParseGUID(q.str("uuid"))
		var flags []string
		for _, f := range q.list("flags") {
			flags = append(flags, f.text)
		}
		if l.Problem == "" && p.Type.IsZero() && p.MBRType == 0 {
			p.Role, p.Active = disk.RoleOther, fact.Known(false, fact.Source{})
		}
		partedFlags(d, p, strings.Join(flags, ","))
		l.mark(q.line, Understood, "partition %d", number)
	}
	d.Whole = l.Problem == "" && len(d.Partitions) > 0
}
