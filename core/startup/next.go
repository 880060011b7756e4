package startup

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/linux"
	"latchkey/core/loader"
	"latchkey/core/mac"
	"latchkey/core/machine"
	"latchkey/core/windows"
)

// afterLoader judges what the loader loads, and settles the outcome.
func afterLoader(k *course.Walk, o *outcome, a *course.Attempt) {
	d := k.Drive(a.Drive)
	var end course.Result
	if cut, ok := d.CutSystem(); ok && k.Machine.Until == machine.UntilSystem {
		end = cutOff(k, a, d, cut)
	} else {
		end = configuration(k, a, d)
	}
	switch {
	case end.State == course.Blocks:
		o.verdict, o.stage, o.symptom = Stops, a.Last(), a.Shown()
	case end.Home.Drive != nil && end.Home.Drive.Role != machine.RoleClone:
		o.verdict = StartsOriginal
	case end.State == course.Passes:
		o.verdict = Starts
	case a.Role != machine.RoleClone && !mayLeadToClone(k):
		o.verdict = StartsOriginal
	default:
		o.verdict = Depends
	}
}

// mayLeadToClone reports whether what a loader on another drive goes by can lead to the clone: boot files on
// one drive start a system on another one.
func mayLeadToClone(k *course.Walk) bool {
	return slices.ContainsFunc(k.Machine.Drives, func(d machine.Drive) bool {
		attached, known := d.Attached.Get()
		return d.Role == machine.RoleClone && (attached || !known)
	})
}

func cutOff(k *course.Walk, a *course.Attempt, d *machine.Drive, cut disk.Partition) course.Result {
	a.Unproven("system-cut-off-configuration", course.StageConfiguration, "The system that the configuration names is cut off.", "")
	return a.Stop("system-cut-off", course.StageSystem, course.DeviceCutOff,
		fmt.Sprintf("The system's partition %d is cut off by the end of %s: sectors %d to %d do not exist.",
			cut.Number, d.Called(), d.Contents.Layout.Sectors, cut.End()-1),
		d.Cite("Last sector of partition "+fmt.Sprint(cut.Number), fmt.Sprint(cut.End()-1), cut.Source),
		machine.Fact{Label: "Last sector of the disk", Value: fmt.Sprint(d.Contents.Layout.Sectors - 1),
			Source: fact.Source{Origin: fact.Computed, Drive: d.Name}})
}

// maxChains bounds the loaders that start each other.
const maxChains = 4

// configuration judges stage 7, through all loaders that start each other.
func configuration(k *course.Walk, a *course.Attempt, d *machine.Drive) course.Result {
	end := byLoader(k, a, d)
	for n := 0; end.Chain != ""; n++ {
		if n == maxChains {
			return a.Unproven("menu-circle", course.StageConfiguration, "The loaders start each other without end.", course.HowTry)
		}
		end = chained(k, a, end.Home, end.Chain)
	}
	return end
}

// chained judges a loader that another one starts.
func chained(k *course.Walk, a *course.Attempt, at machine.Spot, path string) course.Result {
	v := at.Volume()
	f, found := v.Loader(path)
	there, looked := v.Holds(strings.ReplaceAll(path, `\`, "/"))
	missing := looked && !there || v.IsFAT() && v.Readable && !v.ProgramsOpen && !v.Lists(path) &&
		strings.HasSuffix(strings.ToLower(path), ".efi")
	switch {
	case path == course.BootSector && v.SystemCode:
		return windows.LegacyManager(k, a, at)
	case path == course.BootSector:
		return a.Unproven("boot-sector-unknown", course.StageConfiguration, "The boot sector is not a known one: what it loads cannot be told.", course.HowTry)
	case !found && missing:
		return a.Stop("chain-absent", course.StageConfiguration, course.GRUBNoKernel, fmt.Sprintf("%s is not on %s.", path, at.Called()))
	case found && f.Err != nil && !f.Missing():
		return a.Stop("chain-unsound", course.StageConfiguration, course.GRUBNoKernel, fmt.Sprintf("%s on %s: %v.", path, at.Called(), f.Err))
	}
	if found {
		if why := k.Chained(a, at, f); why != "" {
			return a.Stop("chain-refused", course.StageConfiguration, course.SecureViolation, "The boot loader is not let start what comes next: "+why)
		}
	}
	return program(k, a, at, path, false)
}

// byLoader judges stage 7 by what the loader is.
func byLoader(k *course.Walk, a *course.Attempt, d *machine.Drive) course.Result {
	at, ok := d.At(a.Partition)
	if a.Loader == LoaderGRUB {
		return linux.GrubFromCode(k, a, d)
	}
	if !ok {
		return a.Unproven("next-unknown", course.StageConfiguration, "What the loader loads next is not in evidence.", course.HowCapture)
	}
	switch a.Loader {
	case LoaderBootCode:
		return a.Unproven("code-unknown", course.StageConfiguration, "The boot code in sector 0 is not a known one: what it loads cannot be told.", course.HowTry)
	case LoaderBootSector:
		if linux.LeadsToSyslinux(at) {
			return linux.Syslinux(k, a, at)
		}
		return windows.LegacyManager(k, a, at)
	case mac.Loader:
		return mac.System(k, a, at)
	}
	return program(k, a, at, a.Loader, true)
}

// program judges what an EFI program does; byFirmware where the firmware itself started it.
func program(k *course.Walk, a *course.Attempt, at machine.Spot, path string, byFirmware bool) course.Result {
	f, found := at.Volume().Loader(path)
	switch is := f.Is(); {
	case !found && at.Volume().Config(machine.ConfigStore, loader.StoreUEFI) != nil:
		return windows.Windows(k, a, at, loader.StoreUEFI, "efi") // a listing tells of the store, nothing of the loader
	case !found:
		return a.Unproven("loader-missing-evidence", course.StageConfiguration, "The loader is not in evidence.", course.HowCapture)
	case is == loader.WindowsManager:
		return windows.Windows(k, a, at, loader.StoreUEFI, "efi")
	case is == loader.Shim:
		return linux.Shim(k, a, at, f)
	case is == loader.GRUB:
		return linux.GrubProgram(k, a, at, f)
	case is == loader.SystemdBoot:
		return linux.BootLoaderEntries(k, a, at, f)
	case f.Program.Unified != nil:
		return linux.UnifiedKernel(k, a, at, f, byFirmware)
	case is == loader.LinuxKernel && byFirmware:
		return linux.BareKernel(k, a, at, f)
	case f.Missing():
		return a.Unproven("loader-missing-evidence", course.StageConfiguration, "The loader is not in evidence.", course.HowCapture)
	}
	return a.Unproven("loader-unknown", course.StageConfiguration, path+" is none of the loaders that are known: what it loads cannot be told.", course.HowTry)
}
