package startup

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/machine"
)

// try walks the stages on one disk.
func try(k *course.Walk, d *machine.Drive, entry string, t target) bool {
	a := course.Attempt{Drive: d.Name, Role: d.Role, Entry: entry, Loader: t.path}
	if seen(k, &a, d) && readable(k, &a, d) && largeUSB(k, &a, d) && uefiMode(k, &a, d) {
		a.Pass(course.StageOrder, fmt.Sprintf("%s looks for %s on %s.", t.why, t.path, d.Called()))
		if uefiTable(k, &a, d) {
			a.HandsOver = bootPartition(k, &a, d, t)
		}
	}
	a.Final = a.HandsOver
	k.Attempts = append(k.Attempts, a)
	return a.HandsOver
}
