package compare

import (
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/fact"
)

func identityRows(a, b side) []Row {
	rows := []Row{diskIDRow(a, b)}
	if hasGUIDs(a) && (hasGUIDs(b) || !b.known()) {
		rows = append(rows, partitionGUIDsRow(a, b))
	}
	return rows
}

func diskIDRow(a, b side) Row {
	va, vb := diskID(a), diskID(b)
	r := row(GroupIdentity, "Disk identifier", va, vb, Fine, "of its own: both disks may be attached together")
	switch {
	case r.Matter == Agrees && vb.is == present:
		r.Meaning = "the same on both: do not attach both disks at the first start"
		if attachedBoth(a, b) {
			r.Matter = Matters
		}
	case r.Matter == Fine && vb.is == absent:
		r.Meaning = "a disk without a table has none"
	case r.Matter == Fine && vb.is == flawed:
		r.Meaning = "the table that tells it is damaged"
	}
	return r
}

func attachedBoth(a, b side) bool {
	x, _ := a.Attached.Get()
	y, _ := b.Attached.Get()
	return x && y
}

func diskID(s side) value {
	if s.Contents == nil {
		return s.none(false)
	}
	id := s.Contents.Layout.DiskID()
	text, known := id.Get()
	switch l := &s.Contents.Layout; {
	case known:
		return s.value(present, text, id.Source())
	case l.Style == disk.StyleGPT && l.GPT != nil && l.GPT.Primary.Lost() && l.GPT.Backup.Lost():
		return s.value(flawed, "cannot be read", fact.Source{Origin: fact.Computed})
	}
	return s.none(s.Contents.Layout.Style == disk.StyleNone)
}

// hasGUIDs reports whether every partition's unique GUID is told.
func hasGUIDs(s side) bool {
	on := partitions(s.Contents)
	for _, p := range on {
		if p.GUID.IsZero() {
			return false
		}
	}
	return len(on) > 0
}

func partitionGUIDsRow(a, b side) Row {
	const label = "Unique partition GUIDs"
	if !hasGUIDs(b) {
		return row(GroupIdentity, label, a.value(present, fmt.Sprint(len(partitions(a.Contents))), fact.Source{}),
			b.none(false),
			Fine, "")
	}
	on := map[disk.GUID]bool{}
	for _, p := range partitions(b.Contents) {
		on[p.GUID] = true
	}
	same := 0
	for _, p := range partitions(a.Contents) {
		if on[p.GUID] {
			same++
		}
	}
	total := len(partitions(a.Contents))
	r := row(GroupIdentity, label, a.value(present, fmt.Sprint(total), fact.Source{}),
		b.value(present, fmt.Sprintf("%d the same", same), fact.Source{}), Fine,
		"made anew by the copy: boot entries and configuration that name the old ones lead nowhere")
	switch {
	case same == 0:
	case attachedBoth(a, b):
		r.Matter, r.Meaning = Matters, "the same on both attached disks: an entry may mean either"
	case same == total:
		r.Meaning = "carried over: what refers to the original's partitions fits the clone's"
	default:
		r.Meaning = "carried over in part: what names the others leads nowhere"
	}
	return r
}
