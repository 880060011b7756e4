package loader

import (
	"slices"
	"strings"
)

// ModuleDependencies are which modules of GRUB's each needs, by their names.
type ModuleDependencies map[string][]string

// maxModuleLines bounds the modules of one list.
const maxModuleLines = 2000

// ParseModuleDependencies reads moddep.lst, which lies beside GRUB's modules: a line for each, its name,
// a colon, and the names of what it needs. GNU GRUB 2.06, grub-core/genmoddep.awk.
func ParseModuleDependencies(raw []byte) ModuleDependencies {
	deps := ModuleDependencies{}
	for line := range strings.Lines(string(raw)) {
		name, needs, ok := strings.Cut(line, ":")
		if name = strings.TrimSpace(name); ok && name != "" && len(deps) < maxModuleLines {
			deps[name] = strings.Fields(needs)
		}
	}
	return deps
}

// Needed lists a module and all that it needs, and what those need, without the ones that are built in.
func (d ModuleDependencies) Needed(module string, built []string) (needed []string) {
	open := []string{module}
	for len(open) > 0 {
		name := open[0]
		open = open[1:]
		if !slices.Contains(needed, name) && !slices.Contains(built, name) {
			needed = append(needed, name)
			open = append(open, d[name]...)
		}
	}
	return needed
}
