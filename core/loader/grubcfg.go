package loader

import (
	"fmt"
	"strconv"
	"strings"
)

// GRUBConfig is what GRUB's configuration says of where things are looked for.
// GNU GRUB Manual 2.06, "Writing full configuration files directly" and
// "search".
type GRUBConfig struct {
	// Top are the searches outside of menu entries: they find GRUB's own folder.
	Top     []GRUBSearch
	Entries []GRUBEntry
	// ConfigFile is a further configuration that is read instead, as the short one
	// on an EFI system partition does.
	ConfigFile string
	Prefix     string
	Default    string
	// BLS: entries of the Boot Loader Specification are read (blscfg).
	BLS bool
}

// GRUBSearch is a line that sets the partition that paths lie on.
type GRUBSearch struct {
	Spec   Spec
	Hint   bool // only a guess that speeds the search up
	Line   int
	Offset int64 // bytes from the start of the file
	Length int64
}

// GRUBEntry is a menu entry.
type GRUBEntry struct {
	Title    string
	ID       string
	Searches []GRUBSearch
	Linux    string // path of the kernel
	Initrd   string
	Root     *Spec  // root= of the kernel line
	Chain    string // path of another loader that is started
	Line     int    // of the kernel
	Offset   int64
	Length   int64
}

const maxGRUBEntries = 200

// ParseGRUBConfig reads a configuration. What scripts decide at run time is not
// followed: of conditions, every branch is read.
func ParseGRUBConfig(raw []byte) *GRUBConfig {
	p := &grubParser{config: &GRUBConfig{}}
	for _, l := range lines(raw) {
		p.line(l)
	}
	return p.config
}

type grubParser struct {
	config *GRUBConfig
	depth  int // of braces
	entry  *GRUBEntry
	opened int // depth at which the entry began
}

func (p *grubParser) line(l line) {
	words := grubWords(l.text)
	if len(words) == 0 || strings.HasPrefix(l.text, "#") {
		return
	}
	switch words[0] {
	case "menuentry":
		if len(words) > 1 && len(p.config.Entries) < maxGRUBEntries {
			p.config.Entries = append(p.config.Entries, GRUBEntry{Title: words[1], ID: after(words, "--id", "$menuentry_id_option")})
			p.entry, p.opened = &p.config.Entries[len(p.config.Entries)-1], p.depth
			p.sameLine(l)
		}
	case "search", "search.fs_uuid", "search.fs_label", "search.file":
		if s, ok := searchOf(words); ok {
			p.found(s, l)
		}
	case "set":
		p.set(strings.Join(words[1:], " "), l)
	case "linux", "linuxefi", "linux16":
		if p.entry != nil && len(words) > 1 {
			p.entry.Linux, p.entry.Root = words[1], rootOf(strings.Join(words[2:], " "))
			p.entry.Line, p.entry.Offset, p.entry.Length = l.number, l.offset, int64(len(l.text))
		}
	case "initrd", "initrdefi", "initrd16":
		if p.entry != nil && len(words) > 1 {
			p.entry.Initrd = words[1]
		}
	case "chainloader":
		if p.entry != nil && len(words) > 1 {
			p.entry.Chain = words[len(words)-1]
		}
	case "configfile":
		if p.entry == nil && len(words) > 1 {
			p.config.ConfigFile = words[1]
		}
	case "blscfg":
		p.config.BLS = true
	}
	p.depth += strings.Count(l.text, "{") - strings.Count(l.text, "}")
	if p.entry != nil && p.depth <= p.opened && strings.Contains(l.text, "}") {
		p.entry = nil
	}
}

// sameLine reads a command that follows the brace which opens an entry.
func (p *grubParser) sameLine(l line) {
	if _, rest, ok := strings.Cut(l.text, "{"); ok {
		if rest = strings.TrimSpace(strings.TrimRight(rest, " }")); rest != "" && !strings.HasPrefix(rest, "menuentry") {
			p.line(line{rest, l.number, l.offset + int64(strings.Index(l.text, rest))})
		}
	}
}

func (p *grubParser) set(assignment string, l line) {
	name, value, _ := strings.Cut(assignment, "=")
	value = strings.Trim(value, `"'`)
	switch name {
	case "prefix":
		p.config.Prefix = value
	case "default":
		if p.config.Default == "" && !strings.Contains(value, "$") {
			p.config.Default = value
		}
	case "root":
		if s, ok := grubDisk(value); ok {
			p.found(GRUBSearch{Spec: s, Hint: true}, l)
		}
	}
}

func (p *grubParser) found(s GRUBSearch, l line) {
	s.Line, s.Offset, s.Length = l.number, l.offset, int64(len(l.text))
	if p.entry != nil {
		p.entry.Searches = append(p.entry.Searches, s)
	} else {
		p.config.Top = append(p.config.Top, s)
	}
}

// searchOf reads a search command: what is looked for, and by what.
func searchOf(words []string) (GRUBSearch, bool) {
	kind, what := ByFile, ""
	switch words[0] {
	case "search.fs_uuid":
		kind = ByFSUUID
	case "search.fs_label":
		kind = ByFSLabel
	}
	if words[0] != "search" && len(words) > 1 {
		return GRUBSearch{Spec: Spec{kind, words[1]}}, true
	}
	for i := 1; i < len(words); i++ {
		switch w := words[i]; {
		case w == "--fs-uuid" || w == "-u":
			kind = ByFSUUID
		case w == "--label" || w == "-l":
			kind = ByFSLabel
		case w == "--file" || w == "-f":
			kind = ByFile
		case strings.HasPrefix(w, "--set") && !strings.Contains(w, "=") && i+1 < len(words) &&
			!strings.HasPrefix(words[i+1], "-") && i+2 < len(words):
			i++ // the variable's name
		case strings.HasPrefix(w, "-"):
		default:
			what = w
		}
	}
	return GRUBSearch{Spec: Spec{kind, what}}, what != ""
}

// grubDisk reads a device in GRUB's words: (hd0,gpt2), hd0,msdos1 or
// (,gpt2). GNU GRUB Manual 2.06, "How to specify devices".
func grubDisk(s string) (Spec, bool) {
	inner, _, _ := strings.Cut(strings.Trim(s, "()"), ")")
	drive, part, ok := strings.Cut(inner, ",")
	if !ok || !strings.HasPrefix(drive, "hd") && drive != "" || strings.Contains(s, "$") {
		return Spec{}, false
	}
	return Spec{ByGRUBDisk, drive + "," + part}, true
}

// GRUBPartition returns the number of the partition in GRUB's words, and of the
// drive; -1 for the drive that GRUB was started from.
func GRUBPartition(value string) (drive, partition int, ok bool) {
	name, part, _ := strings.Cut(value, ",")
	drive = -1
	if name != "" {
		n, err := strconv.Atoi(strings.TrimPrefix(name, "hd"))
		if err != nil {
			return 0, 0, false
		}
		drive = n
	}
	partition, err := strconv.Atoi(strings.TrimLeft(part, "abcdefghijklmnopqrstuvwxyz"))
	return drive, partition, err == nil
}

// DefaultEntry returns the menu entry that is started when nobody chooses.
func (c *GRUBConfig) DefaultEntry() (*GRUBEntry, error) {
	if len(c.Entries) == 0 {
		return nil, fmt.Errorf("the configuration has no menu entry")
	}
	if n, err := strconv.Atoi(c.Default); err == nil && n >= 0 && n < len(c.Entries) {
		return &c.Entries[n], nil
	}
	for i := range c.Entries {
		if e := &c.Entries[i]; c.Default != "" && (e.Title == c.Default || e.ID == c.Default) {
			return e, nil
		}
	}
	return &c.Entries[0], nil
}

// after returns the word after one of some words.
func after(words []string, names ...string) string {
	for i, w := range words[:len(words)-1] {
		for _, n := range names {
			if w == n {
				return words[i+1]
			}
		}
	}
	return ""
}

// grubWords splits a line as GRUB's shell does: quotes hold a word together, a
// backslash outside of single quotes takes the next character as it is.
func grubWords(s string) []string {
	var words []string
	var word strings.Builder
	var quote rune
	inWord, escaped := false, false
	for _, r := range s {
		switch {
		case escaped:
			word.WriteRune(r)
			escaped = false
		case r == '\\' && quote != '\'':
			escaped, inWord = true, true
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(r)
		case r == '"' || r == '\'':
			quote, inWord = r, true
		case r == ' ' || r == '\t' || r == ';':
			if inWord {
				words = append(words, word.String())
				word.Reset()
			}
			inWord = false
		case r == '#' && !inWord:
			return words
		default:
			word.WriteRune(r)
			inWord = true
		}
	}
	if inWord {
		words = append(words, word.String())
	}
	return words
}
