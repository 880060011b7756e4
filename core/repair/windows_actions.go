package repair

import (
	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/volume"
	"latchkey/core/windows"
)

// safeStart loads a driver that the system has and does not load by itself. Nothing that
// the registry denies is promised by it, and an ordinary Windows does not start from USB.
func safeStart(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	i, ok := windowsOn(d)
	if !ok || m.Answers["driver:"+d.Name] == "yes" {
		return nil
	}
	if bus, _ := d.Bus.Get(); bus == "usb" {
		return nil
	}
	if hive := d.Contents.Volumes[i].System; hive != nil && !hive.Waits(windows.MayServe(m, d)) {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "safe-start", Title: "Start once in safe mode, so that the drive's driver is loaded", Why: "The system has no start-up driver for the drive's new way yet.", Disk: d.Name, Risk: RiskLow, Minutes: 15, Save: "Nothing: one setting of the boot configuration changes, and changes back.",
			Undo: "bcdedit /deletevalue {default} safeboot"},
		key: "safe", on: d, result: answered(m, "driver:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{WindowsRecovery: func() []Command { return safeStartCommands(m) }},
	}}
}

// driverAtStart has the boot loader load a driver that is there, where the registry tells
// that it does not.
func driverAtStart(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	i, ok := windowsOn(d)
	if !ok || d.Contents.Volumes[i].System == nil || m.Answers["driver:"+d.Name] == "yes" {
		return nil
	}
	hive := d.Contents.Volumes[i].System
	for _, name := range windows.ServicesOf(m, d) {
		s, there := hive.Services[name]
		if bus, _ := d.Bus.Get(); !there || s.AtStart() || bus == "usb" {
			continue
		}
		return []move{onDisk(m, PlanStep{Action: "driver-at-start", Title: "Have Windows load its driver " + name + " at start-up", Why: "The registry has it loaded later, when the disk should have been reached already.", Risk: RiskLow, Minutes: 10, Save: "The registry's file SYSTEM: the commands keep it as SYSTEM.bak.",
			Undo: "Copy SYSTEM.bak back over SYSTEM."},
			"driver "+name, d.Contents.WithDriverAtStart(i, name),
			map[Toolbox]func() []Command{WindowsRecovery: func() []Command {
				return driverCommands(d, i, hive.Control,
					name, s)
			}})}
	}
	return nil
}

// recoveryKey is for an encrypted system: the key must be at hand at the first
// start.
func recoveryKey(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if _, ok := windowsOn(d); !ok || m.Answers["recovery-key:"+d.Name] == "yes" || !encrypted(d) {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "recovery-key", Title: "Have the recovery key at hand, and enter it at the first start", Why: "The system's partition is encrypted, and its key is sealed to the machine as it was: " + windows.AsksForKey, Risk: RiskNone, Minutes: 15, Undo: "None is needed."},
		key:      "key", result: answered(m, "recovery-key:"+d.Name, "yes"),
		tools: map[Toolbox]func() []Command{Firmware: saying("Find the key first: in the owner's account, on a printout, in the directory service, or in the old system with manage-bde -protectors -get C:. Enter it when the blue screen asks. Afterwards, in the system: manage-bde -protectors -disable C: and -enable C: renew the seal.",
			"The system comes up and does not ask again.", "Without the key the data of the clone cannot be reached: put the original back.")},
	}}
}

// unlocking is a step whose commands open the system's partition where that is encrypted.
func unlocking(d *machine.Drive, system int, s PlanStep) PlanStep {
	if d.Contents.Volumes[system].Kind == volume.KindBitLocker {
		s.Why += " The system's partition is encrypted: the commands ask for its recovery key, unless the recovery environment has asked already."
	}
	return s
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
	// The tool makes no boot entry where it is given the partition (/s): the start has to
	// come by the fallback path, or by an entry of its own. Common practice, no source.
	step := unlocking(d, system, PlanStep{Action: "windows-boot-files", Title: "Put Windows' boot files and boot configuration in place anew", Why: "Manager and store are made from the system on the clone, and name its own partition.", Risk: RiskLow, Minutes: 10, Saves: saves, Save: "The old store: the commands keep it as BCD.bak.",
		Undo: "Move BCD.bak back over BCD."})
	return []move{onDisk(m, step, "windows-files", changed, map[Toolbox]func() []Command{WindowsRecovery: func() []Command {
		return windowsFilesCommands(d,
			boot, system, mode)
	}})}
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
	step := unlocking(d, system, PlanStep{Action: "windows-references", Title: "Point the boot configuration at the system on the clone", Why: "The store looks for the system on a partition that the clone does not have.", Risk: RiskLow, Minutes: 5, Save: "The old store: the commands keep it as BCD.bak.", Undo: "Copy BCD.bak back over BCD."})
	return []move{onDisk(m, step, "references", d.Contents.WithStoreReferences(boot, system, mode),
		map[Toolbox]func() []Command{WindowsRecovery: func() []Command {
			return referencesCommands(d, boot, system,
				mode)
		}})}
}
