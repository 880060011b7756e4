package listing

import (
	"regexp"
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// diskpart: list disk, list partition, list volume, detail disk and detail
// partition. Its words are translated; columns and values are not.

var (
	dashes      = regexp.MustCompile(`^\s*-{3,}(\s+-{3,})+\s*$`)
	indented    = regexp.MustCompile(`^  -{3,}(?: {1,2}-{3,}){3,7}\s*$`) // as no other tool prints it
	detailLine  = regexp.MustCompile(`^(\S[^:]{1,40}?)\s*:\s+(.*?)\s*$`)
	firstNumber = regexp.MustCompile(`(\d+)`)
)

func isDiskpart(t *text) bool {
	return anyLine(t, func(s string) bool { return strings.HasPrefix(strings.TrimSpace(s), "DISKPART>") }) ||
		anyLine(t, dashes.MatchString) && anyLine(t, func(s string) bool { return strings.Contains(s, "###") }) ||
		anyLine(t, indented.MatchString)
}

// diskpart keeps which disk and partition was selected last.
type diskpart struct {
	l       *Listing
	columns []int
	disk    *machine.Described
	part    *machine.DescribedPartition
	model   bool // the next line is the model of the disk
	full    bool // the last column is whole: a window did not cut it off
	notGPT  map[string]bool
	listed  map[string]bool // disks whose partitions were listed
	volumes []volumeRow
}

func readDiskpart(t *text, l *Listing) {
	p := &diskpart{l: l, notGPT: map[string]bool{}, listed: map[string]bool{}}
	for i, s := range t.lines {
		p.line(strings.TrimRight(s, "\r"), i+1)
	}
	for _, v := range p.volumes {
		p.volume(v)
	}
	for i := range l.Disks {
		if d := &l.Disks[i]; p.listed[d.Name] {
			d.Whole = t.goesOn(d)
		}
	}
}

func (p *diskpart) line(s string, n int) {
	switch trimmed := strings.TrimSpace(s); {
	case dashes.MatchString(s):
		p.columns, p.full = columnsOf(s), strings.HasSuffix(s, "---")
		if p.l.mark(n, Passed, ""); p.columns == nil {
			p.l.unread(n, "the blanks between the columns are gone: which word stands in which column cannot be told")
		}
	case trimmed == "" || strings.HasPrefix(trimmed, "DISKPART>"):
		p.columns = nil
		p.selects(trimmed, n)
	case p.columns != nil && firstNumber.MatchString(cell(s, p.columns, 0)):
		p.row(cells(s, p.columns), n)
	case strings.Contains(trimmed, " : ") || detailLine.MatchString(trimmed) && p.disk != nil:
		p.detail(trimmed, n)
	case p.model && p.disk != nil:
		p.disk.Model, p.model = trimmed, false
		p.l.mark(n, Understood, "model")
	case selected.MatchString(trimmed):
		p.selects(trimmed, n)
	}
}

// selected is the answer to a selection, in any language: a number and a full
// stop, and no figure in it.
var selected = regexp.MustCompile(`(?i)(disk|datenträger|disque|disco|partition|partición|partizione|volume)\D{0,14}\d+.*\.$`)

// selects follows "select disk N" and "Disk N is now the selected disk."
func (p *diskpart) selects(s string, n int) {
	lower := strings.ToLower(s)
	if strings.HasPrefix(lower, "diskpart>") {
		p.model = strings.HasSuffix(lower, "detail disk") || strings.HasSuffix(lower, "det dis")
	}
	number := firstNumber.FindString(s)
	if number == "" {
		return
	}
	v, _ := strconv.Atoi(number)
	switch {
	case strings.Contains(lower, "partiti") || strings.Contains(lower, "partici"):
		if p.disk != nil {
			p.part = partition(p.disk, v, n)
		}
	case strings.Contains(lower, "vol"):
		p.part = nil
	default:
		p.disk, p.part = p.l.disk("Disk "+number, n), nil
	}
	p.l.mark(n, Understood, "selection")
}

// columnsOf returns where the columns begin, as the dashes show; nil where one blank alone parts
// them: the text was pasted without its columns.
func columnsOf(s string) []int {
	if !strings.Contains(strings.TrimSpace(s), "  ") {
		return nil
	}
	var at []int
	for i := range len(s) {
		if s[i] == '-' && (i == 0 || s[i-1] != '-') {
			at = append(at, i)
		}
	}
	return at
}

// cell returns a column's text. Characters outside of ASCII take one place.
func cell(s string, columns []int, i int) string {
	if i >= len(columns) {
		return ""
	}
	runes := []rune(s)
	from, to := columns[i], len(runes)
	if i+1 < len(columns) {
		to = columns[i+1]
	}
	if from >= len(runes) {
		return ""
	}
	return strings.TrimSpace(string(runes[from:min(to, len(runes))]))
}

// cells are the texts of a row's columns; nil where words stand across their edges, and the gaps
// between them do not tell the columns either: in some languages the words for bytes are longer
// than the column.
func cells(s string, columns []int) []string {
	runes, list := []rune(s), make([]string, len(columns))
	across := false
	for i, at := range columns {
		list[i] = cell(s, columns, i)
		across = across || i > 0 && at < len(runes) && runes[at-1] != ' ' && runes[at] != ' '
	}
	if !across {
		return list
	}
	clear(list)
	apart := wide.FindAllString(s, len(columns)+1)
	if len(columns) != 4 && len(columns) != 6 || len(apart) < 4 || len(apart) > len(columns) {
		return nil
	}
	copy(list, apart[:4])
	for _, mark := range apart[4:] { // of a disk: dynamic, GPT
		if mark != "*" {
			return nil
		}
		if at := strings.LastIndex(s, "*"); len([]rune(s[:at])) >= columns[5]-1 {
			list[5] = mark
		} else {
			list[4] = mark
		}
	}
	return list
}

// row reads a row by the number of its columns.
func (p *diskpart) row(cells []string, n int) {
	if cells == nil {
		p.l.unread(n, "which word stands in which column cannot be told")
		return
	}
	c := func(i int) string { return cells[i] }
	number, _ := strconv.Atoi(firstNumber.FindString(c(0)))
	switch len(p.columns) {
	case 6: // disk, status, size, free, dynamic, GPT
		d := p.l.disk("Disk "+strconv.Itoa(number), n)
		if d == nil {
			return
		}
		d.Size, d.Rounded = size(c(2))
		d.Rounded = true
		// Without the star it is MBR, or a disk without a table.
		style := "not GPT"
		if strings.Contains(c(5), "*") {
			d.Style, d.StyleLine, style = disk.StyleGPT, n, string(disk.StyleGPT)
		}
		p.notGPT[d.Name] = d.Style == "" && p.full
		p.l.mark(n, Understood, "%s, %s", d.Name, style)
	case 4: // partition, type, size, offset
		if p.disk == nil {
			p.disk = p.l.disk("Disk", n)
		}
		part := partition(p.disk, number, n)
		if part == nil {
			return
		}
		part.Length, part.Rounded = size(c(2))
		if start, rounded, err := disk.ParseSize(c(3), disk.BinaryUnits); err == nil && (!rounded || start < 1<<30) {
			part.Start = start
		}
		if p.notGPT[p.disk.Name] {
			p.disk.Style, p.disk.StyleLine = disk.StyleMBR, n
		}
		part.Role, p.listed[p.disk.Name] = roleNamed(c(1)), true
		p.l.mark(n, Understood, "partition %d, %s", number, c(1))
	case 8: // volume, letter, label, file system, type, size, status, info
		p.volumes = append(p.volumes, volumeRow{cells, n})
	default:
		p.l.unread(n, "a table of %d columns is none of disks, partitions or volumes", len(p.columns))
	}
}

// volumeRow is a row of the volumes, kept until all partitions are known.
type volumeRow struct {
	cells []string
	line  int
}

// volume ties a row to the only partition of its size; else it tells of letters alone.
func (p *diskpart) volume(v volumeRow) {
	length, _ := size(v.cells[5])
	kind, _ := volume.Named(v.cells[3])
	p.l.mark(v.line, Understood, "volume %s: %s, %s", v.cells[1], v.cells[3], v.cells[2])
	var hit *machine.DescribedPartition
	for i := range p.l.Disks {
		for j := range p.l.Disks[i].Partitions {
			q := &p.l.Disks[i].Partitions[j]
			if q.Length != length || length == 0 {
				continue
			}
			if hit != nil {
				return
			}
			hit = q
		}
	}
	if hit != nil {
		hit.Kind, hit.Label, hit.Letter = kind, v.cells[2], letter(v.cells[1])
	}
}

// roleNamed reads the type column's words.
func roleNamed(s string) disk.Role {
	lower := strings.ToLower(s)
	for role, beginnings := range roleWords {
		for _, b := range beginnings {
			if strings.HasPrefix(lower, b) {
				return role
			}
		}
	}
	return ""
}

// roleWords are what the types of partitions begin with in the languages of Windows; from memory.
var roleWords = map[disk.Role][]string{
	disk.RoleBoot:     {"syst", "sist", "системн"},
	disk.RoleReserved: {"reserv", "réserv", "riserv", "gereserv", "zarezerw", "зарезерв"},
	disk.RoleRecovery: {"recover", "wiederher", "récup", "recup", "ripristino", "herstel", "odzysk", "восстан"},
	disk.RoleSystem:   {"prim", "princip", "podstaw", "основн"},
}

// detail reads a line of a detail listing by its value.
func (p *diskpart) detail(s string, n int) {
	m := detailLine.FindStringSubmatch(s)
	if m == nil || p.disk == nil {
		return
	}
	key, val := strings.ToLower(m[1]), m[2]
	switch g, err := disk.ParseGUID(strings.Trim(val, "{}")); {
	case p.part == nil && err == nil:
		p.disk.Style, p.disk.ID, p.disk.StyleLine, p.disk.IDLine = disk.StyleGPT, g.String(), n, n
	case p.part == nil && strings.Contains(key, "id") && len(val) == 8 && diskID(val) != "":
		p.disk.Style, p.disk.ID, p.disk.StyleLine, p.disk.IDLine = disk.StyleMBR, diskID(val), n, n
	case p.part == nil && busTypes[strings.ToLower(val)] != "" && len(val) > 2:
		p.disk.Bus = busTypes[strings.ToLower(val)]
	case p.part != nil && err == nil:
		p.part.Type = g
	case p.part != nil && (strings.HasPrefix(key, "type") || strings.HasPrefix(key, "typ")) && len(val) <= 2:
		setType(p.part, val)
	case p.part != nil && strings.Contains(key, "offset"):
		if v, err := strconv.ParseInt(val, 10, 60); err == nil {
			p.part.Start = v
		}
	case p.part != nil && (strings.HasPrefix(key, "activ") || strings.HasPrefix(key, "aktiv") || strings.HasPrefix(key, "actif") ||
		strings.HasPrefix(key, "attiv") || strings.HasPrefix(key, "ativ") || strings.HasPrefix(key, "актив")):
		yes, known := yesWords[strings.ToLower(val)]
		if !known {
			p.l.unread(n, "expected yes or no")
			return
		}
		p.part.Active = fact.Known(yes, fact.Source{})
	default:
		p.l.mark(n, Passed, "")
		return
	}
	p.l.mark(n, Understood, "%s", m[1])
}

var yesWords = map[string]bool{"yes": true, "ja": true, "oui": true, "sí": true, "si": true, "sì": true, "sim": true, "tak": true, "ano": true,
	"да": true, "evet": true, "igen": true, "kyllä": true, "はい": true, "是": true, "no": false, "nein": false, "non": false, "não": false, "nee": false,
	"nej": false, "nei": false, "nie": false, "ne": false, "нет": false, "hayır": false, "nem": false, "ei": false, "いいえ": false, "否": false}
