package linux

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// locked finds the one encrypted volume of the attached drives, where a name is known to be
// carried nowhere else: what it names may then lie in it.
func locked(k *course.Walk, s loader.Spec) (at machine.Spot, found bool) {
	if s.Kind == loader.ByDevice {
		return machine.Spot{}, false // no name of what lies in others
	}
	for _, d := range k.Drives() {
		if _, known := d.Unopened().Resolve(s); !known {
			return machine.Spot{}, false
		}
		for _, spot := range d.Spots() {
			if spot.Volume().Kind != volume.KindLUKS {
				continue
			}
			if found {
				return machine.Spot{}, false // which of them it is, is not told
			}
			at, found = spot, true
		}
	}
	return at, found
}

// lockedRoot goes on with a root that may lie in an encrypted volume, which nothing but its
// passphrase opens: whoever has that can tell.
func lockedRoot(k *course.Walk, a *course.Attempt, from *machine.Drive, at machine.Spot,
	line kernelLine) course.Result {
	d := at.Drive
	if end := onUnseen(k, a, d, line); end != nil {
		return *end
	}
	if !k.World.Yes(
		course.UnknownBool,
		course.Question{ID: machine.Opens(d), Stage: course.StageConfiguration, Drive: d.Name,
			Text: fmt.Sprintf(
				"The kernel looks for its root by %s, which may lie in %s: that is encrypted (LUKS). Does it open with its passphrase, and hold that root?",
				*line.root,
				at.Called(),
			),
			How: "In a live Linux: cryptsetup open on that partition; where a volume group lies in it, lvm vgchange -ay; then blkid shows what it holds."},
	) {
		return a.Stop("root-absent", course.StageConfiguration, course.RootWait,
			fmt.Sprintf("The kernel looks for its root by %s, which does not lie in %s, nor elsewhere on the attached disks.",
				*line.root, at.Called()), line.cited)
	}
	a.Takes(
		from,
		at,
		fmt.Sprintf(
			"The loader starts %s with its root in %s, which is encrypted (LUKS) and asks for its passphrase.",
			line.linux,
			at.Called(),
		),
		line.cited,
	)
	if k.Machine.Until == machine.UntilConfiguration {
		return course.Result{State: course.Passes, Home: at}
	}
	if k.LostPart(a, at) {
		return course.Result{State: course.Blocks, Home: at}
	}
	drivers, ok := reachesDrive(k, a, at, line)
	if !ok {
		return course.Result{State: course.Blocks, Home: at}
	}
	return k.ComesUp(a, at, "Linux", drivers...)
}
