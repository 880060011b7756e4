package startup

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/mac"
	"latchkey/core/machine"
)

// macVolume tries a volume that only a Mac's firmware reads. start-rules, stage 7.
func macVolume(k *course.Walk, d *machine.Drive) bool {
	if d.Contents == nil {
		return false
	}
	i, found := mac.VolumeOf(d)
	if !found {
		return false
	}
	v, p := &d.Contents.Volumes[i], d.Contents.Layout.Partitions[i]
	if !k.Choice(firmware.ReadsMacVolumes, course.StageBootPartition, nil, string(v.Kind)) {
		return false
	}
	a := course.Attempt{Drive: d.Name, Role: d.Role, Partition: p.Number, Loader: mac.Loader}
	if seen(k, &a, d) && readable(k, &a, d) && uefiMode(k, &a, d) {
		a.Pass(course.StageOrder, "The Mac's firmware comes to "+d.Called()+".")
		if uefiTable(k, &a, d) {
			a.Pass(course.StageBootPartition, fmt.Sprintf("Partition %d is an %s volume, which the firmware reads.", p.Number, v.Kind),
				d.Cite(fmt.Sprintf("Partition %d", p.Number), string(v.Kind), p.Source))
			a.HandsOver = mac.Offered(k, &a, machine.Spot{Drive: d, Index: i})
		}
	}
	a.Final = a.HandsOver
	k.Attempts = append(k.Attempts, a)
	return a.HandsOver
}
