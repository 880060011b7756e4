package repair

import (
	"slices"

	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
)

// TableSteps are the steps that would bring a disk's tables into order, each by itself and
// whether a start wants it or not. The drive counts as the clone.
func TableSteps(d machine.Drive) []PlanStep {
	if d.Contents == nil {
		return nil
	}
	d.Role = machine.RoleClone
	var steps []PlanStep
	add := func(mv move) {
		if mv.choose(Toolboxes) && !slices.ContainsFunc(steps, func(s PlanStep) bool { return s.Key == mv.key }) {
			steps = append(steps, mv.finish(Toolboxes))
		}
	}
	for _, mode := range []firmware.Mode{firmware.UEFI, firmware.Legacy} {
		m := machine.Machine{Drives: []machine.Drive{d}}
		m.Firmware.Mode = fact.Tell(mode)
		for _, a := range []action{restorePrimary, rebuildTable, correctTable, protectiveMBR} {
			for _, mv := range a(m, course.StageTable) {
				mv.before = m
				add(mv)
			}
		}
		for _, mv := range rewriteBackup(m, &m.Drives[0]) {
			mv.before = m
			add(mv)
		}
	}
	return steps
}
