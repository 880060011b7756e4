package linux

import (
	"fmt"
	"strings"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// Shim starts GRUB from its own folder; a rebuilding shim goes to the
// distribution's folder instead. The shim project's documentation.
func Shim(k *course.Walk, a *course.Attempt, at machine.Spot, f loader.Found) course.Result {
	v := at.Volume()
	dir, suffix := folderOf(f.Path), suffixOf(f)
	if there, _ := v.Holds(dir + "fb" + suffix); there && strings.EqualFold(dir, `\EFI\BOOT\`) {
		for _, x := range v.Loaders {
			if x.Name == loader.Shim {
				dir = folderOf(x.Path)
			}
		}
	}
	next := dir + "grub" + suffix
	if g, ok := v.Loader(next); ok {
		if g.Err != nil && !g.Missing() {
			return a.StopFor("shim-next-unsound", course.StageConfiguration,
				course.FromShim("a message of the shim that it failed to open or load "+next+"."),
				next+", which the shim starts, is no sound program", g.Err.Error()+".")
		}
		return GrubProgram(k, a, at, g)
	}
	if there, known := v.Holds(next); known && !there {
		return a.Stop("shim-next-absent", course.StageConfiguration,
			course.FromShim("a message of the shim that it failed to open "+next+"."),
			fmt.Sprintf("%s, which the shim starts, is not there.", next))
	}
	return a.Unproven("shim-next-missing-evidence", course.StageConfiguration,
		"What the shim starts is not in evidence.", course.HowCapture)
}

func folderOf(path string) string { return path[:strings.LastIndexByte(path, '\\')+1] }

// suffixOf is how the programs beside a shim are called: "x64.efi" by its architecture,
// which its own name tells where the program does not.
func suffixOf(f loader.Found) string {
	for _, suffix := range loader.Suffixes {
		if strings.HasSuffix(strings.ToLower(f.Path), suffix) {
			return suffix
		}
	}
	return loader.Suffixes[0]
}
