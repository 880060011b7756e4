package startup

import (
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// uefi follows the boot manager: the boot entries, then the devices. UEFI
// Specification 2.10, section 3.1. It reports whether a loader was started.
func uefi(k *course.Walk) bool {
	drives := k.Drives()
	entries := k.Machine.Firmware.Entries
	for e := range sequence(k, entries) {
		if entry(k, drives, e) {
			return true
		}
	}
	told := entries.Told() && !entries.OrderOpen
	return !told && vendorEntries(k, drives) || devices(k, drives)
}

// devices goes through the devices as such: the removable-media path, or a Mac's volume.
func devices(k *course.Walk, drives []*machine.Drive) bool {
	for _, d := range drives {
		if fallback(k, d) || macVolume(k, d) {
			return true
		}
	}
	return false
}

// sequence goes through the boot entries in the order in which the firmware tries them,
// and asks for it where it is not told.
func sequence(k *course.Walk, entries *firmware.Entries) iter.Seq[firmware.Entry] {
	return func(yield func(firmware.Entry) bool) {
		if entries == nil {
			return
		}
		if entries.NextOpen && !yieldNext(k, yield) {
			return
		}
		if !entries.OrderOpen {
			for _, e := range entries.Sequence() {
				if !yield(e) {
					return
				}
			}
			return
		}
		if entries.Next != nil {
			if e, ok := entries.Entry(*entries.Next); ok && !yield(e) {
				return
			}
		}
		rest := slices.DeleteFunc(slices.Sorted(maps.Keys(entries.All)), func(n uint16) bool {
			return !entries.All[n].Active || entries.All[n].App
		})
		among := make([]firmware.Entry, 0, len(rest)+1)
		for _, n := range rest {
			among = append(among, entries.All[n])
		}
		if entries.Open && len(among) > 0 {
			among = append(among, unlisted)
		}
		for place := 1; len(among) > 0; place++ {
			next, any := nextInOrder(k, among, place)
			if !any {
				return
			}
			among = slices.DeleteFunc(among, func(e firmware.Entry) bool { return e.Number == next.Number })
			if !yield(next) {
				return
			}
		}
	}
}

// yieldNext asks for an entry that is set for the next start alone.
func yieldNext(k *course.Walk, yield func(firmware.Entry) bool) bool {
	return !k.World.Yes(course.UnknownBool, course.Question{ID: "boot-next", Stage: course.StageOrder,
		Text: "Is a boot entry set for the next start alone?",
		How:  "In a running Linux: the line BootNext of efibootmgr, which is not there without one."}) || yield(unlisted)
}

// nextInOrder asks which of the entries is tried at a place of the order; it may have
// none of them.
func nextInOrder(k *course.Walk, among []firmware.Entry, place int) (next firmware.Entry, any bool) {
	q := course.Question{ID: fmt.Sprintf("entry-place-%d", place), Stage: course.StageOrder,
		Text: "Which boot entry does the firmware try first?",
		How:  "In a running Linux: the line BootOrder of efibootmgr. In the firmware's setup: the boot order."}
	if place > 1 {
		q.Text = fmt.Sprintf("Which boot entry does the firmware try at place %d of the order?", place)
	}
	for _, e := range among {
		q.Options = append(q.Options, course.Option{ID: e.ID(), Label: machine.UpperFirst(called(e))})
	}
	q.Options = append(q.Options, course.Option{ID: Elsewhere, Label: "None of them stands in the order"})
	picked := k.World.Ask(q)
	i := slices.IndexFunc(among, func(e firmware.Entry) bool { return e.ID() == picked })
	if i < 0 {
		return firmware.Entry{}, false
	}
	return among[i], true
}

// vendorEntries tries, when the boot entries are not known, the programs that entries
// would most likely lead to.
func vendorEntries(k *course.Walk, drives []*machine.Drive) bool {
	var having []*machine.Drive
	for _, d := range drives {
		if path, ok := d.VendorLoader(); ok && k.World.Yes(d.HasEntry, course.Question{
			ID: "entry:" + d.Name, Stage: course.StageOrder, Drive: d.Name, Fact: course.FactName{Of: course.OfEntry,
				Key: d.Name},
			Text: "Has the firmware a boot entry that leads to " + path + " on " + d.Called() + "?",
			How:  howEntries,
		}) || !ok && leadsToProgram(k, d) {
			having = append(having, d)
		}
	}
	for _, d := range inEntryOrder(k, having) {
		path, ok := d.VendorLoader()
		if !ok {
			if leadsSomewhere(k, d, firmware.Entry{}, "A boot entry") {
				return true
			}
			continue
		}
		if try(k, d, "", target{path: path, why: "The boot entry", only: func(d *machine.Drive, i int) bool {
			return d.Contents.Layout.Partitions[i].IsESP()
		}}) {
			return true
		}
	}
	return false
}

const howEntries = "In a running Linux: efibootmgr -v. In Windows: bcdedit /enum firmware. Or the named entries in the firmware's boot list."

// inEntryOrder asks which of several boot entries is tried first. An entry that fits
// several copies leads to the one that is found first.
func inEntryOrder(k *course.Walk, having []*machine.Drive) []*machine.Drive {
	if len(having) < 2 || copies(having[0], having[1]) {
		return having
	}
	q := course.Question{ID: course.FirstEntry, Stage: course.StageOrder, Text: "Whose boot entry does the firmware try first?",
		How: howEntries}
	for _, d := range having {
		q.Options = append(q.Options, course.Option{ID: d.Name, Label: strings.ToUpper(d.Called()[:1]) +
			d.Called()[1:]})
	}
	return k.AskDrive(q, having)
}

// copies reports whether two drives carry a boot partition of the same unique GUID.
func copies(a, b *machine.Drive) bool {
	if a.Contents == nil || b.Contents == nil {
		return false
	}
	for _, p := range a.Contents.Layout.Partitions {
		for _, q := range b.Contents.Layout.Partitions {
			if p.IsESP() && q.IsESP() && !p.GUID.IsZero() && p.GUID == q.GUID {
				return true
			}
		}
	}
	return false
}

// leadsToProgram asks, when the boot entries are not known, whether one leads to another
// program on a drive than to a known system's.
func leadsToProgram(k *course.Walk, d *machine.Drive) bool {
	tried := ""
	if made, known := k.Machine.Firmware.Behaviour.Of(firmware.FallbackOnFixedDisks).Get(); !known || made {
		tried = loader.FallbackPath(k.Arch())
	}
	return d.MayHoldProgram(tried) && k.World.Yes(d.HasEntry, course.Question{
		ID: "program:" + d.Name, Stage: course.StageOrder, Drive: d.Name, Fact: course.FactName{Of: course.OfEntry, Key: d.Name},
		Text: "Has the firmware a boot entry that leads to a program on " + d.Called() + "?", How: howEntries})
}

// fallback tries the removable-media path on a device. UEFI Specification 2.10,
// section 3.5.1.1.
func fallback(k *course.Walk, d *machine.Drive) bool {
	path := loader.FallbackPath(k.Arch())
	bus, known := d.Bus.Get()
	tried := bus == "usb" || k.Choice(firmware.FallbackOnFixedDisks, course.StageOrder, nil, "") ||
		!known && k.HangsOn(d, "usb", "USB")
	if !tried {
		a := course.Attempt{Drive: d.Name, Role: d.Role, Loader: path}
		if seen(k, &a, d) && readable(k, &a, d) && uefiMode(k, &a, d) {
			a.Block("no-entry-no-fallback", course.StageOrder, "No boot entry leads to "+d.Called()+", and the firmware does not look for "+path+" on fixed disks.")
		}
		k.Attempts = append(k.Attempts, a)
		return false
	}
	return try(k, d, "", target{path: path, why: "The firmware"})
}
