package startup

import (
	"fmt"
	"slices"

	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// entry tries one boot entry. start-rules, stage 3.
func entry(k *course.Walk, drives []*machine.Drive, e firmware.Entry) bool {
	node := e.Path.Partition
	switch {
	case e.Path.Open:
		return untoldEntry(k, drives, e)
	case e.Path.Alone:
		return pathAlone(k, drives, e)
	case e.Path.Internal || node == nil && e.Path.Bus == "":
		return false // a program of the firmware itself, or no disk
	}
	t := target{path: e.Path.Program(), why: "Entry " + e.Name()}
	if t.path == "" {
		t.path = loader.FallbackPath(k.Arch())
	}
	resolved := drives
	if e.Path.Bus != "" {
		resolved = onDevice(k, drives, e)
	}
	if node != nil {
		t.only = func(d *machine.Drive, i int) bool { return matches(k, e.Path, d, i) }
		resolved = resolve(k, resolved, e)
	}
	if len(resolved) == 0 {
		a := course.Attempt{Entry: e.Name(), Name: e.Description, Loader: t.path}
		a.Block("entry-stale", course.StageOrder, machine.UpperFirst(called(e))+" leads to no attached disk.",
			machine.Fact{Label: "Device path", Value: e.Text, Source: fact.Source{Origin: fact.Text}})
		k.Attempts = append(k.Attempts, a)
		return false
	}
	// A device path that several disks answer to means the one found first whose
	// partition can be read.
	chosen := resolved[0]
	for _, d := range resolved {
		if node != nil && len(d.ResolveNode(node)) == 0 || len(resolved) == 1 || offers(k, d, t.only) {
			chosen = d
			break
		}
	}
	if node != nil && len(chosen.ResolveNode(node)) == 0 {
		t.only = nil // which of its partitions it is, is not told
	}
	ok := try(k, chosen, e.Name(), t)
	noteEntry(k, e, resolved, chosen)
	return ok
}

// pathAlone tries an entry that names a program and no partition: it is looked for on every
// drive, on those that can be taken out first. UEFI Specification 2.10, section 3.1.2.
func pathAlone(k *course.Walk, drives []*machine.Drive, e firmware.Entry) bool {
	t := target{path: e.Path.Program(), why: "Entry " + e.Name()}
	if t.path == "" || !k.Choice(firmware.LooksForPathAlone, course.StageOrder, nil, "") {
		return false
	}
	var removable, fixed []*machine.Drive
	holding := slices.DeleteFunc(slices.Clone(drives), func(d *machine.Drive) bool { return !mayHold(d, t.path) })
	for _, d := range holding {
		bus, known := d.Bus.Get()
		if bus == "usb" || bus == "sd" || !known && len(holding) > 1 && k.HangsOn(d, "usb", "USB") {
			removable = append(removable, d)
		} else {
			fixed = append(fixed, d)
		}
	}
	for _, d := range append(removable, fixed...) {
		if try(k, d, e.Name(), t) {
			k.Attempts[len(k.Attempts)-1].Name = e.Description
			return true
		}
	}
	return false
}

// mayHold reports whether a program is on a drive, or may be as far as the evidence tells.
func mayHold(d *machine.Drive, path string) bool {
	if d.Contents == nil || !d.Contents.TableKnown() || d.Contents.Layout.Open {
		return true
	}
	for i := range d.Contents.Volumes {
		v := &d.Contents.Volumes[i]
		open := v.Kind == volume.NotCaptured || v.IsFAT() && v.LoaderErr != nil || v.Told
		if _, there := v.Loader(path); there || open {
			return true
		}
	}
	return false
}

// noteEntry adds to the latest attempt what its entry is called, and which other
// disks answer to it too.
func noteEntry(k *course.Walk, e firmware.Entry, resolved []*machine.Drive, chosen *machine.Drive) {
	k.Attempts[len(k.Attempts)-1].Name = e.Description
	for _, d := range resolved {
		if d != chosen {
			a := &k.Attempts[len(k.Attempts)-1]
			a.Also = append(a.Also, d.Name)
		}
	}
}

// offers reports whether one of the partitions that a test accepts holds a volume
// that firmware reads; where that is not in the evidence it is asked for.
func offers(k *course.Walk, d *machine.Drive, only func(*machine.Drive, int) bool) bool {
	if d.Contents == nil || only == nil {
		return true
	}
	for i, p := range d.Contents.Layout.Partitions {
		v := &d.Contents.Volumes[i]
		if only(d, i) && !p.Hidden() && (v.IsFAT() || v.Kind == volume.NotCaptured && bootVolume(k, d, i)) {
			return true
		}
	}
	return false
}

// untoldEntry follows an entry of which the path, or its end, is not told: it may lead
// to any drive that it can mean, or nowhere.
func untoldEntry(k *course.Walk, drives []*machine.Drive, e firmware.Entry) bool {
	q := course.Question{ID: "entry-leads-" + e.ID(), Stage: course.StageOrder,
		Text: "Where does " + called(e) + " lead?",
		How:  "In a running Linux: efibootmgr -v, in a window that is wide enough. In Windows: bcdedit /enum firmware."}
	if e.Named {
		q.How = "In a running Linux: efibootmgr -v. In the firmware's setup: many name the drive beside the entry."
	}
	among := drives
	if e.Path.Partition != nil {
		among = resolve(k, drives, e)
	}
	for _, d := range among {
		q.Options = append(q.Options, course.Option{ID: d.Name, Label: "To " + d.Called()})
	}
	q.Options = append(q.Options, course.Option{ID: Elsewhere, Label: "Elsewhere, or to nothing"})
	picked := k.World.Ask(q)
	for _, d := range among {
		if d.Name != picked {
			continue
		}
		if e.Path.FileTold {
			ok := try(k, d, e.Name(), target{path: e.Path.Program(), why: machine.UpperFirst(called(e))})
			k.Attempts[len(k.Attempts)-1].Name = e.Description
			return ok
		}
		return leadsSomewhere(k, d, e, machine.UpperFirst(called(e)))
	}
	return false
}

// leadsSomewhere follows an entry to a program on a drive that the evidence does not name.
func leadsSomewhere(k *course.Walk, d *machine.Drive, e firmware.Entry, words string) bool {
	a := course.Attempt{Drive: d.Name, Role: d.Role, Name: e.Description}
	if e.Path.Open {
		a.Entry = e.Name()
	}
	if seen(k, &a, d) && readable(k, &a, d) && largeUSB(k, &a, d) && uefiMode(k, &a, d) {
		a.Pass(course.StageOrder, words+" leads to "+d.Called()+".")
		if uefiTable(k, &a, d) {
			a.Unproven("entry-missing-evidence", course.StageLoader, "Which program the boot entry starts is not in evidence.", course.HowCapture)
			a.HandsOver = true
		}
	}
	a.Final = a.HandsOver
	k.Attempts = append(k.Attempts, a)
	return a.HandsOver
}

// Elsewhere is the answer that an entry leads to none of the drives.
const Elsewhere = "-"

// DeviceOf is the ID of the question which drive an entry's path from the hardware leads to.
func DeviceOf(e firmware.Entry) string { return "entry-device-" + e.ID() }

// unlisted stands for an entry that a listing leaves out.
var unlisted = firmware.Entry{Number: 0xFFFF, Description: "that is not listed", Active: true,
	Path: firmware.Path{Open: true}}

// called names an entry in a sentence.
func called(e firmware.Entry) string {
	if e.Number == unlisted.Number && e.Description == unlisted.Description {
		return "an entry " + e.Description
	}
	if e.Description == "" || e.Named {
		return "entry " + e.Name()
	}
	return fmt.Sprintf("entry %s (%s)", e.Name(), e.Description)
}

// resolve lists the drives that carry the partition which an entry names, in their
// order. Where the evidence does not tell whether one does, it is asked for.
func resolve(k *course.Walk, drives []*machine.Drive, e firmware.Entry) []*machine.Drive {
	var found []*machine.Drive
	for _, d := range drives {
		if carries(k, d, e) {
			found = append(found, d)
		}
	}
	return found
}

// carries reports whether a drive carries the partition that an entry names.
func carries(k *course.Walk, d *machine.Drive, e firmware.Entry) bool {
	for _, i := range d.ResolveNode(e.Path.Partition) {
		if matches(k, e.Path, d, i) {
			return true
		}
	}
	return len(d.ResolveNode(e.Path.Partition)) == 0 && d.MayCarry(e.Path.Partition) &&
		k.Evidence(d, course.StageOrder, "entry-"+e.ID(), "Does "+called(e)+" lead to "+d.Called()+"?",
			"Add the first 64 KiB of "+d.Called()+" as evidence.")
}

// matches reports whether the firmware takes a partition whose signature agrees
// for the one that a path names. A path that begins at the hardware must agree
// whole. UEFI Specification 2.10, section 10.3.5.1.
func matches(k *course.Walk, path firmware.Path, d *machine.Drive, i int) bool {
	node, p := path.Partition, d.Contents.Layout.Partitions[i]
	if !node.MBR && p.GUID != node.GUID {
		return false
	}
	number, place := p.Number == int(node.Number), p.Start == node.Start && p.Length == node.Size
	if p.Logical && node.MBR && path.Bus == "" {
		if byExtended := k.Choice(firmware.EntryNamesExtended, course.StageOrder, nil, ""); byExtended {
			number, place = d.Contents.Extended(p) == int(node.Number), place || !number
			if d.Contents.ExtendedOpen(p) {
				number = k.Evidence(d, course.StageOrder, fmt.Sprintf("extended-%d", node.Number),
					fmt.Sprintf("Does the extended partition of %s have the number %d?", d.Called(), node.Number), "Take a capture of "+d.Called()+".")
			}
		}
	}
	switch {
	case p.Unplaced || p.Rough || d.Contents.Layout.SectorOpen:
		place = true
	case path.Bus != "":
		return number && place
	}
	if !number && (node.MBR || !k.Choice(firmware.EntryMatchesByGUIDAlone, course.StageOrder, nil, "")) {
		return false
	}
	return place || k.Choice(firmware.EntryMatchesMoved, course.StageOrder, nil, "")
}

// onDevice lists the drives that a path from the hardware can mean. Ports that
// are not told are taken in the order in which the firmware finds its drives.
func onDevice(k *course.Walk, drives []*machine.Drive, e firmware.Entry) []*machine.Drive {
	var sure, maybe []*machine.Drive
	byController := e.Path.Bus == "nvme" && e.Path.Controller != "" // each NVMe drive has its own
	for _, d := range drives {
		bus, known := d.Bus.Get()
		if known && bus != e.Path.Bus {
			continue
		}
		controller, at := d.Controller.Get()
		port, told := d.Port.Get()
		switch {
		case byController && at:
			if controller == e.Path.Controller {
				sure = append(sure, d)
			}
		case !told || e.Path.Port == nil || !known:
			maybe = append(maybe, d)
		case port == *e.Path.Port:
			sure = append(sure, d)
		}
	}
	if len(sure) > 0 {
		return sure
	}
	if e.Path.Bus == "sata" && e.Path.Port != nil && k.Machine.DeviceOrder != nil {
		return byRank(k, maybe, e.Path.Bus, *e.Path.Port)
	}
	q := course.Question{ID: DeviceOf(e), Stage: course.StageOrder,
		Text: "Which drive does " + called(e) + " lead to?",
		How:  "Compare the entry's name in the firmware's boot list with the drives' models, or pull one of them."}
	for _, d := range maybe {
		q.Options = append(q.Options, course.Option{ID: d.Name, Label: d.Called()})
	}
	if e.Path.Port != nil || byController {
		q.Options = append(q.Options, course.Option{ID: Elsewhere, Label: "None of them: to another connector"})
	}
	if len(q.Options) < 2 {
		return maybe
	}
	picked := k.World.Ask(q)
	for _, d := range maybe {
		if d.Name == picked {
			return []*machine.Drive{d}
		}
	}
	return nil
}

// byRank takes the drives of a bus to hang on its ports in the order in which
// the firmware finds them; a detached one keeps its port.
func byRank(k *course.Walk, among []*machine.Drive, bus string, port int) []*machine.Drive {
	rank := 0
	for _, name := range k.Machine.DeviceOrder {
		d := k.Drive(name)
		if d == nil {
			continue
		}
		if b, known := d.Bus.Get(); known && b != bus {
			continue
		}
		if rank == port {
			for _, candidate := range among {
				if candidate == d || candidate.Name == name {
					return []*machine.Drive{candidate}
				}
			}
			return nil
		}
		rank++
	}
	return nil
}
