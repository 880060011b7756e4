package startup

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/mac"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// macVolume tries a volume that only a Mac's firmware reads. start-rules, stage 7.
func macVolume(k *course.Walk, d *machine.Drive) bool {
	if d.Contents == nil {
		return false
	}
	i, found := macVolumeOf(d)
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

// macVolumeOf is the volume of a drive that its system lies on: the first of which nothing
// tells that none can be started from it, else the first.
func macVolumeOf(d *machine.Drive) (index int, found bool) {
	all := d.Matching(func(i int, p disk.Partition) bool {
		v := &d.Contents.Volumes[i]
		return v.Kind == volume.KindAPFS || v.Kind == volume.KindHFS ||
			v.Kind == volume.NotCaptured && (p.TypeGUID == disk.TypeAPFS || p.TypeGUID == disk.TypeHFS)
	})
	if len(all) == 0 {
		return 0, false
	}
	for _, i := range all {
		if mac.Lacks(&d.Contents.Volumes[i]) == "" {
			return i, true
		}
	}
	return all[0], true
}
