package loader

import (
	"bytes"
	"path"
	"slices"
	"strings"
)

// GRUBFiles are the files beside a configuration, which a script asks for: it returns a
// file's bytes, and whether that is known. A nil function knows nothing.
type GRUBFiles func(name string) (raw []byte, there, known bool)

// Bounds of running a script.
const (
	maxGRUBSteps = 20_000
	maxGRUBCalls = 8
	maxGRUBText  = 64 << 10
)

// open stands in a text for what is only known at the start.
const open = "\x00"

// grubRun runs a script, so far as the evidence tells what it would do: of a condition
// that is not known, both branches are run, and what they set is open.
type grubRun struct {
	config    *GRUBConfig
	files     GRUBFiles
	folder    string // of the configuration
	raw       []byte
	vars      map[string]string
	exported  map[string]bool
	functions map[string][]grubCommand
	entry     *GRUBEntry
	loaded    GRUBEntry    // by the script itself, outside of its entries
	entries   *[]GRUBEntry // where menu entries go
	maybe     int          // branches that may not be taken
	steps     int
	calls     int
	args      []string // of the function or the entry that runs: $1 and so on
	returned  bool     // it was left by a return
	moved     bool     // the root is what a search or a device's name set
	freed     bool     // variables may hold what an environment block that is not known sets
}

// RunGRUBConfig reads a configuration in a folder as GRUB does.
func RunGRUBConfig(raw []byte, folder string, files GRUBFiles) *GRUBConfig {
	r := &grubRun{config: &GRUBConfig{}, files: files, folder: folder, functions: map[string][]grubCommand{},
		vars: map[string]string{"root": "$root", "prefix": "$prefix", "config_directory": "$prefix", "grub_platform": open,
			"grub_cpu": open,
			"cmdpath":  open, "feature_menuentry_id": "y", "feature_platform_search_hint": "y", "feature_default_font_path": "y",
			"feature_all_video_module": "y", "feature_menuentry_options": "y", "feature_chainloader_bpb": "y", "feature_ntldr": "y",
			"feature_200_final": "y", "feature_nativedisk_cmd": "y", "feature_timeout_style": "y"}}
	r.entries, r.exported = &r.config.Entries, map[string]bool{}
	for name := range r.vars {
		r.exported[name] = true
	}
	r.script(raw)
	r.config.Default, r.config.Fallback = r.vars["default"], strings.Fields(r.vars["fallback"])
	r.config.FromDefault = slices.Contains([]string{"y", "yes", "1"}, r.vars["btrfs_relative_path"])
	r.finish(r.config.Entries)
	r.config.Prefix = strings.TrimPrefix(r.vars["prefix"], "$prefix")
	if r.config.BLS != nil {
		r.config.Vars, r.config.VarsOpen = r.vars, r.freed
	}
	return r.config
}

func (r *grubRun) script(raw []byte) {
	before := r.raw
	r.raw = raw
	r.config.Unlocks = r.config.Unlocks || bytes.Contains(raw, []byte("cryptomount"))
	p := &grubSyntax{words: grubLex(raw)}
	commands, _, err := p.list()
	if err != nil {
		r.config.Cut = true
	}
	r.run(commands)
	r.raw, r.returned = before, false
}

func (r *grubRun) run(commands []grubCommand) (last truth) {
	last = yes
	for i := range commands {
		if r.steps++; r.steps > maxGRUBSteps {
			r.config.Cut = true
			return unsure
		}
		if last = r.command(&commands[i]); r.returned {
			return last
		}
	}
	return last
}

func (r *grubRun) command(c *grubCommand) truth {
	switch c.kind {
	case "if":
		return r.branch(c)
	case "for", "while", "until":
		if values, known := r.loops(c); known {
			last := yes
			for _, v := range values {
				r.assign(c.words[0].plain(), v)
				last = r.run(c.bodies[0])
			}
			return last
		}
		r.maybe++
		if c.kind == "for" && len(c.words) > 0 {
			r.vars[c.words[0].plain()] = open
		}
		for _, b := range c.bodies {
			r.run(b)
		}
		r.maybe--
		return unsure
	case "function":
		if len(c.words) > 0 && len(c.bodies) > 0 {
			r.functions[c.words[0].plain()] = c.bodies[0]
		}
		return yes
	}
	words := r.expand(c.words)
	if len(words) == 0 {
		return yes
	}
	if words[0] == "!" {
		return r.simple(c, words[1:]).not()
	}
	return r.simple(c, words)
}

// branch runs an if: the branch that is taken, or all that may be.
func (r *grubRun) branch(c *grubCommand) truth {
	unknown := 0
	defer func() { r.maybe -= unknown }()
	for i, condition := range c.conditions {
		t := r.run(condition)
		if t == yes {
			return r.run(c.bodies[i])
		}
		if t == unsure {
			unknown++
			r.maybe++
			r.run(c.bodies[i])
		}
	}
	if len(c.bodies) > len(c.conditions) {
		return r.run(c.bodies[len(c.bodies)-1])
	}
	return yes
}

func (r *grubRun) simple(c *grubCommand, words []string) truth {
	if len(words) == 0 {
		return yes
	}
	name, args := words[0], words[1:]
	if body, ok := r.functions[name]; ok {
		if r.calls++; r.calls > maxGRUBCalls {
			r.calls--
			r.config.Cut = true
			return unsure
		}
		before := r.args
		defer func() { r.args, r.returned = before, false; r.calls-- }()
		r.args = args
		return r.run(body)
	}
	if key, value, ok := strings.Cut(name, "="); ok && key != "" && len(c.words[0].parts) > 0 &&
		!c.words[0].parts[0].quoted {
		return r.set(c, key, value)
	}
	switch name {
	case "menuentry", "submenu":
		r.menu(c, name, args)
	case "set":
		if len(args) > 0 {
			key, value, _ := strings.Cut(args[0], "=")
			return r.set(c, key, value)
		}
	case "unset":
		for _, a := range args {
			r.assign(a, "")
		}
	case "load_env":
		return r.loadEnv(args)
	case "export":
		for _, a := range args {
			r.exported[a] = true
		}
	case "save_env", "insmod", "echo", "true", "terminal_input", "terminal_output", "terminal", "play", "clear", "cat", "sleep":
		return yes
	case "setparams":
		r.args, r.config.Cut = args, r.config.Cut || r.maybe > 0
	case "shift":
		return r.shift(args)
	case "return":
		// One that may not be reached leaves open what follows.
		r.returned, r.config.Cut = r.maybe == 0, r.config.Cut || r.maybe > 0
	case "false":
		return no
	case "[", "test":
		return r.test(args)
	case "source", ".":
		return r.source(args)
	case "search", "search.fs_uuid", "search.fs_label", "search.file":
		if s, ok := searchOf(words); ok {
			r.found(s, c)
			r.assign(s.variable(), "$"+s.variable())
		}
		return unsure
	default:
		r.boots(c, name, args)
		return unsure
	}
	return yes
}

func (r *grubRun) set(c *grubCommand, key, value string) truth {
	if key == "root" {
		if s, ok := GRUBDevice(value); ok {
			r.found(GRUBSearch{Spec: s, Device: true}, c)
			value = "$root"
		}
	}
	r.assign(key, value)
	return yes
}

// assign sets a variable; one that is set in a branch which may not be taken is open.
func (r *grubRun) assign(key, value string) {
	if len(value) > maxGRUBText {
		value, r.config.Cut = open, true
	}
	if r.maybe > 0 && r.vars[key] != value && !strings.HasPrefix(value, "$") {
		value = open
	}
	r.vars[key] = value
}

// value is a variable's; one that was never set is empty.
func (r *grubRun) value(name string) string {
	if v, is := r.parameter(name); is {
		return v
	}
	v, set := r.vars[name]
	if !set && r.freed {
		return open
	}
	return v
}

func (r *grubRun) expand(words []grubWord) (out []string) {
	for _, w := range words {
		out = append(out, r.word(w)...)
	}
	return out
}

// word fills the variables in: one outside of quotes is split at its blanks, and is no
// word at all where it is empty.
func (r *grubRun) word(w grubWord) []string {
	var text strings.Builder
	var out []string
	some := false
	for _, p := range w.parts {
		s := p.text
		if p.variable {
			s = r.value(p.text)
			if p.quoted && p.text == "@" && len(r.args) > 1 { // a word each
				s = open
			}
		}
		if text.Len()+len(s) > maxGRUBText {
			r.config.Cut = true
			continue
		}
		if p.variable && !p.quoted {
			for i, f := range strings.Fields(s) {
				if i > 0 {
					out = append(out, text.String())
					text.Reset()
				}
				text.WriteString(f)
				some = true
			}
			continue
		}
		text.WriteString(s)
		some = true
	}
	if some {
		out = append(out, text.String())
	}
	return out
}

// beside is a file's name on the configuration's own volume, where the script names it by
// its own folder.
func (r *grubRun) beside(name string) (string, bool) {
	for _, own := range []string{"$prefix", "$config_directory"} {
		if rest, ok := strings.CutPrefix(name, own); ok {
			return path.Join("/", r.folder, rest), true
		}
	}
	// Any other path begins at the root, which a search may have set to another volume.
	return path.Join("/", name), strings.HasPrefix(name, "/") && !r.moved
}

func (r *grubRun) file(name string) (raw []byte, there, known bool) {
	name, ok := r.beside(name)
	if !ok || r.files == nil || strings.Contains(name, open) {
		return nil, false, false
	}
	return r.files(name)
}

// source runs another script in this one's place.
func (r *grubRun) source(args []string) truth {
	if len(args) == 0 {
		return no
	}
	raw, there, known := r.file(args[0])
	switch {
	case !known:
		// On another volume it may be followed, as long as this one has no entries.
		if r.maybe == 0 && strings.HasPrefix(args[0], "(") {
			r.config.ConfigFile = args[0]
		}
		r.config.Cut, r.freed = true, true
		return unsure
	case !there:
		return no
	case r.calls == maxGRUBCalls:
		r.config.Cut = true
		return unsure
	}
	r.calls++
	r.script(raw)
	r.calls--
	return yes
}

// loadEnv takes the variables in that an environment block holds. GNU GRUB Manual 2.06,
// "Environment block".
func (r *grubRun) loadEnv(args []string) truth {
	name := "$prefix/grubenv"
	var only []string
	for i := 0; i < len(args); i++ {
		switch a := args[i]; {
		case (a == "--file" || a == "-f") && i+1 < len(args):
			i++
			name = args[i]
		case strings.HasPrefix(a, "--file="):
			name = strings.TrimPrefix(a, "--file=")
		case strings.HasPrefix(a, "-"):
		default:
			only = append(only, a)
		}
	}
	raw, there, known := r.file(name)
	if !known {
		r.freed = true
		return unsure
	}
	if !there || !bytes.HasPrefix(raw, []byte("# GRUB Environment Block\n")) {
		return no
	}
	for _, l := range strings.Split(string(raw), "\n")[1:] {
		key, value, ok := strings.Cut(l, "=")
		if ok && !strings.HasPrefix(l, "#") && (len(only) == 0 || slices.Contains(only, key)) {
			r.assign(key, strings.ReplaceAll(value, "\\\\", "\\"))
		}
	}
	return yes
}
