package startup

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// entry tries one boot entry. start-rules, stage 3.
func entry(k *course.Walk, drives []*machine.Drive, e firmware.Entry) bool {
	node := e.Path.Partition
	if e.Path.Internal || node == nil && e.Path.Bus == "" {
		return false // a program of the firmware itself, or no disk
	}
	t := target{path: e.Path.Program(), why: "Entry " + entryName(e)}
	if t.path == "" {
		t.path = loader.FallbackPath(k.Arch())
	}
	resolved := drives
	if e.Path.Bus != "" {
		resolved = onDevice(k, drives, e)
	}
	if node != nil {
		t.only = func(p disk.Partition) bool { return matches(k, e.Path, p) }
		if blank := unread(k, resolved); blank != nil && len(resolve(k, resolved, e.Path)) == 0 {
			return entryOnUnread(k, blank, e)
		}
		resolved = resolve(k, resolved, e.Path)
	}
	if len(resolved) == 0 {
		a := course.Attempt{Entry: entryName(e), Name: e.Description, Loader: t.path}
		a.Block("entry-stale", course.StageOrder, fmt.Sprintf("Entry %s (%s) leads to no attached disk.", entryName(e), e.Description),
			machine.Fact{Label: "Device path", Value: e.Text, Source: fact.Source{Origin: fact.Text}})
		k.Attempts = append(k.Attempts, a)
		return false
	}
	// A device path that several disks answer to means the one found first whose
	// partition can be read.
	chosen := resolved[0]
	for _, d := range resolved {
		if offers(k, d, t.only) {
			chosen = d
			break
		}
	}
	ok := try(k, chosen, entryName(e), t)
	noteEntry(k, e, resolved, chosen)
	return ok
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
// that firmware reads.
func offers(k *course.Walk, d *machine.Drive, only func(disk.Partition) bool) bool {
	if d.Contents == nil {
		return true
	}
	for i, p := range d.Contents.Layout.Partitions {
		if (only == nil || only(p)) && !p.Hidden() && (d.Contents.Volumes[i].IsFAT() || d.Contents.Volumes[i].Told) {
			return true
		}
	}
	return only == nil
}

// unread returns an attached drive whose partitions are not known.
func unread(k *course.Walk, drives []*machine.Drive) *machine.Drive {
	for _, d := range drives {
		if d.Contents == nil || d.Contents.Layout.Style == disk.StyleUnknown {
			return d
		}
	}
	return nil
}

func entryOnUnread(k *course.Walk, d *machine.Drive, e firmware.Entry) bool {
	if !k.Evidence(d, course.StageOrder, "entry-"+entryName(e), fmt.Sprintf("Does entry %s (%s) lead to %s?", entryName(e), e.Description, d.Called()),
		"Add the first 64 KiB of "+d.Called()+" as evidence.") {
		return false
	}
	return try(k, d, entryName(e), target{path: e.Path.Program(), why: "Entry " + entryName(e)})
}

// resolve lists the drives that carry the partition which a path names.
func resolve(k *course.Walk, drives []*machine.Drive, path firmware.Path) []*machine.Drive {
	var found []*machine.Drive
	for _, d := range drives {
		if d.Contents == nil {
			continue
		}
		for _, i := range d.ResolveNode(path.Partition) {
			if matches(k, path, d.Contents.Layout.Partitions[i]) {
				found = append(found, d)
				break
			}
		}
	}
	return found
}

// matches reports whether the firmware takes a partition whose signature agrees
// for the one that a path names. A path that begins at the hardware must agree
// whole. UEFI Specification 2.10, section 10.3.5.1.
func matches(k *course.Walk, path firmware.Path, p disk.Partition) bool {
	node := path.Partition
	if !node.MBR && p.GUID != node.GUID {
		return false
	}
	number, place := p.Number == int(node.Number), p.Start == node.Start && p.Length == node.Size
	switch {
	case p.Unplaced:
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
	for _, d := range drives {
		bus, known := d.Bus.Get()
		if known && bus != e.Path.Bus {
			continue
		}
		port, told := d.Port.Get()
		switch {
		case !told || e.Path.Port == nil || !known:
			maybe = append(maybe, d)
		case port == *e.Path.Port:
			sure = append(sure, d)
		}
	}
	if len(sure) > 0 || len(maybe) < 2 {
		return append(sure, maybe...)
	}
	if e.Path.Bus == "sata" && e.Path.Port != nil && k.Machine.DeviceOrder != nil {
		return byRank(k, maybe, e.Path.Bus, *e.Path.Port)
	}
	q := course.Question{ID: "entry-device-" + entryName(e), Stage: course.StageOrder,
		Text: fmt.Sprintf("Which drive does entry %s (%s) lead to?", entryName(e), e.Description),
		How:  "Compare the entry's name in the firmware's boot list with the drives' models, or pull one of them."}
	for _, d := range maybe {
		q.Options = append(q.Options, course.Option{ID: d.Name, Label: d.Called()})
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
