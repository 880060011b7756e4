package startup

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/realmode"
	"latchkey/core/volume"
)

// runsOn judges the code that the boot code passed control to, where it was run
// in the model too: it may say that it is none, or do nothing. alone is what the
// partition's boot sector does by itself, for boot code that is judged by what it is
// known to do; nil where nothing was run.
func runsOn(k *course.Walk, a *course.Attempt, d *machine.Drive, alone *realmode.Run) bool {
	then, sector, empty := alone, uint64(0), false
	if run := d.Contents.Run; run != nil {
		then, sector, empty = run.Then, run.Sector, run.Empty
	}
	if then == nil {
		return true
	}
	message, complains := then.Complaint()
	silent := then.Output == "" && len(then.Reads) == 0
	open := then.End == realmode.Unknown || then.End == realmode.Goes && !empty
	switch {
	case then.End == realmode.Lacks && alone == then, open && silent:
		if !goesOn(k, d) {
			return a.Block("code-missing-evidence", course.StageLoader, "What the boot sector does is not in evidence.", ranFacts(d)...)
		}
	case complains, then.End == realmode.Waits && message != "" && len(then.Reads) == 0:
		// What waits for a key and has loaded nothing has nothing to go on with.
		a.Shows(course.FromCode(message + "."))
		return a.BlockFor("boot-sector-says", course.StageLoader, "The boot sector finds nothing to start", fmt.Sprintf("it says %q.", message), ranFacts(d)...)
	case then.End == realmode.HandsBack:
		a.Final = false
		return a.Block("boot-sector-hands-back", course.StageLoader, "The boot sector gives the firmware its turn again.", ranFacts(d)...)
	case hangs(then) && !empty:
		a.Shows(course.BlackCursor)
		return a.BlockFor("boot-sector-hangs", course.StageLoader, "The boot sector goes round or halts", "it starts nothing and shows nothing.", ranFacts(d)...)
	case empty:
		a.Shows(course.BlackCursor)
		return a.BlockFor("boot-sector-empty", course.StageLoader, fmt.Sprintf("Sector %d holds no code", sector), "the start hangs there.", d.RanFact())
	}
	return true
}

// hangs reports whether code ends without a sign: it goes round, or halts without having read
// anything, and has shown nothing.
func hangs(run *realmode.Run) bool {
	return run.Output == "" && (run.End == realmode.Round || run.End == realmode.Halts && len(run.Reads) == 0)
}

// ranFacts cites what the code did, where it was run from sector 0 on.
func ranFacts(d *machine.Drive) []machine.Fact {
	if d.Contents.Run == nil {
		return []machine.Fact{d.CodeFact()}
	}
	return []machine.Fact{d.RanFact()}
}

// code returns what stands in sector 0; where nobody read it, it is asked for.
func code(k *course.Walk, d *machine.Drive) loader.BootCode {
	c := d.Contents
	if c.Code != loader.CodeUnknown {
		return c.Code
	}
	options := []course.Option{{ID: "yes", Label: "Code that runs the active partition"},
		{ID: "other", Label: "A boot loader's own code, such as GRUB's"}, {ID: "no", Label: "No code"}}
	if c.Layout.Style == disk.StyleGPT {
		options = options[1:]
	}
	switch k.World.Ask(course.Question{ID: "boot-code:" + d.Name, Stage: course.StageTable, Drive: d.Name,
		Text: "Which boot code does sector 0 of " + d.Called() + " hold?", How: "Take a capture of " + d.Called() + ".",
		Options: options}) {
	case "yes":
		return loader.CodeClassic
	case "no":
		return loader.CodeNone
	}
	return loader.CodeOther
}

// goesOn asks what boot code does that reads sectors which are not in the evidence.
func goesOn(k *course.Walk, d *machine.Drive) bool {
	return finds(k, d, "It reads sectors that are not in the evidence: take a capture of "+d.Called()+".")
}

func finds(k *course.Walk, d *machine.Drive, how string) bool {
	return k.Evidence(d, course.StageTable, "boot-code-goes-on", "Does the boot code of "+d.Called()+" find something to start?", how)
}

// presented asks how the firmware presents a disk, where boot code goes by that.
func presented(k *course.Walk, d *machine.Drive) bool {
	return k.Evidence(d, course.StageTable, "geometry", "Does the firmware present "+d.Called()+" with 255 heads and 63 sectors a track?",
		"Its setup may say so where it lists its drives; large disks are presented so by habit.")
}

// byGeometry asks what code comes to that reads by another geometry than the usual, and leaves
// it open.
func byGeometry(k *course.Walk, a *course.Attempt, d *machine.Drive, stage course.Stage, cited machine.Fact) bool {
	if !finds(k, d, course.HowTry) {
		return a.Block("geometry-unknown", stage, "By this firmware's geometry the boot code of "+d.Called()+" finds nothing to start.", cited)
	}
	a.Unproven("geometry-unknown", stage, "The boot code reads by cylinder, head and sector: what it comes to by this firmware's geometry is not known.",
		course.HowTry, cited)
	return true
}

func bootSector(k *course.Walk, a *course.Attempt, d *machine.Drive, i int) bool {
	p, v := d.Contents.Layout.Partitions[i], &d.Contents.Volumes[i]
	cited := d.Cite(fmt.Sprintf("Partition %d", p.Number), fmt.Sprintf("%s, %s", p.Type.Name, v.Kind), p.Source)
	a.Loader = LoaderBootSector
	if v.Kind == volume.NotCaptured || v.Told {
		if !k.Evidence(d, course.StageBootPartition, "boot-sector", fmt.Sprintf("Is the boot sector of partition %d of %s sound?", p.Number, d.Called()),
			fmt.Sprintf("Add sector %d as evidence.", p.Start)) {
			return a.Block("boot-sector-missing-evidence", course.StageBootPartition, "The active partition's boot sector is not in evidence.", cited)
		}
		a.Steps = append(a.Steps, course.Step{Rule: "boot-sector-missing-evidence", Stage: course.StageBootPartition, State: course.Unproven,
			Text: "The active partition's boot sector is not in evidence.", Facts: []machine.Fact{cited}},
			course.Step{Rule: "boot-sector-missing-evidence", Stage: course.StageLoader, State: course.Unproven, Text: "The boot sector is not in evidence."})
		return true
	}
	if !v.BootCode {
		a.Shows(course.MissingSystem)
		return a.Block("no-boot-record", course.StageBootPartition, fmt.Sprintf("The first sector of the active partition %d holds no boot record.", p.Number), cited)
	}
	if q, bad := v.Problem(volume.CodeHiddenSectors); bad && v.SystemCode {
		a.Shows(course.DiskReadError)
		return a.Block("boot-record-elsewhere", course.StageBootPartition, q.Text+" Its boot code reads from the wrong place.", cited, machine.ProblemFact(q, d.Name))
	}
	a.Pass(course.StageBootPartition, fmt.Sprintf("Partition %d is active and its first sector is run.", p.Number), cited)
	for _, q := range v.Problems {
		a.Risk(course.Rule(q.Code), q.Text, machine.ProblemFact(q, d.Name))
	}
	if alone := v.Alone; alone != nil && alone.ByGeometry && d.Contents.Run == nil && !presented(k, d) {
		return byGeometry(k, a, d, course.StageLoader, cited)
	}
	if !v.SystemCode && !runsOn(k, a, d, v.Alone) {
		return false
	}
	if v.SystemCode && k.Machine.Until != machine.UntilLoader && managerKnown(v) {
		return bootmgr(k, a, d, i)
	}
	a.Pass(course.StageLoader, "Control passes to the partition's boot sector.", cited)
	return true
}

// managerKnown reports whether the evidence tells of the boot managers that the boot sector
// looks for.
func managerKnown(v *machine.Volume) bool {
	_, newer := v.Holds("bootmgr")
	_, older := v.Holds("ntldr")
	return v.LegacyManager != "" || newer && older
}

// bootmgr looks for Windows' legacy boot manager where it can be read.
func bootmgr(k *course.Walk, a *course.Attempt, d *machine.Drive, i int) bool {
	v, p := &d.Contents.Volumes[i], d.Contents.Layout.Partitions[i]
	if v.LegacyManager != "" {
		a.Pass(course.StageLoader, fmt.Sprintf(`\%s is on the active partition %d.`, v.LegacyManager, p.Number))
		return true
	}
	a.Shows(course.BootmgrMissing)
	return a.Block("bootmgr-absent", course.StageLoader, fmt.Sprintf(`\bootmgr is not on the active partition %d.`, p.Number))
}

// grub judges GRUB's boot code: its core image must stand where the code looks
// for it. GRUB manual, "BIOS installation".
func grub(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	a.Final, a.Loader = true, LoaderGRUB
	core := d.Contents.Core
	cited := d.Cite("GRUB core image at sector", fmt.Sprint(core.Sector), fact.Source{Origin: fact.Bytes, Structure: "MBR", Field: "GRUB kernel sector",
		Offset: 0x5C, Length: 8})
	a.Pass(course.StageTable, "Sector 0 holds GRUB's boot code.", append(machine.ProblemFacts(&d.Contents.Layout, d.Name), d.CodeFact())...)
	if d.Contents.Layout.Style == disk.StyleGPT {
		held := false
		for _, p := range d.Contents.Layout.Partitions {
			if core.Sector >= p.Start && core.Sector < p.End() && p.TypeGUID == disk.TypeBIOSBoot {
				held, a.Partition = true, p.Number
			}
		}
		a.Pass(course.StageBootPartition, "GRUB finds its core image by sector number.", cited)
		if !held {
			a.Risk("core-image-unguarded", "The core image does not stand in a BIOS boot partition: whatever fills that space breaks the start.", cited)
		}
	} else {
		a.Pass(course.StageBootPartition, "GRUB finds its core image by sector number, whichever partition is active.", cited)
	}
	switch {
	case !core.Known:
		if !k.Evidence(d, course.StageLoader, "grub-core", "Does GRUB's core image stand at sector "+fmt.Sprint(core.Sector)+" of "+d.Called()+"?", "Add that sector as evidence.") {
			return a.Block("core-image-missing-evidence", course.StageLoader, "GRUB's core image is not in evidence.", cited)
		}
		a.Steps = append(a.Steps, course.Step{Rule: "core-image-missing-evidence", Stage: course.StageLoader, State: course.Unproven, Text: "GRUB's core image is not in evidence.",
			Facts: []machine.Fact{cited}})
		return true
	case !core.Present:
		a.Shows(course.GRUBReadError)
		return a.Block("core-image-absent", course.StageLoader, fmt.Sprintf("GRUB's boot code looks for its core image at sector %d; nothing stands there.", core.Sector), cited)
	}
	a.Pass(course.StageLoader, "Control passes to GRUB's core image.", cited)
	return true
}
