package listing

import (
	_ "embed"
	"path"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
)

// fdisk(8) and sfdisk(8) with "--list". Words are translated; figures, their order and
// the names of devices are not.

var (
	fdiskDisk   = regexp.MustCompile(`^\S[^/]*(/[^\s:]+)\s*:.*?, (?:\S+: )?(\d+)(?: [^\s,]+)?(?:, (?:\S+: )?(\d+)(?: \S+){0,2})?$`)
	fdiskSector = regexp.MustCompile(`\((?:[^()]*/[^()]*)\)[^:()]*:\s*(\d+)(?: \S+)? / (\d+)(?: \S+)?$`)
	fdiskValue  = regexp.MustCompile(`^[^:]+:\s*(gpt|dos|0x[0-9A-Fa-f]{8}|[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12})$`)
	fdiskModel  = regexp.MustCompile(`^Disk model:\s*(.*?)\s*$`)
	fdiskRow    = regexp.MustCompile(`^(/\S+?(\d+))\s+(\*\s+)?(\d+)\s+(\d+)\s+(\d+)[+-]?\s+([\d.,]+[BKMGTP]?|[0-9a-f]{1,2})(?:\s+(.*?))?\s*$`)
	fdiskCHS    = regexp.MustCompile(`\d+,\d+,\d+\s+`) // BusyBox has both
	fdiskOld    = regexp.MustCompile(`^([0-9a-f]{1,2})\s+(\S.*)$`)
)

func isFdisk(t *text) bool {
	return anyLine(t, func(s string) bool { return fdiskDisk.MatchString(oneColon(s)) || fdiskRow.MatchString(s) })
}

func readFdisk(t *text, l *Listing) {
	var d *machine.Described
	for i, raw := range t.lines {
		s, n := oneColon(strings.TrimSpace(raw)), i+1
		if m := fdiskDisk.FindStringSubmatch(s); m != nil {
			l.endOfDisk(d)
			if d = l.disk(path.Base(m[1]), n); d == nil {
				return
			}
			d.Size, _ = strconv.ParseInt(m[2], 10, 62)
			if sectors, _ := strconv.ParseInt(m[3], 10, 62); sectors > 0 && d.Size%sectors == 0 {
				d.SectorSize = int(d.Size / sectors)
			}
			d.Bus = linuxBus(d.Name, "")
			l.mark(n, Understood, "disk %s", d.Name)
			continue
		}
		switch m := fdiskRow.FindStringSubmatch(fdiskCHS.ReplaceAllString(s, "")); {
		case m != nil:
			if d == nil {
				if d = l.disk("disk", n); d == nil {
					return
				}
			}
			fdiskPartition(l, d, m, n)
		case d != nil && s != "":
			fdiskHead(l, d, s, n)
		}
	}
	if d != nil {
		d.Whole = t.goesOn(d)
	}
}

// endOfDisk says that what follows in the text is of another disk: no partition of this
// one is left out.
func (l *Listing) endOfDisk(d *machine.Described) {
	if d != nil && len(d.Partitions) > 0 && d.Line < d.Partitions[0].Line { // and its beginning is in the text
		d.Whole = true
	}
}

func fdiskHead(l *Listing, d *machine.Described, s string, n int) {
	if m := fdiskSector.FindStringSubmatch(s); m != nil {
		// The line of the sectors comes first; that of the units of transfers looks like it.
		if d.SectorSize == 0 {
			d.SectorSize, _ = strconv.Atoi(m[1])
		}
		if m[1] == strconv.Itoa(d.SectorSize) {
			l.mark(n, Understood, "sectors of %s bytes", m[1])
		} else {
			l.mark(n, Passed, "")
		}
		return
	}
	if m := fdiskModel.FindStringSubmatch(s); m != nil {
		d.Model = m[1]
		l.mark(n, Understood, "model")
		return
	}
	m := fdiskValue.FindStringSubmatch(s)
	if m == nil {
		if l.mark(n, Passed, ""); len(d.Partitions) > 0 && !strings.HasSuffix(s, ".") && !strings.Contains(s, ":") {
			l.mark(n, Unread, "") // no sentence: it may belong to a partition
		}
		return
	}
	if style := styleNamed(m[1]); style != "" {
		d.Style, d.StyleLine = style, n
	} else {
		d.ID, d.IDLine = diskID(m[1]), n
	}
	l.mark(n, Understood, "%s", m[1])
}

func fdiskPartition(l *Listing, d *machine.Described, m []string, n int) {
	number, _ := strconv.Atoi(m[2])
	p := partition(d, number, n)
	if p == nil {
		return
	}
	sector := int64(512)
	if d.SectorSize == 4096 {
		sector = 4096
	}
	start, _ := strconv.ParseInt(m[4], 10, 50)
	end, _ := strconv.ParseInt(m[5], 10, 50)
	count, _ := strconv.ParseInt(m[6], 10, 50)
	rest := m[8]
	if span := end - start + 1; count != span { // up to util-linux 2.25 blocks of 1 KiB stand there, and no size
		if span*sector/1024 != count {
			l.mark(n, Unread, "its places are not told in sectors: fdisk -l -u does")
			return
		}
		count, rest = span, m[7]+" "+m[8]
	}
	p.Start, p.Length = start*sector, count*sector
	kind := fdiskOld.FindStringSubmatch(rest)
	if d.Style == "" && kind != nil { // up to util-linux 2.25, and in BusyBox, no line tells the style
		d.Style, d.StyleLine = disk.StyleMBR, n
		if kind[1] == "ee" {
			d.Style = disk.StyleGPT
			d.Partitions = d.Partitions[:len(d.Partitions)-1]
			l.mark(n, Understood, "the protective record of a GPT, whose partitions are not listed")
			return
		}
	}
	switch {
	case d.Style == disk.StyleMBR && kind != nil:
		p.Active = fact.Known(m[3] != "", fact.Source{})
		setType(p, kind[1])
	case d.Style == disk.StyleGPT:
		p.Type = typeInWords(m[8])
	}
	p.TypeOpen = p.Type.IsZero() && p.MBRType == 0
	l.mark(n, Understood, "partition %d of %s", number, d.Name)
}

// translated holds util-linux's names of GPT types and what they are in its other languages: the
// catalogues of Debian's util-linux-locales 2.38.1.
//
//go:embed typenames.txt
var translated string

var inEnglish = sync.OnceValue(func() map[string]string {
	names := map[string]string{}
	for line := range strings.Lines(translated) {
		english, other, _ := strings.Cut(strings.TrimSpace(line), "\t")
		names[other] = english
	}
	return names
})

// typeInWords is the type that a tool calls so.
func typeInWords(name string) disk.GUID {
	name = strings.ToLower(name)
	if english, is := inEnglish()[name]; is {
		name = english
	}
	return typesInWords[name]
}

// typesInWords are the names of GPT types that the tools print, in English: util-linux,
// include/pt-gpt-partnames.h, and gdisk's parttypes.cc; from memory.
var typesInWords = map[string]disk.GUID{
	"efi system": disk.TypeESP, "efi system partition": disk.TypeESP, "bios boot": disk.TypeBIOSBoot,
	"bios boot partition": disk.TypeBIOSBoot, "microsoft reserved": disk.TypeMSReserved,
	"microsoft basic data": disk.TypeBasicData, "windows recovery environment": disk.TypeWinRE, "windows re": disk.TypeWinRE,
	"linux filesystem": disk.TypeLinuxData, "linux file system": disk.TypeLinuxData, "apple apfs": disk.TypeAPFS,
	"apple hfs/hfs+": disk.TypeHFS, "apple hfs": disk.TypeHFS,
	"linux swap":          disk.MustGUID("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F"),
	"linux lvm":           disk.MustGUID("E6D6D379-F507-44C2-A23C-238F2A3DF928"),
	"linux raid":          disk.MustGUID("A19D880F-05FC-4D3B-A006-743F0F84911E"),
	"linux home":          disk.MustGUID("933AC7E1-2EB4-4F13-B844-0E14E2AEF915"),
	"linux root (x86-64)": disk.MustGUID("4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709"),
	"linux extended boot": disk.MustGUID("BC13C2FF-59E6-4262-A352-B275FD6F7172"),
}

// sgdisk(8) with "--print" and "--info", gdisk(8) with "-l". They show an MBR as the GPT
// that it would become, and say so before it: where that is not seen, the style is not told.

var (
	sgdiskDisk  = regexp.MustCompile(`^Disk (/\S+): (\d+) sectors, .*$`)
	sgdiskHead  = regexp.MustCompile(`^(Model|Sector size \(logical(?:/physical)?\)|Logical sector size|Disk identifier \(GUID\)): (.*)$`)
	sgdiskRow   = regexp.MustCompile(`^\s*(\d+)\s+(\d+)\s+(\d+)\s+([\d.]+ (?:bytes|[KMGTP]iB))\s+([0-9A-Fa-f]{4})(?:\s+(.*?))?\s*$`)
	sgdiskInfo  = regexp.MustCompile(`^(Partition GUID code|Partition unique GUID|First sector|Last sector|Partition name): (.*)$`)
	infoCommand = regexp.MustCompile(`(?:-i|--info)[ =]?(\d+)\b`)
)

func isSgdisk(t *text) bool {
	return anyLine(t, sgdiskDisk.MatchString) || anyLine(t, sgdiskRow.MatchString) || anyLine(t, sgdiskInfo.MatchString)
}

// sgdiskCodes are gdisk's codes that stand for one type alone. gdisk, parttypes.cc; from
// memory.
var sgdiskCodes = map[string]disk.GUID{
	"EF00": disk.TypeESP, "EF02": disk.TypeBIOSBoot, "0C01": disk.TypeMSReserved, "0700": disk.TypeBasicData,
	"2700": disk.TypeWinRE, "8300": disk.TypeLinuxData, "AF00": disk.TypeHFS, "AF0A": disk.TypeAPFS,
	"8200": disk.MustGUID("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F"), "8E00": disk.MustGUID("E6D6D379-F507-44C2-A23C-238F2A3DF928"),
	"FD00": disk.MustGUID("A19D880F-05FC-4D3B-A006-743F0F84911E"),
}

func readSgdisk(t *text, l *Listing) {
	r := &sgdisk{l: l}
	if t.begins || isPrompt(t.first()) {
		r.style = disk.StyleGPT // nothing says otherwise before it
	}
	for _, s := range t.lines {
		lower := strings.ToLower(s)
		switch {
		case strings.Contains(lower, "corrupt gpt. using gpt"), strings.Contains(lower, "secondary header's self-pointer"):
			r.style, r.doubtful, r.certain = disk.StyleGPT, true, true
		case strings.Contains(lower, "found valid gpt with"):
			r.style, r.certain = disk.StyleGPT, true
			r.doubtful = r.doubtful || strings.Contains(lower, "corrupt")
		case strings.Contains(lower, "valid mbr and"):
			r.style, r.doubtful, r.certain, r.asked = "", true, false, true // it asks which of the two to list
		case r.asked:
		case strings.Contains(lower, "valid mbr") || strings.Contains(lower, "mbr: mbr only"):
			r.style = disk.StyleMBR
		case strings.Contains(lower, "creating new gpt") || strings.Contains(lower, "not a valid") || strings.Contains(lower, "damaged"),
			strings.Contains(lower, "corrupt"), strings.Contains(lower, "problem"), strings.Contains(lower, "invalid"):
			r.doubtful = true
		}
	}
	for _, m := range infoCommand.FindAllStringSubmatch(t.command, maxPartitions) {
		if number, err := strconv.Atoi(m[1]); err == nil {
			r.infoOf = append(r.infoOf, number)
		}
	}
	for i, s := range t.lines {
		r.line(strings.TrimRight(s, " \r"), i+1)
	}
	if r.d != nil {
		// Where the tool mends or converts what it found, what it prints is not the disk.
		r.d.Whole = r.p == nil && r.style == disk.StyleGPT && !r.doubtful && t.goesOn(r.d)
	}
}

type sgdisk struct {
	l        *Listing
	d        *machine.Described
	p        *machine.DescribedPartition // of --info
	style    disk.Style                  // "" where it is not told
	doubtful bool
	certain  bool // of the style alone
	asked    bool
	sector   int64
	infoOf   []int // the partitions that the command asks for with --info, which alone says their numbers
}

func (r *sgdisk) line(s string, n int) {
	if m := sgdiskDisk.FindStringSubmatch(s); m != nil {
		r.l.endOfDisk(r.d)
		r.sector = 512
		if r.d = r.l.disk(path.Base(m[1]), n); r.d == nil {
			return
		}
		r.d.Size, _ = strconv.ParseInt(m[2], 10, 50)
		r.d.Size *= r.sector
		r.tellStyle(n)
		r.l.mark(n, Understood, "disk %s", r.d.Name)
		return
	}
	if m := sgdiskInfo.FindStringSubmatch(s); m != nil {
		r.info(m[1], m[2], n)
		return
	}
	if m := sgdiskRow.FindStringSubmatch(s); m != nil && r.has(n) {
		r.row(m, n)
		return
	}
	m := sgdiskHead.FindStringSubmatch(s)
	if m == nil || r.d == nil {
		if strings.TrimSpace(s) != "" {
			r.l.mark(n, Passed, "")
		}
		return
	}
	switch {
	case m[1] == "Model":
		r.d.Model = m[2]
	case strings.HasPrefix(m[1], "Disk identifier"):
		if r.style == disk.StyleGPT && !r.doubtful {
			r.d.ID, r.d.IDLine = diskID(m[2]), n
		}
	default:
		digits := m[2][:len(m[2])-len(strings.TrimLeft(m[2], "0123456789"))]
		if v, err := strconv.Atoi(digits); err == nil && v > 0 {
			r.d.Size, r.sector, r.d.SectorSize = r.d.Size/r.sector*int64(v), int64(v), v
		}
	}
	r.l.mark(n, Understood, "%s", m[1])
}

// has makes sure of a disk.
func (r *sgdisk) has(n int) bool {
	if r.d == nil {
		r.sector = 512
		if r.d = r.l.disk("disk", n); r.d == nil {
			return false
		}
		r.tellStyle(n)
	}
	return true
}

func (r *sgdisk) tellStyle(n int) {
	if r.style == disk.StyleMBR || !r.doubtful || r.certain {
		r.d.Style, r.d.StyleLine = r.style, n
	}
}

func (r *sgdisk) row(m []string, n int) {
	number, _ := strconv.Atoi(m[1])
	p := partition(r.d, number, n)
	if p == nil {
		return
	}
	first, _ := strconv.ParseInt(m[2], 10, 50)
	last, _ := strconv.ParseInt(m[3], 10, 50)
	p.Start, p.Length = first*r.sector, max(last-first+1, 0)*r.sector
	if r.style == disk.StyleGPT {
		p.Name, p.Type = m[6], sgdiskCodes[strings.ToUpper(m[5])]
	}
	p.TypeOpen = p.Type.IsZero()
	r.l.mark(n, Understood, "partition %d", number)
}

// info reads what --info tells of one partition, whose number only the command has.
func (r *sgdisk) info(key, val string, n int) {
	if !r.has(n) {
		return
	}
	if key == "Partition GUID code" {
		r.style, r.p = disk.StyleGPT, nil
		r.tellStyle(n)
		if len(r.infoOf) > 0 {
			r.p, r.infoOf = partition(r.d, r.infoOf[0], n), r.infoOf[1:]
		}
	}
	if r.p == nil {
		r.l.unread(n, "which partition it is, only the command says: expected its line too, sgdisk --info with a number")
		return
	}
	first, _, _ := strings.Cut(val, " ")
	sectors, err := strconv.ParseInt(first, 10, 50)
	switch {
	case key == "Partition GUID code":
		setType(r.p, first)
	case key == "Partition unique GUID":
		r.p.GUID, _ = disk.ParseGUID(first)
	case key == "First sector" && err == nil:
		r.p.Start = sectors * r.sector
	case key == "Last sector" && err == nil && r.p.Start >= 0:
		r.p.Length = max(sectors+1-r.p.Start/r.sector, 0) * r.sector
	case key == "Partition name":
		r.p.Name = strings.Trim(val, "'")
	}
	r.l.mark(n, Understood, "%s", strings.ToLower(key))
}
