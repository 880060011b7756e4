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
				a.unproven(StageLoader, "Whether a system is blessed on the volume is not in evidence.", "Hold Option at power-on and see whether the disk is offered.")
				a.HandsOver = true
			}
		}
		a.Final = a.HandsOver
		k.attempts = append(k.attempts, a)
		return a.HandsOver
	}
	return false
}
