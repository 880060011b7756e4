package startup

import (
	"fmt"
	"slices"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/realmode"
)

// ranCode follows boot code that was run in the model: it is judged by what it
// does, whoever wrote it. start-rules, stages 2, 4 and 5.
func ranCode(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	run := d.Contents.Run
	style := d.Cite("Partition style", string(d.Contents.Layout.Style), d.Contents.StyleSource())
	mode := machine.Fact{Label: "Firmware mode", Value: "legacy", Source: k.Machine.Firmware.Mode.Source()}
	message, complains := run.Complaint()
	gpt := d.Contents.Layout.Style == disk.StyleGPT && !d.Contents.Layout.MBR.Hybrid()
	if fails := run.End == realmode.HandsBack || complains; fails && gpt {
		codeFails(k, a, d, message)
		return a.BlockFor("style-against-mode", course.StageMode, "The firmware is in legacy mode, and "+d.Called()+" is GPT without boot code that could start it", "style and mode do not go together.", style, mode, d.CodeFact())
	}
	if run.ByGeometry && !presented(k, d) {
		return byGeometry(k, a, d, course.StageTable, d.RanFact())
	}
	a.Pass(course.StageMode, fmt.Sprintf("Legacy firmware runs what stands in sector 0 (style %s).", d.Contents.Layout.Style), style, mode)
	a.Pass(course.StageOrder, "The firmware comes to "+d.Called()+" and runs its sector 0.")
	a.Pass(course.StageTable, "Sector 0 holds a table and boot code.", append(machine.ProblemFacts(&d.Contents.Layout, d.Name), d.CodeFact())...)
	switch {
	case run.End == realmode.PassesOn:
		return passedOn(k, a, d, run)
	case run.End == realmode.HandsBack || complains:
		codeFails(k, a, d, message)
		rule, brief, why := whyCodeFails(d, message)
		return a.BlockFor(rule, course.StageBootPartition, brief, why,
			append(machine.PartitionFacts(d), d.RanFact())...)
	}
	if hangs(run) {
		a.Final = true
		a.Shows(course.BlackCursor)
		return a.BlockFor("code-hangs", course.StageBootPartition, "The boot code of "+d.Called()+" goes round or halts", "it starts nothing and shows nothing.", d.CodeFact(), d.RanFact())
	}
	a.Loader = LoaderBootCode
	a.Pass(course.StageBootPartition, "The boot code in sector 0 looks for no partition.", d.RanFact())
	a.Pass(course.StageLoader, "Control passes to the boot code in sector 0.", d.CodeFact())
	return true
}

// codeFails notes what the screen shows when boot code ends without starting
// anything, and whether the firmware has its turn again.
func codeFails(k *course.Walk, a *course.Attempt, d *machine.Drive, message string) {
	if active := d.Matching(func(_ int, p disk.Partition) bool { return p.Active && !p.Logical }); len(active) == 1 {
		a.Partition, a.Loader = d.Contents.Layout.Partitions[active[0]].Number, LoaderBootSector
	}
	switch {
	case d.Contents.Run.End == realmode.HandsBack && message == "":
	case d.Contents.Run.End == realmode.HandsBack:
		a.Shows(course.FromCode(message + ", then no bootable device."))
	default:
		a.Final = true
		a.Shows(course.FromCode(message + "."))
	}
}

func whyCodeFails(d *machine.Drive, message string) (rule course.Rule, brief, why string) {
	active := len(d.Matching(func(_ int, p disk.Partition) bool { return p.Active && !p.Logical }))
	switch {
	case active == 0:
		return "none-active", "No partition of " + d.Called() + " is marked active", ""
	case active > 1:
		return "two-active", "More than one partition is marked active", ""
	case message == "":
		return "code-finds-nothing", "The boot code of " + d.Called() + " finds nothing to start and hands back to the firmware", ""
	}
	return "code-finds-nothing", "The boot code of " + d.Called() + " finds nothing to start", fmt.Sprintf("it says %q.", message)
}

// itself reports whether code passes control to the very sector that it came from, which
// does the same again.
func itself(run *realmode.Run) bool {
	return run.Sector == 0 && run.Then != nil && run.Then.End == realmode.PassesOn && run.Then.Sector == 0
}

// passedOn follows the code to the sector that it loaded and ran.
func passedOn(k *course.Walk, a *course.Attempt, d *machine.Drive, run *realmode.Run) bool {
	if itself(run) {
		a.Final = true
		a.Shows(course.BlackCursor)
		return a.BlockFor("code-hangs", course.StageBootPartition, "The boot code of "+d.Called()+" goes round", "it loads sector 0, which it is itself, and runs it again.", d.CodeFact(), d.RanFact())
	}
	at := run.Sector * 512 / uint64(d.Contents.Layout.SectorSize)
	for i, p := range d.Contents.Layout.Partitions {
		if !p.Unplaced && p.Start == at {
			a.Partition, a.Final = p.Number, true
			return bootSector(k, a, d, i)
		}
	}
	a.Loader, a.Final = LoaderBootCode, true
	mbr := d.Contents.Layout.MBR
	for _, e := range slices.Concat(mbr.Entries[:], mbr.Logical, mbr.Hollow) {
		if e.Start == at && (e.Active() || e.Number > 4) {
			a.Loader, a.Partition = LoaderBootSector, e.Number // a record that is no partition by its type or length
		}
	}
	a.Pass(course.StageBootPartition, fmt.Sprintf("The boot code in sector 0 goes on to sector %d.", run.Sector), d.RanFact())
	if !runsOn(k, a, d, nil) {
		return false
	}
	a.Pass(course.StageLoader, "Control passes to what stands there.", d.RanFact())
	return true
}
