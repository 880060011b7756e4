package linux

import (
	"fmt"
	"path"
	"slices"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/machine"
)

// loadsNormal asks whether GRUB comes to its menu: the module that does that is built in, or lies in its
// folder with all that it needs. GNU GRUB 2.06, grub-core/kern/main.c, grub_load_normal_mode.
func loadsNormal(a *course.Attempt, to grubPlaces) *course.Result {
	return loadsModule(a, to, machine.ModuleNormal, course.GRUBRescueModule)
}

// loadsLinux asks whether GRUB has its command that loads a kernel.
func loadsLinux(a *course.Attempt, to grubPlaces) *course.Result {
	if to.core == nil || slices.Contains(to.core.Modules, "linuxefi") || slices.Contains(to.core.Modules, "linux16") {
		return nil
	}
	return loadsModule(a, to, machine.ModuleLinux, course.GRUBNoCommand)
}

// loadsModule asks whether GRUB has a module, built in or in its folder.
func loadsModule(a *course.Attempt, to grubPlaces, module string, shows course.Symptom) *course.Result {
	g, home := to.core, to.home.root
	if g == nil || slices.Contains(g.Modules, module) || home.Drive == nil || home.Index < 0 ||
		home.Drive.Contents == nil {
		return nil
	}
	if disk.IsNotCaptured(g.ModulesErr) {
		end := a.Unproven("grub-modules-missing-evidence", course.StageConfiguration,
			fmt.Sprintf("What is built into GRUB is not in evidence to its end, so that whether it has its module %s is not known.", module),
			course.HowCapture)
		return &end
	}
	if g.Platform == "" || len(g.Modules) == 0 || g.ModulesErr != nil {
		return nil // a core that no tool made, or the names of another version
	}
	folder := path.Join("/", machine.AfterBrackets(to.home.folder), g.Platform)
	if s := home.Volume().Subvolumes; s != nil && to.fromDefault {
		folder = s.Default + folder
	}
	file, why, known := home.LacksModule(folder, module, g.Modules)
	switch {
	case file != "":
		end := a.Stop("grub-module-absent", course.StageConfiguration, shows,
			fmt.Sprintf("GRUB loads its module %s from %s, and cannot load %s: %s.", module, home.Called(), file, why))
		return &end
	case !known:
		end := a.Unproven("grub-module-missing-evidence", course.StageConfiguration,
			fmt.Sprintf("GRUB loads its module %s from %s on %s: whether it is there with all that it needs is not in evidence.",
				module, folder, home.Called()), course.HowCapture)
		return &end
	}
	return nil
}
