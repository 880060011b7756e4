package loader

import (
	"slices"
	"strconv"
	"strings"
)

// What a script of GRUB goes through word by word: the values of a loop, and the parameters
// that functions and entries are given.

// loops are the values that a for goes through, where they are known and nothing leaves it
// before. A word with a wildcard may be the names of files. GNU GRUB Manual 2.06, "Shell-like
// scripting".
func (r *grubRun) loops(c *grubCommand) (values []string, known bool) {
	if c.kind != "for" || len(c.words) < 2 || c.words[1].plain() != "in" || len(c.bodies) != 1 || leaves(c.bodies[0]) {
		return nil, false
	}
	values = r.expand(c.words[2:])
	return values, !slices.ContainsFunc(values, func(v string) bool { return strings.ContainsAny(v, open+"*?[\\") })
}

// leaves reports whether a command may end the loop that it stands in, or what the loop stands in.
func leaves(commands []grubCommand) bool {
	return slices.ContainsFunc(commands, func(c grubCommand) bool {
		if c.kind == "" && len(c.words) > 0 && slices.Contains([]string{"break", "continue", "return"}, c.words[0].plain()) {
			return true
		}
		return slices.ContainsFunc(c.bodies, leaves) || slices.ContainsFunc(c.conditions, leaves)
	})
}

// shift takes parameters away. GNU GRUB Manual 2.06, "shift".
func (r *grubRun) shift(args []string) truth {
	n := 1
	if len(args) > 0 {
		given, err := strconv.Atoi(args[0])
		if err != nil || given < 0 {
			return unsure
		}
		n = given
	}
	if n > len(r.args) {
		return no
	}
	r.args, r.config.Cut = r.args[n:], r.config.Cut || r.maybe > 0 // or not
	return yes
}

// parameter is one of those that a function or an entry was given. GNU GRUB Manual 2.06,
// "Shell-like scripting", Special parameters.
func (r *grubRun) parameter(name string) (value string, is bool) {
	switch {
	case name == "?":
		return open, true
	case name == "#":
		return strconv.Itoa(len(r.args)), true
	case name == "*", name == "@":
		return strings.Join(r.args, " "), true
	}
	n, err := strconv.Atoi(name)
	switch {
	case err != nil:
		return "", false
	case n == 0:
		return open, true
	case n > len(r.args):
		return "", true
	}
	return r.args[n-1], true
}
