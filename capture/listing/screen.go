package listing

import (
	"regexp"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// Windows' disk-management screen, typed or pasted as it reads: a block for each disk,
// then its partitions from the left. Its sizes are binary under decimal names: 465.76 GB
// are those of a drive that is sold as 500 GB. Words from memory of its languages.

var (
	// A disk may be named by what it is in the case, as a person writes it.
	screenNamed = regexp.MustCompile(`(?i)^(original|clone)\b[:,]?\s*(.*)$`)
	// What a person says in short of the second disk.
	screenSame    = regexp.MustCompile(`(?i)\b(?:the same|same|as the original|wie das original)\b`)
	screenWithout = regexp.MustCompile(`(?i)^(?:without|ohne|but not|sans|sin)\s+(?:the\s+)?(.+)$`)
	screenWord    = regexp.MustCompile(`(?i)\b(GPT|MBR)\b`)
	screenDisk    = regexp.MustCompile(`(?i)^\W*(?:disk|datenträger|disque|disco|dysk|диск|schijf|lemez|磁盘|ディスク|디스크) ?(\d{1,2})\b[:,]?\s*(.*)$`)
	screenSize    = regexp.MustCompile(`(?i)(\d[\d.,]*) ?([KMGT])[BОo]\b`)
	screenState   = regexp.MustCompile(`(?i)^(healthy|fehlerfrei|sain|correcto|integro|íntegro|zdrowa|zdravý|ok|gezond|исправен|状态良好|正常|at risk|unknown|failed)?\s*\((.*)\)\s*$`)
	screenActive  = regexp.MustCompile(`(?i)^\s*(activ|aktiv|actif|attiv|активен)`)
	screenLetter  = regexp.MustCompile(`\(([A-Z]):\)`)
	// elsewhere is how other systems call disks and partitions.
	elsewhere  = regexp.MustCompile(`^/dev/|\bdisk\d+s\d+\b|^\s*disk\d+\s*$`)
	screenFree = regexp.MustCompile(`(?i)unallocated|nicht zugeordnet|non alloué|no asignado|non allocato|niet toegewezen|nieprzydzielone|не распределена|未分配`)
)

func isDiskManagement(t *text) bool {
	if anyLine(t, elsewhere.MatchString) {
		return false
	}
	for i, s := range t.lines {
		s = strings.TrimSpace(s)
		if m := screenDisk.FindStringSubmatch(s); m != nil && i+1 < len(t.lines) &&
			(m[2] == "" || screenSize.MatchString(m[2])) && anyLine(t, screenSize.MatchString) {
			return true
		}
		if m := screenNamed.FindStringSubmatch(s); m != nil && screenSize.MatchString(m[2]) {
			return true
		}
		if m := screenState.FindStringSubmatch(s); m != nil && (m[1] != "" || screenWords(m[2]) != "") {
			return true
		}
	}
	return false
}

func readDiskManagement(t *text, l *Listing) {
	r := &screen{l: l}
	for i, s := range t.lines {
		r.line(strings.TrimSpace(s), i+1)
	}
	if r.p.Kind == "" && r.p.Letter == "" {
		r.p.Length = 0 // what it is would come behind it: a partition, or free room
	}
	r.partitionEnds()
	if r.d != nil {
		r.d.Whole = t.after && t.goesOn(r.d) || r.filled() || r.d.Whole
	}
}

// screen keeps what of a partition was read: its size comes before the words on it.
type screen struct {
	l     *Listing
	d     *machine.Described
	p     machine.DescribedPartition
	line0 int
	words []int // lines of words without a meaning of their own, since the last partition
	free  int64 // bytes of the disk that the screen shows as free
}

// unshown is how much of a disk the screen leaves out at most, and rounds away at each of its
// sizes: the reserved partition (up to 128 MiB), and what lies between the others.
const unshown, roundedAway = 144 << 20, 6 << 20

// filled reports whether what is shown of a disk fills it: nothing was left out then.
func (r *screen) filled() bool {
	left := r.d.Size - r.free
	for _, p := range r.d.Partitions {
		left -= p.Length
	}
	slack := int64(len(r.d.Partitions)+2) * roundedAway
	return r.d.Size > 0 && len(r.d.Partitions) > 0 && left < unshown+slack && left > -slack
}

func (r *screen) line(s string, n int) {
	if s == "" {
		return
	}
	if m := screenDisk.FindStringSubmatch(s); m != nil && !screenLetter.MatchString(s) {
		r.partitionEnds()
		r.l.endOfDisk(r.d)
		r.free = 0
		if r.d = r.l.disk("Disk "+m[1], n); r.d != nil {
			r.l.mark(n, Understood, "%s", r.d.Name)
			r.named(m[2], n)
		}
		return
	}
	if m := screenNamed.FindStringSubmatch(s); m != nil {
		r.partitionEnds()
		r.l.endOfDisk(r.d)
		r.free = 0
		if r.d = r.l.disk(strings.ToLower(m[1]), n); r.d != nil {
			r.l.mark(n, Understood, "the %s", r.d.Name)
			r.named(m[2], n)
		}
		return
	}
	if r.d == nil {
		return
	}
	if m := screenWithout.FindStringSubmatch(s); m != nil {
		r.partitionEnds()
		r.without(m[1], n)
		return
	}
	if m := screenState.FindStringSubmatch(s); m != nil && (m[1] != "" || screenWords(m[2]) != "") {
		r.state(m[2], n)
		return
	}
	if screenFree.MatchString(s) {
		r.free += r.p.Length
		r.p, r.line0 = machine.DescribedPartition{}, 0
		r.l.mark(n, Passed, "free")
		return
	}
	if m := screenLetter.FindStringSubmatch(s); m != nil {
		if r.p.Letter != "" || r.p.Length > 0 {
			r.partitionEnds()
		}
		r.p.Letter, r.p.Label = m[1], strings.TrimSpace(s[:strings.Index(s, "("+m[1]+":)")])
		r.line0 = n
		r.l.mark(n, Understood, "drive letter %s", m[1])
	}
	r.size(s, n)
}

// named takes what stands behind a disk's name.
func (r *screen) named(s string, n int) {
	if w := screenWord.FindString(s); w != "" {
		r.d.Style, r.d.StyleLine = styleNamed(w), n
	}
	r.size(s, n)
	if screenSame.MatchString(s) {
		r.same(n)
	}
}

// same takes over the partitions of the disk before, which a person says are the same.
func (r *screen) same(n int) {
	for i := range r.l.Disks {
		o := &r.l.Disks[i]
		if o == r.d || len(o.Partitions) == 0 {
			continue
		}
		if r.d.Style == "" {
			r.d.Style, r.d.StyleLine = o.Style, n
		}
		r.d.Partitions, r.d.Whole = slices.Clone(o.Partitions), o.Whole // as far as the person says otherwise
		for j := range r.d.Partitions {
			r.d.Partitions[j].Line, r.d.Partitions[j].Letter = n, ""
		}
		r.l.mark(n, Understood, "the same partitions as the %s", o.Name)
		return
	}
	r.l.unread(n, "expected the other disk before it in the same text")
}

// without takes a partition away again, by its number or by what it is for.
func (r *screen) without(what string, n int) {
	kind, number := screenWords(what), trailingNumber(what)
	before := len(r.d.Partitions)
	r.d.Partitions = slices.DeleteFunc(r.d.Partitions, func(p machine.DescribedPartition) bool {
		return number > 0 && p.Number == number || kind == "EFI" && p.Type == disk.TypeESP ||
			kind == "recovery" && p.Role == disk.RoleRecovery
	})
	if len(r.d.Partitions) == before {
		r.l.unread(n, "expected which partition: EFI, recovery, or its number")
		return
	}
	r.l.mark(n, Understood, "without it")
}

// size takes a size: the first behind a disk's name is the disk's, every other one a
// partition's.
func (r *screen) size(s string, n int) {
	m := screenSize.FindStringSubmatch(s)
	if m == nil {
		r.words = append(r.words, n)
		return
	}
	length, _, err := disk.ParseSize(m[1]+" "+m[2]+"B", disk.BinaryUnits)
	if err != nil {
		return
	}
	r.l.mark(n, Understood, "size")
	if r.d.Size == 0 && len(r.d.Partitions) == 0 && r.p.Letter == "" {
		r.d.Size, r.d.Rounded = length, true
		return
	}
	if r.p.Length > 0 {
		r.partitionEnds()
	}
	r.p.Length, r.p.Rounded = length, true
	if r.line0 == 0 {
		r.line0 = n
	}
	rest := s[:strings.Index(s, m[0])] + " " + s[strings.Index(s, m[0])+len(m[0]):]
	for _, w := range strings.Fields(rest) {
		if k, is := volume.Named(strings.Trim(w, ",;()")); is {
			r.p.Kind = k
		}
	}
	// In a line that a person shortened, the words stand beside the size.
	if kind := screenWords(rest); kind == "EFI" || kind == "recovery" || screenActive.MatchString(lastWord(rest)) {
		r.state(strings.Join(strings.Fields(rest), ", "), n)
	}
}

func lastWord(s string) string {
	all := strings.Fields(s)
	if len(all) == 0 {
		return ""
	}
	return all[len(all)-1]
}

// state takes the words in brackets: what the partition is for.
func (r *screen) state(words string, n int) {
	r.l.mark(n, Understood, "state")
	active := false
	for _, w := range strings.FieldsFunc(words, func(c rune) bool { return c == ',' || c == ';' || c == '、' }) {
		active = active || screenActive.MatchString(w)
	}
	switch kind := screenWords(words); {
	case kind == "EFI":
		r.p.Type = disk.TypeESP
		r.d.Style, r.d.StyleLine = disk.StyleGPT, n
	case active:
		r.p.Active = fact.Known(true, fact.Source{})
		r.d.Style, r.d.StyleLine = disk.StyleMBR, n
	case kind == "recovery":
		r.p.Role = disk.RoleRecovery
	case kind == "basic data":
		r.p.Type = disk.TypeBasicData
		r.d.Style, r.d.StyleLine = disk.StyleGPT, n
	}
	r.partitionEnds()
}

// screenWords finds in the words of a state what the partition is for.
func screenWords(s string) string {
	lower := strings.ToLower(s)
	for _, w := range []struct{ word, kind string }{
		{"efi", "EFI"}, {"recovery", "recovery"}, {"wiederherst", "recovery"}, {"récup", "recovery"}, {"recuper", "recovery"},
		{"ripristino", "recovery"}, {"basic data", "basic data"}, {"basisdaten", "basic data"}, {"données de base", "basic data"},
		{"datos básic", "basic data"}, {"primary", "primary"}, {"primär", "primary"}, {"principal", "primary"}, {"primaire", "primary"},
		{"primaria", "primary"}, {"logical", "logical"}, {"logisch", "logical"}, {"boot", "system"}, {"startpartition", "system"},
		{"page file", "system"}, {"auslagerung", "system"}, {"system", "system"}, {"système", "system"}, {"sistema", "system"},
	} {
		if strings.Contains(lower, w.word) {
			return w.kind
		}
	}
	return ""
}

// partitionEnds adds the partition that was read to its disk.
func (r *screen) partitionEnds() {
	if r.d != nil && (r.p.Length > 0 || r.p.Letter != "") {
		if p := partition(r.d, len(r.d.Partitions)+1, r.line0); p != nil {
			for _, n := range r.words {
				r.l.mark(n, Passed, "")
			}
			number := p.Number
			*p = r.p
			p.Number, p.Start, p.Line = number, -1, r.line0
		}
	}
	r.p, r.line0, r.words = machine.DescribedPartition{}, 0, nil
}
