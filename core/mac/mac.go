// Package mac judges the system that a Mac starts from a volume of its own.
package mac

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// Loader is the program that a Mac starts from a volume of its own.
const Loader = `\System\Library\CoreServices\boot.efi`

// Kind is what is done at power-on, which differs by the processor.
type Kind struct {
	Choose  string // to see what is offered
	Recover string // to come to the recovery
}

// KindOf is the kind of a Mac by its processor; of an unknown one both are said. The maker's
// support pages, "Mac startup key combinations" and "Use macOS Recovery".
func KindOf(m machine.Machine) Kind {
	x64 := Kind{"Option is held at power-on", "Hold Command and R at power-on"}
	arm := Kind{"the power button is held until the start-up options appear", "Hold the power button until the start-up options appear, and choose Options"}
	switch arch, known := m.Firmware.Arch.Get(); {
	case !known:
		return Kind{x64.Choose + " (where it has an arm64 processor: " + arm.Choose + ")",
			x64.Recover + " (where it has an arm64 processor: h" + arm.Recover[1:] + ")"}
	case arch == firmware.ARM64:
		return arm
	}
	return x64
}

// Lacks says why nothing can be started from a volume; "" where that is not known. Technical
// Note TN1150, finderInfo; Apple File System Reference, "Volume Roles"; that the firmware
// starts from the Preboot volume is common practice, no source.
func Lacks(v *machine.Volume) string {
	a := v.Apple
	switch {
	case a == nil || a.Open:
		return ""
	case v.Kind == volume.KindHFS && a.Blessed == 0:
		return "no folder of it is blessed"
	case v.Kind == volume.KindHFS:
		return ""
	case len(a.Of(volume.RolePreboot)) == 0:
		return "its container has no Preboot volume, which the firmware starts from"
	case len(a.Of(volume.RoleSystem)) == 0 && len(a.Of(volume.RoleNone)) == 0:
		return "its container has no volume of a system"
	}
	return ""
}

// VolumeOf is the volume of a drive that its system lies on: the largest of which nothing tells
// that none can be started from it, else the largest.
func VolumeOf(d *machine.Drive) (index int, found bool) {
	if d.Contents == nil {
		return 0, false
	}
	all := d.Matching(func(i int, p disk.Partition) bool {
		v := &d.Contents.Volumes[i]
		return v.Kind == volume.KindAPFS || v.Kind == volume.KindHFS ||
			v.Kind == volume.NotCaptured && (p.TypeGUID == disk.TypeAPFS || p.TypeGUID == disk.TypeHFS)
	})
	if len(all) == 0 {
		return 0, false
	}
	length := func(i int) uint64 { return d.Contents.Layout.Partitions[i].Length }
	slices.SortStableFunc(all, func(i, j int) int { return cmp.Compare(length(j), length(i)) })
	if i := slices.IndexFunc(all, func(i int) bool { return Lacks(&d.Contents.Volumes[i]) == "" }); i >= 0 {
		return all[i], true
	}
	return all[0], true
}

// held cites what a volume of a Mac tells.
func held(at machine.Spot) machine.Fact {
	v, p := at.Volume(), at.Partition()
	where := fact.Source{Origin: fact.Bytes, Structure: "APFS container superblock", Field: "nx_fs_oid", Offset: at.Base() + 184, Length: 8}
	value := "no volume"
	var names []string
	for _, x := range v.Apple.Volumes {
		names = append(names, x.Name)
	}
	if len(names) > 0 {
		value = strings.Join(names, ", ")
	}
	if v.Told {
		where = p.Source
	} else if v.Kind == volume.KindHFS {
		where.Structure, where.Field, where.Offset, where.Length = "HFS+ volume header", "finderInfo[0]", at.Base()+1024+80, 4
	}
	if v.Kind == volume.KindHFS {
		value = fmt.Sprint(v.Apple.Blessed)
	}
	return at.Drive.Cite(fmt.Sprintf("Partition %d, %s", p.Number, v.Kind), value, where)
}

// Offered asks whether a system is blessed on a disk: the firmware then offers
// it. Common practice, no source.
func Offered(k *course.Walk, a *course.Attempt, at machine.Spot) bool {
	d := at.Drive
	if why := Lacks(at.Volume()); why != "" {
		a.Shows(course.MacQuestion)
		return a.BlockFor("mac-not-blessed", course.StageLoader, "No system is blessed on "+d.Called(), why+".", held(at))
	}
	if !external(k, a, d) {
		return false
	}
	kind := KindOf(k.Machine)
	if !k.Evidence(d, course.StageLoader, "mac-offered", "Is "+d.Called()+" offered when "+kind.Choose+"?",
		"Start it so, and look: a disk is shown when a system is blessed on it.") {
		a.Shows(course.MacQuestion)
		return a.BlockFor("mac-not-blessed", course.StageLoader, "No system is blessed on "+d.Called(), "the firmware offers nothing to start.")
	}
	a.Pass(course.StageLoader, "The disk is offered: a system is blessed on it.")
	return true
}

// external asks whether the firmware starts from a drive that is not built in: with a security
// chip it is set not to, as it is delivered. The maker's support pages, "About Startup Security
// Utility on a Mac with the Apple T2 Security Chip".
func external(k *course.Walk, a *course.Attempt, d *machine.Drive) bool {
	bus, told := d.Bus.Get()
	if arch, known := k.Machine.Firmware.Arch.Get(); told && bus != "usb" || known && arch == firmware.ARM64 {
		return true
	}
	if k.Evidence(d, course.StageLoader, "mac-external", "Does this Mac start from drives that are not built in?",
		"In its recovery, Utilities, Startup Security Utility: external media are allowed there. A Mac without that program has no security chip, and does.") || !told && !k.HangsOn(d, "usb", "USB") {
		return true
	}
	a.Shows(course.MacExternal)
	return a.Block("mac-external-refused", course.StageLoader, "The Mac's start-up security does not allow "+d.Called()+", which is not built in.")
}

// System judges the system that a Mac starts: where its volume is sealed, a
// copy of files alone is not startable. start-rules, stage 7; common practice, no
// source.
func System(k *course.Walk, a *course.Attempt, at machine.Spot) course.Result {
	d, v := at.Drive, at.Volume()
	a.Pass(course.StageConfiguration, "The firmware starts the system that is blessed, or was chosen.")
	if k.Machine.Until == machine.UntilConfiguration {
		return course.Result{State: course.Passes, Home: at}
	}
	// No seal keeps a copy of files from starting on HFS+, where older systems lie.
	whole := v.Kind == volume.KindHFS || sealed(v)
	if !whole && !k.Evidence(d, course.StageSystem, "mac-installed", "Was the system on "+d.Called()+" put there whole: by its own installer, or as a copy of the whole volume?",
		"On current Macs the system's volume is sealed: a copy of its files alone does not start.") {
		return a.Stop("mac-sealed", course.StageSystem, course.MacProhibitory, "The system on "+d.Called()+" was only copied as files, and its volume is sealed.")
	}
	return k.ComesUp(a, at, "The Mac's system")
}

// sealed reports whether every volume of a system is known to be sealed. Apple File System
// Reference, APFS_INCOMPAT_SEALED_VOLUME.
func sealed(v *machine.Volume) bool {
	if v.Apple == nil || v.Apple.Open {
		return false
	}
	systems := v.Apple.Of(volume.RoleSystem)
	for _, x := range systems {
		if !x.Sealed {
			return false
		}
	}
	return len(systems) > 0
}
