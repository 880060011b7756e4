package repair

import (
	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

func safeStart(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if _, ok := windowsOn(d); !ok || m.Answers["driver:"+d.Name] == "yes" {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "safe-start", Title: "Start once in safe mode, so that the drive's driver is loaded", Why: "The system has no start-up driver for the drive's new way yet.", Disk: d.Name, Risk: RiskLow, Minutes: 15, Save: "Nothing: one setting of the boot configuration changes, and changes back.",
			Undo: "bcdedit /deletevalue {default} safeboot"},
		key: "safe", on: d, result: answered(m, "driver:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{WindowsRecovery: func() []Command { return safeStartCommands(m) }},
	}}
}

// recoveryKey is for an encrypted system: the key must be at hand at the first
// start.
func recoveryKey(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if _, ok := windowsOn(d); !ok || m.Answers["recovery-key:"+d.Name] == "yes" || !encrypted(d) {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "recovery-key", Title: "Have the recovery key at hand, and enter it at the first start", Why: "The system's partition is encrypted, and the key that unlocks it without asking belongs to the old disk.", Risk: RiskNone, Minutes: 15, Undo: "None is needed."},
		key:      "key", result: answered(m, "recovery-key:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{Firmware: saying("Find the key first: in the owner's account, on a printout, in the directory service, or in the old system with manage-bde -protectors -get C:. Enter it when the blue screen asks. Afterwards, in the system: manage-bde -protectors -disable C: and -enable C: renew the seal.",
			"The system comes up and does not ask again.", "Without the key the data of the clone cannot be reached: put the original back.")},
	}}
}

// windowsFiles puts Windows' boot files back, with a store that names the clone.
func windowsFiles(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	boot, system, mode, ok := windowsPlace(m)
	if !ok {
		return nil
	}
	var saves []Sectors
	if mode == firmware.Legacy {
		saves = []Sectors{{0, 1}, bootSectors(d.Contents, d.Contents.Layout.Partitions[boot])}
	}
	changed := d.Contents.WithWindowsFiles(boot, system, mode, arch(m))
	mv := onDisk(m, PlanStep{Action: "windows-boot-files", Title: "Put Windows' boot files and boot configuration in place anew", Why: "Manager and store are made from the system on the clone, and name its own partition.", Risk: RiskLow, Minutes: 10, Saves: saves, Save: "The old store: the commands keep it as BCD.bak.",
		Undo: "Move BCD.bak back over BCD."},
		"windows-files", changed, map[Toolbox]func() []Command{WindowsRecovery: func() []Command {
			return windowsFilesCommands(d,
				boot, system, mode)
		}})
	if mode == firmware.UEFI { // the tool writes a boot entry too
		mv.result = withEntry(mv.result, d.Name, boot, loader.WindowsPath, "Windows Boot Manager")
	}
	return []move{mv}
}

// windowsReferences points the store that is there at the system on the clone.
func windowsReferences(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	boot, system, mode, ok := windowsPlace(m)
	if !ok {
		return nil
	}
	if store, ok := d.Contents.StoreOn(boot, mode); !ok || store.Dirty {
		return nil
	} else if of, ok := store.Default(); !ok || !of.IsLoader() {
		return nil
	}
	return []move{onDisk(m, PlanStep{Action: "windows-references", Title: "Point the boot configuration at the system on the clone", Why: "The store looks for the system on a partition that the clone does not have.", Risk: RiskLow, Minutes: 5, Save: "The old store: the commands keep it as BCD.bak.", Undo: "Copy BCD.bak back over BCD."},
		"references", d.Contents.WithStoreReferences(boot, system, mode),
		map[Toolbox]func() []Command{WindowsRecovery: func() []Command {
			return referencesCommands(d, boot, system,
				mode)
		}})}
}
