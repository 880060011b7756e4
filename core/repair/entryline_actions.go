package repair

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// entryLine adds a boot entry that gives a kernel, which the firmware starts without a boot loader, a
// line with the clone's own names: that of an entry for it, else one that is made.
func entryLine(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if !isUEFI(m) || d.Contents == nil {
		return nil
	}
	boot := espOf(d.Contents)
	if boot < 0 {
		return nil
	}
	n, ok := systemOn(m, d, boot)
	if !ok {
		return nil
	}
	var moves []move
	for _, f := range startable(&d.Contents.Volumes[boot], arch(m)) {
		if f.Is() != loader.LinuxKernel || f.Program.Unified != nil {
			continue
		}
		seen := map[string]bool{}
		for _, given := range linesFor(m, f.Path) {
			line, ok := d.EntryLine(n, m.ContentsOf(machine.RoleOriginal), f.Path, given)
			if !ok || seen[line] {
				continue
			}
			seen[line] = true
			why := "The firmware starts this kernel without a boot loader, and it needs a line that names its root: " + line + "."
			moves = append(moves, move{
				PlanStep: PlanStep{Action: "entry-line", Why: why, Risk: RiskNone, Minutes: 5,
					Title: "Add a boot entry that gives the kernel " + f.Path + " a line with the clone's own names",
					Undo:  "Delete the entry again: efibootmgr -b NUMBER -B."},
				key: fmt.Sprintf("entry-line %d", len(moves)+1), on: d,
				result: givenTo(withEntry(m, d.Name, boot, f.Path, "Clone"), line),
				tools: map[Toolbox]func() []Command{
					Linux: func() []Command { return entryCommands(d, boot, f.Path, line) },
				},
			})
		}
	}
	return moves
}

// linesFor are the lines that boot entries give to a kernel, and "" for one that is to be made.
func linesFor(m machine.Machine, path string) (lines []string) {
	if all := m.Firmware.Entries; all != nil {
		for _, number := range slices.Sorted(maps.Keys(all.All)) {
			if e := all.All[number]; strings.EqualFold(e.Path.File, path) && !e.OptionsOpen && e.Options != "" {
				lines = append(lines, e.Options)
			}
		}
	}
	return append(lines, "")
}

// givenTo has the first entry give its program a line.
func givenTo(m machine.Machine, line string) machine.Machine {
	first := m.Firmware.Entries.Order[0]
	e := m.Firmware.Entries.All[first]
	e.Options = line
	m.Firmware.Entries.All[first] = e
	return m
}
