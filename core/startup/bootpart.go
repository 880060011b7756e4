package startup

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// bootPartition judges stages 5 and 6 under UEFI: it looks for the target on
// the partitions that the firmware can read, in the order of the table, and keeps
// the account of the one that got furthest. start-rules, stages 5, 6; the order
// as edk2 has it.
func (k *walk) bootPartition(a *Attempt, d *Drive, t target) bool {
	best := a.Steps
	for i, p := range d.Contents.Layout.Partitions {
		if t.only != nil && !t.only(p) || !p.IsESP() && !k.startsOther(d, i, t) {
			continue
		}
		one := Attempt{Drive: a.Drive, Role: a.Role, Loader: t.path, Partition: p.Number, Steps: append([]Step{}, a.Steps...)}
		if k.readsVolume(&one, d, i) && k.runs(&one, d, i, t) {
			a.Steps, a.Partition, a.Loader = one.Steps, one.Partition, one.Loader
			return true
		}
		if len(one.Steps) > len(best) {
			best, a.Partition = one.Steps, one.Partition
		}
	}
	if len(best) > len(a.Steps) {
		a.Steps = best
		return false
	}
	if l := &d.Contents.Layout; l.Style == disk.StyleGPT && l.GPT.Valid() == nil && (l.GPT.Primary.State != disk.CopyTold || len(l.Partitions) == 0) {
		// The table is not in evidence; that was asked for already.
		a.unproven(StageBootPartition, "The partitions are not in evidence.", howCapture)
		return true
	}
	return a.block(StageBootPartition, strings.ToUpper(d.called()[:1])+d.called()[1:]+" has no EFI system partition: there is nothing for the firmware to run.",
		partitionFacts(d)...)
}

// startsOther reports whether the firmware starts from a partition that is not
// typed as EFI system partition: the volume must be FAT, and the firmware must
// do so.
func (k *walk) startsOther(d *Drive, i int, t target) bool {
	v := &d.Contents.Volumes[i]
	if !v.IsFAT() {
		return false
	}
	if _, ok := v.find(t.path); !ok && v.LoaderErr == nil {
		return false // nothing to start there either way
	}
	return k.w.yes(k.m.Firmware.Behaviour.StartsAnyFATPartition, Question{
		ID: "any-fat", Stage: StageBootPartition, Drive: d.Name, Field: "startsAnyFATPartition",
		Text: fmt.Sprintf("Does the firmware start from a FAT partition that is not typed as EFI system partition (partition %d of %s)?",
			d.Contents.Layout.Partitions[i].Number, d.called()),
		How: "Much firmware does. Correcting the partition's type makes the question idle.",
	})
}

func partitionFacts(d *Drive) []Fact {
	var facts []Fact
	for i, p := range d.Contents.Layout.Partitions {
		facts = append(facts, d.cite(fmt.Sprintf("Partition %d", p.Number),
			fmt.Sprintf("%s, %s, %s", p.Type.Name, disk.Both(disk.Span(p.Length, d.Contents.Layout.SectorSize)), d.Contents.Volumes[i].Kind), p.Source))
	}
	if facts == nil {
		facts = append(facts, d.cite("Partitions", "none", disk.Problem{}.Source))
	}
	return facts
}

// readsVolume judges whether firmware can read the boot partition. UEFI
// Specification 2.10, section 13.3.
func (k *walk) readsVolume(a *Attempt, d *Drive, i int) bool {
	p, v := d.Contents.Layout.Partitions[i], &d.Contents.Volumes[i]
	boot := d.cite(fmt.Sprintf("Partition %d", p.Number), fmt.Sprintf("%s, %s", p.Type.Name, v.Kind), p.Source)
	switch {
	case p.Hidden():
		return a.block(StageBootPartition, fmt.Sprintf("The table forbids the firmware to offer partition %d (attribute bit 1).", p.Number), boot)
	case k.misplaced(d, i):
		return a.block(StageBootPartition, fmt.Sprintf("Partition %d overlaps another one or lies outside the usable range: this firmware passes it over.", p.Number), boot)
	case p.Start >= d.Contents.Layout.Sectors:
		return a.block(StageBootPartition, fmt.Sprintf("The boot partition %d lies beyond the end of %s.", p.Number, d.called()), boot)
	case v.Kind == volume.NotCaptured:
		if !k.evidence(d, StageBootPartition, "esp", fmt.Sprintf("Is the boot partition %d of %s a FAT volume with a loader?", p.Number, d.called()),
			fmt.Sprintf("Add the sectors from %d on as evidence.", p.Start)) {
			return a.block(StageBootPartition, "The boot partition is not in evidence.", boot)
		}
		a.Steps = append(a.Steps, Step{Stage: StageBootPartition, State: Unproven, Text: "The boot partition is not in evidence.", Facts: []Fact{boot}})
		return true
	case !v.IsFAT():
		facts := []Fact{boot}
		for _, q := range v.Problems {
			facts = append(facts, problemFact(q, d.Name))
		}
		return a.block(StageBootPartition, fmt.Sprintf("The boot partition %d is not FAT but %s: firmware cannot read it.", p.Number, v.Kind), facts...)
	}
	if q, bad := v.problem("fat-sector-size"); bad {
		return a.block(StageBootPartition, q.Text, problemFact(q, d.Name))
	}
	if q, bad := k.unreadFAT(d, i); bad {
		return a.block(StageBootPartition, q.Text, problemFact(q, d.Name))
	}
	a.pass(StageBootPartition, fmt.Sprintf("Partition %d is a readable %s volume.", p.Number, v.Kind), boot)
	if !p.IsESP() {
		a.risk("The partition is not typed as EFI system partition: the operating system's installer and updater do not find it.", boot)
	}
	for _, q := range v.Problems {
		a.risk(q.Text, problemFact(q, d.Name))
	}
	return true
}

// unreadFAT reports what keeps the firmware from reading a FAT volume that others
// read.
func (k *walk) unreadFAT(d *Drive, i int) (disk.Problem, bool) {
	v, number := &d.Contents.Volumes[i], d.Contents.Layout.Partitions[i].Number
	if q, bad := v.problem("fat-few-clusters"); bad && !k.w.yes(k.m.Firmware.Behaviour.StartsSmallFAT32, Question{
		ID: "small-fat32", Stage: StageBootPartition, Drive: d.Name, Field: "startsSmallFAT32",
		Text: fmt.Sprintf("Does the firmware read a FAT32 volume that has too few clusters for one (partition %d of %s)?", number, d.called()),
		How:  "Some firmware does. Formatting the partition as FAT16, or making it larger, makes the question idle.",
	}) {
		return q, true
	}
	if q, bad := v.problem("fat-signature"); bad && !k.w.yes(k.m.Firmware.Behaviour.ReadsUnsignedFAT, Question{
		ID: "unsigned-fat", Stage: StageBootPartition, Drive: d.Name, Field: "readsUnsignedFAT",
		Text: fmt.Sprintf("Does the firmware read a FAT volume whose boot sector does not end in 55 AA (partition %d of %s)?", number, d.called()),
		How:  "Some firmware does. Writing the boot sector anew makes the question idle.",
	}) {
		return q, true
	}
	return disk.Problem{}, false
}

// misplaced reports whether the firmware passes a GPT partition over for its
// place in the table.
func (k *walk) misplaced(d *Drive, i int) bool {
	l := &d.Contents.Layout
	p := l.Partitions[i]
	if l.Style != disk.StyleGPT || l.GPT.Valid() == nil || p.Unplaced {
		return false
	}
	h := l.GPT.Valid().Header
	bad := h.LastUsableLBA > 0 && (p.Start < h.FirstUsableLBA || p.End()-1 > h.LastUsableLBA)
	for j, q := range l.Partitions {
		bad = bad || j != i && p.Start < q.End() && q.Start < p.End()
	}
	return bad && k.w.yes(k.m.Firmware.Behaviour.SkipsMisplacedPartitions, Question{
		ID: "misplaced", Stage: StageBootPartition, Drive: d.Name, Field: "skipsMisplacedPartitions",
		Text: "Does the firmware pass over partitions that overlap or lie outside the usable range of the table?",
		How:  "Correcting the table makes the question idle.",
	})
}

func (v *Volume) problem(code string) (disk.Problem, bool) {
	for _, p := range v.Problems {
		if p.Code == code {
			return p, true
		}
	}
	return disk.Problem{}, false
}

// runs judges whether the firmware starts the target. UEFI Specification 2.10,
// sections 2.1.1 and 32.
func (k *walk) runs(a *Attempt, d *Drive, i int, t target) bool {
	v := &d.Contents.Volumes[i]
	if v.Kind == volume.NotCaptured {
		a.Steps = append(a.Steps, Step{Stage: StageLoader, State: Unproven, Text: "The loader is not in evidence."})
		return true
	}
	f, ok := v.find(t.path)
	if !ok && disk.IsNotCaptured(v.LoaderErr) || ok && f.Missing() {
		if !k.evidence(d, StageLoader, "loader", fmt.Sprintf("Is %s on partition %d of %s a sound program?", t.path, a.Partition, d.called()),
			"Add more of the beginning of "+d.called()+" as evidence: the whole boot partition if possible.") {
			return a.block(StageLoader, "The loader is not in evidence.")
		}
		a.Steps = append(a.Steps, Step{Stage: StageLoader, State: Unproven, Text: "The loader is not in evidence."})
		return true
	}
	if !ok {
		facts := k.foundInstead(d, i)
		if v.LoaderErr != nil {
			facts = append(facts, d.cite("Reading the directories", v.LoaderErr.Error(), d.Contents.Layout.Partitions[i].Source))
		}
		return a.block(StageLoader, fmt.Sprintf("%s is not on partition %d of %s.", t.path, a.Partition, d.called()), facts...)
	}
	return k.runsProgram(a, d, i, f)
}

func (k *walk) foundInstead(d *Drive, i int) []Fact {
	var facts []Fact
	for _, f := range d.Contents.Volumes[i].Loaders {
		facts = append(facts, d.loaderFact(i, f))
	}
	return facts
}

func (d *Drive) loaderFact(i int, f loader.Found) Fact {
	value := string(f.Program.Arch)
	if f.Program.Arch == "" {
		value = fmt.Sprintf("machine 0x%04X", f.Program.Machine)
	}
	if f.Program.Signed {
		value += ", signed"
	} else {
		value += ", not signed"
	}
	if f.Err != nil {
		value = f.Err.Error()
	}
	p := d.Contents.Layout.Partitions[i]
	s := p.Source
	s.Structure, s.Field, s.Length = "FAT directory entry", f.File.Name, 32
	s.Offset = disk.Span(p.Start, d.Contents.Layout.SectorSize) + f.File.Offset
	return d.cite(f.Path, value, s)
}

func (k *walk) runsProgram(a *Attempt, d *Drive, i int, f loader.Found) bool {
	cited := d.loaderFact(i, f)
	arch := k.arch()
	switch {
	case f.Err != nil:
		return a.block(StageLoader, fmt.Sprintf("%s is no sound program: %v.", f.Path, f.Err), cited)
	case f.Program.Arch != arch:
		return a.block(StageLoader, fmt.Sprintf("%s is made for another architecture; the firmware is %s.", f.Path, arch), cited)
	case !f.Program.Application():
		return a.block(StageLoader, fmt.Sprintf("%s is not an EFI application (subsystem %d).", f.Path, f.Program.Subsystem), cited)
	}
	secure, known := k.m.Firmware.SecureBoot.Get()
	if !known && !f.Program.Signed {
		secure = k.w.yes(k.m.Firmware.SecureBoot, Question{
			ID: "secure-boot", Stage: StageLoader, Field: "secureBoot",
			Text: "Is secure boot switched on? The loader carries no signature.",
			How:  "In the firmware's setup under security or boot. In Windows: Confirm-SecureBootUEFI. In Linux: mokutil --sb-state.",
		})
	}
	if secure && !f.Program.Signed {
		a.Symptom = "a security violation, or nothing: the disk is passed over without a word."
		return a.block(StageLoader, f.Path+" carries no signature, and secure boot is on.", cited)
	}
	a.pass(StageLoader, fmt.Sprintf("%s is a sound %s program: it is started.", f.Path, arch), cited)
	if secure {
		a.risk("The loader carries a signature. Whether this firmware trusts it cannot be told without its key databases.", cited)
	}
	return true
}
