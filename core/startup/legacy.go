package startup

import (
	"fmt"
	"slices"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/realmode"
)

// handsBack tells whether boot code without an active partition gives the
// firmware its turn again (INT 18h) or stops with a message.
func handsBack(k *course.Walk, d *machine.Drive) bool {
	return triesNext(k) && k.World.Yes(course.UnknownBool, course.Question{
		ID: "hands-back:" + d.Name, Stage: course.StageBootPartition, Drive: d.Name,
		Text: "Does the boot code of " + d.Called() + " give the firmware its turn again when no partition is active?",
		How:  "Some codes do, some stop with a message. Marking the right partition active settles it either way.",
	})
}

// legacy goes through the devices: sector 0 is run when it ends in 55 AA. Some
// firmware tries the first disk alone. start-rules, stage 3.
func legacy(k *course.Walk) {
	drives := k.Drives()
	for i, d := range drives {
		a := course.Attempt{Drive: d.Name, Role: d.Role, Final: i == len(drives)-1}
		a.HandsOver = legacyDevice(k, &a, d) || a.HandsOver
		a.Final = a.Final || a.HandsOver || !triesNext(k)
		k.Attempts = append(k.Attempts, a)
		if a.Final {
			return
		}
	}
}

func triesNext(k *course.Walk) bool {
	return k.Choice(firmware.TriesNextDisk, course.StageOrder, nil, "")
}

func legacyDevice(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	if !seen(k, a, d) || !readable(k, a, d) {
		return false
	}
	if !largeLegacy(k, a, d) {
		return false
	}
	c := d.Contents
	if sector0Open(&c.Layout) {
		return untoldSector0(k, a, d)
	}
	if c.Layout.MBR == nil || !c.Layout.MBR.Signature {
		a.Pass(course.StageMode, "Legacy firmware looks at sector 0 alone.")
		a.Pass(course.StageOrder, "The firmware comes to "+d.Called()+".")
		return a.BlockFor("sector-0-unsigned", course.StageTable, "Sector 0 of "+d.Called()+" does not end in 55 AA", "the firmware passes the disk over.", machine.ProblemFacts(&c.Layout, d.Name)...)
	}
	if c.Run != nil && c.Run.Settled() {
		return ranCode(k, a, d)
	}
	if !legacyMode(k, a, d) {
		return false
	}
	a.Pass(course.StageOrder, "The firmware comes to "+d.Called()+" and runs its sector 0.")
	is := code(k, d)
	if is == loader.CodeClassic && astray(d) {
		is = loader.CodeOther
	}
	switch is {
	case loader.CodeGRUB:
		return grub(k, a, d)
	case loader.CodeOther:
		if lacks(d) && !goesOn(k, d) {
			return a.Block("code-missing-evidence", course.StageTable, "What the boot code reads is not in evidence.", d.CodeFact())
		}
		if lacks(d) || c.Code == loader.CodeUnknown {
			a.Unproven("code-missing-evidence", course.StageTable, "What the boot code does is not in evidence.", course.HowCapture)
			return true
		}
		a.Pass(course.StageTable, "Sector 0 holds a boot record.", d.CodeFact())
		a.Pass(course.StageBootPartition, "The boot code in sector 0 is not a known one; it is run as it is.")
		a.Loader = LoaderBootCode
		a.Pass(course.StageLoader, "Control passes to the boot code in sector 0.", d.CodeFact())
		return true
	case loader.CodeNone:
		a.Final = hangsOnEmpty(k, a, d)
		return a.Block("no-boot-code", course.StageTable, "Sector 0 of "+d.Called()+" holds a table, but no boot code.", d.CodeFact())
	}
	a.Pass(course.StageTable, "Sector 0 holds a table and boot code that runs the active partition.", append(machine.ProblemFacts(&c.Layout, d.Name), d.CodeFact())...)
	return activePartition(k, a, d)
}

// untoldSector0 follows a start from a disk of which sector 0 is not in the evidence.
func untoldSector0(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	if !k.Evidence(d, course.StageTable, "sector-0", "Does sector 0 of "+d.Called()+" hold boot code?",
		"Take a capture of "+d.Called()+", or add its first sector as evidence.") {
		return a.Block("sector-0-missing-evidence", course.StageTable, "Sector 0 is not in evidence.")
	}
	a.Unproven("sector-0-missing-evidence", course.StageTable, "Sector 0 is not in evidence.", course.HowCapture)
	return true
}

// hangsOnEmpty tells whether the firmware runs an empty sector 0, which never
// comes back.
func hangsOnEmpty(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	if a.Final {
		return true // either way nothing else is tried
	}
	hangs := k.Choice(firmware.RunsEmptyBootCode, course.StageMode, d, "")
	if hangs {
		a.Shows(course.BlackCursor)
	}
	return hangs
}

// legacyMode judges whether the style goes with legacy mode. start-rules,
// stage 2.
func legacyMode(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	c := d.Contents
	style := d.Cite("Partition style", string(c.Layout.Style), c.StyleSource())
	mode := machine.Fact{Label: "Firmware mode", Value: "legacy", Source: k.Machine.Firmware.Mode.Source()}
	if c.Layout.Style != disk.StyleGPT || c.Layout.MBR.Hybrid() || code(k, d) == loader.CodeGRUB ||
		code(k, d) == loader.CodeOther || astray(d) {
		a.Pass(course.StageMode, fmt.Sprintf("Legacy firmware can run what stands in sector 0 (style %s).", c.Layout.Style), style, mode)
		return true
	}
	if code(k, d) == loader.CodeClassic {
		a.Final = true
		a.Shows(course.MissingOrInvalid)
	} else {
		a.Final = hangsOnEmpty(k, a, d)
	}
	return a.BlockFor("style-against-mode", course.StageMode, "The firmware is in legacy mode, and "+d.Called()+" is GPT without boot code that could start it", "style and mode do not go together.", style, mode, d.CodeFact())
}

// activePartition follows the classic boot code: exactly one active partition,
// whose first sector is run. start-rules, stage 5; common practice, no source.
func activePartition(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	last := a.Final
	a.Final = true // the code does not hand back to the firmware
	i, count := soleActive(k, d)
	switch {
	case count != 1 && lacks(d) && goesOn(k, d):
		a.Unproven("code-missing-evidence", course.StageBootPartition, "What the boot code does is not in evidence.", course.HowCapture)
		return true
	case strangeStatus(d) && !lacks(d):
		a.Shows(course.InvalidTable)
		return a.Block("strange-status", course.StageBootPartition, "A record of the table has a status that is neither 80 nor 00.",
			machine.ProblemFacts(&d.Contents.Layout, d.Name)...)
	case count > 1:
		a.Shows(course.InvalidTable)
		return a.Block("two-active", course.StageBootPartition, "More than one partition is marked active.", machine.PartitionFacts(d)...)
	case count == 0:
		a.Shows(course.MissingOrNoDevice)
		a.Final = last || !handsBack(k, d)
		return a.Block("none-active", course.StageBootPartition, "No partition of "+d.Called()+" is marked active.", machine.PartitionFacts(d)...)
	case i < 0:
		a.Unproven("active-missing-evidence", course.StageBootPartition, "The active partition is not in evidence.", course.HowCapture)
		return true
	}
	a.Partition = d.Contents.Layout.Partitions[i].Number
	return bootSector(k, a, d, i)
}

// strangeStatus reports whether a record is marked neither active nor not: the standard code
// refuses the table. Common practice, no source.
func strangeStatus(d *machine.Drive) bool {
	mbr := d.Contents.Layout.MBR
	if mbr == nil || d.Contents.Layout.Style != disk.StyleMBR {
		return false
	}
	return slices.ContainsFunc(mbr.Entries[:], func(e disk.MBREntry) bool { return e.Status&0x7F != 0 })
}

// lacks reports whether the boot code reads sectors that are not in the evidence.
func lacks(d *machine.Drive) bool {
	return d.Contents.Run != nil && d.Contents.Run.End == realmode.Lacks
}

// astray reports whether the boot code reads sectors that are not in the evidence, and that are
// not the first of the one active partition: it is not the standard code, whatever it looks like.
func astray(d *machine.Drive) bool {
	if !lacks(d) {
		return false
	}
	reads := d.Contents.Run.Reads
	active := d.Matching(func(_ int, p disk.Partition) bool { return p.Active && !p.Logical })
	return len(active) != 1 || len(reads) == 0 ||
		reads[len(reads)-1].Sector != d.Contents.Layout.Partitions[active[0]].Start
}

// soleActive returns the partition that is marked active, by its index, -1 for one that
// is not listed, and how many are marked. Marks that are not told are asked for.
func soleActive(k *course.Walk, d *machine.Drive) (index, count int) {
	c := d.Contents
	var sure, open []int
	for i, p := range c.Layout.Partitions {
		switch {
		case p.Logical:
		case p.Active:
			sure = append(sure, i)
		case p.ActiveOpen:
			open = append(open, i)
		}
	}
	unlisted := c.Layout.MBR == nil || c.Layout.MBR.BootCode == nil // a listing leaves out records without a type
	if !unlisted && len(open) == 0 {
		if n := len(c.Layout.MBR.Active()); n > 1 {
			return -1, n // of an empty record, too
		}
	}
	switch {
	case len(sure) > 1:
		return sure[0], len(sure)
	case len(open) == 0 && !unlisted && len(sure) == 1:
		return sure[0], 1
	case len(open) == 0 && !unlisted:
		return -1, 0
	case len(sure) == 1:
		if k.Evidence(d, course.StageBootPartition, "active-too", "Is another partition of "+d.Called()+" marked active, too?",
			"Take a capture of "+d.Called()+": its table tells.") {
			return sure[0], 2
		}
		return sure[0], 1
	}
	q := course.Question{ID: "active:" + d.Name, Stage: course.StageBootPartition, Drive: d.Name,
		Text: "Which partition of " + d.Called() + " is marked active?",
		How:  "In the system's disk management: “Active”. Or take a capture of " + d.Called() + ": its table tells."}
	for _, i := range open {
		q.Options = append(q.Options, course.Option{ID: fmt.Sprint(c.Layout.Partitions[i].Number),
			Label: fmt.Sprintf("Partition %d", c.Layout.Partitions[i].Number)})
	}
	if unlisted {
		q.Options = append(q.Options, course.Option{ID: "unlisted", Label: "One that is not listed"})
	}
	q.Options = append(q.Options, course.Option{ID: "none", Label: "None"}, course.Option{ID: "several", Label: "More than one"})
	switch picked := k.World.Ask(q); picked {
	case "none":
		return -1, 0
	case "several":
		return -1, 2
	default:
		for _, i := range open {
			if fmt.Sprint(c.Layout.Partitions[i].Number) == picked {
				return i, 1
			}
		}
	}
	return -1, 1
}
