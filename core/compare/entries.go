package compare

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
)

// orderRows compares how the firmware comes to the disks.
func orderRows(m machine.Machine, a, b side) []Row {
	pa, na := place(m, a)
	pb, nb := place(m, b)
	r := row(GroupOrder, "Place in the order", pa, pb, Fine, "the firmware comes to the clone first")
	switch {
	case pb.is == unknown:
		r.Matter, r.Meaning = Matters, "the order decides which disk is started"
	case pa.is == absent:
		r.Matter, r.Meaning = Fine, "the clone stands alone: it cannot be mistaken"
	case pb.is == absent:
		r.Matter, r.Meaning = Matters, "the clone is not attached"
	case r.Matter == Fine && na < nb:
		r.Meaning = "the firmware comes to the original first"
	}
	r.decides(b.state(course.StageOrder) == course.Wrong,
		"the original is started: move the clone to the front, or pull the original")
	r.decides(b.state(course.StageDrive) == course.Blocks, "blocks: the firmware does not see the clone")
	rows := []Row{r}
	if e := m.Firmware.Entries; e != nil {
		for _, entry := range e.Sequence() {
			if entry.Path.Partition != nil {
				rows = append(rows, entryRow(a, b, entry))
			}
		}
	}
	return rows
}

// place is the drive's place in the order of devices, counted from 0.
func place(m machine.Machine, s side) (value, int) {
	if attached, known := s.Attached.Get(); known && !attached {
		return s.value(absent, "not attached", fact.Source{}), 0
	}
	for i, name := range m.DeviceOrder {
		if name == s.Name {
			return s.value(present, []string{"first", "second", "third", "fourth or later"}[min(i, 3)], fact.Source{}), i
		}
	}
	return s.value(unknown, "not known", fact.Source{}), 0
}

// entryRow says on which of the two disks a boot entry's partition exists.
func entryRow(a, b side, e firmware.Entry) Row {
	label := "Entry " + e.Name()
	if e.Description != "" && !e.Named {
		label += " (" + e.Description + ")"
	}
	va, vb := leadsTo(a, e.Path.Partition), leadsTo(b, e.Path.Partition)
	r := row(GroupOrder, label+" means", va, vb, Fine, "leads to the clone")
	switch {
	case va.is == unknown || vb.is == unknown:
	case vb.is == absent && va.is == present:
		r.Matter, r.Meaning = Matters, "leads to the original; once that is pulled, to nothing"
	case vb.is == absent:
		r.Matter, r.Meaning = Matters, "stale: leads to neither disk"
	case va.is == present && attachedBoth(a, b):
		r.Matter, r.Meaning = Matters, "fits both attached disks: the firmware's order of discovery decides"
	}
	if e.Text != "" {
		r.Facts = append(r.Facts, machine.Fact{Label: "Device path", Value: e.Text, Source: fact.Source{Origin: fact.Text}})
	}
	return r
}

// leadsTo says which partition of the side a boot entry means.
func leadsTo(s side, node *firmware.PartitionNode) value {
	if !s.known() {
		return s.none(false)
	}
	told := s.whole()
	l := &s.Contents.Layout
	for _, p := range l.Partitions {
		if node.MBR && l.MBR != nil && l.MBR.DiskSignature == node.Signature && p.Number == int(node.Number) ||
			!node.MBR && !p.GUID.IsZero() && p.GUID == node.GUID {
			return s.value(present, fmt.Sprintf("partition %d", p.Number), fact.Source{})
		}
		told = told && (node.MBR || p.MBRType != 0 || !p.GUID.IsZero())
	}
	if !told {
		return s.none(false) // a listing without the partitions' identifiers
	}
	return s.value(absent, "not on this disk", fact.Source{})
}
