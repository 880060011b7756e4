package startup

import (
	"fmt"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// bootPartition judges stages 5 and 6 under UEFI: it looks for the target on
// the partitions that the firmware can read, in the order of the table, and keeps
// the account of the one that got furthest. start-rules, stages 5, 6; the order
// as edk2 has it.
func bootPartition(k *course.Walk, a *course.Attempt, d *machine.Drive, t target) bool {
	best, asked := a.Steps, len(k.World.Asked)
	for i, p := range d.Contents.Layout.Partitions {
		if t.only != nil && !t.only(d, i) || !isESP(k, d, i) && !startsOther(k, d, i, t) {
			continue
		}
		one := course.Attempt{Drive: a.Drive, Role: a.Role, Loader: t.path, Partition: p.Number,
			Steps: append([]course.Step{}, a.Steps...)}
		if readsVolume(k, &one, d, i) && runs(k, &one, d, i, t) {
			a.Steps, a.Partition, a.Loader = one.Steps, one.Partition, one.Loader
			return true
		}
		if len(one.Steps) > len(best) {
			best, a.Partition = one.Steps, one.Partition
		}
	}
	if tableAsked(d) || !k.World.Denied(asked) && notListed(k, d, t) {
		a.Unproven("partitions-missing-evidence", course.StageBootPartition, "The partitions are not all in evidence.", course.HowCapture)
		return true
	}
	if len(best) > len(a.Steps) {
		a.Steps = best
		return false
	}
	return a.BlockFor("no-esp", course.StageBootPartition, strings.ToUpper(d.Called()[:1])+d.Called()[1:]+" has no EFI system partition", "there is nothing for the firmware to run.",
		machine.PartitionFacts(d)...)
}

// isESP reports whether a partition is typed as EFI system partition, and asks where its
// type is not told and firmware could read it.
func isESP(k *course.Walk, d *machine.Drive, i int) bool {
	p, v := d.Contents.Layout.Partitions[i], &d.Contents.Volumes[i]
	if !p.TypeOpen || p.IsESP() || !v.IsFAT() && v.Kind != volume.NotCaptured {
		return p.IsESP()
	}
	return k.Evidence(d, course.StageBootPartition, fmt.Sprintf("esp-%d", p.Number),
		"Is "+partitionOf(d, i)+" the EFI system partition?", "What a system's list of partitions calls it: system, EFI or ESP. Or take a capture of "+d.Called()+".")
}

// tableAsked reports whether the table itself is not in evidence, which was asked for
// before.
func tableAsked(d *machine.Drive) bool {
	l := &d.Contents.Layout
	return l.Style == disk.StyleGPT && l.GPT.Valid() == nil && !l.GPT.Told()
}

// notListed asks whether the drive has a boot partition that the evidence does not show:
// one that is not listed, or one of another type of which the file system is not told.
func notListed(k *course.Walk, d *machine.Drive, t target) bool {
	c := d.Contents
	maybe := !c.TableKnown() || c.Layout.Open
	for i, p := range c.Layout.Partitions {
		if t.only == nil && c.Volumes[i].Kind == volume.NotCaptured && !p.IsESP() && !p.TypeOpen {
			maybe = maybe || k.Choice(firmware.StartsAnyFATPartition, course.StageBootPartition, d, partitionOf(d, i))
		} else if t.only != nil && t.only(d, i) {
			return false // the very partition that is named was looked at
		}
	}
	if chainGoesOn(k, d) && k.Evidence(d, course.StageBootPartition, "chain", "Does the chain of logical partitions of "+d.Called()+
		" lead to a boot partition behind its damaged record?", "Correcting the chain settles it either way.") {
		return true
	}
	return maybe && k.Evidence(d, course.StageBootPartition, "partitions",
		"Has "+d.Called()+" a boot partition that is not in the evidence?",
		"Let the system list all partitions of "+d.Called()+", or take a capture of it.")
}

// chainGoesOn reports whether the firmware follows a chain of logical partitions over the record
// at which it ends for others.
func chainGoesOn(k *course.Walk, d *machine.Drive) bool {
	mbr := d.Contents.Layout.MBR
	return mbr != nil && mbr.GoesOn && k.Choice(firmware.ChecksChainAtFirst, course.StageBootPartition, d, "")
}

// startsOther reports whether the firmware starts from a partition that is not
// typed as EFI system partition: the volume must be FAT, and the firmware must
// do so.
func startsOther(k *course.Walk, d *machine.Drive, i int, t target) bool {
	v := &d.Contents.Volumes[i]
	if !v.IsFAT() {
		return false
	}
	if _, ok := v.Loader(t.path); !ok && v.LoaderErr == nil {
		return false // nothing to start there either way
	}
	return k.Choice(firmware.StartsAnyFATPartition, course.StageBootPartition, d, partitionOf(d, i))
}

// readsVolume judges whether firmware can read the boot partition. UEFI
// Specification 2.10, section 13.3.
func readsVolume(k *course.Walk, a *course.Attempt, d *machine.Drive, i int) bool {
	p, v := d.Contents.Layout.Partitions[i], &d.Contents.Volumes[i]
	boot := d.Cite(fmt.Sprintf("Partition %d", p.Number), fmt.Sprintf("%s, %s", p.Type.Name, v.Kind), p.Source)
	switch {
	case p.Hidden():
		return a.Block("boot-partition-hidden", course.StageBootPartition, fmt.Sprintf("The table forbids the firmware to offer partition %d (attribute bit 1).", p.Number), boot)
	case misplaced(k, d, i):
		return a.BlockFor("boot-partition-misplaced", course.StageBootPartition, fmt.Sprintf("Partition %d overlaps another one or lies outside the usable range", p.Number), "this firmware passes it over.", boot)
	case p.Passed && k.Choice(firmware.ChecksChainAtFirst, course.StageBootPartition, d, ""):
		return a.BlockFor("boot-partition-unlinked", course.StageBootPartition, fmt.Sprintf("The firmware does not come to partition %d", p.Number), "the chain of logical partitions is damaged before it.", boot)
	case p.Start >= d.Contents.Layout.Sectors && d.Contents.Lost(p):
		return a.Block("boot-partition-beyond-end", course.StageBootPartition, fmt.Sprintf("The boot partition %d lies beyond the end of %s.", p.Number, d.Called()), boot)
	case v.Kind == volume.NotCaptured:
		if !bootVolume(k, d, i) {
			return a.Block("boot-partition-missing-evidence", course.StageBootPartition, "The boot partition is not in evidence.", boot)
		}
		a.Steps = append(a.Steps, course.Step{Rule: "boot-partition-missing-evidence", Stage: course.StageBootPartition, State: course.Unproven,
			Text: "The boot partition is not in evidence.", Facts: []machine.Fact{boot}})
		return true
	case !v.IsFAT():
		facts := []machine.Fact{boot}
		for _, q := range v.Problems {
			facts = append(facts, machine.ProblemFact(q, d.Name))
		}
		return a.BlockFor("boot-partition-not-fat", course.StageBootPartition, fmt.Sprintf("The boot partition %d is not FAT but %s", p.Number, v.Kind), "firmware cannot read it.", facts...)
	}
	if q, bad := v.Problem(volume.CodeFATSectorSize); bad {
		return a.Block("boot-partition-sector-size", course.StageBootPartition, q.Text, machine.ProblemFact(q, d.Name))
	}
	if q, bad := unreadFAT(k, d, i); bad {
		return a.Block("boot-partition-unread", course.StageBootPartition, q.Text, machine.ProblemFact(q, d.Name))
	}
	a.Pass(course.StageBootPartition, fmt.Sprintf("Partition %d is a readable %s volume.", p.Number, v.Kind), boot)
	if !p.IsESP() {
		a.Risk("boot-partition-type", "The partition is not typed as EFI system partition: the operating system's installer and updater do not find it.", boot)
	}
	for _, q := range v.Problems {
		a.Risk(course.Rule(q.Code), q.Text, machine.ProblemFact(q, d.Name))
	}
	return true
}

// bootVolume asks for a boot partition that is not in the evidence.
func bootVolume(k *course.Walk, d *machine.Drive, i int) bool {
	p := d.Contents.Layout.Partitions[i]
	return k.Evidence(d, course.StageBootPartition, "esp",
		fmt.Sprintf("Is the boot partition %d of %s a FAT volume with a loader?", p.Number, d.Called()),
		fmt.Sprintf("Take a capture of %s, or add its sectors from %d on as evidence.", d.Called(), p.Start))
}

// partitionOf names a partition for a question.
func partitionOf(d *machine.Drive, i int) string {
	return fmt.Sprintf("partition %d of %s", d.Contents.Layout.Partitions[i].Number, d.Called())
}

// unreadFAT reports what keeps the firmware from reading a FAT volume that others
// read.
func unreadFAT(k *course.Walk, d *machine.Drive, i int) (disk.Problem, bool) {
	v := &d.Contents.Volumes[i]
	if q, bad := v.Problem(volume.CodeFATFewClusters); bad &&
		!k.Choice(firmware.StartsSmallFAT32, course.StageBootPartition, d, partitionOf(d, i)) {
		return q, true
	}
	if q, bad := v.Problem(volume.CodeFATSignature); bad &&
		!k.Choice(firmware.ReadsUnsignedFAT, course.StageBootPartition, d, partitionOf(d, i)) {
		return q, true
	}
	return disk.Problem{}, false
}

// misplaced reports whether the firmware passes a GPT partition over for its
// place in the table: it lies outside of what is usable, or overlaps another. Of two that
// overlap both are passed over, unless the one that stands first in the table lies outside
// itself: it is left out before it is held against the others (seen in edk2).
func misplaced(k *course.Walk, d *machine.Drive, i int) bool {
	l := &d.Contents.Layout
	p := l.Partitions[i]
	if l.Style != disk.StyleGPT || l.GPT.Valid() == nil || p.Unplaced {
		return false
	}
	h := l.GPT.Valid().Header
	outside := func(p disk.Partition) bool {
		return h.LastUsableLBA > 0 && (p.Start < h.FirstUsableLBA || p.End()-1 > h.LastUsableLBA)
	}
	bad := outside(p)
	for j, q := range l.Partitions {
		overlap := j != i && p.Start < q.End() && q.Start < p.End()
		bad = bad || overlap && !outside(l.Partitions[min(i, j)])
	}
	if bad && l.GPT.Primary.State == disk.CopyNotCaptured && !k.Evidence(d, course.StageBootPartition, "gpt-places",
		"Does the primary partition table of "+d.Called()+" tell of the same places as the backup?", "Take a capture of "+d.Called()+", or add at least its first 34 sectors as evidence.") {
		return false
	}
	return bad && k.Choice(firmware.SkipsMisplacedPartitions, course.StageBootPartition, d, "")
}

// runs judges whether the firmware starts the target. UEFI Specification 2.10,
// sections 2.1.1 and 32.
func runs(k *course.Walk, a *course.Attempt, d *machine.Drive, i int, t target) bool {
	v := &d.Contents.Volumes[i]
	if v.Kind == volume.NotCaptured {
		a.Steps = append(a.Steps, course.Step{Rule: "loader-missing-evidence", Stage: course.StageLoader, State: course.Unproven, Text: "The loader is not in evidence."})
		return true
	}
	f, ok := v.Loader(t.path)
	unseen := v.Lists(t.path) || disk.IsNotCaptured(v.LoaderErr) // what is listed was not looked at
	if !ok && unseen || ok && f.Missing() {
		if !k.Evidence(d, course.StageLoader, "loader", fmt.Sprintf("Is %s on partition %d of %s a sound program?", t.path, a.Partition, d.Called()),
			"Take a capture of "+d.Called()+", or add more of its beginning as evidence: the whole boot partition if possible.") {
			return a.Block("loader-missing-evidence", course.StageLoader, "The loader is not in evidence.")
		}
		a.Steps = append(a.Steps, course.Step{Rule: "loader-missing-evidence", Stage: course.StageLoader, State: course.Unproven, Text: "The loader is not in evidence."})
		return true
	}
	if !ok {
		facts := foundInstead(k, d, i)
		if v.LoaderErr != nil {
			why := "a directory cannot be read."
			facts = append(facts, d.Cite("Reading the directories", v.LoaderErr.Error(), d.Contents.Layout.Partitions[i].Source))
			return a.BlockFor("loader-absent", course.StageLoader, fmt.Sprintf("%s cannot be found on partition %d of %s", t.path, a.Partition, d.Called()), why, facts...)
		}
		return a.Block("loader-absent", course.StageLoader, fmt.Sprintf("%s is not on partition %d of %s.", t.path, a.Partition, d.Called()), facts...)
	}
	return runsProgram(k, a, d, i, f)
}

func foundInstead(k *course.Walk, d *machine.Drive, i int) []machine.Fact {
	var facts []machine.Fact
	for _, f := range d.Contents.Volumes[i].Loaders {
		facts = append(facts, d.LoaderFact(i, f))
	}
	return facts
}

func runsProgram(k *course.Walk, a *course.Attempt, d *machine.Drive, i int, f loader.Found) bool {
	cited := d.LoaderFact(i, f)
	arch := k.Arch()
	switch {
	case f.Err != nil:
		return a.BlockFor("loader-unsound", course.StageLoader, f.Path+" is no sound program", f.Err.Error()+".", cited)
	case f.Program.Arch != arch:
		return a.Block("loader-architecture", course.StageLoader, fmt.Sprintf("%s is made for another architecture; the firmware is %s.", f.Path, arch), cited)
	case !f.Program.Application():
		return a.Block("loader-no-application", course.StageLoader, fmt.Sprintf("%s is not an EFI application (subsystem %d).", f.Path, f.Program.Subsystem), cited)
	}
	candidate := course.Candidate{Drive: d, Path: f.Path, Program: f.Program, Stage: course.StageLoader, Role: "loader"}
	if why := k.Refused(a, candidate); why != "" {
		a.Shows(course.SecureViolation)
		return a.Block("loader-unsigned", course.StageLoader, machine.UpperFirst(why), cited)
	}
	a.Pass(course.StageLoader, fmt.Sprintf("%s is a sound %s program: it is started.", f.Path, arch), cited)
	k.Vouches(a, f.Path, f.Program, cited)
	return true
}
