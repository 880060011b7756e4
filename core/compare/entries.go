package compare

import (
	"fmt"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
)

// entryRow says on which of the two disks a boot entry's partition exists.
func entryRow(a, b side, e firmware.Entry) Row {
	on := func(s side) string {
		if s.Contents == nil {
			return notInEvidence
		}
		for _, p := range s.Contents.Layout.Partitions {
			node := e.Path.Partition
			if node.MBR && s.Contents.Layout.MBR != nil && s.Contents.Layout.MBR.DiskSignature == node.Signature &&
				p.Number == int(node.Number) ||
				!node.MBR && !p.GUID.IsZero() && p.GUID == node.GUID {
				return fmt.Sprintf("partition %d", p.Number)
			}
		}
		return "not on this disk"
	}
	r := row(GroupOrder, fmt.Sprintf("Entry %04X (%s) means", e.Number, e.Description), on(a), on(b), Matters, "",
		machine.Fact{Label: "Device path", Value: e.Text, Source: fact.Source{Origin: fact.Text}})
	switch {
	case r.Clone == "not on this disk" && r.Original != r.Clone:
		r.Matter, r.Meaning = Matters, "leads to the original; once that is pulled, to nothing"
	case r.Clone == "not on this disk":
		r.Matter, r.Meaning = Matters, "stale: leads to neither disk"
	case r.Original != "not on this disk" && attachedBoth(a, b):
		r.Matter, r.Meaning = Matters, "fits both attached disks: the firmware's order of discovery decides"
	}
	return r
}
