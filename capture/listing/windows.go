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

// Get-Disk, Get-Partition and Get-Volume, piped to ConvertTo-Json: the maker's
// Storage module reference, MSFT_Disk, MSFT_Partition and MSFT_Volume.

func hasKeys(t *text, keys ...string) bool {
	head := strings.Join(t.head(400), "\n")
	for _, k := range keys {
		if !strings.Contains(head, `"`+k+`"`) {
			return false
		}
	}
	return true
}

func isGetDisk(t *text) bool {
	return hasKeys(t, "PartitionStyle", "FriendlyName") || hasKeys(t, "PartitionStyle", "Number")
}

func isGetPartition(t *text) bool { return hasKeys(t, "PartitionNumber", "Offset") }

func isGetVolume(t *text) bool { return hasKeys(t, "FileSystemLabel", "SizeRemaining") }

// readPowerShell reads objects of any of the three: a file may hold several
// listings, one after the other.
func readPowerShell(t *text, l *Listing) {
	root := l.json(t)
	objects := root.items
	if len(objects) == 0 && root.object {
		objects = []*value{root}
		if inner := root.list("value"); inner != nil { // as newer versions wrap it
			objects = inner
		}
	}
	for _, v := range objects {
		switch {
		case v.has("PartitionNumber"):
			windowsPartition(l, v)
		case v.has("PartitionStyle"):
			windowsDisk(l, v)
		case v.get("FileSystemLabel") != nil || v.get("SizeRemaining") != nil:
			windowsVolume(l, v)
		default:
			l.unread(v.line, "expected a disk, a partition or a volume")
		}
	}
	for i := range l.Disks {
		l.Disks[i].Whole = l.Problem == "" && contiguous(l.Disks[i].Partitions)
	}
}

// contiguous reports whether partitions are numbered from 1 on: a listing that was asked
// for one of them leaves others out.
func contiguous(parts []machine.DescribedPartition) bool {
	for i, p := range parts {
		if p.Number != i+1 {
			return false
		}
	}
	return len(parts) > 0
}

// busTypes are MSFT_Disk's BusType, by name and by number.
var busTypes = map[string]string{
	"ata": "ide", "3": "ide", "atapi": "ide", "2": "ide", "sata": "sata", "11": "sata", "nvme": "nvme", "17": "nvme", "usb": "usb", "7": "usb",
	"scsi": "scsi", "1": "scsi", "sas": "scsi", "10": "scsi", "sd": "sd", "12": "sd", "mmc": "sd", "13": "sd",
}

func windowsDisk(l *Listing, v *value) {
	d := l.disk("Disk "+v.str("Number"), v.line)
	if d == nil {
		return
	}
	d.Model, d.Serial, d.Size = v.str("FriendlyName"), strings.TrimSpace(v.str("SerialNumber")), v.num("Size")
	d.SectorSize, d.Bus = int(v.num("LogicalSectorSize")), busTypes[strings.ToLower(v.str("BusType"))]
	switch strings.ToLower(v.str("PartitionStyle")) {
	case "gpt", "2":
		d.Style, d.ID, d.IDLine = disk.StyleGPT, diskID(v.str("Guid")), v.lineOf("Guid")
	case "mbr", "1":
		d.Style = disk.StyleMBR
		if n := v.num("Signature"); n > 0 {
			d.ID, d.IDLine = diskID(strconv.FormatInt(n, 16)), v.lineOf("Signature")
		}
	case "raw", "0":
		d.Style = disk.StyleNone
	}
	d.StyleLine = v.lineOf("PartitionStyle")
	l.mark(v.line, Understood, "%s: %s", d.Name, d.Model)
}

func windowsPartition(l *Listing, v *value) {
	d := l.disk("Disk "+v.str("DiskNumber"), v.line)
	if d == nil {
		return
	}
	p := partition(d, int(v.num("PartitionNumber")), v.line)
	if p == nil {
		return
	}
	p.Length, p.Letter = v.num("Size"), letter(v.str("DriveLetter"))
	if v.has("IsActive") {
		p.Active = fact.Known(v.truth("IsActive"), fact.Source{})
	}
	if v.has("Offset") {
		p.Start = v.num("Offset")
	}
	if s := v.str("GptType"); s != "" {
		setType(p, s)
		d.Style, d.StyleLine = disk.StyleGPT, v.lineOf("GptType")
	} else if n := v.num("MbrType"); n > 0 && n < 256 {
		p.MBRType = byte(n)
		d.Style, d.StyleLine = disk.StyleMBR, v.lineOf("MbrType")
	}
	p.GUID, _ = disk.ParseGUID(strings.Trim(v.str("Guid"), "{}"))
	l.mark(v.line, Understood, "partition %d of %s", p.Number, d.Name)
}

func letter(s string) string {
	s = strings.Trim(s, "\x00 :")
	if len(s) == 1 && (s[0] >= 'A' && s[0] <= 'Z' || s[0] >= 'a' && s[0] <= 'z') {
		return strings.ToUpper(s)
	}
	if n, err := strconv.Atoi(s); err == nil && n >= 'A' && n <= 'Z' { // a character as a number
		return string(rune(n))
	}
	return ""
}

// windowsVolume tells of the partition with the same letter; one without a letter
// cannot be placed.
func windowsVolume(l *Listing, v *value) {
	mark := letter(v.str("DriveLetter"))
	for i := range l.Disks {
		for j := range l.Disks[i].Partitions {
			if p := &l.Disks[i].Partitions[j]; mark != "" && p.Letter == mark {
				p.Kind, _ = volume.Named(v.str("FileSystem"))
				p.Label, p.Used = v.str("FileSystemLabel"), max(v.num("Size")-v.num("SizeRemaining"), 0)
				l.mark(v.line, Understood, "volume %s of partition %d", mark, p.Number)
				return
			}
		}
	}
	l.mark(v.line, Understood, "volume %s: %s, %s", mark, v.str("FileSystem"), v.str("FileSystemLabel"))
	d := l.disk("Volumes", v.line)
	if d == nil {
		return
	}
	if p := partition(d, len(d.Partitions)+1, v.line); p != nil {
		p.Kind, _ = volume.Named(v.str("FileSystem"))
		p.Label, p.Letter, p.Length = v.str("FileSystemLabel"), mark, v.num("Size")
		p.Used = max(v.num("Size")-v.num("SizeRemaining"), 0)
	}
}

// diskpart: list disk, list partition, list volume, detail disk and detail
// partition. Its words are translated; columns and values are not.

var (
	dashes      = regexp.MustCompile(`^\s*-{3,}(\s+-{3,})+\s*$`)
	detailLine  = regexp.MustCompile(`^(\S[^:]{1,40}?)\s*:\s+(.*?)\s*$`)
	firstNumber = regexp.MustCompile(`(\d+)`)
)

func isDiskpart(t *text) bool {
	return anyLine(t, func(s string) bool { return strings.HasPrefix(strings.TrimSpace(s), "DISKPART>") }) ||
		anyLine(t, dashes.MatchString)
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
}

func readDiskpart(t *text, l *Listing) {
	p := &diskpart{l: l, notGPT: map[string]bool{}}
	for i, s := range t.lines {
		p.line(strings.TrimRight(s, "\r"), i+1)
	}
	for i := range l.Disks {
		l.Disks[i].Whole = len(l.Disks[i].Partitions) > 0 && t.goesOn(&l.Disks[i])
	}
}

func (p *diskpart) line(s string, n int) {
	switch trimmed := strings.TrimSpace(s); {
	case dashes.MatchString(s):
		p.columns, p.full = columnsOf(s), strings.HasSuffix(s, "---")
		p.l.mark(n, Passed, "")
	case trimmed == "" || strings.HasPrefix(trimmed, "DISKPART>"):
		p.columns = nil
		p.selects(trimmed, n)
	case p.columns != nil && firstNumber.MatchString(cell(s, p.columns, 0)):
		p.row(s, n)
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

// columnsOf returns where the columns begin, as the dashes show.
func columnsOf(s string) []int {
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

// row reads a row by the number of its columns.
func (p *diskpart) row(s string, n int) {
	c := func(i int) string { return cell(s, p.columns, i) }
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
		if start, rounded := size(c(3)); !rounded || start < 1<<30 {
			part.Start = start
		}
		if p.notGPT[p.disk.Name] {
			p.disk.Style, p.disk.StyleLine = disk.StyleMBR, n
		}
		part.Role = roleNamed(c(1))
		p.l.mark(n, Understood, "partition %d, %s", number, c(1))
	case 8: // volume, letter, label, file system, type, size, status, info
		p.volume(c, n)
	default:
		p.l.unread(n, "a table of %d columns is none of disks, partitions or volumes", len(p.columns))
	}
}

// volume ties a row to a selected disk's only partition of its size; else it
// tells of letters alone.
func (p *diskpart) volume(c func(int) string, n int) {
	length, _ := size(c(5))
	kind, _ := volume.Named(c(3))
	p.l.mark(n, Understood, "volume %s: %s, %s", c(1), c(3), c(2))
	if p.disk == nil {
		return
	}
	var hit *machine.DescribedPartition
	for i := range p.disk.Partitions {
		q := &p.disk.Partitions[i]
		if q.Length == length && length > 0 {
			if hit != nil {
				return
			}
			hit = q
		}
	}
	if hit != nil {
		hit.Kind, hit.Label, hit.Letter = kind, c(2), letter(c(1))
	}
}

// roleNamed reads the type column's words.
func roleNamed(s string) disk.Role {
	switch lower := strings.ToLower(s); {
	case lower == "system" || strings.HasPrefix(lower, "syst"):
		return disk.RoleBoot
	case strings.HasPrefix(lower, "reserv") || strings.HasPrefix(lower, "réserv"):
		return disk.RoleReserved
	case strings.HasPrefix(lower, "recover") || strings.HasPrefix(lower, "wiederher") || strings.HasPrefix(lower, "récup") ||
		strings.HasPrefix(lower, "recup"):
		return disk.RoleRecovery
	case strings.HasPrefix(lower, "prim"):
		return disk.RoleSystem
	}
	return ""
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
		strings.HasPrefix(key, "attiv")):
		p.part.Active = fact.Known(yesWords[strings.ToLower(val)], fact.Source{})
	default:
		p.l.mark(n, Passed, "")
		return
	}
	p.l.mark(n, Understood, "%s", m[1])
}

var yesWords = map[string]bool{"yes": true, "ja": true, "oui": true, "sí": true, "si": true, "sì": true, "sim": true, "tak": true, "ano": true}
