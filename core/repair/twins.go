package repair

import (
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// guard is how the commands for a live Linux tell a drive from others of its capacity: by the identifier
// of its table as blkid prints it, by there being none, or by either; one that asks for nothing takes any.
type guard struct {
	id   string
	none bool
}

// guardOf is the guard of a drive as it was when it was looked at.
func guardOf(d *machine.Drive) guard {
	l := &d.Contents.Layout
	own, known := l.DiskID().Get()
	id := identifier(d)
	switch {
	case id != "":
		return guard{id: id}
	case namesNoTable(d.Contents): // a drive of that capacity that has a table is another
		return guard{none: true}
	case known && disk.IsID(own) && l.Style == disk.StyleGPT && l.MBR != nil && !l.MBR.Ordinary():
		// blkid tells this identifier, or none; by an ordinary record it may take the table for an MBR.
		return guard{id: strings.ToLower(own), none: true}
	}
	return guard{}
}

// fits reports whether a drive may pass the guard's tests.
func (g guard) fits(d *machine.Drive) bool {
	if g == (guard{}) {
		return true
	}
	own, known := d.Contents.Layout.DiskID().Get()
	return known && g.id != "" && strings.EqualFold(own, g.id) || g.none && identifier(d) == ""
}

// twins reports whether the commands for a drive may take another one for it: they would find two, and
// stop. Those for a recovery environment go by the identifier that a table has, and by the capacity as
// it is shown there.
func twins(d, other *machine.Drive, t Toolbox) bool {
	if other.Name == d.Name || other.Contents == nil || other.Contents.Rounded {
		return false
	}
	size, known := d.Contents.Size()
	n, also := other.Contents.Size()
	if !known || !also {
		return false
	}
	if t == Linux {
		return n == size && guardOf(d).fits(other)
	}
	if n != size && (t != WindowsRecovery || shownByDiskpart(n) != shownByDiskpart(size)) {
		return false
	}
	own, told := d.Contents.Layout.DiskID().Get()
	return told && guard{id: own}.fits(other)
}

// hasTwin reports whether a drive that is attached may be taken for another.
func hasTwin(m machine.Machine, d *machine.Drive, t Toolbox) bool {
	return slices.ContainsFunc(m.Drives, func(o machine.Drive) bool {
		attached, told := o.Attached.Get()
		return told && attached && twins(d, &o, t)
	})
}
