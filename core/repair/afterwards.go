package repair

import (
	"fmt"
	"slices"

	"latchkey/core/command"
	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

// afterwards lists what is worth doing once the clone starts: it keeps nothing
// from starting, and would later.
func afterwards(m machine.Machine) []PlanStep {
	steps := []PlanStep{}
	d := clone(m)
	if d == nil || d.Contents == nil {
		return steps
	}
	then := m
	for _, mv := range detachOthers(m, "") { // commands are given where they find the clone alone
		then = mv.result
	}
	for _, find := range []func(machine.Machine, *machine.Drive) []move{ownFileSystems, rewriteBackup, checkFileSystems,
		freshIdentifier, staleLetters, recoveryPlace} {
		for _, mv := range find(m, d) {
			mv.before = then
			if mv.choose(Toolboxes) {
				mv.After.Pins = []startup.Pin{}
				steps = append(steps, mv.finish(Toolboxes))
			}
		}
	}
	return steps
}

// ownFileSystems has a system that starts, and takes a part of itself from the original, take
// all of it from the clone.
func ownFileSystems(m machine.Machine, _ *machine.Drive) (moves []move) {
	for _, mv := range linuxNames(m, "") {
		if !halfElsewhere(startup.Simulate(m)) {
			continue
		}
		if after := startup.Simulate(mv.result); after.Verdict == startup.Starts && !halfElsewhere(after) {
			moves = append(moves, mv)
		}
	}
	return moves
}

func halfElsewhere(t startup.Trace) bool {
	return slices.ContainsFunc(t.Findings, func(f startup.Finding) bool {
		return f.Rule == "half-from-the-other" || f.Rule == "kernel-from-the-other"
	})
}

// rewriteBackup puts the backup table where the disk ends.
func rewriteBackup(_ machine.Machine, d *machine.Drive) []move {
	l := &d.Contents.Layout
	_, misplaced := l.Find(disk.CodeGPTBackupMisplaced)
	if l.Style != disk.StyleGPT || l.GPT == nil || l.GPT.Primary.State != disk.CopyGood ||
		l.GPT.Backup.State == disk.CopyGood && !misplaced ||
		l.GPT.Backup.State == disk.CopyNotCaptured || !writesEntry(d.Contents) {
		return nil
	}
	return []move{{PlanStep: PlanStep{Action: "rewrite-backup", Title: "Write the backup partition table to the end of the disk", Why: "Without it a damaged primary is lost, and the space behind the old end is out of reach.", Disk: d.Name, Risk: RiskLow, Minutes: 5,
		Saves: tableSectors(d.Contents), Undo: "Write the saved sectors back."}, key: "backup", on: d,
		tools: map[Toolbox]func() []Command{Linux: rewriteBackupCommands}}}
}

func checkFileSystems(_ machine.Machine, d *machine.Drive) []move {
	var moves []move
	for i, p := range d.Contents.Layout.Partitions {
		v := &d.Contents.Volumes[i]
		if unclean, known := v.Unclean.Get(); !known || !unclean {
			continue
		}
		mv := move{PlanStep: PlanStep{Action: "check-file-system", Title: fmt.Sprintf("Check the file system of partition %d", p.Number), Why: "It was not closed cleanly before the copy.", Disk: d.Name,
			Risk: RiskLow, Minutes: 20, Undo: "None: it only puts right what is wrong."}, key: fmt.Sprint("check ", p.Number), on: d}
		if v.HasLinux() {
			mv.tools = map[Toolbox]func() []Command{Linux: func() []Command {
				return []Command{line(command.Run("e2fsck", "-f", partition(p)), "clean, or: FILE SYSTEM WAS MODIFIED.", "Copy again from the original.")}
			}}
		} else {
			mv.tools = map[Toolbox]func() []Command{WindowsRecovery: func() []Command {
				return checkDiskCommands(d,
					i)
			}}
		}
		moves = append(moves, mv)
	}
	return moves
}

// freshIdentifier is for the old drive, before it is attached beside the clone
// again: two disks of one identifier make the system take one of them offline.
func freshIdentifier(m machine.Machine, d *machine.Drive) []move {
	mine, _ := d.Contents.Layout.DiskID().Get()
	for i := range m.Drives {
		o := &m.Drives[i]
		if o.Role != machine.RoleOriginal || o.Contents == nil {
			continue
		}
		if theirs, known := o.Contents.Layout.DiskID().Get(); !known || theirs != mine {
			return nil
		}
		fresh := command.Run("sfdisk", "--disk-id", onClone, command.Output(command.Run("cat", "/proc/sys/kernel/random/uuid")))
		if o.Contents.Layout.Style == disk.StyleMBR {
			fresh = command.Run("sfdisk", "--disk-id", onClone, command.Join("0x", command.Output(command.Fixed(`od -An -N4 -tx4 /dev/urandom | tr -d ' '`))))
		}
		why := "Both carry the same one. This touches the original: wait until the clone has started well for some days, and attach the original alone."
		if _, windows := windowsOn(o); windows {
			why += " Its Windows does not start by itself afterwards: its boot configuration names the old identifier."
		}
		return []move{{PlanStep: PlanStep{Action: "disk-identifier", Title: "Give the original a new disk identifier, before it is attached beside the clone again", Why: why, Disk: o.Name, Risk: RiskLow, Minutes: 10,
			Saves: tableSectors(o.Contents), Undo: "Write the saved sectors back."}, key: "identifier", on: o,
			tools: map[Toolbox]func() []Command{Linux: func() []Command {
				return []Command{line(fresh, altered, "Leave it as it is, and do not attach both.")}
			}}}}
	}
	return nil
}

// staleLetters is for a Windows that came up once with both disks attached.
func staleLetters(m machine.Machine, d *machine.Drive) []move {
	if _, ok := windowsOn(d); !ok {
		return nil
	}
	for _, o := range m.Drives {
		if attached, known := o.Attached.Get(); o.Role == machine.RoleOriginal && known && attached {
			return []move{{PlanStep: PlanStep{Action: "stale-letters", Title: "Remove the drive letters that Windows remembers of the original", Why: "A Windows that came up with both disks attached may have given its own letter to the old one.", Disk: d.Name, Risk: RiskLow,
				Minutes: 10, Undo: "Windows gives letters anew by itself."}, key: "letters",
				tools: map[Toolbox]func() []Command{WindowsRecovery: saying("In the Windows that came up from the clone alone, in a command prompt as administrator: mountvol /R", "No answer; the letters are right after a restart.", "Access is denied: open the command prompt as administrator.")}}}
		}
	}
	return nil
}

// recoveryPlace is for a Windows whose store names a recovery environment, which it may look
// for where the original had it. Documentation of Windows' maker, REAgentC command-line
// options.
func recoveryPlace(m machine.Machine, d *machine.Drive) []move {
	boot, _, mode, ok := windowsPlace(m)
	if !ok {
		return nil
	}
	store, ok := d.Contents.StoreOn(boot, mode)
	if !ok {
		return nil
	}
	system, ok := store.Default()
	if !ok {
		return nil
	}
	if _, named := system.Element(loader.ElementRecoverySeq); !named {
		return nil
	}
	return []move{{PlanStep: PlanStep{Action: "recovery-place", Title: "Let Windows find its recovery environment on the clone", Why: "It may still be looked for on the original's partition, and is wanted when a start fails.", Disk: d.Name, Risk: RiskLow,
		Minutes: 5, Undo: "reagentc /disable"}, key: "recovery-place",
		tools: map[Toolbox]func() []Command{WindowsRecovery: saying("In the Windows that came up from the clone alone, in a command prompt as administrator: reagentc /disable, then reagentc /enable, then reagentc /info", "Windows RE status: Enabled, and a location on the clone's disk.", "It is not found: the recovery partition did not come along; the start goes on without it.")}}}
}
