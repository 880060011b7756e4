package loader

import (
	"fmt"
	"regexp"
	"slices"
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
	Prefix     string // "" where the configuration does not set it
	Default    string
	// Fallback are the entries that are tried in turn behind one that cannot be started.
	Fallback []string
	// FromDefault: paths on a Btrfs begin at its default subvolume and not at the top, as GRUB
	// reads them where a variable of some families' own says so (common practice).
	FromDefault bool
	// Boots is what the script itself loads and starts, before any menu is shown; nil for
	// nothing.
	Boots *GRUBEntry
	// BLS is where entries of the Boot Loader Specification are put into the menu (blscfg); nil for
	// nowhere.
	BLS *BLSPlace
	// Vars are the variables as the script leaves them, for such entries: they name them.
	Vars map[string]string
	// VarsOpen: there may be others, of an environment block that is not known.
	VarsOpen bool
	// Unlocks: it has GRUB open encrypted volumes, which it does not do by itself.
	Unlocks bool
	// Cut: not all of the script was followed.
	Cut   bool
	count int // of the entries at any depth
}

// BLSPlace is a place in a menu for the entries of the Boot Loader Specification.
type BLSPlace struct {
	Behind int  // how many entries stand before them
	Maybe  bool // they are read under a condition that is not known
}

// WithEntries is the configuration with entries of the Boot Loader Specification in its menu, in the
// order in which GRUB puts them there.
func (c *GRUBConfig) WithEntries(list []GRUBEntry) *GRUBConfig {
	whole := *c
	whole.Entries = slices.Concat(c.Entries[:c.BLS.Behind], list, c.Entries[c.BLS.Behind:])
	return &whole
}

// Fill has a line of such an entry with the values of the variables in it; it is not known where one of
// them is not, or it would be longer than a text may be.
func (c *GRUBConfig) Fill(line string) (filled string, known bool) {
	known = true
	long := len(line)
	filled = variable.ReplaceAllStringFunc(line, func(name string) string {
		value, set := c.Vars[strings.Trim(name, "${}")]
		long += len(value)
		if strings.Contains(value, open) || !set && c.VarsOpen || long > maxGRUBText {
			known = false
			return name
		}
		return value
	})
	return strings.TrimSpace(filled), known
}

var variable = regexp.MustCompile(`\$(?:[A-Za-z_][A-Za-z0-9_]*|\{[A-Za-z_][A-Za-z0-9_]*\})`)

// Starts reports whether an entry may start something: one that does not goes into the firmware's settings,
// or turns the machine off.
func (e *GRUBEntry) Starts() bool {
	return e.Linux != "" || e.Chain != "" || e.ConfigFile != "" ||
		slices.ContainsFunc(e.Sub, func(s GRUBEntry) bool { return s.Starts() })
}

// GRUBSearch is a line that sets the partition that paths lie on.
type GRUBSearch struct {
	Spec   Spec
	Device bool   // one that is set, not looked for
	Maybe  bool   // it stands under a condition that is not known
	Var    string // the variable that it sets; "" is root
	Line   int
	Offset int64 // bytes from the start of the file
	Length int64
}

func (s GRUBSearch) variable() string {
	if s.Var == "" {
		return "root"
	}
	return s.Var
}

// GRUBEntry is a menu entry.
type GRUBEntry struct {
	Title      string
	ID         string
	Submenu    bool
	Sub        []GRUBEntry // of a submenu
	Maybe      bool        // it stands under a condition that is not known
	Searches   []GRUBSearch
	Linux      string // path of the kernel
	Initrds    []string
	Options    string // of the kernel line
	Root       *Spec  // root= of the kernel line
	Chain      string // path of another loader that is started
	ConfigFile string // of a configuration that is read
	Line       int    // of the kernel
	Offset     int64
	Length     int64
	raw        []byte // the script that it stands in, until it has been run
	body       []grubCommand
	args       []string // that it is run with: its title, and what follows it
}

const maxGRUBEntries = 200

// ParseGRUBConfig reads a configuration without the files beside it.
func ParseGRUBConfig(raw []byte) *GRUBConfig { return RunGRUBConfig(raw, "", nil) }

// searchOf reads a search command: what is looked for, by what, and the variable that is set,
// which is root where none is named. One that sets none only shows what it finds.
func searchOf(words []string) (GRUBSearch, bool) {
	s, sets := GRUBSearch{Spec: Spec{Kind: ByFile}}, false
	switch words[0] {
	case "search.fs_uuid":
		s.Spec.Kind = ByFSUUID
	case "search.fs_label":
		s.Spec.Kind = ByFSLabel
	}
	var plain []string
	for i := 1; i < len(words); i++ {
		switch w := words[i]; {
		case w == "--fs-uuid" || w == "-u":
			s.Spec.Kind = ByFSUUID
		case w == "--label" || w == "-l" || w == "--fs-label":
			s.Spec.Kind = ByFSLabel
		case w == "--file" || w == "-f":
			s.Spec.Kind = ByFile
		case strings.HasPrefix(w, "--set="):
			s.Var, sets = strings.TrimPrefix(w, "--set="), true
		case w == "--set" || w == "-s":
			s.Var, sets = "?", true
		case strings.HasPrefix(w, "--hint") && !strings.Contains(w, "="):
			i++
		case strings.HasPrefix(w, "-"):
		default:
			plain = append(plain, w)
		}
	}
	switch n := len(plain); {
	case n == 0:
		return s, false
	case words[0] != "search":
		s.Spec.Value = plain[0]
		if n > 1 {
			s.Var, sets = plain[1], true
		}
	case s.Var == "?" && n > 1: // "--set root NAME"
		s.Var, s.Spec.Value = plain[0], plain[1]
	default:
		s.Spec.Value = plain[n-1]
	}
	if s.Var == "root" || s.Var == "?" {
		s.Var = ""
	}
	return s, sets
}

// GRUBDevice reads a device in GRUB's words: (hd0,gpt2), hd0,msdos1 or (,gpt2), a logical
// volume, a RAID or an opened volume. GNU GRUB Manual 2.06, "How to specify devices".
func GRUBDevice(s string) (Spec, bool) {
	inner, _, _ := strings.Cut(strings.Trim(s, "()"), ")")
	if strings.ContainsAny(inner, "$"+open) || inner == "" {
		return Spec{}, false
	}
	drive, _, ok := strings.Cut(inner, ",")
	if ok && (strings.HasPrefix(drive, "hd") || drive == "") {
		return Spec{ByGRUBDisk, inner}, true
	}
	for prefix, kind := range map[string]SpecKind{"lvm/": ByMapped, "md/": ByArray, "mduuid/": ByArray,
		"cryptouuid/": ByContainer, "lvmid/": ByLogical} {
		if name, ok := strings.CutPrefix(inner, prefix); ok {
			return Spec{kind, name}, true
		}
	}
	if strings.HasPrefix(inner, "crypto") || strings.HasPrefix(inner, "zfs") {
		return Spec{ByOther, inner}, true
	}
	return Spec{}, false
}

// GRUBPlace is a partition in GRUB's words.
type GRUBPlace struct {
	Drive     int    // by its number, -1 for the drive that GRUB was started from
	Partition int    // by its number
	Map       string // the kind of its table, "gpt" or "msdos"; "" for any
}

// GRUBPartition reads such as hd0,gpt2 and ,msdos1. GNU GRUB Manual 2.06, "How to specify
// devices".
func GRUBPartition(value string) (at GRUBPlace, ok bool) {
	name, part, _ := strings.Cut(value, ",")
	at.Drive = -1
	if name != "" {
		n, err := strconv.Atoi(strings.TrimPrefix(name, "hd"))
		if err != nil {
			return at, false
		}
		at.Drive = n
	}
	digits := strings.TrimLeft(part, "abcdefghijklmnopqrstuvwxyz")
	at.Map = strings.TrimSuffix(part, digits)
	n, err := strconv.Atoi(digits)
	at.Partition = n
	return at, err == nil
}

// DefaultEntry returns the menu entry that is started when nobody chooses: by number, title
// or identifier, within submenus by several with ">" between them, else the first. It is
// sure where nothing that is not known decides. GNU GRUB Manual 2.06, "default".
func (c *GRUBConfig) DefaultEntry() (e *GRUBEntry, sure bool, err error) { return c.Named(c.Default) }

// Named is DefaultEntry for another name than the default's.
func (c *GRUBConfig) Named(name string) (e *GRUBEntry, sure bool, err error) {
	if len(c.Entries) == 0 {
		return nil, false, fmt.Errorf("the configuration has no menu entry")
	}
	list, sure := c.Entries, !c.Cut
	for range maxGRUBDepth {
		part, rest := cutEntry(name)
		var certain bool
		e, certain = pickEntry(list, part)
		if sure = sure && certain; !e.Submenu || len(e.Sub) == 0 {
			return e, sure, nil
		}
		list, name = e.Sub, rest
	}
	return e, false, nil
}

// Alike reports whether all entries start a kernel with the same root: which of them is
// started then decides little.
func (c *GRUBConfig) Alike() bool {
	var root *Spec
	var alike func(list []GRUBEntry) bool
	alike = func(list []GRUBEntry) bool {
		for i := range list {
			e := &list[i]
			switch {
			case e.Submenu:
				if !alike(e.Sub) {
					return false
				}
			case e.Linux == "" && e.Maybe:
			case e.Linux == "" || e.Root == nil || root != nil && *root != *e.Root:
				return false
			default:
				root = e.Root
			}
		}
		return true
	}
	return alike(c.Entries) && root != nil
}

// cutEntry cuts the first part off a path through submenus; a doubled sign is one of a
// title. Nothing is cut where the sign stands last.
func cutEntry(name string) (part, rest string) {
	var b strings.Builder
	for i := 0; i < len(name); i++ {
		if name[i] == '>' {
			if i+1 < len(name) && name[i+1] == '>' {
				i++
			} else {
				return b.String(), name[i+1:]
			}
		}
		b.WriteByte(name[i])
	}
	return b.String(), ""
}

// pickEntry finds the entry of a menu.
func pickEntry(list []GRUBEntry, name string) (e *GRUBEntry, sure bool) {
	sure = !strings.Contains(name, open)
	n, err := strconv.Atoi(name)
	if err == nil && n >= 0 && n < len(list) {
		for i := range list[:n+1] {
			sure = sure && !list[i].Maybe
		}
		return &list[n], sure
	}
	for i := range list {
		if e := &list[i]; name != "" && (e.Title == name || e.ID == name) {
			return e, sure && !e.Maybe && !strings.Contains(e.Title+e.ID, open)
		}
	}
	return &list[0], sure && !list[0].Maybe
}
