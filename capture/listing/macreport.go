package listing

import (
	"regexp"
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/volume"
)

// system_profiler(8), the storage parts (NVMe, serial ATA, USB); from memory.

var (
	reportDisk  = regexp.MustCompile(`^\s+BSD Name: (disk\d+)(s\d+)?\s*$`)
	reportTitle = regexp.MustCompile(`^(\s*)(\S.*):\s*$`)
	reportField = regexp.MustCompile(`^\s+([A-Z][\w /.()-]*?):\s+(\S.*?)\s*$`)
	reportBytes = regexp.MustCompile(`\(([\d.,' \x{a0}\x{202f}]+) bytes?\)`)
)

// reportBuses are the report's parts, with the buses that drives hang on there.
var reportBuses = map[string]string{"NVMExpress:": "nvme", "SATA/SATA Express:": "sata", "SATA:": "sata", "Serial-ATA:": "sata", "USB:": "usb"}

func isMacReport(t *text) bool {
	return anyLine(t, func(s string) bool { return reportDisk.MatchString(s) || reportBuses[s] != "" })
}

// readMacReport reads sections: a title, and fields below it until the next.
func readMacReport(t *text, l *Listing) {
	bus, title := "", ""
	var at int
	fields := map[string]string{}
	end := func() {
		if fields["BSD Name"] != "" {
			macSection(l, title, bus, fields, at)
		}
		fields = map[string]string{}
	}
	for i, s := range t.lines {
		if t.brokenOff(i) {
			break
		}
		if m := reportTitle.FindStringSubmatch(s); m != nil {
			end()
			title = m[2]
			if m[1] == "" {
				bus = reportBuses[title+":"]
			}
			l.mark(i+1, Passed, "")
			continue
		}
		if m := reportField.FindStringSubmatch(s); m != nil {
			if fields[m[1]] == "" {
				fields[m[1]] = m[2]
			}
			if m[1] == "BSD Name" {
				at = i + 1
			}
			l.mark(i+1, Passed, "")
		}
	}
	end()
}

// exactBytes is the figure in bytes that a section gives, with marks between its digits.
func exactBytes(s string) int64 {
	m := reportBytes.FindStringSubmatch(s)
	if m == nil {
		return 0
	}
	n, _ := strconv.ParseInt(strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, m[1]), 10, 62)
	return n
}

// macSection takes a drive, or a partition: a volume of a container says no content.
func macSection(l *Listing, title, bus string, fields map[string]string, line int) {
	name := fields["BSD Name"]
	whole, number, isPartition := strings.Cut(strings.TrimPrefix(name, "disk"), "s")
	if isPartition && fields["Content"] == "" || !isPartition && fields["Partition Map Type"] == "" && fields["Model"] == "" {
		l.mark(line, Passed, "a container's volume")
		return
	}
	d := l.disk("disk"+whole, line)
	if d == nil {
		return
	}
	if !isPartition {
		d.Size, d.Model, d.Serial, d.Bus = exactBytes(fields["Capacity"]), fields["Model"], fields["Serial Number"], bus
		switch style := fields["Partition Map Type"]; {
		case strings.HasPrefix(style, "GPT"):
			d.Style, d.StyleLine = disk.StyleGPT, line
		case strings.HasPrefix(style, "MBR"):
			d.Style, d.StyleLine = disk.StyleMBR, line
		}
		l.mark(line, Understood, "disk %s", d.Name)
		return
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 {
		return
	}
	if p := partition(d, n, line); p != nil {
		p.Length, p.Label, p.Serial = exactBytes(fields["Capacity"]), title, fields["Volume UUID"]
		macContent(p, fields["Content"])
		if k, known := volume.Named(strings.TrimPrefix(fields["File System"], "MS-DOS ")); known {
			p.Kind = k
		}
		l.mark(line, Understood, "partition %d of %s", n, d.Name)
	}
}

// macStart is the startup disk among a Mac's firmware variables: a matching dictionary with
// the partition's GUID, in nvram(8)'s -p and -x forms. From memory.
var macStart = regexp.MustCompile(`^efi-boot-device\s+<.*<key>UUID</key>\s*<string>([0-9A-Fa-f-]{36})</string>`)

func isMacVariables(t *text) bool { return anyLine(t, macStart.MatchString) }

func readMacVariables(t *text, l *Listing) {
	for i, s := range t.lines {
		g, err := disk.ParseGUID(match(macStart, s))
		if err != nil {
			if strings.TrimSpace(s) != "" {
				l.mark(i+1, Passed, "")
			}
			continue
		}
		l.MacStart = fact.Known(g, fact.Source{Origin: fact.Text, Structure: string(MacVariables), Line: i + 1})
		l.mark(i+1, Understood, "the Mac starts partition %s", g)
	}
}
