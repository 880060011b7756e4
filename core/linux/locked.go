package linux

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// locked finds the one encrypted volume of the attached drives; only reports whether nothing
// else of them is closed or not in evidence, so that what lies nowhere else lies in it.
func locked(k *course.Walk) (at machine.Spot, found, only bool) {
	only = true
	for _, d := range k.Drives() {
		only = only && d.Contents != nil && d.Contents.TableKnown() && !d.Contents.Layout.Open
		for _, s := range d.Spots() {
			switch v := s.Volume(); {
			case v.Kind != volume.KindLUKS:
				only = only && v.Kind != volume.NotCaptured && v.Kind != volume.Unknown && !v.Opaque()
			case found:
				return machine.Spot{}, false, false // which of them it is, is not told
			default:
				at, found = s, true
			}
		}
	}
	return at, found, found && only
}

// lockedRoot goes on with a root that may lie in an encrypted volume, which nothing but its
// passphrase opens: whoever has that can tell.
func lockedRoot(k *course.Walk, a *course.Attempt, from *machine.Drive, at machine.Spot, only bool,
	line kernelLine) course.Result {
	d := at.Drive
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
		text := fmt.Sprintf("The kernel looks for its root by %s, which does not lie in %s", *line.root, at.Called())
		if only {
			return a.Stop(
				"root-absent",
				course.StageConfiguration,
				course.RootWait,
				text+", nor elsewhere on the attached disks.",
				line.cited,
			)
		}
		return a.Unproven(
			"root-unknown",
			course.StageConfiguration,
			text+": where else it may lie is not in evidence.",
			course.HowCapture,
			line.cited,
		)
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
	if k.LostPart(a, at) || !k.Driver(a, at, "the initial RAM disk", course.RootWait) {
		return course.Result{State: course.Blocks, Home: at}
	}
	return k.ComesUp(a, at, "Linux")
}
