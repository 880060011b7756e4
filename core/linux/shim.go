package linux

import (
	"fmt"
	"path"
	"strings"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// Shim starts GRUB from its own folder. In the folder of the removable media it starts its
// fallback instead, where that is there, which goes by lists in the loaders' folders. The
// shim project's documentation; what happens without a list, and by which the fallback goes
// first, as Debian 12's shim was seen to do in QEMU.
func Shim(k *course.Walk, a *course.Attempt, at machine.Spot, f loader.Found) course.Result {
	a.Follows(f.Program)
	v := at.Volume()
	dir, suffix := folderOf(f.Path), suffixOf(f)
	if there, _ := v.Holds(dir + "fb" + suffix); there && strings.EqualFold(dir, loader.FallbackFolder) {
		return shimFallback(k, a, at, suffix)
	}
	return besideShim(k, a, at, dir, suffix)
}

// shimFallback starts the first loader of the first list.
func shimFallback(k *course.Walk, a *course.Attempt, at machine.Spot, suffix string) course.Result {
	v := at.Volume()
	for i := range v.Configs {
		c := &v.Configs[i]
		name := path.Base(c.Path)
		if c.Kind != machine.ConfigShim || !strings.EqualFold(name, loader.ShimListName(suffix)) &&
			!strings.EqualFold(name, loader.ShimListOfAny) {
			continue
		}
		if c.Err != nil || len(c.Loaders) == 0 {
			return a.Unproven("shim-fallback-evidence", course.StageConfiguration,
				"What the shim's fallback starts stands in "+c.Path+", of which the evidence tells nothing.", course.HowCapture)
		}
		next := strings.ReplaceAll(path.Dir(c.Path), "/", `\`) + `\` + c.Loaders[0]
		if there, known := v.Holds(next); known && !there {
			return a.Stop("shim-fallback-missing", course.StageConfiguration, course.FromShim("a message of the shim's fallback."),
				fmt.Sprintf("%s names %s, which is not there.", c.Path, next))
		}
		found, ok := v.Loader(next)
		switch {
		case ok && found.Program.Is == loader.Shim && found.Err == nil:
			if end := refusedByShim(k, a, at, found); end != nil {
				return *end
			}
			a.Follows(found.Program)
			return besideShim(k, a, at, folderOf(next), suffix)
		case ok && found.Program.Is == loader.GRUB && found.Err == nil:
			return behindShim(k, a, at, found)
		}
		return a.Unproven("shim-fallback-evidence", course.StageConfiguration, "The shim's fallback starts "+next+": what that does is not proven.",
			course.HowCapture)
	}
	return a.Stop("shim-fallback-none", course.StageConfiguration,
		course.FromShim("Reset System, for a moment: the machine restarts again and again."),
		"The shim in the folder of the removable media starts its fallback, which finds no list of loaders ("+
			loader.ShimListName(suffix)+") in any folder, and restarts the machine.")
}

// besideShim starts the GRUB in a folder.
func besideShim(k *course.Walk, a *course.Attempt, at machine.Spot, dir, suffix string) course.Result {
	v := at.Volume()
	next := dir + "grub" + suffix
	if g, ok := v.Loader(next); ok {
		if g.Err != nil && !g.Missing() {
			return a.StopFor("shim-next-unsound", course.StageConfiguration,
				course.FromShim("a message of the shim that it failed to open or load "+next+"."),
				next+", which the shim starts, is no sound program", g.Err.Error()+".")
		}
		return behindShim(k, a, at, g)
	}
	if there, known := v.Holds(next); known && !there {
		return a.Stop("shim-next-absent", course.StageConfiguration,
			course.FromShim("a message of the shim that it failed to open "+next+"."),
			fmt.Sprintf("%s, which the shim starts, is not there.", next))
	}
	return a.Unproven("shim-next-missing-evidence", course.StageConfiguration,
		"What the shim starts is not in evidence.", course.HowCapture)
}

// behindShim starts GRUB where the shim takes its signature for good.
func behindShim(k *course.Walk, a *course.Attempt, at machine.Spot, g loader.Found) course.Result {
	if end := refusedByShim(k, a, at, g); end != nil {
		return *end
	}
	a.Starts(g.Program)
	return GrubProgram(k, a, at, g)
}

// refusedByShim is the end of a start where the shim, or its fallback by the shim, takes a program's
// signature for none; nil where it does not.
func refusedByShim(k *course.Walk, a *course.Attempt, at machine.Spot, f loader.Found) *course.Result {
	why := k.Chained(a, at, f)
	if why == "" {
		return nil
	}
	end := a.Stop("shim-refuses", course.StageConfiguration, course.ShimViolation, "The shim refuses what it is to start: "+why)
	return &end
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
