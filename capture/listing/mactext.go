package listing

import (
	"regexp"
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// diskutil(8), "list" and "info" for people; from memory.

var (
	macRow   = regexp.MustCompile(`^\s*(\d+):\s+(.*?)\s+[*+]?([\d.]+ [KMGT]?B)\s+(disk\d+(?:s\d+)?)\s*$`)
	macTitle = regexp.MustCompile(`^/dev/(disk\d+)(?: \(([^()]*)\))?:?$`)
	macField = regexp.MustCompile(`^\s{2,}([A-Z][\w ()/.-]+?):\s+(\S.*?)\s*$`)
	macBytes = regexp.MustCompile(`\((\d+) Bytes\)`)
	gptRow   = regexp.MustCompile(`^\s*(\d+)\s+(\d+)(?:\s+(\d+))?\s+(GPT part - ([0-9A-Fa-f-]{36})|PMBR|MBR|Pri GPT header|Sec GPT header|Pri GPT table|Sec GPT table|MBR part (\d+))?\s*$`)
	// gptPlaces begins a row.
	gptPlaces = regexp.MustCompile(`^\s*\d+\s+\d+\s+\S`)
	gptHead   = regexp.MustCompile(`^gpt show: (?:/dev/)?(\S+?): mediasize=(\d+); sectorsize=(\d+);`)
)

func isDiskutilText(t *text) bool {
	return anyLine(t, macRow.MatchString) || anyLine(t, func(s string) bool {
		m := macField.FindStringSubmatch(s)
		return m != nil && (m[1] == "Device Identifier" || m[1] == "Device Node" || m[1] == "Part of Whole")
	})
}

func readDiskutilText(t *text, l *Listing) {
	var d *machine.Described
	var info macInfo
	at, container := 0, false
	end := func() {
		if info.DeviceIdentifier != "" {
			macInfoAt(l, at, info)
		}
		info, at = macInfo{}, 0
	}
	for i, s := range t.lines {
		n := i + 1
		if m := macTitle.FindStringSubmatch(strings.TrimSpace(s)); m != nil {
			l.endOfDisk(d)
			container = strings.Contains(m[2], "synthesized") || strings.Contains(m[2], "disk image")
			if d = nil; !container {
				d = l.disk(m[1], n)
			}
			l.mark(n, Understood, "disk %s", m[1])
			continue
		}
		if m := macRow.FindStringSubmatch(s); m != nil {
			macTextRow(l, d, m, n)
			continue
		}
		m := macField.FindStringSubmatch(s)
		switch {
		case m == nil && strings.TrimSpace(s) != "":
			l.mark(n, Passed, "")
		case m != nil:
			if m[1] == "Device Identifier" {
				end()
				at = n
			}
			info.field(m[1], m[2])
			l.mark(n, Understood, "")
		}
	}
	end()
	if d != nil {
		d.Whole = t.goesOn(d)
	}
}

// macTextRow takes a row of a list: number 0 is the disk itself.
func macTextRow(l *Listing, d *machine.Described, m []string, n int) {
	if d == nil || m[1] == "0" && m[4] != d.Name {
		l.mark(n, Passed, "a container's volume")
		return
	}
	length, rounded, err := disk.ParseSize(m[3], disk.DecimalUnits)
	content, name := macWords(m[2])
	switch {
	case m[1] == "0":
		if err == nil {
			d.Size, d.Rounded = length, rounded
		}
		d.Style, d.StyleLine = macStyle(content), n
	default:
		p := partition(d, trailingNumber(m[4]), n)
		if p == nil {
			return
		}
		p.Length, p.Rounded, p.Label = length, true, name
		macContent(p, content)
	}
	l.mark(n, Understood, "%s of %s", m[4], d.Name)
}

// macWords parts the type of a row from its name: the types that are known have blanks.
func macWords(s string) (content, name string) {
	for known := range macContents {
		if rest, is := strings.CutPrefix(s, known); is && (rest == "" || rest[0] == ' ') && len(known) > len(content) {
			content, name = known, strings.TrimSpace(rest)
		}
	}
	if content == "" {
		content, name, _ = strings.Cut(s, " ")
	}
	return content, strings.TrimSpace(name)
}

// field takes a line of "info" into what the property list has.
func (m *macInfo) field(key, val string) {
	exact := func() int64 {
		if b := macBytes.FindStringSubmatch(val); b != nil {
			n, _ := strconv.ParseInt(b[1], 10, 62)
			return n
		}
		first, _, _ := strings.Cut(val, " ")
		n, _ := strconv.ParseInt(first, 10, 62)
		return n
	}
	switch key {
	case "Device Identifier":
		m.DeviceIdentifier = val
	case "Part of Whole":
		m.ParentWholeDisk = val
	case "Whole":
		m.WholeDisk = val == "Yes"
	case "Disk Size", "Total Size":
		m.TotalSize = exact()
	case "Device Block Size":
		m.DeviceBlockSize = exact()
	case "Protocol":
		m.BusProtocol = val
	case "Device / Media Name":
		m.MediaName = val
	case "Content (IOContent)", "Partition Type":
		m.Content = val
	case "Disk / Partition UUID":
		m.DiskUUID = val
	case "Volume Name":
		m.VolumeName = val
	case "Volume UUID":
		m.VolumeUUID = val
	case "Partition Offset":
		m.PartitionMapPartitionOffset = exact()
	case "Type (Bundle)", "File System Personality":
		m.FilesystemType = val
	}
}

// gpt(8), "show"; from memory.

func isGPTShow(t *text) bool {
	return anyLine(t, gptHead.MatchString) || anyLine(t, func(s string) bool {
		m := gptRow.FindStringSubmatch(s)
		return m != nil && m[4] != ""
	})
}

func readGPTShow(t *text, l *Listing) {
	var d *machine.Described
	sector := int64(512)
	for i, s := range t.lines {
		n := i + 1
		if m := gptHead.FindStringSubmatch(s); m != nil {
			l.endOfDisk(d)
			if d = l.disk(m[1], n); d == nil {
				return
			}
			d.Size, _ = strconv.ParseInt(m[2], 10, 62)
			sector, _ = strconv.ParseInt(m[3], 10, 32)
			d.SectorSize = int(sector)
			l.mark(n, Understood, "disk %s", d.Name)
			continue
		}
		m := gptRow.FindStringSubmatch(s)
		if m == nil || m[4] == "" {
			switch {
			case gptPlaces.MatchString(s) && m == nil:
				l.unread(n, "expected what lies there, as gpt show calls it")
			case strings.TrimSpace(s) != "":
				l.mark(n, Passed, "")
			}
			continue
		}
		if d == nil {
			if i == 0 {
				l.unread(n, "its beginning may be lacking")
				continue
			}
			if d = l.disk(unnamed, n); d == nil {
				return
			}
		}
		gptShowRow(d, m, sector, n)
		l.mark(n, Understood, "%s", m[4])
	}
	if d != nil {
		d.Whole = len(d.Partitions) > 0 && anyLine(t, func(s string) bool {
			m := gptRow.FindStringSubmatch(s)
			return m != nil && m[4] == "Sec GPT header"
		})
	}
}

func gptShowRow(d *machine.Described, m []string, sector int64, n int) {
	if strings.Contains(m[4], "GPT") && d.Style == "" {
		d.Style, d.StyleLine = disk.StyleGPT, n
	}
	if m[5] == "" {
		return
	}
	number, _ := strconv.Atoi(m[3])
	p := partition(d, number, n)
	if p == nil {
		return
	}
	start, _ := strconv.ParseInt(m[1], 10, 50)
	count, _ := strconv.ParseInt(m[2], 10, 50)
	p.Start, p.Length = start*sector, count*sector
	setType(p, m[5])
}
