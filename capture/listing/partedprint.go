package listing

import (
	"path"
	"regexp"
	"strconv"
	"strings"

	"github.com/rivo/uniseg"

	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// parted(8), "print" for people, in any unit. Its words are translated: a line is known by its
// shape and its place, a column by its place in a table of the disk's style.

var (
	partedDisk  = regexp.MustCompile(`^(?:[^/:]{2,30} +)?(/[^\s:]+)(?: [^/:]{2,30})?\s?: +(\S+)$`)
	partedSize  = regexp.MustCompile(`^\d[\d.,]*(?:[kMGTP]?i?B|s)?$`)
	onlyDigits  = regexp.MustCompile(`^[\d.,]+$`) // a unit follows, or the line is cut off
	partedModel = regexp.MustCompile(`^[^:]{2,30}?\s?: (?:(.*) )?\(([^()]*)\)$`)
	partedUnits = regexp.MustCompile(`^[^:]+: (\d+)(?:[BБ]/|/B)\d+[BБ]$`)
	partedStyle = regexp.MustCompile(`^[^:]{2,40}?\s?: (gpt|msdos|loop|mac|bsd|dvh|sun|pc98|amiga|aix|atari|unknown)$`)
	partedNames = newVocabulary(map[string]string{"Number": "number", "Start": "start", "End": "end", "Size": "size", "Type": "type",
		"File system": "fs", "Name": "name", "Flags": "flags"})
)

func isPartedPrint(t *text) bool {
	return anyLine(t, func(s string) bool { return len(partedNames.heads(s)) >= 5 }) || anyLine(t, isPartedDisk)
}

func isPartedDisk(s string) bool {
	m := partedDisk.FindStringSubmatch(oneColon(strings.TrimRight(s, " \r")))
	return m != nil && partedSize.MatchString(m[2])
}

// oneColon writes the colon and the comma of Chinese and Japanese texts as the others'.
func oneColon(s string) string { return marks.Replace(s) }

var marks = strings.NewReplacer("： ", ": ", "：", ": ", "，", ", ")

// partedColumns are the columns of a table by its style.
var partedColumns = map[disk.Style][]string{
	disk.StyleGPT: {"number", "start", "end", "size", "fs", "name", "flags"},
	disk.StyleMBR: {"number", "start", "end", "size", "type", "fs", "flags"},
}

// wide are the gaps between the heads of a table.
var wide = regexp.MustCompile(`\S+(?: \S+)*`)

// partedHeads are the heads of a table: English ones by their names, others by their places.
func partedHeads(s string, style disk.Style) []head {
	if at := partedNames.heads(s); len(at) >= 5 {
		return at
	}
	names, at := partedColumns[style], wide.FindAllStringIndex(s, 8)
	if strings.ContainsAny(s, "0123456789:") || len(names) != len(at) {
		return nil
	}
	var heads []head
	for i, name := range names {
		from := uniseg.StringWidth(s[:at[i][0]])
		heads = append(heads, head{name, from, from + uniseg.StringWidth(s[at[i][0]:at[i][1]])})
	}
	return heads
}

func readPartedPrint(t *text, l *Listing) {
	r := partedPrint{l: l, sector: 512}
	for i, s := range t.lines {
		r.line(oneColon(strings.TrimRight(s, " \r")), i+1)
	}
	if r.d != nil {
		r.d.Whole = t.goesOn(r.d)
	}
}

type partedPrint struct {
	l          *Listing
	d          *machine.Described
	at         []head
	sector     int64
	model, bus string
}

func (r *partedPrint) line(s string, n int) {
	l, d := r.l, r.d
	units, style := partedUnits.FindStringSubmatch(s), partedStyle.FindStringSubmatch(s)
	switch {
	case strings.TrimSpace(s) == "":
	case isPartedDisk(s):
		r.disk(partedDisk.FindStringSubmatch(s), n)
	case d != nil && r.at == nil && units != nil:
		if v, err := strconv.ParseInt(units[1], 10, 32); err == nil && v > 0 {
			r.sector, d.SectorSize = v, int(v)
		}
		l.mark(n, Understood, "sector size")
	case d != nil && r.at == nil && style != nil:
		d.Style, d.StyleLine = styleNamed(style[1]), n
		l.mark(n, Understood, "partition table")
	case r.at == nil && d != nil && partedHeads(s, d.Style) != nil, r.at != nil && len(partedNames.heads(s)) >= 5:
		r.at = partedHeads(s, d.Style)
		l.mark(n, Passed, "%s", headsMark(r.at))
	case partedModel.MatchString(s) && (r.at == nil || !startsWithNumber(s)):
		m := partedModel.FindStringSubmatch(s)
		r.model, r.bus = m[1], m[2]
		l.mark(n, Understood, "model")
	case r.at != nil && d != nil:
		cells := map[string]string{}
		for j, c := range row(s, r.at, "number", "start", "end", "size", "type") {
			cells[r.at[j].name] = c
		}
		partedRow(l, d, cells, r.sector, n)
	default:
		l.mark(n, Passed, "")
	}
}

func startsWithNumber(s string) bool {
	s = strings.TrimSpace(s)
	return s != "" && s[0] >= '0' && s[0] <= '9'
}

func (r *partedPrint) disk(m []string, n int) {
	r.l.endOfDisk(r.d)
	r.at, r.sector = nil, 512
	if r.d = r.l.disk(path.Base(m[1]), n); r.d == nil {
		return
	}
	r.d.Model, r.d.Bus = r.model, linuxBus(r.d.Name, r.bus)
	if v, ok := partedFigure(m[2], r.sector); ok && !onlyDigits.MatchString(m[2]) {
		r.d.Size, r.d.Rounded = v, !exactPlaces(m[2])
	}
	r.model, r.bus = "", ""
	r.l.mark(n, Understood, "disk %s", r.d.Name)
}

func partedRow(l *Listing, d *machine.Described, c map[string]string, sector int64, n int) {
	number, err := strconv.Atoi(c["number"])
	if err != nil || extendedWords[strings.ToLower(c["type"])] {
		l.mark(n, Passed, "")
		return
	}
	p := partition(d, number, n)
	if p == nil {
		return
	}
	if v, ok := partedFigure(c["start"], sector); ok {
		p.Start = v
	}
	if v, ok := partedFigure(c["size"], sector); ok {
		p.Length = v
	}
	p.Rounded = !exactPlaces(c["start"])
	p.Kind, _ = volume.Named(c["fs"])
	p.Name = c["name"]
	// A table whose columns ran together tells too little to say that a flag is not set.
	partedFlags(d, p, strings.ReplaceAll(c["flags"], " ", ""))
	l.mark(n, Understood, "partition %d", number)
}

// extendedWords are what an extended partition is called, and bootWords what the flag of an active
// one is: the catalogues of Debian's libparted-i18n 3.5.
var extendedWords = wordSet("extended", "ek", "erweitert", "estendida", "estesa", "estese", "extendida", "extesa", "extinsă", "mở rộng",
	"razširjen", "rozszerzona", "rozšírený", "rozšířený", "udvidet", "uitgebreid", "utviding", "utökad", "étendue", "проширена",
	"расширенный", "розширений", "扩展", "拡張", "擴充分割區")

var bootWords = wordSet("boot", "arranque", "avvio", "depornire", "démarrage", "inviament", "khởiđộng", "opstart", "start", "startbar", "zagon",
	"zavádzací", "önyükleme", "ładowalna", "загрузочный", "подизна", "启动", "啟動")

var espWords = wordSet("esp", "есп")

func wordSet(words ...string) map[string]bool {
	set := map[string]bool{}
	for _, w := range words {
		set[w] = true
	}
	return set
}
