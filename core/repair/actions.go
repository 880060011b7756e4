package repair

import (
	"slices"

	"latchkey/core/course"
	"latchkey/core/machine"
)

// action lists the ways in which something can be done on a machine; none where
// its preconditions do not hold.
type action func(m machine.Machine, stage course.Stage) []move

// actions are what can bear on a stage. start-rules, "What a technician does
// about it".
var actions = map[course.Stage][]action{
	course.StageDrive: {attachClone},
	course.StageMode:  {setMode, rebuildTable, correctTable, convertToGPT, writeBootCode, linuxFiles},
	course.StageOrder: {cloneFirst, detachOthers, entryFirst, addEntry, entryLine, fallbackPath, windowsFiles,
		linuxFiles},
	course.StageTable: {restorePrimary, rebuildTable, correctTable, protectiveMBR, writeBootCode, linuxFiles, setMode},
	course.StageBootPartition: {correctType, correctTable, protectiveMBR, unhide, setActive, hiddenSectors,
		copyBootSector, copyFAT, rebuildTable, writeBootCode, createESP, formatESP, linuxFiles, copyBootFiles, setMode},
	course.StageLoader: {rebuildTable, correctTable, copyFAT, copyBootSector, formatESP, macExternal,
		macBless, macInstall, fallbackPath, entryFirst, addEntry, entryLine, windowsFiles, copyLoaded, vendorShim,
		linuxFiles, copyBootFiles, secureBootOff, setActive},
	course.StageConfiguration: {rebuildTable, correctTable, restorePrimary, protectiveMBR,
		copyFAT, windowsReferences, windowsFiles, linuxNames,
		entryLine, copyLoaded, firstMenu, vendorShim, linuxMenu, initialRAMDisk, linuxFiles, copyBootSector,
		detachOthers, secureBootOff, lookInside},
	course.StageSystem: {rebuildTable, correctTable, recoveryKey, copyBootSector, macInstall, controllerBack,
		driverAtStart, safeStart, buildIn, makeFolders, linuxNames, copyLoaded, initialRAMDisk, detachOthers},
}

// resorts are what is tried when nothing else leads to a start.
var resorts = []action{copyAgain}

// moveOf finds a step by its key among all that can be done.
func moveOf(m machine.Machine, key string) (move, bool) {
	if clone(m) == nil {
		return move{}, false
	}
	for _, stage := range course.Stages {
		for _, a := range onStage(stage, true) {
			for _, mv := range a(m, stage) {
				mv.before = m
				if mv.key == key && mv.choose(Toolboxes) {
					return mv, true
				}
			}
		}
	}
	return move{}, false
}

// Shown is what a step that was done shows beyond what looking at the disks again tells: answers to
// questions of the check, by their IDs.
func Shown(m machine.Machine, key string) map[string]string {
	answers := map[string]string{}
	mv, ok := moveOf(m, key)
	if !ok {
		return answers
	}
	for id, answer := range mv.result.Answers {
		if m.Answers[id] != answer {
			answers[id] = answer
		}
	}
	return answers
}

// anywhere is what can bear on every stage.
var anywhere = []action{withoutTwin}

// onStage lists the actions for a stage. A drive that the firmware does not start
// from, or a mode or order that is wrong, is nothing that copying would mend.
func onStage(stage course.Stage, last bool) []action {
	if last && !stage.Before(course.StageTable) {
		return slices.Concat(actions[stage], resorts, anywhere)
	}
	return slices.Concat(actions[stage], anywhere)
}
