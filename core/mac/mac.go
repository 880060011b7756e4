// Package mac judges the system that a Mac starts from a volume of its own.
package mac

import (
	"latchkey/core/course"
	"latchkey/core/machine"
)

// Loader is the program that a Mac starts from a volume of its own.
const Loader = `\System\Library\CoreServices\boot.efi`

// Offered asks whether a system is blessed on a disk: the firmware then offers
// it. Common practice, no source.
func Offered(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	if !k.Evidence(d, course.StageLoader, "mac-offered", "Is "+d.Called()+" offered when Option is held at power-on?",
		"Hold Option at power-on: the disk is shown when a system is blessed on it.") {
		a.Shows(course.MacQuestion)
		return a.BlockFor("mac-not-blessed", course.StageLoader, "No system is blessed on "+d.Called(), "the firmware offers nothing to start.")
	}
	a.Pass(course.StageLoader, "The disk is offered: a system is blessed on it.")
	return true
}

// System judges the system that a Mac starts: where its volume is sealed, a
// copy of files alone is not startable. start-rules, stage 7; common practice, no
// source.
func System(k *course.Walk, a *course.Attempt, at machine.Spot) course.Result {
	d := at.Drive
	a.Pass(course.StageConfiguration, "The firmware starts the system that is blessed, or chosen with Option.")
	if k.Machine.Until == machine.UntilConfiguration {
		return course.Result{State: course.Passes, Home: at}
	}
	if !k.Evidence(d, course.StageSystem, "mac-installed", "Was the system on "+d.Called()+" put there whole: by its own installer, or as a copy of the whole volume?",
		"On current Macs the system's volume is sealed: a copy of its files alone does not start.") {
		return a.Stop("mac-sealed", course.StageSystem, course.MacProhibitory, "The system on "+d.Called()+" was only copied as files, and its volume is sealed.")
	}
	return k.ComesUp(a, at, "The Mac's system")
}
