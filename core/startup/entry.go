package startup

import (
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
)

// target is what an attempt looks for on a disk.
type target struct {
	path string                    // the program
	only func(disk.Partition) bool // the partitions it may lie in; nil for any
	why  string                    // how the firmware comes to look for it
}

// entry tries one boot entry. start-rules, stage 3.
func (k *walk) entry(drives []*Drive, e firmware.Entry) bool {
	node := e.Path.Partition
	if e.Path.Internal || node == nil && e.Path.Bus == "" {
		return false // a program of the firmware itself, or no disk
	}
	t := target{path: e.Path.Program(), why: "Entry " + entryName(e)}
	if t.path == "" {
		t.path = loader.FallbackPath(k.arch())
	}
	resolved := drives
	if e.Path.Bus != "" {
		resolved = k.onDevice(drives, e)
	}
	if node != nil {
		t.only = func(p disk.Partition) bool { return k.matches(e.Path, p) }
		if blank := k.unread(resolved); blank != nil && len(k.resolve(resolved, e.Path)) == 0 {
			return k.entryOnUnread(blank, e)
		}
		resolved = k.resolve(resolved, e.Path)
	}
	if len(resolved) == 0 {
		a := Attempt{Entry: entryName(e), Name: e.Description, Loader: t.path}
		a.block(StageOrder, fmt.Sprintf("Entry %s (%s) leads to no attached disk.", entryName(e), e.Description),
			Fact{Label: "Device path", Value: e.Text, Source: fact.Source{Origin: fact.Text}})
		k.attempts = append(k.attempts, a)
		return false
	}
	// A device path that several disks answer to means the one found first whose
	// partition can be read.
	chosen := resolved[0]
	for _, d := range resolved {
		if k.offers(d, t.only) {
			chosen = d
			break
		}
	}
	ok := k.try(chosen, entryName(e), t)
	k.noteEntry(e, resolved, chosen)
	return ok
}

// noteEntry adds to the latest attempt what its entry is called, and which other
// disks answer to it too.
func (k *walk) noteEntry(e firmware.Entry, resolved []*Drive, chosen *Drive) {
	k.attempts[len(k.attempts)-1].Name = e.Description
	for _, d := range resolved {
		if d != chosen {
			a := &k.attempts[len(k.attempts)-1]
			a.Also = append(a.Also, d.Name)
		}
	}
}

// offers reports whether one of the partitions that a test accepts holds a volume
// that firmware reads.
func (k *walk) offers(d *Drive, only func(disk.Partition) bool) bool {
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
func (k *walk) unread(drives []*Drive) *Drive {
	for _, d := range drives {
		if d.Contents == nil || d.Contents.Layout.Style == disk.StyleUnknown {
			return d
		}
	}
	return nil
}

func (k *walk) entryOnUnread(d *Drive, e firmware.Entry) bool {
	if !k.evidence(d, StageOrder, "entry-"+entryName(e), fmt.Sprintf("Does entry %s (%s) lead to %s?", entryName(e), e.Description, d.called()),
		"Add the first 64 KiB of "+d.called()+" as evidence.") {
		return false
	}
	return k.try(d, entryName(e), target{path: e.Path.Program(), why: "Entry " + entryName(e)})
}

// resolve lists the drives that carry the partition which a path names.
func (k *walk) resolve(drives []*Drive, path firmware.Path) []*Drive {
	var found []*Drive
	for _, d := range drives {
		if d.Contents == nil {
			continue
		}
		for _, i := range d.resolveNode(path.Partition) {
			if k.matches(path, d.Contents.Layout.Partitions[i]) {
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
func (k *walk) matches(path firmware.Path, p disk.Partition) bool {
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
	if !number && (node.MBR || !k.w.yes(k.m.Firmware.Behaviour.EntryMatchesByGUIDAlone, Question{
		ID: "entry-guid-alone", Stage: StageOrder, Field: "entryMatchesByGUIDAlone",
		Text: "Does the firmware find a partition by its unique GUID, although its number in the table is another?",
		How:  "Some firmware does. Writing the boot entry anew makes the question idle.",
	})) {
		return false
	}
	return place || k.w.yes(k.m.Firmware.Behaviour.EntryMatchesMoved, Question{
		ID: "entry-moved", Stage: StageOrder, Field: "entryMatchesMoved",
		Text: "Does the firmware find a partition by its unique GUID, although it was moved or resized?",
		How:  "Most firmware does. Writing the boot entry anew makes the question idle.",
	})
}

// onDevice lists the drives that a path from the hardware can mean. Ports that
// are not told are taken in the order in which the firmware finds its drives.
func (k *walk) onDevice(drives []*Drive, e firmware.Entry) []*Drive {
	var sure, maybe []*Drive
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
	if e.Path.Bus == "sata" && e.Path.Port != nil && k.m.DeviceOrder != nil {
		return k.byRank(maybe, e.Path.Bus, *e.Path.Port)
	}
	q := Question{ID: "entry-device-" + entryName(e), Stage: StageOrder,
		Text: fmt.Sprintf("Which drive does entry %s (%s) lead to?", entryName(e), e.Description),
		How:  "Compare the entry's name in the firmware's boot list with the drives' models, or pull one of them."}
	for _, d := range maybe {
		q.Options = append(q.Options, Option{ID: d.Name, Label: d.called()})
	}
	picked := k.w.ask(q)
	for _, d := range maybe {
		if d.Name == picked {
			return []*Drive{d}
		}
	}
	return nil
}

// byRank takes the drives of a bus to hang on its ports in the order in which
// the firmware finds them; a detached one keeps its port.
func (k *walk) byRank(among []*Drive, bus string, port int) []*Drive {
	rank := 0
	for _, name := range k.m.DeviceOrder {
		d := k.drive(name)
		if d == nil {
			continue
		}
		if b, known := d.Bus.Get(); known && b != bus {
			continue
		}
		if rank == port {
			for _, candidate := range among {
				if candidate == d || candidate.Name == name {
					return []*Drive{candidate}
				}
			}
			return nil
		}
		rank++
	}
	return nil
}
