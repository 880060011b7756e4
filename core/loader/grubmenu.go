package loader

import (
	"bytes"
	"maps"
	"slices"
	"strings"
)

// What a script puts into the menu.

// menu adds an entry, or a submenu with the entries in it.
func (r *grubRun) menu(c *grubCommand, kind string, args []string) {
	if len(args) == 0 || r.config.count == maxGRUBEntries {
		r.config.Cut = r.config.Cut || len(args) > 0
		return
	}
	r.config.count++
	e := GRUBEntry{Maybe: r.maybe > 0, Submenu: kind == "submenu", Line: c.line, Offset: c.offset, Length: r.length(c)}
	for i := 0; i < len(args); i++ {
		switch a := args[i]; {
		case a == "--id" && i+1 < len(args):
			i++
			e.ID = args[i]
		case strings.HasPrefix(a, "--id="):
			e.ID = strings.TrimPrefix(a, "--id=")
		case (a == "--class" || a == "--users" || a == "--hotkey" || a == "--source") && i+1 < len(args):
			i++
		case strings.HasPrefix(a, "--"):
		default:
			e.args = append(e.args, a)
		}
	}
	if len(e.args) > 0 {
		e.Title = e.args[0]
	}
	e.raw = r.raw
	for _, b := range c.bodies {
		e.body = append(e.body, b...)
	}
	*r.entries = append(*r.entries, e)
}

// finish runs what stands in the entries of a menu: GRUB does so once one is chosen, with
// the variables as the whole script has left them; in a submenu, those that were exported.
func (r *grubRun) finish(list []GRUBEntry) {
	vars := r.vars
	for i := range list {
		e := &list[i]
		r.vars, r.raw, r.maybe, r.args = maps.Clone(vars), e.raw, 0, e.args
		if e.Submenu {
			maps.DeleteFunc(r.vars, func(name, _ string) bool { return !r.exported[name] })
			r.entry, r.entries = nil, &e.Sub
			r.run(e.body)
			r.finish(e.Sub)
		} else {
			r.entry = e
			r.run(e.body)
		}
		r.returned = false
		e.raw, e.body, e.args = nil, nil, nil
	}
	r.vars, r.entry, r.args = vars, nil, nil
}

// boots takes the commands in that load something.
func (r *grubRun) boots(c *grubCommand, name string, args []string) {
	if len(args) == 0 {
		switch {
		case name == "blscfg":
			r.listsEntries()
		case name == "boot" && r.entry == nil && (r.maybe > 0 || r.loaded.Maybe):
			r.config.Cut = true
		case name == "boot" && r.entry == nil && r.loaded.Linux+r.loaded.Chain != "" && r.config.Boots == nil:
			loaded := r.loaded
			loaded.Title = "what the configuration itself starts"
			r.config.Boots = &loaded
		}
		return
	}
	e := r.entry
	if e == nil {
		e = &r.loaded
		e.Maybe = e.Maybe || r.maybe > 0
	}
	switch name {
	case "blscfg":
		r.listsEntries()
	case "configfile", "normal", "extract_entries_configfile", "legacy_configfile":
		if r.entry == nil {
			r.config.ConfigFile = args[0]
		} else {
			e.ConfigFile = args[0]
		}
	case "linux", "linuxefi", "linux16":
		e.Linux, e.Options = args[0], strings.Join(args[1:], " ")
		e.Root = RootOf(e.Options)
		e.Line, e.Offset, e.Length = c.line, c.offset, r.length(c)
	case "initrd", "initrdefi", "initrd16":
		e.Initrds = slices.Clone(args)
	case "chainloader":
		e.Chain = args[len(args)-1]
	}
}

// listsEntries puts entries of the Boot Loader Specification into the menu, the first time that it is asked to.
func (r *grubRun) listsEntries() {
	if r.config.BLS == nil && r.entry == nil {
		r.config.BLS = &BLSPlace{len(r.config.Entries), r.maybe > 0}
	}
}

// length is that of the command's line.
func (r *grubRun) length(c *grubCommand) int64 {
	line, _, _ := bytes.Cut(r.raw[c.offset:], []byte("\n"))
	return int64(len(bytes.TrimRight(line, " \t\r")))
}

func (r *grubRun) found(s GRUBSearch, c *grubCommand) {
	r.moved = true
	s.Maybe = r.maybe > 0
	s.Line, s.Offset, s.Length = c.line, c.offset, r.length(c)
	if r.entry != nil {
		r.entry.Searches = append(r.entry.Searches, s)
	} else {
		r.config.Top = append(r.config.Top, s)
	}
}
