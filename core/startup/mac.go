package startup

import (
	"fmt"

	"latchkey/core/volume"
)

// macLoader is the program that a Mac starts from a volume of its own.
const macLoader = `\System\Library\CoreServices\boot.efi`

// macVolume tries a volume that only a Mac's firmware reads. start-rules, stage 7.
func (k *walk) macVolume(d *Drive) bool {
	if d.Contents == nil {
		return false
	}
	for i, p := range d.Contents.Layout.Partitions {
		v := &d.Contents.Volumes[i]
		if v.Kind != volume.KindAPFS && v.Kind != volume.KindHFS {
			continue
		}
		if !k.w.yes(k.m.Firmware.Behaviour.ReadsMacVolumes, Question{
			ID: "mac", Stage: StageBootPartition, Field: "readsMacVolumes",
			Text: fmt.Sprintf("Is the machine a Mac whose firmware reads %s?", v.Kind),
			How:  "A Mac offers the disk when Option is held at power-on. Older ones know APFS only after a system update was run once.",
		}) {
			return false
		}
		a := Attempt{Drive: d.Name, Role: d.Role, Partition: p.Number, Loader: macLoader}
		if k.seen(&a, d) && k.uefiMode(&a, d) {
			a.pass(StageOrder, "The Mac's firmware comes to "+d.called()+".")
			if k.uefiTable(&a, d) {
				a.pass(StageBootPartition, fmt.Sprintf("Partition %d is an %s volume, which the firmware reads.", p.Number, v.Kind), d.cite(fmt.Sprintf("Partition %d", p.Number), string(v.Kind), p.Source))
				a.HandsOver = k.macOffered(&a, d)
			}
		}
		a.Final = a.HandsOver
		k.attempts = append(k.attempts, a)
		return a.HandsOver
	}
	return false
}

// macOffered asks whether a system is blessed on a disk: the firmware then offers
// it. Common practice, no source.
func (k *walk) macOffered(a *Attempt, d *Drive) bool {
	if !k.evidence(d, StageLoader, "mac-offered", "Is "+d.called()+" offered when Option is held at power-on?",
		"Hold Option at power-on: the disk is shown when a system is blessed on it.") {
		a.Symptom = "a folder with a question mark."
		return a.block(StageLoader, "No system is blessed on "+d.called()+": the firmware offers nothing to start.")
	}
	a.pass(StageLoader, "The disk is offered: a system is blessed on it.")
	return true
}

// macSystem judges the system that a Mac starts: where its volume is sealed, a
// copy of files alone is not startable. start-rules, stage 7; common practice, no
// source.
func (k *walk) macSystem(a *Attempt, at spot) ending {
	d := at.drive
	a.pass(StageConfiguration, "The firmware starts the system that is blessed, or chosen with Option.")
	if k.m.Until == UntilConfiguration {
		return ending{Passes, at}
	}
	if !k.evidence(d, StageSystem, "mac-installed", "Was the system on "+d.called()+" put there whole: by its own installer, or as a copy of the whole volume?",
		"On current Macs the system's volume is sealed: a copy of its files alone does not start.") {
		return a.stop(StageSystem, "a circle with a line through it.", "The system on "+d.called()+" was only copied as files, and its volume is sealed.")
	}
	return k.comesUp(a, at, "The Mac's system")
}
