package startup

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/realmode"
)

// ranCode follows boot code that was run in the model: it is judged by what it
// does, whoever wrote it. start-rules, stages 2, 4 and 5.
func (k *walk) ranCode(a *Attempt, d *Drive) bool {
	run := d.Contents.Run
	style := d.cite("Partition style", string(d.Contents.Layout.Style), d.Contents.StyleSource())
	mode := Fact{Label: "Firmware mode", Value: "legacy", Source: k.m.Firmware.Mode.Source()}
	message, complains := run.Complaint()
	gpt := d.Contents.Layout.Style == disk.StyleGPT && !d.Contents.Layout.MBR.Hybrid()
	if fails := run.End == realmode.HandsBack || complains; fails && gpt {
		k.codeFails(a, d, message)
		return a.block(StageMode, "The firmware is in legacy mode, and "+d.called()+" is GPT without boot code that could start it: style and mode do not go together.", style, mode, d.codeFact())
	}
	a.pass(StageMode, fmt.Sprintf("Legacy firmware runs what stands in sector 0 (style %s).", d.Contents.Layout.Style), style, mode)
	a.pass(StageOrder, "The firmware comes to "+d.called()+" and runs its sector 0.")
	a.pass(StageTable, "Sector 0 holds a table and boot code.", append(problemFacts(&d.Contents.Layout, d.Name), d.codeFact())...)
	switch {
	case run.End == realmode.PassesOn:
		return k.passedOn(a, d, run)
	case run.End == realmode.HandsBack || complains:
		k.codeFails(a, d, message)
		return a.block(StageBootPartition, k.whyCodeFails(d, message), append(partitionFacts(d), d.ranFact())...)
	}
	a.Loader = LoaderBootCode
	a.pass(StageBootPartition, "The boot code in sector 0 looks for no partition.", d.ranFact())
	a.pass(StageLoader, "Control passes to the boot code in sector 0.", d.codeFact())
	return true
}

// codeFails notes what the screen shows when boot code ends without starting
// anything, and whether the firmware has its turn again.
func (k *walk) codeFails(a *Attempt, d *Drive, message string) {
	if active := d.matching(func(_ int, p disk.Partition) bool { return p.Active && !p.Logical }); len(active) == 1 {
		a.Partition, a.Loader = d.Contents.Layout.Partitions[active[0]].Number, LoaderBootSector
	}
	switch {
	case d.Contents.Run.End == realmode.HandsBack && message == "":
	case d.Contents.Run.End == realmode.HandsBack:
		a.Symptom = message + ", then no bootable device."
	default:
		a.Final, a.Symptom = true, message+"."
	}
}

func (k *walk) whyCodeFails(d *Drive, message string) string {
	active := len(d.matching(func(_ int, p disk.Partition) bool { return p.Active && !p.Logical }))
	switch {
	case active == 0:
		return "No partition of " + d.called() + " is marked active."
	case active > 1:
		return "More than one partition is marked active."
	case message == "":
		return "The boot code of " + d.called() + " finds nothing to start and hands back to the firmware."
	}
	return fmt.Sprintf("The boot code of %s finds nothing to start: it says %q.", d.called(), message)
}

// passedOn follows the code to the sector that it loaded and ran.
func (k *walk) passedOn(a *Attempt, d *Drive, run *realmode.Run) bool {
	at := run.Sector * 512 / uint64(d.Contents.Layout.SectorSize)
	for i, p := range d.Contents.Layout.Partitions {
		if !p.Unplaced && p.Start == at {
			a.Partition, a.Final = p.Number, true
			return k.bootSector(a, d, i)
		}
	}
	a.Loader, a.Final = LoaderBootCode, true
	for _, e := range d.Contents.Layout.MBR.Entries {
		if e.Start == at && e.Active() {
			a.Loader, a.Partition = LoaderBootSector, e.Number // a record that is no partition by its type or length
		}
	}
	a.pass(StageBootPartition, fmt.Sprintf("The boot code in sector 0 goes on to sector %d.", run.Sector), d.ranFact())
	if !k.runsOn(a, d) {
		return false
	}
	a.pass(StageLoader, "Control passes to what stands there.", d.ranFact())
	return true
}

// runsOn judges the code that the boot code passed control to, where it was run
// in the model too: it may say that it is none, or do nothing.
func (k *walk) runsOn(a *Attempt, d *Drive) bool {
	run := d.Contents.Run
	if run == nil || run.Then == nil {
		return true
	}
	message, complains := run.Then.Complaint()
	switch {
	case complains:
		a.Symptom = message + "."
		return a.block(StageLoader, fmt.Sprintf("The boot sector finds nothing to start: it says %q.", message), d.ranFact())
	case run.Then.End == realmode.HandsBack:
		a.Final = false
		return a.block(StageLoader, "The boot sector gives the firmware its turn again.", d.ranFact())
	case run.Empty:
		a.Symptom = "black, with a cursor."
		return a.block(StageLoader, fmt.Sprintf("Sector %d holds no code: the start hangs there.", run.Sector), d.ranFact())
	}
	return true
}

// ranFact tells what the code did in the model.
func (d *Drive) ranFact() Fact {
	run := d.Contents.Run
	var did []string
	for i, r := range run.Reads {
		if i < 4 {
			did = append(did, fmt.Sprintf("reads sector %d", r.Sector))
		}
	}
	if text := strings.TrimSpace(run.Output); text != "" {
		did = append(did, fmt.Sprintf("says %q", text))
	}
	switch run.End {
	case realmode.PassesOn:
		did = append(did, fmt.Sprintf("runs sector %d", run.Sector))
		if message, complains := run.Then.Complaint(); complains {
			did = append(did, fmt.Sprintf("which says %q", message))
		}
	default:
		did = append(did, string(run.End))
	}
	return d.cite("The boot code, run in a model", strings.Join(did, ", "), fact.Source{Origin: fact.Computed})
}
