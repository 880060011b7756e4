package startup

import (
	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/machine"
)

// walkMachine follows the firmware from power-on to the end of the start.
func walkMachine(m machine.Machine, w *course.World) outcome {
	k := &course.Walk{Machine: m, World: w}
	switch k.Mode() {
	case firmware.Legacy:
		legacy(k)
	case firmware.UEFICSM:
		if !uefi(k) {
			legacy(k)
		}
	default:
		uefi(k)
	}
	return settle(k)
}

// settle settles how the walk ended.
func settle(k *course.Walk) outcome {
	o := outcome{world: k.World, attempts: k.Attempts, chosen: -1, verdict: Stops, stage: course.StageOrder}
	for i := range k.Attempts {
		a := &k.Attempts[i]
		if a.HandsOver {
			o.chosen = i
			afterHandOver(k, &o, a)
			return o
		}
		if o.chosen < 0 || tellsMore(k, a, &k.Attempts[o.chosen]) {
			o.chosen, o.stage, o.symptom = i, a.Last(), a.Shown()
		}
	}
	if o.chosen < 0 {
		o.stage, o.symptom = nothingTried(k)
	} else if o.symptom.Text == "" {
		o.symptom = course.NoDevice
	}
	return o
}

// tellsMore prefers the clone's attempts, and of those the one that got
// furthest, or that shows something of its own there.
func tellsMore(k *course.Walk, a, than *course.Attempt) bool {
	if (a.Role == machine.RoleClone) != (than.Role == machine.RoleClone) {
		return a.Role == machine.RoleClone
	}
	if i, j := a.Last().Index(), than.Last().Index(); i != j {
		return i > j
	}
	return a.Symptom != "" && than.Symptom == ""
}

// nothingTried tells why there was no attempt at all.
func nothingTried(k *course.Walk) (course.Stage, course.Symptom) {
	for i := range k.Machine.Drives {
		if k.Attached(&k.Machine.Drives[i]) {
			return course.StageOrder, course.NoDevice
		}
	}
	return course.StageDrive, course.NoDevice
}

// afterHandOver judges what follows the start of the loader.
func afterHandOver(k *course.Walk, o *outcome, a *course.Attempt) {
	o.stage, o.symptom = "", course.Symptom{}
	switch {
	case k.Machine.Until != machine.UntilLoader:
		afterLoader(k, o, a)
	case a.Role != machine.RoleClone:
		o.verdict = StartsOriginal
	default:
		o.verdict = Starts
	}
}
